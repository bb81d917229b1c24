//! When sessions expire: a wheel of slots an eighth of a second wide, whose current slot is kept in exact order.
//!
//! Postponing an expiry costs nothing: the entry is looked at when its old slot comes round, and put back. Bringing one
//! forward leaves a stale entry behind, which `armed` tells apart.

use std::cmp::Reverse;
use std::collections::BinaryHeap;

/// Nanoseconds to ticks: 134 ms.
const SHIFT: u32 = 27;
/// The horizon: 18 minutes. What lies behind it is looked at once a round.
const SLOTS: u32 = 8192;
/// What does not expire.
pub(super) const NEVER: u64 = u64::MAX;
/// Not in the wheel.
pub(super) const UNARMED: u16 = u16::MAX;

fn slot_of(tick: u32) -> u16 {
    (tick % SLOTS) as u16
}

/// What the wheel asks of the arena whose entries it keeps.
pub(super) trait Timed {
    /// When the entry expires, in nanoseconds; [`NEVER`] for one that is no more.
    fn expires(&self, id: u32) -> u64;
    /// The slot in which the wheel last filed the entry; [`UNARMED`] for none.
    fn armed(&mut self, id: u32) -> &mut u16;
}

/// Entries of one slot, or of a part of it.
#[derive(Debug, Clone, Copy)]
struct Piece {
    entries: [u32; PIECE],
    /// The piece that was filled before this one.
    before: u32,
}

/// Entries of a piece: with its link, four lines of a cache.
const PIECE: usize = 63;
/// No piece.
const NO_PIECE: u32 = u32::MAX;

/// The last piece of a slot, and how much of it is filled.
#[derive(Debug, Clone, Copy)]
struct Slot {
    last: u32,
    filled: u32,
}

/// The slots' entries, in pieces that are used again: growing moves nothing, and nothing is left unused but half a piece a
/// slot.
#[derive(Debug, Clone, Default)]
struct Pieces {
    pieces: Vec<Piece>,
    free: Vec<u32>,
}

impl Pieces {
    fn push(&mut self, slot: &mut Slot, id: u32) {
        if slot.last == NO_PIECE || slot.filled as usize == PIECE {
            let piece = Piece { entries: [0; PIECE], before: slot.last };
            slot.last = match self.free.pop() {
                Some(place) => {
                    self.pieces[place as usize] = piece;
                    place
                }
                None => {
                    self.pieces.push(piece);
                    self.pieces.len() as u32 - 1
                }
            };
            slot.filled = 0;
        }
        self.pieces[slot.last as usize].entries[slot.filled as usize] = id;
        slot.filled += 1;
    }

    /// Moves the entries of a slot over.
    fn drain(&mut self, slot: Slot, into: &mut Vec<u32>) {
        let (mut at, mut filled) = (slot.last, slot.filled as usize);
        while at != NO_PIECE {
            let piece = &self.pieces[at as usize];
            into.extend_from_slice(&piece.entries[..filled]);
            self.free.push(at);
            (at, filled) = (piece.before, PIECE);
        }
    }
}

/// The wheel.
#[derive(Debug, Clone, Default)]
pub(super) struct Wheel {
    slots: Vec<Slot>,
    pieces: Pieces,
    /// Entries of the current tick in the order of their expiry: nanoseconds into the tick, then the entry, in one word
    /// that is quickly sorted.
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
    now: u32,
    filed: usize,
    /// Entries that wait to be put into their slots, together: so that places far apart are waited for together.
    waiting: Vec<(u16, u32)>,
    /// Room for the entries of the slot whose tick begins.
    turning: Vec<u32>,
}

/// So many entries are fetched ahead at once.
const AHEAD: usize = 64;
/// So many entries are put into their slots at once.
const TOGETHER: usize = 32;

impl Wheel {
    fn tick(&self, time: u64) -> u32 {
        let ticks = (time >> SHIFT).saturating_sub(self.origin.unwrap_or(0));
        u32::try_from(ticks).unwrap_or(u32::MAX - SLOTS)
    }

    /// Files an entry under its expiry, if it is not filed early enough already.
    #[inline]
    pub(super) fn arm(&mut self, arena: &mut impl Timed, id: u32) {
        let expires = arena.expires(id);
        let tick = self.tick(expires);
        let armed = arena.armed(id);
        let ahead = u32::from(*armed).wrapping_sub(self.now) % SLOTS;
        if *armed == UNARMED || tick < self.now + ahead {
            *armed = self.file(expires, id);
        }
    }

    /// Files an entry, and gives the slot that it is then armed for.
    #[inline]
    pub(super) fn file(&mut self, expires: u64, id: u32) -> u16 {
        let tick = self.tick(expires).min(self.now + SLOTS - 1);
        if tick <= self.now || self.slots.is_empty() {
            return self.file_soon(expires, id, tick);
        }
        self.filed += 1;
        self.waiting.push((slot_of(tick), id));
        if self.waiting.len() >= TOGETHER {
            self.settle();
        }
        slot_of(tick)
    }

