//! Steps 4 and 8: which rule or mapping translates the destination, which rule the source.

use std::net::IpAddr;

use super::choose::Choice;
use super::conditions::{Condition, Path, serves_outbound};
use super::prefix::PrefixPair;
use super::routes::Query;
use super::session::{ANSWERED, INBOUND, NONE};
use super::table::{Kind, bits, v4};
use super::{Device, Refusal};
use crate::net::{Endpoint, Packet, Signal, Tuple};
use crate::plan::{
    Dependence, Direction, Forward, HairpinSource, InterfaceId, Place, Rule, RuleId, RuleKind, Spread, Static,
};
use crate::reason::Reason;

/// What step 4 found.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Entry {
    /// The rule whose end the destination is.
    pub rule: Option<RuleId>,
    /// The destination as translated.
    pub destination: Option<Endpoint>,
    /// The dynamic mapping that lets it in.
    pub mapping: Option<u32>,
    /// A fixed or living mapping holds the destination, but does not let this sender in.
    pub blocked: bool,
    /// Where the rule that blocks stands.
    pub place: Option<Place>,
}

impl Entry {
    /// The packet's ends with the destination as translated.
    pub(super) fn ends(&self, packet: Packet) -> Tuple {
        Tuple { destination: self.destination.unwrap_or(packet.destination()), ..packet.ends }
    }

    fn block(&mut self, rule: &Rule) {
        self.blocked = true;
        self.place = self.place.or(Some(rule.place));
    }
}

/// Why a source stays as it is.
#[derive(Debug, Clone, Copy)]
pub(super) enum Kept {
    /// No rule matches, or no rule is looked at.
    NoRule,
    /// An exempt rule matches.
    Exempt(RuleId),
    /// The rule's addresses are used up, and it lets packets pass.
    Passed(RuleId),
}

impl Kept {
    pub(super) fn reason(self) -> (Reason, Option<RuleId>) {
        match self {
            Self::NoRule => (Reason::NoRule, None),
            Self::Exempt(rule) => (Reason::Exempt, Some(rule)),
            Self::Passed(rule) => (Reason::PassedExhausted, Some(rule)),
        }
    }
}

/// What step 8 found. Nothing is committed yet.
#[derive(Debug, Clone)]
pub(super) enum Source {
    /// It stays.
    Keep(Kept),
    /// A fixed rule gives it its external end.
    Fixed(RuleId, Endpoint),
    /// A living mapping.
    Mapped(RuleId, u32, Endpoint),
    /// A new mapping.
    New(RuleId, Choice, Endpoint),
}

impl Source {
    pub(super) fn kept(&self) -> Option<Kept> {
        if let Self::Keep(kept) = self { Some(*kept) } else { None }
    }

    /// The rule that translates.
    pub(super) fn rule(&self) -> Option<RuleId> {
        match self {
            Self::Keep(_) => None,
            Self::Fixed(rule, _) | Self::Mapped(rule, ..) | Self::New(rule, ..) => Some(*rule),
        }
    }

    pub(super) fn endpoint(&self) -> Option<Endpoint> {
        match self {
            Self::Keep(_) => None,
            Self::Fixed(_, end) | Self::Mapped(_, _, end) | Self::New(_, _, end) => Some(*end),
        }
    }

    /// A packet's ends with the source as translated.
    pub(super) fn ends(&self, packet: Packet) -> Tuple {
        Tuple { source: self.endpoint().unwrap_or(packet.source()), ..packet.ends }
    }
}

impl Device {
    pub(super) fn rule(&self, id: u16) -> &Rule {
        &self.config.plan.rules[usize::from(id)]
    }

