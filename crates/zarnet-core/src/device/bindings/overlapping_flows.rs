//! Flows that run on one session at the same time: nearly always two, and there may be many such
//! sessions.

use crate::traffic::Ending;

/// When and how each of them ends.
#[derive(Debug, Clone, Default)]
pub(super) struct Overlap {
    two: [Run; 2],
    #[expect(
        clippy::box_collection,
        reason = "nearly always none: eight octets, where a list takes twenty-four"
    )]
    more: Option<Box<Vec<Run>>>,
}

/// The end of a flow in nanoseconds, and behind it in the two lowest bits its kind; 0 for none.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Default)]
struct Run(u64);

impl Run {
    fn new((end, ending): (u64, Ending)) -> Self {
        Self(end.min(u64::MAX >> 2) << 2 | ending as u64)
    }

    fn ending(self) -> Ending {
        match self.0 & 3 {
            0 => Ending::Close,
            1 => Ending::Reset,
            _ => Ending::Silent,
        }
    }
}

impl Overlap {
    /// Adds flows that end after `now`, and forgets those that do not.
    pub(super) fn add(&mut self, now: u64, flows: impl Iterator<Item = (u64, Ending)>) {
        let is_over = |run: Run| run.0 >> 2 <= now;
        self.two.iter_mut().filter(|run| is_over(**run)).for_each(|run| *run = Run::default());
        if let Some(more) = &mut self.more {
            more.retain(|run| !is_over(*run));
        }
        for flow in flows {
            match self.two.iter_mut().find(|run| **run == Run::default()) {
                Some(place) => *place = Run::new(flow),
                None => self.more.get_or_insert_default().push(Run::new(flow)),
            }
        }
        self.more.take_if(|more| more.is_empty());
    }

    /// The last packet of any of them.
    pub(in crate::device) fn latest(&self) -> u64 {
        let all = self.two.iter().chain(self.more.iter().flat_map(|m| m.iter()));
        all.map(|run| run.0 >> 2).max().unwrap_or(0)
    }

    /// When and how the session ends for all: with the first that closes it, or else with the
    /// longest.
    pub(super) fn end(&self) -> Option<(u64, Ending)> {
        let all = || {
            self.two.iter().chain(self.more.iter().flat_map(|m| m.iter())).filter(|run| run.0 > 0)
        };
        let first_to_close = all().filter(|run| run.ending() == Ending::Close).min();
        first_to_close.or(all().max()).map(|run| (run.0 >> 2, run.ending()))
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        /// Against a plain list.
        #[test]
        fn ends_like_a_list(
            steps in proptest::collection::vec((0u64..20, 1u64..60, 0u8..3), 1..40),
        ) {
            let (mut overlap, mut list, mut now) = (Overlap::default(), Vec::new(), 0);
            for (forward, lasts, kind) in steps {
                now += forward;
                let ending = [Ending::Close, Ending::Reset, Ending::Silent][usize::from(kind)];
                overlap.add(now, [(now + lasts, ending)].into_iter());
                list.retain(|f: &(u64, Ending)| f.0 > now);
                list.push((now + lasts, ending));
                let closing = list.iter().filter(|f| f.1 == Ending::Close).map(|f| f.0).min();
                let end = closing.or(list.iter().map(|f| f.0).max());
                prop_assert_eq!(overlap.end().map(|e| e.0), end);
                prop_assert_eq!(
                    overlap.end().map(|e| e.1 == Ending::Close),
                    Some(closing.is_some())
                );
            }
        }
    }
}