    /// Puts the entries that wait into their slots.
    #[inline(never)]
    fn settle(&mut self) {
        let filled = self.waiting.iter().fold(0, |sum, w| sum ^ self.slots[usize::from(w.0)].filled);
        std::hint::black_box(filled);
        for &(slot, id) in &self.waiting {
            self.pieces.push(&mut self.slots[usize::from(slot)], id);
        }
        self.waiting.clear();
    }

    #[cold]
    fn file_soon(&mut self, expires: u64, id: u32, tick: u32) -> u16 {
        // who files before anybody has asked: what expires earlier then counts as soon, too
        let is_first = self.origin.is_none();
        self.origin.get_or_insert(expires >> SHIFT);
        if tick <= self.now || is_first {
            self.soon.push(Reverse((expires, id)));
            return slot_of(self.now);
        }
        self.slots = vec![Slot { last: NO_PIECE, filled: 0 }; SLOTS as usize];
        self.file(expires, id)
    }

    /// The next entry that expires at `now` or before, in the order of expiry. It is then no longer filed.
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
                if *arena.armed(id) != slot_of(self.now) {
                    continue;
                }
                *arena.armed(id) = UNARMED;
                if arena.expires(id) <= now {
                    return Some(id);
                }
                self.arm(arena, id);
            }
            if self.now >= target {
                return None;
            }
            if self.filed == 0 {
                self.now = target;
                return None;
            }
            self.now += 1;
            self.turn(arena);
        }
    }

    /// Whether [`Self::ahead`] has something to tell.
    #[inline]
    pub(super) fn has_ahead(&self) -> bool {
        self.given >= self.fetched && self.fetched < self.due.len()
    }

    /// The next entries of the current tick, once each, so that what they need can be fetched ahead.
    pub(super) fn ahead(&mut self) -> impl Iterator<Item = u32> + '_ {
        let from = self.given.max(self.fetched).min(self.due.len());
        self.fetched = self.due.len().min(from + AHEAD);
        self.due[from..self.fetched].iter().map(|key| *key as u32)
    }

    /// Until when nothing becomes due, unless something is filed.
    pub(super) fn calm_until(&self) -> u64 {
        let Some(origin) = self.origin else { return 0 };
        let next_tick = (origin + u64::from(self.now) + 1) << SHIFT;
        self.peek().map_or(next_tick, |(expires, _)| expires.min(next_tick))
    }

    /// Takes over the slot of the tick that begins.
    fn turn(&mut self, arena: &mut impl Timed) {
        self.settle();
        let Some(slot) = self.slots.get_mut(usize::from(slot_of(self.now))) else { return };
        let slot = std::mem::replace(slot, Slot { last: NO_PIECE, filled: 0 });
        let mut turning = std::mem::take(&mut self.turning);
        self.due.clear();
        (self.given, self.fetched) = (0, 0);
        self.tick_start = (self.origin.unwrap_or(0) + u64::from(self.now)) << SHIFT;
        self.pieces.drain(slot, &mut turning);
        self.filed -= turning.len();
        std::hint::black_box(turning.iter().fold(0, |sum, id| sum ^ arena.expires(*id)));
        for id in turning.drain(..) {
            if *arena.armed(id) != slot_of(self.now) {
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

    /// Puts the entries of the tick in order: into buckets first where they are many, for times are spread evenly.
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
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[derive(Default)]
    struct Arena(Vec<(u64, u16)>);

    impl Timed for Arena {
        fn expires(&self, id: u32) -> u64 {
            self.0[id as usize].0
        }
        fn armed(&mut self, id: u32) -> &mut u16 {
            &mut self.0[id as usize].1
        }
    }

    proptest! {
        /// Each entry comes out once, at the first look at or after its expiry, in order, whatever was postponed or
        /// brought forward in between.
        #[test]
        fn everything_comes_out_when_it_is_due(
            start in 0u64..1 << 60,
            steps in proptest::collection::vec((0u64..3000, 0u32..20, 0u64..5_000_000), 1..200),
        ) {
            let (mut wheel, mut arena, mut now) = (Wheel::default(), Arena(vec![(NEVER, UNARMED); 20]), start);
            for (forward, id, life) in steps {
                now += forward << 22;
                let mut last = 0;
                while let Some(id) = wheel.next_due(&mut arena, now) {
                    let expires = arena.expires(id);
                    prop_assert!(expires <= now && expires >= last);
                    last = expires;
                    arena.0[id as usize].0 = NEVER;
                }
                prop_assert!(arena.0.iter().all(|e| e.0 > now));
                let is_new = arena.0[id as usize].0 == NEVER;
                arena.0[id as usize].0 = now + 1 + (life << 20);
                if is_new {
                    arena.0[id as usize].1 = wheel.file(arena.expires(id), id);
                } else {
                    wheel.arm(&mut arena, id);
                }
            }
        }
    }
}