    /// Step 4: forwards, statics limited to services, statics, dynamic mappings; the first that lets the packet in. None does
    /// that for a packet that came in nowhere: then only what is mapped there is found.
    pub(super) fn translate_destination(&self, ingress: Option<InterfaceId>, packet: Packet) -> Result<Entry, Refusal> {
        let to = packet.destination();
        let mut entry = Entry::default();
        if self.config.is_beyond_rules(packet.protocol) {
            return Ok(entry);
        }
        for &id in self.config.forward_rules(packet.protocol, to.address, to.port) {
            let rule = self.rule(id);
            let RuleKind::Forward(forward) = &rule.kind else { continue };
            if self.enabled[usize::from(id)] {
                if self.lets_in(id, ingress, packet) {
                    entry.destination = Some(self.server(id, forward, packet));
                    return self.enter(entry, id);
                }
                entry.block(rule);
            }
        }
        for &id in self.config.static_rules(to.address) {
            let rule = self.rule(id);
            let RuleKind::Static(fixed) = &rule.kind else { continue };
            let external = self.config.external(fixed.external);
            let Some(position) = external.and_then(|r| r.position(to.address)) else { continue };
            if self.enabled[usize::from(id)] && rule.service.holds(packet.protocol, to.port) {
                if self.lets_in(id, ingress, packet) {
                    let internal = match to.address {
                        IpAddr::V4(_) => fixed.internal.nth(position),
                        IpAddr::V6(_) => self.prefixes(fixed).and_then(|p| p.inward(to.address)),
                    };
                    let address = internal.ok_or_else(|| self.refusal(Reason::UnsupportedFamily, id))?;
                    entry.destination = Some(Endpoint { address, port: to.port });
                    return self.enter(entry, id);
                }
                entry.block(rule);
            }
        }
        self.enter_dynamic(ingress, packet, &mut entry);
        Ok(entry)
    }

    /// Whether a fixed rule lets a packet in that has its external end.
    fn lets_in(&self, id: u16, ingress: Option<InterfaceId>, packet: Packet) -> bool {
        let asked = [Condition::Direction, Condition::Into, Condition::Source];
        ingress.is_some_and(|ingress| asked.into_iter().all(|c| self.meets_inbound(c, id, ingress, packet)))
    }

    /// The prefixes of a static rule for IPv6.
    fn prefixes(&self, fixed: &Static) -> Option<PrefixPair> {
        PrefixPair::new(fixed.internal, self.config.external(fixed.external)?)
    }

    fn refusal(&self, reason: Reason, rule: u16) -> Refusal {
        // what no rule does for a family is no rule's fault
        let blamed = (reason != Reason::UnsupportedFamily).then_some(RuleId(rule));
        Refusal { reason, rule: blamed, place: Some(self.rule(rule).place) }
    }

    fn enter(&self, mut entry: Entry, id: u16) -> Result<Entry, Refusal> {
        entry.rule = Some(RuleId(id));
        let full = self.rule(id).limit.is_some_and(|l| self.counters.rules[usize::from(id)].active >= u64::from(l));
        if full { Err(self.refusal(Reason::RuleLimit, id)) } else { Ok(entry) }
    }

    /// The server that a new session of a forward gets.
    fn server(&self, id: u16, forward: &Forward, packet: Packet) -> Endpoint {
        let count = forward.servers.len();
        let chosen = match forward.spread {
            _ if count == 1 => 0,
            Spread::InTurn => self.turns[usize::from(id)] as usize % count,
            Spread::BySource => source_number(packet.source().address) as usize % count,
        };
        let server = forward.servers[chosen];
        // a built plan has no forward whose ports run over
        let offset = packet.destination().port - forward.ports.first;
        Endpoint { address: server.address, port: server.port + offset }
    }

