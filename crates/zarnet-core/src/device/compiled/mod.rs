//! A device's plan, turned into what packets are looked up in. Nothing here changes once it is
//! made: whoever needs it shares it.

mod active;
mod address_space;
mod destinations;
mod first_match;
mod passage;
mod prefix_translation;
mod routes;
mod sources;
mod targets;
mod timers;

use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::Arc;

use foldhash::fast::RandomState;

use super::key::numbered;
use crate::limits;
use crate::net::{AddressRange, AddressSet, IntervalMap, Protocol};
use crate::plan::{
    self, Behaviour, Dependence, Fallback, InterfaceId, Pool, Rule, RuleKind, Target,
};

pub(super) use active::ActiveRules;
pub(super) use destinations::DestinationRules;
use passage::Passage;
pub use prefix_translation::PrefixPair;
pub(super) use routes::{Query, Routes};
pub(super) use sources::SourceRules;
pub(super) use targets::{TargetConfig, Targets};
pub(super) use timers::{Timers, Timing};

/// A device ready for packets.
#[derive(Debug)]
pub(super) struct Compiled {
    pub plan: Arc<plan::DevicePlan>,
    /// Its own addresses, and the interface that each is on.
    pub own: HashMap<IpAddr, InterfaceId, RandomState>,
    /// External addresses of rules and those it answers ARP for: never routed.
    pub claimed: AddressSet,
    /// All of these and its own, for IPv4: any other address needs no second look.
    concerned: IntervalMap<bool>,
    /// Whether an endpoint mapping is known by its internal end alone, and has its port to itself.
    pub mappings_are_plain: bool,
    /// Whether such a mapping leaves nothing behind but a free port: no rest, no block, no count of
    /// its host's.
    pub mappings_are_simple: bool,
    /// Whether no rule takes part for ICMP queries.
    lacks_icmp: bool,
    /// Whether some rule lets pass what it has nothing left for.
    pub may_let_pass: bool,
    /// By ingress, then egress: whether no filter and no policy between them can drop a packet or
    /// its answer.
    open: Vec<Vec<bool>>,
    pub routes: Routes,
    pub timers: Timers,
    pub targets: Targets,
    pub sources: SourceRules,
    pub destinations: DestinationRules,
    pub passage: Passage,
    /// The IPv6 prefixes of static rules, by rule.
    prefixes: Vec<Option<PrefixPair>>,
}

/// Whether an endpoint mapping is known by its internal end alone, and has its port to itself.
fn mappings_are_plain(b: &Behaviour) -> bool {
    b.mapping == Dependence::EndpointIndependent && b.paired && !b.port_overloading
}

/// Whether nothing but the port of a mapping is to be given back when it ends.
fn mappings_are_simple(b: &Behaviour) -> bool {
    mappings_are_plain(b)
        && b.hold_down.is_zero()
        && b.ports_per_host.is_none()
        && b.block_size.is_none()
}

/// The prefixes that a static rule for IPv6 puts in place of each other.
fn prefixes_of(plan: &plan::DevicePlan, rule: &Rule) -> Option<PrefixPair> {
    let plan::RuleKind::Static(fixed) = &rule.kind else { return None };
    PrefixPair::new(fixed.internal, plan.external(fixed.external)?)
}

/// Rules by their position, but for those of a former plan.
fn in_force(plan: &plan::DevicePlan) -> impl Iterator<Item = (u16, &Rule)> {
    (0..).zip(&plan.rules).filter(|r| !r.1.retired)
}

