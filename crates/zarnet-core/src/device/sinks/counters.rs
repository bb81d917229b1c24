//! What a device counts: of its sessions, mappings and refusals ([`EventCounters`]), and of the
//! addresses that it hands out ([`UseCounters`]).

use std::collections::BTreeMap;
use std::net::IpAddr;

use super::Peak;
use crate::device::bindings::{Bindings, Cause, Live, NONE, Sink, TableEvent, for_each};
use crate::device::compiled::Compiled;
use crate::plan::{Pool, Renaming, RuleId};
use crate::reason::Reason;

/// What a device counts of one rule.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct RuleCounters {
    /// Sessions that it made.
    pub hits: u64,
    /// Number of its sessions that live.
    pub active: u64,
    /// Most sessions at one time.
    pub peak: Peak,
    /// Sessions whose time was up.
    pub expired: u64,
    /// Sessions that were cleared.
    pub cleared: u64,
    /// First packets refused for want of an external end.
    pub refused: u64,
    /// Dynamic mappings that live.
    pub mappings: u64,
    /// Dynamic mappings that it made.
    pub created: u64,
}

/// What a device counts.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Counters {
    /// Counters of each rule, in the order of the plan.
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
    /// Packets that were dropped for any reason.
    pub refused: u64,
    /// The same by reason, and by the rule that is to blame.
    pub refused_by: BTreeMap<(Option<RuleId>, Reason), u64>,
}

/// What happened to the sessions and mappings of a rule; what lives of it is known to the table.
#[derive(Debug, Clone, Copy, Default)]
struct RuleEvents {
    /// Most sessions at one time.
    peak: Peak,
    /// Sessions that expired, and that were cleared.
    expired: u64,
    cleared: u64,
    refused: u64,
    /// Mappings that are its own no longer, less those that were another's before.
    gone: u64,
}

impl RuleEvents {
    #[inline(always)]
    fn lose(&mut self) {
        self.gone = self.gone.wrapping_add(1);
    }
}

/// What happened to sessions and mappings, and what was refused.
#[derive(Debug, Clone, Default)]
pub(in crate::device) struct EventCounters {
    rules: Vec<RuleEvents>,
    peak_mappings: Peak,
    peak_sessions: Peak,
    expired: u64,
    cleared: u64,
    refused: u64,
    refused_by: BTreeMap<(Option<RuleId>, Reason), u64>,
}

impl EventCounters {
    /// None yet, of so many rules.
    pub(super) fn new(rules: usize) -> Self {
        Self { rules: vec![RuleEvents::default(); rules], ..Self::default() }
    }

    /// Rules have other numbers from now on, and there are so many.
    pub(super) fn rename(&mut self, renaming: &Renaming, rules: usize) {
        let before = std::mem::replace(&mut self.rules, vec![RuleEvents::default(); rules]);
        for (rule, counter) in renaming.rules.iter().zip(before) {
            self.rules[rule.index()] = counter;
        }
        let refused = std::mem::take(&mut self.refused_by).into_iter();
        self.refused_by = refused
            .map(|((rule, why), n)| ((rule.map(|r| renaming.rules[r.index()]), why), n))
            .collect();
    }

    /// What was counted, with what lives.
    pub(in crate::device) fn with(&self, bindings: &Bindings) -> Counters {
        let of = |(events, live): (&RuleEvents, &Live)| RuleCounters {
            hits: live.sessions + events.expired + events.cleared,
            active: live.sessions,
            peak: events.peak,
            expired: events.expired,
            cleared: events.cleared,
            refused: events.refused,
            mappings: live.mappings,
            created: live.mappings.wrapping_add(events.gone),
        };
        Counters {
            rules: self.rules.iter().zip(&bindings.live).map(of).collect(),
            peak_mappings: self.peak_mappings,
            created: bindings.table.session_count() + self.expired + self.cleared,
            expired: self.expired,
            cleared: self.cleared,
            peak_sessions: self.peak_sessions,
            refused: self.refused,
            refused_by: self.refused_by.clone(),
        }
    }

    /// Reads what was counted of a rule.
    #[inline(always)]
    pub(super) fn touch_rule(&self, rule: u16) -> u32 {
        self.rules[usize::from(rule)].expired as u32
    }

    fn refuse(&mut self, rule: Option<RuleId>, reason: Reason) {
        self.refused += 1;
        *self.refused_by.entry((rule, reason)).or_default() += 1;
        if let Some(rule) = rule {
            self.rules[rule.index()].refused += 1;
        }
    }

    #[inline(always)]
    fn open_session(&mut self, rule: Option<RuleId>, at: u64, bindings: &Bindings) {
        if let Some(rule) = rule {
            self.rules[rule.index()].peak.note(bindings.live[rule.index()].sessions, at);
        }
    }

    #[inline(always)]
    fn close_session(&mut self, rules: [Option<RuleId>; 2], cause: Cause) {
        let is_expired = cause == Cause::Expired;
        let count =
            |expired: &mut u64, cleared: &mut u64| *if is_expired { expired } else { cleared } += 1;
        for_each(rules, |rule| {
            let r = &mut self.rules[rule.index()];
            count(&mut r.expired, &mut r.cleared);
        });
        count(&mut self.expired, &mut self.cleared);
    }
}

