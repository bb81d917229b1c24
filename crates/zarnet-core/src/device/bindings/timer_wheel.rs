//! When sessions expire: a timer wheel of three levels, whose current slot is kept in exact order.
//!
//! A slot of the first level is half a second wide, one of the second 73 minutes, one of the third
//! 417 days: together they reach further than a clock of 64 bits does. What is entered at one time
//! mostly expires within a few slots, whose ends then stay close at hand. When a slot of an upper
//! level begins, its entries move down. The clock jumps from one slot that holds something
//! to the next, so that a hundred idle years cost no more than a second.
//!
//! Postponing an expiry costs nothing: the entry is looked at when its old slot begins, and put
//! back. Bringing one forward leaves a stale entry behind, which `armed` tells apart.

use std::cmp::Reverse;
use std::collections::BinaryHeap;

use super::wheel_slots::{Level, Pieces, SLOT_BITS, SLOTS};

/// Nanoseconds to ticks: 537 ms.
const SHIFT: u32 = 29;
/// Levels: 2^(29 + 3 * 13) nanoseconds are more than a clock of 64 bits holds.
const LEVELS: usize = 3;
/// What does not expire.
pub(super) const NEVER: u64 = u64::MAX;
/// Not in the wheel.
pub(super) const UNARMED: u16 = u16::MAX;

/// Which slot of its level a tick belongs to, counted through all levels.
fn slot_of(level: usize, tick: u64) -> u16 {
    (level as u64 * SLOTS + (tick >> (SLOT_BITS * level as u32)) % SLOTS) as u16
}

/// What the wheel asks of the arena whose entries it keeps.
pub(super) trait Timed {
    /// When the entry expires, in nanoseconds; [`NEVER`] for one that is no more.
    fn expires(&self, id: u32) -> u64;
    /// The slot in which the wheel last filed the entry; [`UNARMED`] for none.
    fn armed(&mut self, id: u32) -> &mut u16;
}

/// Timers of sessions, in slots by the tick in which they expire.
#[derive(Debug, Clone, Default)]
pub(super) struct Wheel {
    levels: [Level; LEVELS],
    pieces: Pieces,
    /// Entries of the current tick in the order of their expiry: nanoseconds into the tick, then
    /// the entry, in one word that is quickly sorted.
    due: Vec<u64>,
    /// How many of them have been given out.
    given: usize,
    /// How many of them have been fetched ahead.
    fetched: usize,
    /// Room for them as they came.
    unordered: Vec<u64>,
    /// When the current tick begins.
    tick_start: u64,
    /// Entries that were filed for the current tick after it began.
    soon: BinaryHeap<Reverse<(u64, u32)>>,
    origin: Option<u64>,
    /// The current tick, counted from the origin.
    now: u64,
    /// Entries that wait to be put into their slots, together: so that places far apart are waited
    /// for together.
    waiting: Vec<(u16, u32)>,
    /// Room for the entries of the slot whose tick begins.
    turning: Vec<u32>,
    /// Slots that were looked at so far.
    #[cfg(test)]
    turns: usize,
}

/// So many entries are fetched ahead at once.
const AHEAD: usize = 64;
/// So many entries are put into their slots at once.
const TOGETHER: usize = 32;

impl Wheel {
    #[inline]
    fn tick(&self, time: u64) -> u64 {
        (time >> SHIFT).saturating_sub(self.origin.unwrap_or(0))
    }

    /// The first tick of the slot that an entry is filed in.
    #[inline]
    fn begins(&self, armed: u16) -> u64 {
        let (level, slot) = (u32::from(armed) >> SLOT_BITS, u64::from(armed) % SLOTS);
        let now = self.now >> (SLOT_BITS * level);
        (now + slot.wrapping_sub(now) % SLOTS) << (SLOT_BITS * level)
    }

    /// Files an entry under its expiry, if it is not filed early enough already.
    #[inline]
    pub(super) fn arm(&mut self, arena: &mut impl Timed, id: u32) {
        let expires = arena.expires(id);
        let armed = arena.armed(id);
        let tick = self.tick(expires);
        // of what the current tick holds, the order is fixed: what comes into it late is filed once
        // more
        if *armed == UNARMED || tick < self.begins(*armed) || tick <= self.now {
            *armed = self.file(expires, id);
        }
    }

