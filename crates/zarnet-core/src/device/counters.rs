//! What a device counts.

use std::collections::BTreeMap;
use std::net::IpAddr;

use crate::net::Instant;
use crate::plan::RuleId;
use crate::reason::Reason;

/// The most there was of something, and since when.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Peak {
    /// How many.
    pub count: u64,
    /// The first moment with so many.
    pub at: Instant,
}

impl Peak {
    /// Notes how many there are.
    #[inline]
    pub(super) fn note(&mut self, count: u64, now: u64) {
        if count > self.count {
            *self = Self { count, at: Instant(now) };
        }
    }
}

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

/// Of a pool.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct PoolUse {
    /// Addresses that can be handed out.
    pub usable: u64,
    /// Addresses with a mapping.
    pub in_use: u64,
    /// Most addresses at one time.
    pub peak: Peak,
    /// Packets refused for want of an address or port.
    pub refused: u64,
}

/// Of an external address that dynamic mappings have used.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct AddressUse {
    /// The address.
    pub address: IpAddr,
    /// Dynamic mappings on it.
    pub mappings: u64,
    /// Most of them at one time.
    pub peak: Peak,
    /// How many were made on it.
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
    pub(super) fn new(rules: usize) -> Self {
        Self { rules: vec![RuleCounters::default(); rules], ..Self::default() }
    }

    pub(super) fn refuse(&mut self, rule: Option<RuleId>, reason: Reason) {
        self.refused += 1;
        *self.refused_by.entry((rule, reason)).or_default() += 1;
        if let Some(rule) = rule {
            self.rules[rule.index()].refused += 1;
        }
    }

    /// A session of a rule begins.
    #[inline(always)]
    pub(super) fn begin(&mut self, rule: u16, now: u64) {
        let r = &mut self.rules[usize::from(rule)];
        r.hits += 1;
        r.active += 1;
        r.peak.note(r.active, now);
    }

    /// A session of a rule ends.
    pub(super) fn end(&mut self, rule: u16, expired: bool) {
        let r = &mut self.rules[usize::from(rule)];
        r.active -= 1;
        if expired {
            r.expired += 1;
        } else {
            r.cleared += 1;
        }
    }

    /// A session of any kind begins; `count` live then.
    #[inline(always)]
    pub(super) fn begin_session(&mut self, count: u64, now: u64) {
        self.created += 1;
        self.peak_sessions.note(count, now);
    }

    /// A session of any kind ends.
    pub(super) fn end_session(&mut self, expired: bool) {
        if expired {
            self.expired += 1;
        } else {
            self.cleared += 1;
        }
    }

    /// A rule makes a dynamic mapping; `count` live then.
    #[inline(always)]
    pub(super) fn map(&mut self, rule: u16, count: u64, now: u64) {
        let r = &mut self.rules[usize::from(rule)];
        r.mappings += 1;
        r.created += 1;
        self.peak_mappings.note(count, now);
    }
}
