//! How much of something is in use over time: exact at every change as long as there is room, then
//! in spans that keep the least, the most and every refusal.

use super::Peak;
use crate::net::Instant;

/// A stretch of time that begins with a change and lasts until the next span.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Span {
    /// When the span begins.
    pub from: Instant,
    /// The least in use in it.
    pub least: u32,
    /// The most in use in it.
    pub most: u32,
    /// In use at its end.
    pub last: u32,
    /// Uses that began in it.
    pub begun: u32,
    /// Flows refused in it.
    pub refused: u32,
}

/// Use of a supply over time.
#[derive(Debug, Clone, Default)]
pub struct Series {
    spans: Vec<Span>,
    /// Changes less than 2^shift nanoseconds apart may share a span; 0 as long as every change has
    /// its own.
    shift: u32,
    /// What changes before this instant changes in the last span.
    ends: u64,
    /// How much there is; `None` where nothing limits it.
    pub usable: Option<u64>,
    /// The most that was in use.
    pub peak: Peak,
    /// The first moment at which all was in use.
    pub first_full: Option<Instant>,
    /// When a flow was first refused.
    pub first_refusal: Option<Instant>,
    /// When a flow was last refused.
    pub last_refusal: Option<Instant>,
    /// Number of flows refused.
    pub refused: u64,
    /// Number of uses that began.
    pub begun: u64,
    /// The same with what rests after its use and cannot be had (`hold-down-timeout`), where
    /// something does.
    pub with_rest: Option<Box<Series>>,
    /// How long some of the uses lasted, in nanoseconds, as they ended.
    pub lengths: Lengths,
    value: u32,
    full_since: Option<u64>,
    full_for: u64,
    /// Once the traffic is over.
    drain: Option<Drain>,
}

/// What is still in use when the traffic is over, until that ends too.
#[derive(Debug, Clone, Copy)]
struct Drain {
    since: u64,
    area: i128,
}

/// A sample of how long uses lasted: all of them as long as they are few, then every second one,
/// every fourth one and so on.
#[derive(Debug, Clone, Default)]
pub struct Lengths {
    sample: Vec<u64>,
    stride_log2: u32,
    seen: u64,
}

impl Lengths {
    /// So many are kept.
    const MOST: usize = 512;

    /// Notes how long a use lasted.
    #[inline]
    pub fn note(&mut self, nanoseconds: u64) {
        self.seen += 1;
        if self.seen & ((1 << self.stride_log2) - 1) != 0 {
            return;
        }
        if self.sample.len() == Self::MOST {
            let mut n = 0;
            self.sample.retain(|_| {
                n += 1;
                n % 2 == 0
            });
            self.stride_log2 += 1;
        }
        self.sample.push(nanoseconds);
    }

    /// Those that were kept, in the order in which they ended.
    pub fn sample(&self) -> &[u64] {
        &self.sample
    }
}

impl Series {
    /// Nothing in use, of so much.
    pub fn new(usable: Option<u64>) -> Self {
        Self { usable, ..Self::default() }
    }

    /// What cannot be had over time: in use, or resting where something rests.
    pub fn unavailable(&self) -> &Self {
        self.with_rest.as_deref().unwrap_or(self)
    }

    /// How much is in use now.
    pub fn value(&self) -> u32 {
        self.value
    }

    /// Notes how much is in use from now on; `begun`: because a use began. At most `room` spans are
    /// kept, above 1.
    #[inline]
    pub fn note(&mut self, now: u64, value: u32, begun: bool, room: usize) {
        let before = std::mem::replace(&mut self.value, value);
        if let Some(drain) = &mut self.drain {
            // each use that ends has gone on since then, whichever ends first
            let ended = i128::from(before) - i128::from(value);
            drain.area += i128::from(now.saturating_sub(drain.since)) * ended;
            return;
        }
        let span = self.span(now, before, room);
        span.least = span.least.min(value);
        span.most = span.most.max(value);
        span.last = value;
        span.begun += u32::from(begun);
        self.begun += u64::from(begun);
        self.peak.note(value.into(), now);
        match (self.usable.is_some_and(|u| u64::from(value) >= u), self.full_since) {
            (true, None) => {
                self.full_since = Some(now);
                self.first_full.get_or_insert(Instant(now));
            }
            (false, Some(since)) => {
                self.full_for += now.saturating_sub(since);
                self.full_since = None;
            }
            _ => {}
        }
    }

