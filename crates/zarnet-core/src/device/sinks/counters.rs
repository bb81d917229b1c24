//! What a device counts of its sessions, mappings and refusals.

use std::collections::BTreeMap;

use super::Peak;
use crate::device::bindings::{Bindings, Cause, Sink, TableEvent};
use crate::plan::{Renaming, RuleId};
use crate::reason::Reason;

/// Of a rule.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct RuleCounters {
    /// Sessions that it made.
    pub hits: u64,
    /// Sessions that live.
    pub active: u64,
    /// Most sessions at one time.
    pub peak: Peak,
    /// Sessions whose time was up.
    pub expired: u64,
    /// Sessions that were cleared.
    pub cleared: u64,
    /// Packets refused.
    pub refused: u64,
    /// Dynamic mappings that live.
    pub mappings: u64,
    /// Dynamic mappings that it made.
    pub created: u64,
}

/// Of a device.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Counters {
    /// By rule.
    pub rules: Vec<RuleCounters>,
    /// Most dynamic mappings at one time.
    pub peak_mappings: Peak,
    /// Sessions made, untranslated ones included.
    pub created: u64,
    /// Sessions whose time was up.
    pub expired: u64,
    /// Sessions that were cleared.
    pub cleared: u64,
    /// Most sessions at one time.
    pub peak_sessions: Peak,
    /// Packets dropped.
    pub refused: u64,
    /// The same by reason, and by the rule that is to blame.
    pub refused_by: BTreeMap<(Option<RuleId>, Reason), u64>,
}

impl Counters {
    /// None yet, of so many rules.
    pub(in crate::device) fn new(rules: usize) -> Self {
        Self { rules: vec![RuleCounters::default(); rules], ..Self::default() }
    }

    /// Rules have other numbers from now on, and there are so many.
    pub(super) fn rename(&mut self, renaming: &Renaming, rules: usize) {
        let before = std::mem::replace(&mut self.rules, vec![RuleCounters::default(); rules]);
        for (rule, counter) in renaming.rules.iter().zip(before) {
            self.rules[rule.index()] = counter;
        }
        let refused = std::mem::take(&mut self.refused_by).into_iter();
        self.refused_by = refused.map(|((rule, why), n)| ((rule.map(|r| renaming.rules[r.index()]), why), n)).collect();
    }

    fn refuse(&mut self, rule: Option<RuleId>, reason: Reason) {
        self.refused += 1;
        *self.refused_by.entry((rule, reason)).or_default() += 1;
        if let Some(rule) = rule {
            self.rules[rule.index()].refused += 1;
        }
    }

    #[inline(always)]
    fn open_session(&mut self, at: u64, rules: [Option<RuleId>; 2], count: u64) {
        for rule in rules.into_iter().flatten() {
            let r = &mut self.rules[rule.index()];
            r.hits += 1;
            r.active += 1;
            r.peak.note(r.active, at);
        }
        self.created += 1;
        self.peak_sessions.note(count, at);
    }

    #[inline(always)]
    fn close_session(&mut self, rules: [Option<RuleId>; 2], cause: Cause) {
        let expired = u64::from(cause == Cause::Expired);
        for rule in rules.into_iter().flatten() {
            let r = &mut self.rules[rule.index()];
            r.active -= 1;
            r.expired += expired;
            r.cleared += 1 - expired;
        }
        self.expired += expired;
        self.cleared += 1 - expired;
    }
}

impl Sink for Counters {
    #[inline(always)]
    fn note(&mut self, at: u64, event: TableEvent, bindings: &Bindings) {
        match event {
            TableEvent::MappingOpened { rule, .. } => {
                let r = &mut self.rules[usize::from(rule)];
                r.mappings += 1;
                r.created += 1;
                self.peak_mappings.note(bindings.table.mapping_count(), at);
            }
            TableEvent::MappingClosed { rule, .. } => self.rules[usize::from(rule)].mappings -= 1,
            TableEvent::MappingHandedOver { from, to, .. } => {
                self.rules[usize::from(from)].mappings -= 1;
                self.rules[usize::from(to)].mappings += 1;
            }
            TableEvent::SessionOpened { rules, .. } => {
                self.open_session(at, rules, bindings.table.session_count());
            }
            TableEvent::SessionClosed { rules, cause, .. } => self.close_session(rules, cause),
            TableEvent::Refused { rule, reason, .. } => self.refuse(rule, reason),
            TableEvent::PortTaken { .. }
            | TableEvent::PortFreed { .. }
            | TableEvent::BlockTaken { .. }
            | TableEvent::BlockFreed { .. }
            | TableEvent::AddressTaken { .. }
            | TableEvent::AddressFreed { .. } => {}
        }
    }
}
