//! Sources that were read as a whole, because their order or their origin was not known before.

use std::path::Path;

use zarnet_core::limits;
use zarnet_core::traffic::Item;

use super::clock::Clock;
use super::source::{Located, Source};
use super::{Skipped, TrafficError};

/// What a source had, in the order of time; what starts together keeps its order.
#[derive(Debug, Default)]
pub(super) struct KeptSource {
    items: Vec<Item>,
    /// Why it has no more, if that is a fault.
    failed: Option<Located>,
    skipped: Skipped,
}

/// All sources, in the order in which they were named, and what is wrong with them.
#[derive(Debug, Default)]
pub(super) struct Kept {
    pub sources: Vec<KeptSource>,
    pub faults: Faults,
}

/// Faults that were met: the first [`limits::BAD_LINES_SHOWN`], and how many there are, up to
/// [`limits::BAD_LINES`] of each source.
#[derive(Debug, Clone, Default)]
pub(super) struct Faults {
    pub shown: Vec<TrafficError>,
    pub count: usize,
}

impl Faults {
    /// Adds a fault of an input. Tells whether more of that are to be looked for.
    pub(super) fn add(&mut self, input: &Path, (line, fault): Located) -> bool {
        self.count += 1;
        let goes_on = fault.is_of_one_line() && self.count < limits::BAD_LINES;
        if self.shown.len() < limits::BAD_LINES_SHOWN {
            self.shown.push(TrafficError::at(input, (line, fault)));
        }
        goes_on
    }
}

impl KeptSource {
    /// Reads a source to its end, and puts it in order.
    pub(super) fn read(
        mut source: impl Source,
        clock: &mut Clock,
        input: &Path,
        faults: &mut Faults,
    ) -> Self {
        let mut kept = Self::default();
        while let Some(item) = source.next(clock) {
            match item {
                // behind a fault nothing is played any more
                Ok(item) if kept.failed.is_none() => kept.items.push(item),
                Ok(_) => {}
                Err(fault) => {
                    kept.failed.get_or_insert_with(|| fault.clone());
                    if !faults.add(input, fault) {
                        break;
                    }
                }
            }
        }
        kept.items.sort_by_key(Item::at);
        kept.skipped = source.skipped();
        kept
    }

    pub(super) fn items(&self) -> &[Item] {
        &self.items
    }

    /// It again, from its beginning.
    pub(super) fn replay(&self) -> Replay<'_> {
        Replay { kept: self, at: 0, failed: self.failed.clone() }
    }
}

/// A source that was kept, read again: that it is broken is told first.
pub(super) struct Replay<'a> {
    kept: &'a KeptSource,
    at: usize,
    failed: Option<Located>,
}

impl Source for Replay<'_> {
    fn next(&mut self, _: &mut Clock) -> Option<Result<Item, Located>> {
        if let Some(fault) = self.failed.take() {
            return Some(Err(fault));
        }
        let item = self.kept.items.get(self.at)?;
        self.at += 1;
        Some(Ok(*item))
    }

    fn fill(&mut self, _: &mut Clock, batch: &mut Vec<Item>, most: usize) {
        if self.failed.is_none() {
            let rest = &self.kept.items[self.at..];
            let taken = rest.len().min(most.saturating_sub(batch.len()));
            batch.extend_from_slice(&rest[..taken]);
            self.at += taken;
        }
    }

    fn skipped(&self) -> Skipped {
        self.kept.skipped
    }
}