    /// Files an entry, and gives the slot that it is then armed for.
    #[inline(always)]
    pub(super) fn file(&mut self, expires: u64, id: u32) -> u16 {
        let tick = self.tick(expires);
        if tick <= self.now || self.origin.is_none() {
            return self.file_soon(expires, id);
        }
        let slot = match tick - self.now < SLOTS {
            true => slot_of(0, tick),
            false => self.far_slot(tick),
        };
        self.waiting.push((slot, id));
        if self.waiting.len() >= TOGETHER {
            self.settle();
        }
        slot
    }

    /// The slot of a tick beyond the first level.
    fn far_slot(&self, tick: u64) -> u16 {
        let slots_ahead =
            |level: u32| (tick >> (SLOT_BITS * level)) - (self.now >> (SLOT_BITS * level));
        slot_of(if slots_ahead(1) < SLOTS { 1 } else { 2 }, tick)
    }

    /// Puts the entries that wait into their slots.
    #[inline(never)]
    fn settle(&mut self) {
        // read their places first, and what these refer to: the processor then waits for many
        // together
        let [near, ..] = &mut self.levels;
        let touch = |w: &(u16, u32)| near.touch(&self.pieces, usize::from(w.0) % SLOTS as usize);
        std::hint::black_box(self.waiting.iter().fold(0, |sum, w| sum ^ touch(w)));
        if self.waiting.iter().all(|w| u64::from(w.0) < SLOTS) {
            near.push_all(&mut self.pieces, &self.waiting);
        } else {
            for &(slot, id) in &self.waiting {
                let level = &mut self.levels[usize::from(slot >> SLOT_BITS)];
                level.push_all(&mut self.pieces, &[(slot % SLOTS as u16, id)]);
            }
        }
        self.waiting.clear();
    }

    #[cold]
    fn file_soon(&mut self, expires: u64, id: u32) -> u16 {
        // who files before anybody has asked: what expires earlier then counts as soon, too
        self.origin.get_or_insert(expires >> SHIFT);
        self.soon.push(Reverse((expires, id)));
        slot_of(0, self.now)
    }

    /// The next entry that expires at `now` or before, in the order of expiry. It is then no longer
    /// filed.
    pub(super) fn next_due(&mut self, arena: &mut impl Timed, now: u64) -> Option<u32> {
        if self.origin.is_none() {
            self.origin = Some(now >> SHIFT);
        }
        let target = self.tick(now);
        loop {
            while let Some((expires, id)) = self.peek() {
                if expires > now {
                    return None;
                }
                self.pop();
                // stale, or postponed since it was filed
                if *arena.armed(id) != slot_of(0, self.now) {
                    continue;
                }
                *arena.armed(id) = UNARMED;
                // one that was postponed has its turn then, even if that is over, too
                if arena.expires(id) <= expires {
                    return Some(id);
                }
                self.arm(arena, id);
            }
            if self.now >= target {
                return None;
            }
            self.settle();
            match self.next_occupied().filter(|next| *next <= target) {
                Some(next) => {
                    self.now = next;
                    self.turn(arena);
                }
                // nothing is filed up to there
                None => self.now = target,
            }
        }
    }

    /// The first tick after the current one at which a slot that holds something begins, on
    /// whichever level.
    fn next_occupied(&self) -> Option<u64> {
        let begins = |(level, slots): (u32, &Level)| {
            let now = self.now >> (SLOT_BITS * level);
            slots.next_after(now % SLOTS).map(|ahead| (now + ahead) << (SLOT_BITS * level))
        };
        (0..).zip(&self.levels).filter_map(begins).min()
    }

    /// Whether [`Self::ahead`] has something to tell.
    #[inline]
    pub(super) fn has_ahead(&self) -> bool {
        self.given >= self.fetched && self.fetched < self.due.len()
    }

