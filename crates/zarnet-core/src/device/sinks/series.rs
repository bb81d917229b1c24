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
    value: u32,
    full_since: Option<u64>,
    full_for: u64,
}

impl Series {
    /// Nothing in use, of so much.
    pub fn new(usable: Option<u64>) -> Self {
        Self { usable, ..Self::default() }
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
        let same = self.spans.last().is_some_and(|s| s.from.0 >> self.shift == now >> self.shift);
        if !same {
            if self.spans.len() >= room.max(2) {
                self.coarsen(room.max(2) / 2);
            }
            let from = Instant(now >> self.shift << self.shift);
            // what began before is still there when the span begins
            let least = value;
            self.spans.push(Span { from, least, most: value, last: value, begun: 0, refused: 0 });
        }
        let last = self.spans.len() - 1;
        &mut self.spans[last]
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
mod tests {
    use super::*;
    use proptest::prelude::*;

    const ROOM: usize = 1 << 20;

    fn series(changes: &[(u64, u32)], room: usize) -> Series {
        let mut series = Series::new(Some(3));
        changes.iter().for_each(|c| series.note(c.0, c.1, true, room));
        series
    }

    #[test]
    fn what_is_in_use_is_known_at_every_change() {
        let s = series(&[(10, 1), (20, 2), (20, 3), (30, 2), (50, 0)], ROOM);
        let at = [0, 9, 10, 19, 20, 29, 30, 49, 50, 99].map(|t| s.at(Instant(t)));
        assert_eq!(at, [0, 0, 1, 1, 3, 3, 2, 2, 0, 0]);
        assert_eq!((s.peak.count, s.peak.at, s.first_full), (3, Instant(20), Some(Instant(20))));
        assert_eq!(s.full_for(Instant(99)), 10);
        assert_eq!(
            [15, 20, 30, 50].map(|t| s.next_release(Instant(t))),
            [Some(Instant(30)), Some(Instant(30)), Some(Instant(50)), None]
        );
        // 10 at 1, 10 at 3, 20 at 2 of fifty
        assert!((s.mean(Instant(0), Instant(50)) - 80.0 / 50.0).abs() < 1e-12);
    }

    #[test]
    fn drawing_keeps_a_peak_and_a_refusal_of_one_instant() {
        let mut s = series(&[(100, 1), (500, 3)], ROOM);
        s.refuse(500, ROOM);
        s.note(501, 1, false, ROOM);
        s.note(900, 0, false, ROOM);
        let drawn = s.reduced(Instant(0), Instant(999), 4);
        assert_eq!(
            drawn.iter().map(|d| (d.least, d.most, d.refused)).collect::<Vec<_>>(),
            [(0, 1, 0), (1, 1, 0), (1, 3, 1), (0, 1, 0)]
        );
    }

    proptest! {
        #[test]
        fn less_room_loses_no_peak_no_use_and_no_refusal(
            steps in proptest::collection::vec((0u64..40_000_000, 0u32..50, any::<bool>()), 1..400),
            room in 4usize..60,
        ) {
            let (mut fine, mut coarse, mut now) = (Series::new(Some(40)), Series::new(Some(40)), 0);
            for (gap, value, refused) in steps {
                now += gap;
                for (s, room) in [(&mut fine, ROOM), (&mut coarse, room)] {
                    s.note(now, value, true, room);
                    if refused {
                        s.refuse(now, room);
                    }
                }
            }
            prop_assert!(coarse.spans().len() <= room);
            prop_assert_eq!(fine.resolution(), 0);
            let sums = |s: &Series| {
                s.spans().iter().fold((0, u32::MAX, 0, 0), |sum, p| {
                    (sum.0.max(p.most), sum.1.min(p.least), sum.2 + p.begun, sum.3 + p.refused)
                })
            };
            prop_assert_eq!(sums(&fine), sums(&coarse));
            prop_assert_eq!(
                (fine.peak, fine.first_full, fine.refused),
                (coarse.peak, coarse.first_full, coarse.refused)
            );
            prop_assert_eq!(fine.at(Instant(now)), coarse.at(Instant(now)));
            let (a, b) = (
                fine.reduced(Instant(0), Instant(now), 7),
                coarse.reduced(Instant(0), Instant(now), 7),
            );
            prop_assert_eq!(
                a.iter().map(|s| s.refused).sum::<u32>(),
                b.iter().map(|s| s.refused).sum::<u32>()
            );
            prop_assert_eq!(a.iter().map(|s| s.most).max(), b.iter().map(|s| s.most).max());
        }
    }
}