    /// The last part of step 4: a living dynamic mapping whose external end is the destination.
    fn enter_dynamic(&self, ingress: Option<InterfaceId>, packet: Packet, entry: &mut Entry) {
        let to = packet.destination();
        let (Some(address), Some(_)) = (bits(to.address), bits(packet.source().address)) else { return };
        let Some(external) = self.externals.find(address) else { return };
        let whole = self.externals.get(external).whole;
        let mut candidates: Vec<u32> = if whole != NONE {
            vec![whole]
        } else if packet.protocol.is_multiplexed() {
            let page = self.externals.find_page(address, packet.protocol);
            // a stranger's query has the identifier of a mapping on its own side
            let port = if packet.signal == Signal::Query { packet.source().port } else { to.port };
            page.map_or(Vec::new(), |p| self.externals.mappings(p, port).collect())
        } else {
            self.portless_at(external, packet.protocol)
        };
        // of several that do not let it in, the rule that is listed first is told
        candidates.sort_unstable_by_key(|id| self.table.mapping(*id).rule);
        for id in candidates {
            let mapping = *self.table.mapping(id);
            let rule = self.rule(mapping.rule);
            let enabled = self.enabled[usize::from(mapping.rule)];
            let arrives = |i: &InterfaceId| rule.into.interfaces.contains(*i) || rule.hairpin.interfaces.contains(*i);
            // a query id mapping lets answers in only (RFC 5508 §3.1)
            let queries = packet.protocol.has_query_id() && mapping.kind() == Kind::Endpoint;
            let port = if mapping.kind() == Kind::Endpoint { mapping.internal_port } else { to.port };
            let inside = v4(mapping.internal, port);
            let sender = |i: InterfaceId| self.sender_seen(i, packet, mapping.rule, inside);
            let admitted = enabled
                && !queries
                && packet.signal != Signal::Reply
                && ingress.filter(arrives).and_then(sender).is_some_and(|s| self.admits(id, s));
            if admitted {
                entry.rule = Some(RuleId(mapping.rule));
                entry.destination = Some(inside);
                entry.mapping = Some(id);
                return;
            }
            entry.block(rule);
        }
    }

    /// The sender that filtering looks at: in a hairpin its external end, or the one it would get (RFC 4787 §6 REQ-9);
    /// `None` where step 8 would drop it.
    fn sender_seen(&self, ingress: InterfaceId, packet: Packet, rule: u16, inside: Endpoint) -> Option<Endpoint> {
        let hairpins = self.rule(rule).hairpin.interfaces.contains(ingress)
            && self.config.plan.behaviour.hairpin_source == HairpinSource::External;
        if !hairpins {
            return Some(packet.source());
        }
        let query = Query {
            source: Some(packet.source().address),
            ingress: Some(ingress),
            preferred: Some(&self.rule(rule).from.interfaces),
            ..Query::to(inside.address)
        };
        let way = self.config.routes.find(query)?;
        let source = self.translate_source(ingress, way.interface, packet, (Some(RuleId(rule)), inside)).ok()?;
        Some(source.endpoint().unwrap_or(packet.source()))
    }

    /// RFC 4787 §5 REQ-8: whether a dynamic mapping lets a sender in. A peer was addressed if a living session of the
    /// mapping has it: one from inside, or one from outside that was answered.
    fn admits(&self, mapping: u32, sender: Endpoint) -> bool {
        let filtering = self.config.plan.behaviour.filtering;
        let m = self.table.mapping(mapping);
        let peer_bound = self.config.plan.behaviour.port_overloading && m.kind() == Kind::Endpoint;
        if m.kind() != Kind::Portless && filtering == Dependence::EndpointIndependent && !peer_bound {
            return true;
        }
        let Some(address) = bits(sender.address) else { return false };
        let ports = filtering == Dependence::AddressAndPortDependent
            || peer_bound && self.config.plan.behaviour.mapping == Dependence::AddressAndPortDependent;
        let listed = self.table.sessions_of(mapping).any(|id| {
            let session = self.table.session(id);
            let addressed = !session.has(INBOUND) || session.has(ANSWERED);
            addressed && session.remote == address && (!ports || session.remote_port == sender.port)
        });
        // hairpinned sessions that came in here are listed under the mapping of their source
        let mut entered = self.table.entered.get(&mapping).into_iter().flatten();
        let hairpin = &self.rule(m.rule).hairpin.interfaces;
        listed
            || entered.any(|id| {
                let session = self.table.session(*id);
                // of a hairpin the external end of its sender, of others the sender as it is
                let seen = self.table.wide(session).map(|w| match hairpin.contains(InterfaceId(w.interfaces.0)) {
                    true => w.translated.source,
                    false => w.original.source,
                });
                let same = seen.is_some_and(|s| s.address == sender.address && (!ports || s.port == sender.port));
                session.has(ANSWERED) && same
            })
    }

