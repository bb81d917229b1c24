//! What all sources of traffic have in common, whatever they are read from.

use zarnet_core::traffic::{Flow, Item};

use super::clock::Clock;
use super::{Fault, Skipped};

/// A fault, and the line or packet that it is in; 0 for none in particular.
pub(super) type Located = (u64, Fault);

/// A source of items, in the order in which it has them.
pub(super) trait Source: Send {
    /// The next item, or why it is none; times of day on a clock.
    fn next(&mut self, clock: &mut Clock) -> Option<Result<Item, Located>>;

    /// Adds items to a batch until it holds `most`, or one comes that has to be looked at with
    /// care; that is left to [`Source::next`]. A source that has no quicker way adds none.
    fn fill(&mut self, clock: &mut Clock, batch: &mut Vec<Item>, most: usize);

    /// What was passed over so far.
    fn skipped(&self) -> Skipped;
}

/// Flows that are in memory or made up: each may be sent several times, and none of them is wrong.
pub(super) struct Made<I>(pub I);

impl<I: Iterator<Item = Flow> + Send> Source for Made<I> {
    fn next(&mut self, _: &mut Clock) -> Option<Result<Item, Located>> {
        self.0.next().map(|flow| Ok(Item::Flow(flow)))
    }

    fn fill(&mut self, _: &mut Clock, batch: &mut Vec<Item>, most: usize) {
        let room = most.saturating_sub(batch.len());
        batch.extend(self.0.by_ref().take(room).map(Item::Flow));
    }

    fn skipped(&self) -> Skipped {
        Skipped::default()
    }
}

/// A source that cannot be read at all, and says so.
pub(super) struct Broken(pub Option<Located>);

impl Source for Broken {
    fn next(&mut self, _: &mut Clock) -> Option<Result<Item, Located>> {
        self.0.take().map(Err)
    }

    fn fill(&mut self, _: &mut Clock, _: &mut Vec<Item>, _: usize) {}

    fn skipped(&self) -> Skipped {
        Skipped::default()
    }
}