    /// One more in use.
    #[inline]
    pub(in crate::device) fn rise(&mut self, now: u64, room: usize) {
        self.note(now, self.value + 1, true, room);
    }

    /// One less in use.
    #[inline]
    pub(in crate::device) fn fall(&mut self, now: u64, room: usize) {
        self.note(now, self.value.saturating_sub(1), false, room);
    }

    /// The traffic is over: from now on it is only noted how long what is in use goes on.
    pub(in crate::device) fn drain(&mut self, now: u64) {
        self.drain = Some(Drain { since: now, area: 0 });
        if let Some(rest) = &mut self.with_rest {
            rest.drain(now);
        }
    }

    /// All uses together, in nanoseconds: each from its beginning to its end, which may lie behind
    /// the traffic.
    pub fn area(&self) -> f64 {
        let end = match (&self.drain, self.spans.last()) {
            (Some(drain), _) => drain.since,
            (None, last) => last.map_or(0, |s| s.from.0),
        };
        let behind = self.drain.map_or(0, |d| d.area) as f64;
        self.mean(Instant::ZERO, Instant(end)) * end as f64 + behind
    }

    /// For how long at least so many were in use between two instants, in nanoseconds.
    pub fn above(&self, level: f64, from: Instant, until: Instant) -> u64 {
        let first = self.spans.partition_point(|s| s.from <= from);
        let (mut since, mut value, mut sum) = (from.0, self.at(from), 0);
        for span in self.spans[first..].iter().take_while(|s| s.from < until) {
            if f64::from(value) >= level {
                sum += span.from.0 - since;
            }
            (since, value) = (span.from.0, span.last);
        }
        if f64::from(value) >= level {
            sum += until.0.saturating_sub(since);
        }
        sum
    }

    /// The most by which use rose within a stretch of time, in nanoseconds, anywhere between two
    /// instants.
    pub fn fastest_rise(&self, within: u64, from: Instant, until: Instant) -> u32 {
        let spans = self.spans.iter().filter(|s| (from..=until).contains(&s.from));
        let before = from.0.checked_sub(1).map_or(0, |t| self.at(Instant(t)));
        // the least use of the stretch so far, in order: later ones are higher
        let mut lows: std::collections::VecDeque<(u64, u32)> = [(from.0, before)].into();
        let mut most = 0;
        for span in spans {
            while lows.len() > 1 && lows[1].0.saturating_add(within) <= span.from.0 {
                lows.pop_front();
            }
            let low = lows.front().map_or(0, |l| l.1);
            most = most.max(span.most.saturating_sub(low));
            while lows.back().is_some_and(|l| l.1 >= span.last) {
                lows.pop_back();
            }
            lows.push_back((span.from.0, span.last));
        }
        most
    }

    /// Notes that a flow found nothing left.
    pub fn refuse(&mut self, now: u64, room: usize) {
        self.span(now, self.value, room).refused += 1;
        self.refused += 1;
        self.first_refusal.get_or_insert(Instant(now));
        self.last_refusal = Some(Instant(now));
    }

    /// The span that a change falls into.
    #[inline]
    fn span(&mut self, now: u64, value: u32, room: usize) -> &mut Span {
        if now >= self.ends {
            self.begin_span(now, value, room);
        }
        let last = self.spans.len() - 1;
        &mut self.spans[last]
    }

    fn begin_span(&mut self, now: u64, value: u32, room: usize) {
        if self.spans.len() >= room.max(2) {
            self.coarsen(room.max(2) / 2);
        }
        let from = now >> self.shift << self.shift;
        self.ends = from.saturating_add(1 << self.shift);
        // what began before is still there when the span begins
        let (from, least) = (Instant(from), value);
        self.spans.push(Span { from, least, most: value, last: value, begun: 0, refused: 0 });
    }

