//! A shorter way through the pipeline, for what most traffic is: flows from an inner segment to
//! somebody outside, on a way on which no filter and no policy can object, under an overload that
//! sets no limits.
//!
//! [`FastPath`] holds what is known beforehand about such flows, found by asking the same questions
//! as the pipeline. What it does not cover for certain is left to the pipeline, with nothing
//! changed; a test holds one against the other, and another counts what takes it.

mod enter;
mod prefetch;

use std::net::IpAddr;

use super::bindings::{Context, NONE};
use super::compiled::Query;
use super::key::{EndKey, Key};
use crate::net::{Instant, IntervalMap, Packet, Protocol};
use crate::plan::{Fallback, InterfaceId, InterfaceSet, PortAssignment, RuleKind};
use crate::traffic::Ending;

/// Flows that come in by one interface.
#[derive(Debug, Clone)]
pub(crate) struct FastPath {
    ingress: InterfaceId,
    /// Whether packets of known sessions pass whatever they are.
    unfiltered: bool,
    /// By source: the rule that translates whatever comes from there.
    rules: IntervalMap<Option<u16>>,
    /// By rule: what it translates to, and where; nowhere if it has no target.
    translations: Vec<Translation>,
    /// By destination: the interface that leads to somebody outside.
    exits: IntervalMap<Option<InterfaceId>>,
}

/// What a rule does for flows that it translates.
#[derive(Debug, Clone)]
struct Translation {
    target: u16,
    into: InterfaceSet,
}

impl FastPath {
    /// Where the rule may change, and which one it is for a source.
    pub(crate) fn rules(&self) -> &IntervalMap<Option<u16>> {
        &self.rules
    }

    /// Whether packets of known sessions that are seen on an interface are on it.
    pub(crate) fn shows(&self, interface: InterfaceId) -> bool {
        self.ingress == interface && self.unfiltered
    }
}

/// The ends of a flow and what is known of its way before its turn comes.
#[derive(Debug, Clone, Copy)]
pub(crate) struct FlowKey {
    pub protocol: Protocol,
    pub source: EndKey,
    pub destination: EndKey,
    rule: u16,
    target: u16,
    egress: InterfaceId,
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
        let end = |e: EndKey| e.0.with_port(e.1);
        Packet::first(self.protocol, end(self.source), end(self.destination))
    }
}

/// When a flow is answered, and when and how it ends.
#[derive(Debug, Clone, Copy)]
pub(crate) struct FlowSchedule {
    /// When the answer passes.
    pub answer: Instant,
    /// When the last packet of the flow passes.
    pub end: Instant,
    pub ending: Ending,
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
        let b = &self.compiled.plan.behaviour;
        let unlimited = b.max_mappings.is_none() && b.max_sessions.is_none();
        let plain = self.compiled.mappings_are_simple && self.compiled.routes.are_plain();
        plain
            && unlimited
            && !self.compiled.remembers_interfaces()
            && !self.compiled.is_beyond_rules(Protocol::ICMP)
            && b.port_assignment != PortAssignment::Random
            && !b.port_parity
    }

    /// The rule that translates whatever comes from a source by an interface, if it is one for the
    /// fast path.
    fn simple_rule(&self, ingress: InterfaceId, source: IpAddr) -> Option<u16> {
        let mut rules = self.compiled.sources.of_source(source);
        let first = rules
            .find(|r| self.active.has(*r) && self.rule(*r).from.interfaces.contains(ingress))?;
        let rule = self.rule(first);
        let simple = matches!(rule.kind, RuleKind::Overload { fallback: Fallback::Drop, .. })
            && !self.compiled.concerns(source)
            && rule.limit.is_none()
            && rule.service.is_any()
            && rule.parties.destination.is_all();
        simple.then_some(first)
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
            (leads && self.compiled.is_open(ingress, way.interface)).then_some(way.interface)
        };
        let mut all = edges.to_vec();
        all.extend(self.compiled.edges());
        let rules = IntervalMap::from_edges(all.clone(), |n| self.simple_rule(ingress, address(n)));
        let exits = IntervalMap::from_edges(all, exit).favouring(Option::is_some);
        let translation = |(rule, targets): (&crate::plan::Rule, u16)| match self
            .compiled
            .targets
            .of(targets)
            .main
        {
            Some(target) => Translation { target, into: rule.into.interfaces.clone() },
            None => Translation { target: u16::MAX, into: InterfaceSet::default() },
        };
        let translations = self.compiled.plan.rules.iter().zip(0..).map(translation).collect();
        Some(FastPath {
            ingress,
            unfiltered: self.compiled.is_unfiltered(),
            rules,
            translations,
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
        let translation = &path.translations[usize::from(rule)];
        if !(translation.into.contains(egress) & protocol.is_multiplexed()) {
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
            hash,
            external: NONE,
            found: NONE,
        })
    }
}
