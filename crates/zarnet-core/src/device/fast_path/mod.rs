//! A shorter way through the pipeline, for what most traffic is: flows from an inner segment to
//! somebody outside, under an overload.
//!
//! [`FastPath`] holds what is known beforehand about such flows, found by asking the same questions
//! as the pipeline. What it does not cover for certain is left to the pipeline, with nothing
//! changed; a test holds one against the other, and another counts what takes it.

mod enter;
mod prefetch;

use std::collections::HashMap;
use std::net::IpAddr;

use foldhash::fast::RandomState;

use super::bindings::{Context, NONE};
use super::compiled::Query;
use super::key::{EndKey, Key, first_packet};
use crate::net::{IntervalMap, Packet, Protocol};
use crate::plan::{Dependence, InterfaceId, RuleKind, Verdict};

/// Flows that come in by one interface.
#[derive(Debug, Clone)]
pub(crate) struct FastPath {
    ingress: InterfaceId,
    /// Whether packets that are seen may be on it.
    shows_packets: bool,
    /// By source: the rule that translates whatever comes from there.
    rules: IntervalMap<Option<u16>>,
    /// What rules translate to, and where; nowhere if they have no target. Most do the same.
    translations: Vec<Translation>,
    /// By rule: which of these it does.
    by_rule: Vec<u16>,
    /// By destination: the interface that leads to somebody outside.
    exits: IntervalMap<Option<InterfaceId>>,
}

/// What a rule does for flows that it translates.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
struct Translation {
    target: u16,
    /// A bit for each of the first 64 interfaces that it leads to: no second place to be read.
    into: u64,
    /// Whether a new mapping of a host that has others gets the next port, and nothing limits it.
    at_once: bool,
    /// Whether the device could as well choose another end.
    freely: bool,
}

impl FastPath {
    /// Where the rule may change, and which one it is for a source.
    pub(crate) fn rules(&self) -> &IntervalMap<Option<u16>> {
        &self.rules
    }

    /// Whether packets of known sessions that are seen on an interface are on it.
    pub(crate) fn shows(&self, interface: InterfaceId) -> bool {
        self.ingress == interface && self.shows_packets
    }
}

/// The ends of a flow and what is known of its way before its turn comes.
#[derive(Debug, Clone, Copy)]
pub(crate) struct FlowKey {
    pub protocol: Protocol,
    pub source: EndKey,
    pub destination: EndKey,
    pub(super) rule: u16,
    target: u16,
    egress: InterfaceId,
    /// Whether filters have to be asked about what it is translated to.
    filtered_outside: bool,
    /// As those of [`Translation`].
    at_once: bool,
    freely: bool,
    /// What its mapping is found by.
    hash: u32,
    /// The external address that it is on, where that does not depend on what other mappings there
    /// are; or [`NONE`].
    external: u32,
    /// The mapping that was found under that hash beforehand; or [`NONE`]. It may have ended since.
    found: u32,
}

impl FlowKey {
    /// Whether the external address was found beforehand.
    #[inline(always)]
    pub(crate) fn knows_external(&self) -> bool {
        self.external != NONE
    }

    /// The flow's first packet.
    fn packet(&self) -> Packet {
        first_packet(self.protocol, self.source, self.destination)
    }
}

/// What became of a flow on the fast path.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum FastOutcome {
    /// The whole flow is entered.
    Entered,
    /// First it has to be known whether answers to this external address come in by this interface.
    Ask(Key, InterfaceId),
    /// It has to go through the pipeline. Nothing was done.
    SlowPath,
}

/// What became of a packet that was seen.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum FastPacket {
    /// It was one of a known session.
    Known,
    /// It has begun a session.
    New,
    /// It has to go through the pipeline. Nothing was done.
    SlowPath,
}