impl Sink for EventCounters {
    #[inline(always)]
    fn note(&mut self, at: u64, event: TableEvent, bindings: &Bindings) {
        match event {
            TableEvent::MappingOpened { .. } => {
                self.peak_mappings.note(bindings.table.mapping_count(), at)
            }
            TableEvent::MappingClosed { rule, .. } => self.rules[usize::from(rule)].lose(),
            TableEvent::MappingHandedOver { from, to, .. } => {
                self.rules[usize::from(from)].lose();
                let to = &mut self.rules[usize::from(to)];
                to.gone = to.gone.wrapping_sub(1);
            }
            TableEvent::SessionOpened { rules, .. } => {
                let [first, second] = rules;
                self.open_session(first, at, bindings);
                self.open_session(second, at, bindings);
                self.peak_sessions.note(bindings.table.session_count(), at);
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

/// Use of one pool's addresses.
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
    /// The external address that is in use.
    pub address: IpAddr,
    /// Dynamic mappings on it.
    pub mappings: u64,
    /// Most of them at one time.
    pub peak: Peak,
    /// How many were made on it.
    pub created: u64,
}

/// Of a target.
#[derive(Debug, Clone, Copy, Default)]
struct TargetCounters {
    /// Most addresses in use at one time.
    peak: Peak,
    /// Packets refused for want of an address or port.
    refused: u64,
}

/// Of an external address, by its place in the table.
#[derive(Debug, Clone, Copy, Default)]
struct AddressCounters {
    /// Most mappings at one time.
    peak: Peak,
    /// Mappings that were created so far.
    created: u64,
}

/// Of all targets and external addresses.
#[derive(Debug, Clone, Default)]
pub(in crate::device) struct UseCounters {
    targets: Vec<TargetCounters>,
    addresses: Vec<AddressCounters>,
}

impl UseCounters {
    /// None yet, of so many targets.
    pub(super) fn new(targets: usize) -> Self {
        Self { targets: vec![TargetCounters::default(); targets], addresses: Vec::new() }
    }

    /// Targets have these numbers from now on, and there are so many.
    pub(super) fn renumber(&mut self, numbers: &[u16], targets: usize) {
        let before = std::mem::replace(&mut self.targets, vec![TargetCounters::default(); targets]);
        for (new, counters) in numbers.iter().zip(before) {
            self.targets[usize::from(*new)] = counters;
        }
    }

    /// Every external address that dynamic mappings have used, in numeric order.
    pub(in crate::device) fn addresses(&self, bindings: &Bindings) -> Vec<AddressUse> {
        let used = (0..).zip(&self.addresses).filter(|(_, counters)| counters.created > 0);
        let mut list: Vec<AddressUse> = used
            .map(|(place, counters)| {
                let external = bindings.externals.get(place);
                AddressUse {
                    address: external.address.address(),
                    mappings: u64::from(external.endpoints) + u64::from(external.whole != NONE),
                    peak: counters.peak,
                    created: counters.created,
                }
            })
            .collect();
        list.sort_unstable_by_key(|a| a.address);
        list
    }

    /// Use of each pool, in the order of the plan. A pool that is handed out whole and by port
    /// counts as the former.
    pub(in crate::device) fn pools(
        &self,
        compiled: &Compiled,
        bindings: &Bindings,
    ) -> Vec<PoolUse> {
        // what it lists counts, whether or not a rule uses it, less what nobody can be given
        let of = |pool: &Pool| PoolUse { usable: compiled.assignable(pool), ..PoolUse::default() };
        let mut pools: Vec<PoolUse> = compiled.plan.pools.iter().map(of).collect();
        for whole in [false, true] {
            for (number, config) in (0..).zip(&compiled.targets.list) {
                if let Some(pool) = config.pool.filter(|_| config.whole == whole) {
                    let counters = self.targets[usize::from(number)];
                    let use_ = &mut pools[pool.index()];
                    let refused = use_.refused + counters.refused;
                    let in_use = bindings.target(number).in_use.into();
                    *use_ = PoolUse { usable: use_.usable, in_use, peak: counters.peak, refused };
                }
            }
        }
        pools
    }
}

impl Sink for UseCounters {
    #[inline(always)]
    fn note(&mut self, at: u64, event: TableEvent, _: &Bindings) {
        match event {
            TableEvent::MappingOpened { external, on_address, .. } => {
                let place = external as usize;
                if self.addresses.len() <= place {
                    self.addresses.resize(place + 1, AddressCounters::default());
                }
                let address = &mut self.addresses[place];
                address.created += 1;
                address.peak.note(on_address.into(), at);
            }
            TableEvent::AddressTaken { target, in_use } => {
                self.targets[usize::from(target)].peak.note(in_use.into(), at);
            }
            TableEvent::Refused { targets, .. } => {
                targets
                    .into_iter()
                    .flatten()
                    .for_each(|t| self.targets[usize::from(t)].refused += 1);
            }
            TableEvent::MappingClosed { .. }
            | TableEvent::MappingHandedOver { .. }
            | TableEvent::SessionOpened { .. }
            | TableEvent::SessionClosed { .. }
            | TableEvent::PortTaken { .. }
            | TableEvent::PortFreed { .. }
            | TableEvent::BlockTaken { .. }
            | TableEvent::BlockFreed { .. }
            | TableEvent::AddressFreed { .. } => {}
        }
    }
}