    /// The next entries of the current tick, so that what they need can be fetched ahead; the same
    /// until [`Self::pass_ahead`].
    pub(super) fn ahead(&self) -> impl Iterator<Item = u32> + '_ {
        let (from, to) = self.bounds_ahead();
        self.due[from..to].iter().map(|key| *key as u32)
    }

    fn bounds_ahead(&self) -> (usize, usize) {
        let from = self.given.max(self.fetched).min(self.due.len());
        (from, self.due.len().min(from + AHEAD))
    }

    /// What [`Self::ahead`] has told of was fetched.
    pub(super) fn pass_ahead(&mut self) {
        self.fetched = self.bounds_ahead().1;
    }

    /// Until when nothing becomes due, unless something is filed.
    pub(super) fn next_expiry(&self) -> u64 {
        let Some(origin) = self.origin else { return 0 };
        let next_tick = (origin + self.now).saturating_add(1).saturating_mul(1 << SHIFT);
        self.peek().map_or(next_tick, |(expires, _)| expires.min(next_tick))
    }

    /// Takes over the slots that begin with the current tick: those of upper levels first, for
    /// their entries move down, into the slot of the tick itself too.
    fn turn(&mut self, arena: &mut impl Timed) {
        #[cfg(test)]
        {
            self.turns += 1;
        }
        let mut turning = std::mem::take(&mut self.turning);
        for level in (1..LEVELS).rev() {
            // a slot of an upper level begins where no lower digit is left
            if self.now.trailing_zeros() >= SLOT_BITS * level as u32 {
                self.drain(level, &mut turning);
            }
            for id in turning.drain(..) {
                if *arena.armed(id) == slot_of(level, self.now) {
                    *arena.armed(id) = UNARMED;
                    self.arm(arena, id);
                }
            }
            self.settle();
        }
        self.due.clear();
        (self.given, self.fetched) = (0, 0);
        self.tick_start = (self.origin.unwrap_or(0) + self.now) << SHIFT;
        self.drain(0, &mut turning);
        std::hint::black_box(turning.iter().fold(0, |sum, id| sum ^ arena.expires(*id)));
        for id in turning.drain(..) {
            if *arena.armed(id) != slot_of(0, self.now) {
                continue;
            }
            let expires = arena.expires(id);
            if self.tick(expires) > self.now {
                *arena.armed(id) = UNARMED;
                self.arm(arena, id);
            } else {
                self.due.push(expires.saturating_sub(self.tick_start) << 32 | u64::from(id));
            }
        }
        self.turning = turning;
        self.order_due();
    }

    fn drain(&mut self, level: usize, into: &mut Vec<u32>) {
        let slot = usize::from(slot_of(level, self.now)) % SLOTS as usize;
        self.levels[level].drain(&mut self.pieces, slot, into);
    }

    /// Puts the entries of the tick in order: into buckets first where they are many, for times are
    /// spread evenly.
    fn order_due(&mut self) {
        const BUCKETS: usize = 256;
        if self.due.len() < BUCKETS / 2 {
            return self.due.sort_unstable();
        }
        let bucket = |key: u64| (key >> (32 + SHIFT - BUCKETS.ilog2())) as usize % BUCKETS;
        let mut ends = [0u32; BUCKETS];
        self.due.iter().for_each(|key| ends[bucket(*key)] += 1);
        let mut sum = 0;
        for end in &mut ends {
            sum += *end;
            *end = sum;
        }
        self.unordered.clone_from(&self.due);
        for key in &self.unordered {
            let end = &mut ends[bucket(*key)];
            *end -= 1;
            self.due[*end as usize] = *key;
        }
        let mut start = 0;
        for next in ends.into_iter().skip(1).chain([sum]) {
            self.due[start..next as usize].sort_unstable();
            start = next as usize;
        }
    }

    fn first_due(&self) -> Option<(u64, u32)> {
        self.due.get(self.given).map(|key| (self.tick_start + (key >> 32), *key as u32))
    }

    #[inline]
    fn peek(&self) -> Option<(u64, u32)> {
        let due = self.first_due();
        match self.soon.peek() {
            None => due,
            Some(Reverse(soon)) => Some(due.map_or(*soon, |d| d.min(*soon))),
        }
    }

    #[inline]
    fn pop(&mut self) {
        match (self.first_due(), self.soon.peek()) {
            (Some(_), None) => self.given += 1,
            (Some(due), Some(Reverse(soon))) if due <= *soon => self.given += 1,
            _ => drop(self.soon.pop()),
        }
    }
}

#[cfg(test)]
mod tests;