    /// Step 8: the first enabled rule that matches decides. `entered`: the rule of step 4, and the destination as it made it.
    pub(super) fn translate_source(
        &self,
        ingress: InterfaceId,
        egress: InterfaceId,
        sent: Packet,
        (entered, destination): (Option<RuleId>, Endpoint),
    ) -> Result<Source, Refusal> {
        if self.config.is_beyond_rules(sent.protocol) {
            return Ok(Source::Keep(Kept::NoRule));
        }
        let entered_rule = entered.map(|r| self.rule(r.0));
        let hairpin = entered_rule.is_some_and(|r| r.hairpin.interfaces.contains(ingress));
        let external = self.config.plan.behaviour.hairpin_source == HairpinSource::External;
        if hairpin && !external {
            return Ok(Source::Keep(Kept::NoRule));
        }
        // for mapping, filtering and port overloading alike: in a hairpin as sent, otherwise as forwarded
        let peer = if hairpin { sent.destination() } else { destination };
        // both ends in one rule
        if let Some(id) = entered {
            let both = match &self.rule(id.0).kind {
                RuleKind::Static(s) => s.translate_as.is_some(),
                RuleKind::Forward(f) => f.translate_as.is_some(),
                _ => false,
            };
            if both {
                return self.overload(id.0, sent, peer);
            }
        }
        let path = Path { ingress, egress, hairpin: entered_rule.filter(|_| hairpin).map(|e| &e.into.interfaces) };
        for id in self.config.packet_rules(sent) {
            // that its sender is in the list is known already
            let asked = [Condition::Enabled, Condition::Into, Condition::From, Condition::Destination];
            if !asked.into_iter().all(|c| self.meets_outbound(c, id, path, sent)) {
                continue;
            }
            if let Some(source) = self.apply(id, sent, peer)? {
                return Ok(source);
            }
        }
        Ok(Source::Keep(Kept::NoRule))
    }

    /// What a rule whose realms, sender and destination match makes of a source; `None` if it does not match after all.
    fn apply(&self, id: u16, sent: Packet, peer: Endpoint) -> Result<Option<Source>, Refusal> {
        let rule = self.rule(id);
        let from = sent.source();
        if !serves_outbound(rule, sent) {
            return Ok(None);
        }
        match &rule.kind {
            RuleKind::Static(s) => {
                let position = s.internal.position(from.address).filter(|_| s.direction != Direction::Inbound);
                let Some((external, position)) = self.config.external(s.external).zip(position) else {
                    return Ok(None);
                };
                let address = match from.address {
                    IpAddr::V4(_) => external.nth(position),
                    IpAddr::V6(_) => self.prefixes(s).and_then(|p| p.outward(from.address)),
                };
                let address = address.ok_or_else(|| self.refusal(Reason::UnsupportedFamily, id))?;
                self.fixed(id, Endpoint { address, port: from.port }).map(Some)
            }
            RuleKind::Forward(f) => {
                let offset = |port: u16| from.port.checked_sub(port).filter(|o| u32::from(*o) < f.ports.count());
                let server = f.servers.iter().filter(|s| s.address == from.address).find_map(|s| offset(s.port));
                let Some(offset) = server else { return Ok(None) };
                let Some(external) = self.config.external(f.external) else { return Ok(None) };
                self.fixed(id, Endpoint { address: external.first(), port: f.ports.first + offset }).map(Some)
            }
            RuleKind::Exempt => Ok(Some(Source::Keep(Kept::Exempt(RuleId(id))))),
            RuleKind::Pool { .. } | RuleKind::Overload { .. } if from.address.is_ipv6() => {
                Err(self.refusal(Reason::UnsupportedFamily, id))
            }
            RuleKind::Pool { .. } => self.borrow(id, sent, peer).map(Some),
            RuleKind::Overload { .. } => self.overload(id, sent, peer).map(Some),
        }
    }

    fn fixed(&self, id: u16, end: Endpoint) -> Result<Source, Refusal> {
        self.enter(Entry::default(), id).map(|_| Source::Fixed(RuleId(id), end))
    }
}

/// The number that `by-source` is computed from: the address, or of IPv6 its four words folded by exclusive or.
pub(super) fn source_number(address: IpAddr) -> u32 {
    match address {
        IpAddr::V4(a) => a.to_bits(),
        IpAddr::V6(a) => {
            let b = a.to_bits();
            (b ^ b >> 32 ^ b >> 64 ^ b >> 96) as u32
        }
    }
}