impl Compiled {
    /// `taken`: addresses of the plan's interfaces, hosts and next hops, which no pool hands out.
    /// `used`: external addresses that mappings and sessions from before are on. `more`: targets
    /// that such mappings draw on, whether or not a rule does.
    pub(super) fn new(
        plan: Arc<plan::DevicePlan>,
        taken: &Arc<AddressSet>,
        used: &AddressSet,
        more: impl Iterator<Item = (Target, bool)>,
    ) -> Self {
        let own_of = |(i, interface): (u16, &plan::Interface)| {
            interface.own().map(|a| (a, InterfaceId(i))).collect::<Vec<_>>()
        };
        let own: HashMap<_, _, RandomState> =
            (0..).zip(&plan.interfaces).flat_map(own_of).collect();
        let mut targets = Targets::new(&plan, taken.clone());
        let claimed = claimed(&plan, &targets);
        let own_ranges = own.keys().map(|a| AddressRange::one(*a));
        let all: AddressSet = claimed.ranges().chain(used.ranges()).chain(own_ranges).collect();
        let concerned = IntervalMap::new(&numbered(&all), |active| !active.is_empty());
        for (target, whole) in more {
            targets.obtain(&plan, target, whole);
        }
        let routes = Routes::new(&plan);
        let may_let_pass = in_force(&plan).any(|(_, rule)| lets_pass(rule));
        Self {
            own,
            claimed,
            concerned: concerned.favouring(|concerned| !concerned),
            mappings_are_plain: mappings_are_plain(&plan.behaviour),
            mappings_are_simple: mappings_are_simple(&plan.behaviour),
            lacks_icmp: plan.behaviour.cannot.contains(&plan::Lack::Icmp),
            may_let_pass,
            open: open_pairs(&plan, &routes),
            routes,
            timers: Timers::new(&plan.timers, plan.behaviour.hold_down),
            targets,
            sources: SourceRules::new(&plan),
            destinations: DestinationRules::new(&plan),
            passage: Passage::new(&plan),
            prefixes: plan.rules.iter().map(|rule| prefixes_of(&plan, rule)).collect(),
            plan,
        }
    }

    /// The prefixes that a static rule for IPv6 puts in place of each other.
    pub(super) fn prefixes(&self, rule: u16) -> Option<&PrefixPair> {
        self.prefixes[usize::from(rule)].as_ref()
    }

    /// A rule by its position.
    #[inline(always)]
    pub(super) fn rule(&self, id: u16) -> &Rule {
        &self.plan.rules[usize::from(id)]
    }

    /// What a session is timed by. `port`: the destination's as the initiator sent it.
    #[inline(always)]
    pub(super) fn timing(&self, protocol: Protocol, port: u16) -> Timing<'_> {
        Timing {
            timers: &self.timers,
            protocol,
            port,
            refresh_both: self.plan.behaviour.refresh_both,
        }
    }

    /// Whether a packet is of a protocol that no rule takes part for: ICMP queries, where the
    /// device cannot translate them.
    #[inline]
    pub(super) fn is_beyond_rules(&self, protocol: Protocol) -> bool {
        self.lacks_icmp && protocol.has_query_id()
    }

    /// Whether the way of a session's packets depends on the interfaces that its first packet
    /// passed.
    pub(super) fn remembers_interfaces(&self) -> bool {
        self.routes.ambiguous || self.plan.behaviour.answers_leave_as_came
    }

    /// Whether a mapping lets in whoever sends to it (RFC 4787 §5).
    pub(super) fn admits_everybody(&self) -> bool {
        self.plan.behaviour.filtering == Dependence::EndpointIndependent
    }

    /// Whether nothing on the device can drop a packet of a known session.
    pub(super) fn is_unfiltered(&self) -> bool {
        let unfiltered = |i: &plan::Interface| i.ingress_acl.is_none() && i.egress_acl.is_none();
        self.plan.forwarding && self.plan.interfaces.iter().all(unfiltered)
    }

    /// Whether no filter and no policy between two interfaces can drop a packet or its answer.
    #[inline(always)]
    pub(super) fn is_open(&self, ingress: InterfaceId, egress: InterfaceId) -> bool {
        self.open[ingress.index()][egress.index()]
    }

    /// Ports of an address that fixed rules or the device itself use, as ranges with both ends
    /// included.
    pub(super) fn reserved(
        &self,
        address: IpAddr,
        protocol: Protocol,
        mut take: impl FnMut(u16, u16),
    ) {
        let statics = self.destinations.statics(address);
        for id in self.destinations.forwards_at(address).iter().chain(statics) {
            let rule = self.rule(*id);
            match &rule.kind {
                RuleKind::Forward(f) if f.protocol == protocol => take(f.ports.first, f.ports.last),
                RuleKind::Static(_) => {
                    let services = rule.service.0.iter();
                    let held = services.filter(|s| s.protocol.is_none_or(|p| p == protocol));
                    held.for_each(|s| take(s.ports.first, s.ports.last));
                }
                RuleKind::Forward(_)
                | RuleKind::Exempt
                | RuleKind::Pool { .. }
                | RuleKind::Overload { .. } => {}
            }
        }
        if let Some(interface) = self.own.get(&address) {
            let services = self.plan.interfaces[interface.index()].services.0.iter();
            let offered = services.filter(|s| s.protocol.is_none_or(|p| p == protocol));
            offered.for_each(|s| take(s.ports.first, s.ports.last));
        }
    }

    /// How many addresses a pool has for any use: those with forwards count.
    pub(super) fn assignable(&self, pool: &Pool) -> u64 {
        self.targets.assignable(pool)
    }

    /// Where anything that is looked up by an IPv4 address changes.
    pub(super) fn edges(&self) -> Vec<u64> {
        [self.concerned.edges(), &self.sources.edges(), self.routes.edges()].concat()
    }

    /// Whether an address is one of its own, or an external one of its rules or of what is from
    /// before them. If not, it is somebody else's, and only the route matters.
    #[inline]
    pub(super) fn concerns(&self, address: IpAddr) -> bool {
        super::key::Key::of(address).is_none_or(|a| *self.concerned.get(a.number()))
    }
}