impl Context<'_> {
    /// Whether flows can be entered without a look at what pipeline and limits say of each.
    fn may_have_fast_paths(&self) -> bool {
        self.compiled.plan.forwarding
            && self.compiled.routes.are_plain()
            && !self.compiled.remembers_interfaces()
            && !self.compiled.is_beyond_rules(Protocol::ICMP)
    }

    /// The rule that translates whatever comes from a source by an interface, if it is one for the
    /// fast path.
    fn simple_rule(&self, ingress: InterfaceId, source: IpAddr) -> Option<u16> {
        let mut rules = self.compiled.sources.of_source(source);
        let first = rules
            .find(|r| self.active.has(*r) && self.rule(*r).from.interfaces.contains(ingress))?;
        let rule = self.rule(first);
        let simple = matches!(rule.kind, RuleKind::Overload { .. })
            && !self.compiled.concerns(source)
            && rule.service.is_any()
            && rule.parties.destination.is_all();
        simple.then_some(first)
    }

    /// What a rule does for flows that it translates.
    fn translation(&self, id: u16) -> Translation {
        let rule = self.rule(id);
        let leads = |i: &u16| rule.into.interfaces.contains(InterfaceId(*i));
        let into = (0..64).filter(leads).fold(0, |bits, i| bits | 1 << i);
        match self.next_port_on(id) {
            Some((target, freely)) => Translation { target, into, at_once: true, freely },
            None => match self.compiled.targets.of(id).main {
                Some(target) => Translation { target, into, at_once: false, freely: false },
                None => Translation { target: u16::MAX, into: 0, at_once: false, freely: false },
            },
        }
    }

    /// The fast path of an interface, if it may have one. `leads_out`: whether what leaves by an
    /// interface for a destination reaches somebody outside; `edges`: where its answer may change.
    pub(in crate::device) fn fast_path(
        &self,
        ingress: InterfaceId,
        edges: &[u64],
        leads_out: impl Fn(InterfaceId, IpAddr, IpAddr) -> bool,
    ) -> Option<FastPath> {
        if !self.may_have_fast_paths() {
            return None;
        }
        let address = |n: u64| Key::from_number(n).address();
        let exit = |n: u64| {
            let to = address(n);
            let way = self.compiled.routes.find(Query::to(to))?;
            let leads =
                !self.compiled.concerns(to) && leads_out(way.interface, to, way.via.unwrap_or(to));
            leads.then_some(way.interface)
        };
        let mut all = edges.to_vec();
        all.extend(self.compiled.edges());
        let rules = IntervalMap::from_edges(all.clone(), |n| self.simple_rule(ingress, address(n)));
        let exits = IntervalMap::from_edges(all, exit).favouring(Option::is_some);
        let exits = exits.favouring_within(Option::is_some).by_octets();
        let count = self.compiled.plan.rules.len() as u16;
        let mut known: HashMap<Translation, u16, RandomState> = HashMap::default();
        let mut translations = Vec::new();
        let mut number = |id| {
            let translation = self.translation(id);
            *known.entry(translation).or_insert_with(|| {
                translations.push(translation);
                translations.len() as u16 - 1
            })
        };
        let by_rule = (0..count).map(&mut number).collect();
        Some(FastPath {
            ingress,
            shows_packets: self.compiled.is_unfiltered()
                && self.compiled.plan.behaviour.mapping == Dependence::EndpointIndependent,
            rules,
            translations,
            by_rule,
            exits,
        })
    }

    /// What can be known of a flow before its turn comes; `None` if it is not on the fast path.
    #[inline(always)]
    pub(in crate::device) fn flow_key(
        &self,
        path: &FastPath,
        rule: u16,
        protocol: Protocol,
        source: EndKey,
        destination: EndKey,
    ) -> Option<FlowKey> {
        let egress = (*path.exits.get(destination.0.number()))?;
        let translation = &path.translations[usize::from(path.by_rule[usize::from(rule)])];
        let leads = translation.into.checked_shr(egress.0.into()).unwrap_or(0) & 1 == 1;
        if !(leads & protocol.is_multiplexed()) {
            return None;
        }
        let open = self.compiled.is_open(path.ingress, egress);
        if !open && !self.passes_inside((path.ingress, egress), protocol, source, destination) {
            return None;
        }
        let target = translation.target;
        let hash = self.bindings.endpoint_hash(protocol, source, destination);
        Some(FlowKey {
            protocol,
            source,
            destination,
            rule,
            target,
            egress,
            filtered_outside: !open && self.filters_outside(egress),
            at_once: translation.at_once,
            freely: translation.freely,
            hash,
            external: NONE,
            found: NONE,
        })
    }

    /// Whether an interface has filters.
    fn filters_outside(&self, egress: InterfaceId) -> bool {
        let interface = &self.compiled.plan.interfaces[egress.index()];
        interface.ingress_acl.is_some() || interface.egress_acl.is_some()
    }

    /// Whether filters of the inner interface and policies let a flow and its answer pass.
    #[inline(never)]
    fn passes_inside(
        &self,
        (ingress, egress): (InterfaceId, InterfaceId),
        protocol: Protocol,
        source: EndKey,
        destination: EndKey,
    ) -> bool {
        let packet = first_packet(protocol, source, destination);
        self.passes_in(ingress, packet)
            && self.policy_verdict((ingress, egress), packet, packet) == Verdict::Accept
    }

    /// Whether filters of the outer interface let a flow and its answer pass, on an external end.
    #[inline(never)]
    fn passes_outside(&self, flow: &FlowKey, external: EndKey) -> bool {
        self.passes_out(flow.egress, first_packet(flow.protocol, external, flow.destination))
    }
}