    /// Widens spans until there are at most so many.
    fn coarsen(&mut self, most: usize) {
        while self.spans.len() > most {
            self.shift = (self.shift + 1).max(20);
            let shift = self.shift;
            self.spans.dedup_by(|next, kept| {
                if next.from.0 >> shift != kept.from.0 >> shift {
                    return false;
                }
                kept.least = kept.least.min(next.least);
                kept.most = kept.most.max(next.most);
                kept.last = next.last;
                kept.begun += next.begun;
                kept.refused += next.refused;
                true
            });
            self.spans.iter_mut().for_each(|s| s.from = Instant(s.from.0 >> shift << shift));
        }
    }

    /// The spans, in order. Where [`Series::resolution`] is 0, each is one change.
    pub fn spans(&self) -> &[Span] {
        &self.spans
    }

    /// Width of the finest span in nanoseconds; 0 where every change has its own.
    pub fn resolution(&self) -> u64 {
        if self.shift == 0 { 0 } else { 1 << self.shift }
    }

    /// For how long all was in use up to an instant, in nanoseconds.
    pub fn full_for(&self, until: Instant) -> u64 {
        self.full_for + self.full_since.map_or(0, |since| until.0.saturating_sub(since))
    }

    /// In use after everything that is due at an instant.
    pub fn at(&self, at: Instant) -> u32 {
        let behind = self.spans.partition_point(|s| s.from <= at);
        behind.checked_sub(1).map_or(0, |i| self.spans[i].last)
    }

    /// The first moment after an instant at which less is in use than before.
    pub fn next_release(&self, at: Instant) -> Option<Instant> {
        let behind = self.spans.partition_point(|s| s.from <= at);
        let mut value = self.at(at);
        self.spans[behind..].iter().find_map(|s| {
            let fell = s.least < value;
            value = s.last;
            fell.then_some(s.from)
        })
    }

    /// The same in `count` stretches of equal length between two instants, for drawing: the least
    /// and the most of each, and the refusals in it. Nothing is averaged, so that no peak is lost.
    pub fn reduced(&self, from: Instant, until: Instant, count: usize) -> Vec<Span> {
        let width =
            (u128::from(until.0.saturating_sub(from.0)) + 1).div_ceil(count.max(1) as u128).max(1);
        let start =
            |n: usize| from.0.saturating_add((width * n as u128).min(u128::from(u64::MAX)) as u64);
        let mut next = self.spans.partition_point(|s| s.from < from);
        let mut value = next.checked_sub(1).map_or(0, |i| self.spans[i].last);
        (0..count)
            .map(|n| {
                let mut stretch = Span {
                    from: Instant(start(n)),
                    least: value,
                    most: value,
                    last: value,
                    begun: 0,
                    refused: 0,
                };
                while let Some(span) = self.spans.get(next).filter(|s| s.from.0 < start(n + 1)) {
                    stretch.least = stretch.least.min(span.least);
                    stretch.most = stretch.most.max(span.most);
                    stretch.begun += span.begun;
                    stretch.refused += span.refused;
                    (value, stretch.last) = (span.last, span.last);
                    next += 1;
                }
                stretch
            })
            .collect()
    }

    /// The mean in use between two instants.
    pub fn mean(&self, from: Instant, until: Instant) -> f64 {
        let length = until.0.saturating_sub(from.0);
        if length == 0 {
            return f64::from(self.at(from));
        }
        let first = self.spans.partition_point(|s| s.from <= from);
        let (mut since, mut value, mut area) = (from.0, self.at(from), 0u128);
        for span in self.spans[first..].iter().take_while(|s| s.from < until) {
            area += u128::from(span.from.0 - since) * u128::from(value);
            (since, value) = (span.from.0, span.last);
        }
        area += u128::from(until.0 - since) * u128::from(value);
        area as f64 / length as f64
    }

    /// Uses that began from one instant on and before another.
    pub fn begun_between(&self, from: Instant, until: Instant) -> u64 {
        let range = self.spans.partition_point(|s| s.from < from)
            ..self.spans.partition_point(|s| s.from < until);
        self.spans[range].iter().map(|s| u64::from(s.begun)).sum()
    }
}

#[cfg(test)]
mod tests;
