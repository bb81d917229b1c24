//! What a repair does besides: expectations that it breaks and mends, and traffic that it opens.

use std::cmp::Reverse;
use std::sync::Arc;

use zarnet_core::predict::Rehearsal;
use zarnet_formats::plan::Loaded;

use crate::impact::{impact, sizes};

/// Plans with more rules than this are not compared packet by packet to weigh a repair.
const MOST_RULES: usize = 300;

/// What a repair does besides making a flow work.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Weight {
    /// Expectations that held before, and do not any more.
    pub broken: usize,
    /// Expectations that hold only now.
    pub mended: usize,
    /// Expectations that did not hold before, and still do not.
    pub left: usize,
    /// How many packets get through that did not before, as a power of two.
    pub opened: u32,
    /// How many packets do not get through any more, as a power of two.
    pub closed: u32,
    /// Of how many packets something else becomes, as a power of two.
    pub touched: u32,
}

impl Weight {
    /// What speaks against a repair: less is better.
    pub(super) fn harm(self) -> (usize, Reverse<usize>, bool) {
        (self.broken, Reverse(self.mended), self.closed > 0)
    }

    /// Of a repaired plan. `held`: which expectations held before, as [`held`] tells.
    pub fn of(before: &Loaded, held_before: &[bool], after: &Loaded, seed: u64) -> Self {
        let now = held(after, seed);
        let pairs = || held_before.iter().zip(&now);
        let rules: usize = after.plan.devices.iter().map(|d| d.rules.len()).sum();
        let [opened, closed, touched] = match rules <= MOST_RULES {
            true => sizes(&impact(&before.plan, &after.plan)),
            false => [0; 3],
        };
        Self {
            broken: pairs().filter(|(was, is)| **was && !**is).count(),
            mended: pairs().filter(|(was, is)| !**was && **is).count(),
            left: pairs().filter(|(was, is)| !**was && !**is).count(),
            opened,
            closed,
            touched,
        }
    }
}

/// Which expectations of a plan hold on a network at rest, in their order.
pub fn held(loaded: &Loaded, seed: u64) -> Vec<bool> {
    if loaded.plan.expectations.is_empty() {
        return Vec::new();
    }
    let mut rehearsal = Rehearsal::new(Arc::new(loaded.plan.clone()), seed);
    loaded.plan.expectations.iter().map(|e| rehearsal.expect(e).failed.is_empty()).collect()
}