/// Whether a rule lets pass what it has nothing left for.
fn lets_pass(rule: &Rule) -> bool {
    match rule.kind {
        RuleKind::Pool { fallback, .. } | RuleKind::Overload { fallback, .. } => {
            fallback == Fallback::Pass
        }
        RuleKind::Exempt | RuleKind::Static(_) | RuleKind::Forward(_) => false,
    }
}

/// The external addresses of a rule: its own ends, and what it can hand out.
fn external_addresses(
    plan: &plan::DevicePlan,
    targets: &Targets,
    id: u16,
    rule: &Rule,
) -> AddressSet {
    let of = targets.of(id);
    let runs = of.main.into_iter().chain(of.fallback).flat_map(|t| targets.get(t).space.ranges());
    plan.external_end(rule).into_iter().chain(runs).collect()
}

/// External addresses of rules and those a device answers ARP for.
fn claimed(plan: &plan::DevicePlan, targets: &Targets) -> AddressSet {
    let mut claimed = AddressSet::default();
    plan.interfaces.iter().for_each(|i| claimed.extend(&i.proxy_arp));
    in_force(plan)
        .for_each(|(id, rule)| claimed.extend(&external_addresses(plan, targets, id, rule)));
    claimed
}

/// By ingress, then egress: whether no filter and no policy between them can drop a packet or its
/// answer.
fn open_pairs(plan: &plan::DevicePlan, routes: &Routes) -> Vec<Vec<bool>> {
    let unfiltered = |i: usize| {
        plan.interfaces[i].ingress_acl.is_none() && plan.interfaces[i].egress_acl.is_none()
    };
    let accepts =
        |i: usize, e: usize| plan.accepts_all(InterfaceId(i as u16), InterfaceId(e as u16));
    let open = |i, e| {
        plan.forwarding && routes.are_plain() && unfiltered(i) && unfiltered(e) && accepts(i, e)
    };
    let count = plan.interfaces.len();
    // that nothing can object is only a short way: with very many pairs it is not looked for
    let few = count * count * (plan.policies.len() + 1) <= limits::OPEN_PAIRS;
    (0..count).map(|i| (0..count).map(|e| few && open(i, e)).collect()).collect()
}
