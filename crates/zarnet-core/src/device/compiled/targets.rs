//! What rules hand out: the addresses of each target, and which targets an address is of.
//!
//! Contract: §M9 of docs/semantics.md.

use std::collections::HashMap;

use foldhash::fast::RandomState;

use super::address_space::AddressSpace;
use crate::device::key::Key;
use crate::net::{AddressRange, AddressSet, IntervalMap};
use crate::plan::{self, Fallback, Pick, Pool, PoolId, Rule, RuleKind, Target};

/// What addresses a rule may hand out, and how they are picked.
#[derive(Debug, Clone)]
pub(in crate::device) struct TargetConfig {
    pub target: Target,
    /// Whole addresses, for a pool rule; endpoints, for an overload.
    pub whole: bool,
    pub space: AddressSpace,
    pub pick: Pick,
    pub pool: Option<PoolId>,
}

/// Positions of a rule's targets.
#[derive(Debug, Clone, Copy, Default)]
pub(in crate::device) struct RuleTargets {
    /// What it translates to, or of a fixed rule what it overloads senders to.
    pub main: Option<u16>,
    pub fallback: Option<u16>,
}

/// Every target of a device.
#[derive(Debug, Clone)]
pub(in crate::device) struct Targets {
    pub list: Vec<TargetConfig>,
    pub of_rule: Vec<RuleTargets>,
    positions: HashMap<(Target, bool), u16, RandomState>,
    by_address: IntervalMap<Vec<u16>>,
    /// The plan's interfaces, hosts and next hops, which no pool hands out.
    taken: std::sync::Arc<AddressSet>,
    /// External ends that fixed rules bind wholly; and all of them.
    bound: [AddressSet; 2],
}

impl Targets {
    pub(super) fn new(plan: &plan::DevicePlan, taken: std::sync::Arc<AddressSet>) -> Self {
        let (positions, by_address) = (HashMap::default(), IntervalMap::new(&[], |_| Vec::new()));
        let bound = [bound(plan, false), bound(plan, true)];
        let mut targets =
            Self { list: Vec::new(), of_rule: Vec::new(), positions, by_address, taken, bound };
        for rule in &plan.rules {
            let (main, fallback) = match &rule.kind {
                RuleKind::Exempt => (None, None),
                RuleKind::Static(s) => (s.translate_as.map(|t| (t, false)), None),
                RuleKind::Forward(f) => (f.translate_as.map(|t| (t, false)), None),
                RuleKind::Pool { pool, fallback } => {
                    (Some((Target::Pool(*pool), true)), Some(*fallback))
                }
                RuleKind::Overload { target, fallback } => {
                    (Some((*target, false)), Some(*fallback))
                }
            };
            let fallback = match fallback {
                Some(Fallback::Overload(target)) => Some(targets.obtain(plan, target, false)),
                Some(Fallback::Drop | Fallback::Pass) | None => None,
            };
            let main = main.map(|(target, whole)| targets.obtain(plan, target, whole));
            targets.of_rule.push(RuleTargets { main, fallback });
        }
        let runs = targets.list.iter().enumerate();
        let number = |(first, last): (Key, Key)| (first.number(), last.number());
        let runs = runs.flat_map(|(i, t)| t.space.runs().map(move |r| (i as u16, number(r))));
        let (owners, ranges): (Vec<u16>, Vec<(u64, u64)>) = runs.unzip();
        targets.by_address =
            IntervalMap::new(&ranges, |active| active.iter().map(|r| owners[*r]).collect());
        targets
    }

    /// A target by its position.
    #[inline(always)]
    pub(in crate::device) fn get(&self, target: u16) -> &TargetConfig {
        &self.list[usize::from(target)]
    }

    /// The targets of a rule.
    #[inline(always)]
    pub(in crate::device) fn of(&self, rule: u16) -> RuleTargets {
        self.of_rule[usize::from(rule)]
    }

    /// Reads the targets of a rule.
    #[inline(always)]
    pub(in crate::device) fn touch(&self, rule: u16) -> u32 {
        u32::from(self.of(rule).fallback.is_some())
    }

    /// Whether a target is what a rule falls back to.
    #[inline]
    pub(in crate::device) fn is_fallback(&self, rule: u16, target: u16) -> bool {
        self.of(rule).fallback == Some(target)
    }

    /// Targets of rules that can hand out an address.
    pub(in crate::device) fn holding(&self, address: Key) -> &[u16] {
        self.by_address.get(address.number())
    }

    /// The position of a target, and of whole addresses or endpoints.
    pub(in crate::device) fn position(&self, target: (Target, bool)) -> Option<u16> {
        self.positions.get(&target).copied()
    }

    /// The position of a target, new if need be.
    pub(super) fn obtain(&mut self, plan: &plan::DevicePlan, target: Target, whole: bool) -> u16 {
        if let Some(known) = self.positions.get(&(target, whole)) {
            return *known;
        }
        let (set, pick, pool) = match target {
            Target::Interface(_) | Target::Address(_) => {
                (plan.listed_by(target), Pick::Lowest, None)
            }
            Target::Pool(id) => {
                let pool = &plan.pools[id.index()];
                (self.usable(pool, whole), pool.pick, Some(id))
            }
        };
        self.list.push(TargetConfig { target, whole, space: AddressSpace::new(&set), pick, pool });
        let position = (self.list.len() - 1) as u16;
        self.positions.insert((target, whole), position);
        position
    }

    /// What a pool can hand out: what it lists, less network and broadcast of its prefixes, less
    /// what is somebody's.
    fn usable(&self, pool: &Pool, whole: bool) -> AddressSet {
        let mut set = pool.listed();
        pool.lost_to_prefixes().for_each(|a| set.remove(AddressRange::one(a)));
        for gone in [&*self.taken, &self.bound[usize::from(whole)]] {
            pool.parts.iter().flat_map(|p| gone.overlapping(p.0)).for_each(|r| set.remove(r));
        }
        set
    }

    /// How many addresses a pool has for any use: those with forwards count.
    pub(in crate::device) fn assignable(&self, pool: &Pool) -> u64 {
        u64::try_from(self.usable(pool, false).count()).unwrap_or(u64::MAX)
    }
}

/// The external ends of fixed rules: of those that bind an address wholly, or of all of them.
fn bound(plan: &plan::DevicePlan, all: bool) -> AddressSet {
    let binds_wholly =
        |rule: &Rule| matches!(rule.kind, RuleKind::Static(_)) && rule.service.is_any();
    let rules = super::in_force(plan).filter(|(_, rule)| all || binds_wholly(rule));
    rules.filter_map(|(_, rule)| plan.external_end(rule)).collect()
}
