//! What a device counts.

use crate::plan::RuleId;

/// Of a rule.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct RuleCounters {
    /// Sessions that it made.
    pub hits: u64,
    /// Sessions that live.
    pub active: u64,
    /// Most sessions at one time.
    pub peak: u64,
    /// Sessions whose time was up.
    pub expired: u64,
    /// Sessions that were cleared.
    pub cleared: u64,
    /// Packets refused.
    pub refused: u64,
    /// Dynamic mappings that live.
    pub mappings: u64,
}

/// Of a pool.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct PoolUse {
    /// Addresses that can be handed out.
    pub usable: u64,
    /// Addresses with a mapping.
    pub in_use: u64,
    /// Most addresses at one time.
    pub peak: u64,
    /// Packets refused for want of an address or port.
    pub refused: u64,
}

/// Of a device.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Counters {
    /// By rule.
    pub rules: Vec<RuleCounters>,
    /// Most dynamic mappings at one time.
    pub peak_mappings: u64,
    /// Most sessions at one time.
    pub peak_sessions: u64,
    /// Packets dropped.
    pub refused: u64,
}

impl Counters {
    pub(super) fn new(rules: usize) -> Self {
        Self { rules: vec![RuleCounters::default(); rules], ..Self::default() }
    }

    pub(super) fn refuse(&mut self, rule: Option<RuleId>) {
        self.refused += 1;
        if let Some(rule) = rule {
            self.rules[rule.index()].refused += 1;
        }
    }

    pub(super) fn begin(&mut self, rule: u16) {
        let r = &mut self.rules[usize::from(rule)];
        r.hits += 1;
        r.active += 1;
        r.peak = r.peak.max(r.active);
    }

    pub(super) fn end(&mut self, rule: u16, expired: bool) {
        let r = &mut self.rules[usize::from(rule)];
        r.active -= 1;
        if expired {
            r.expired += 1;
        } else {
            r.cleared += 1;
        }
    }
}
