//! Address mappings without sessions, which last for the `binding` timer.

use std::cmp::Reverse;
use std::collections::{BinaryHeap, HashMap};

use foldhash::fast::RandomState;

/// Mappings without sessions, and until when they last.
#[derive(Debug, Clone, Default)]
pub(in crate::device) struct Lingering {
    until: HashMap<u32, u64, RandomState>,
    /// The same by time; an entry counts only if it agrees with the above.
    queue: BinaryHeap<Reverse<(u64, u32)>>,
}

impl Lingering {
    /// A mapping lasts until then, unless it is used again.
    pub(super) fn add(&mut self, mapping: u32, until: u64) {
        self.until.insert(mapping, until);
        self.queue.push(Reverse((until, mapping)));
    }

    #[inline(always)]
    pub(super) fn is_empty(&self) -> bool {
        self.until.is_empty()
    }

    /// A mapping is in use again, or has ended.
    pub(super) fn remove(&mut self, mapping: u32) {
        self.until.remove(&mapping);
    }

    /// Until when a mapping without sessions lasts; `None` for one that is in use.
    pub(in crate::device) fn until(&self, mapping: u32) -> Option<u64> {
        self.until.get(&mapping).copied()
    }

    /// When the next one may end.
    pub(super) fn next_end(&self) -> u64 {
        self.queue.peek().map_or(u64::MAX, |l| l.0.0)
    }

    /// The next one that ends at `now` or before: when, and which; no mapping if that was used
    /// again meanwhile.
    pub(super) fn next_over(&mut self, now: u64) -> Option<(u64, Option<u32>)> {
        if self.next_end() > now {
            return None;
        }
        let Reverse((until, mapping)) = self.queue.pop()?;
        Some((until, Some(mapping).filter(|m| self.until(*m) == Some(until))))
    }
}
