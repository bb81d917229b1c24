//! Step 4: which rule or mapping translates the destination.
//!
//! Contract: §D4 of docs/semantics.md.

use std::net::IpAddr;

use super::conditions::Condition;
use crate::device::bindings::{ANSWERED, Context, INBOUND, Kind, NONE};
use crate::device::compiled::Query;
use crate::device::key::Key;
use crate::device::outcome::Refusal;
use crate::net::{Endpoint, Packet, Signal, Tuple};
use crate::plan::{
    Dependence, Forward, HairpinSource, InterfaceId, Place, Rule, RuleId, RuleKind, Spread, Static,
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

impl Context<'_> {
    /// Step 4: forwards, statics limited to services, statics, dynamic mappings; the first that
    /// lets the packet in. None does that for a packet that came in nowhere: then only what is
    /// mapped there is found.
    pub(super) fn translate_destination(
        &self,
        ingress: Option<InterfaceId>,
        packet: Packet,
    ) -> Result<Entry, Refusal> {
        let to = packet.destination();
        let mut entry = Entry::default();
        if self.compiled.is_beyond_rules(packet.protocol) {
            return Ok(entry);
        }
        for &id in self.compiled.destinations.forwards(packet.protocol, to.address, to.port) {
            let rule = self.rule(id);
            let RuleKind::Forward(forward) = &rule.kind else { continue };
            if self.active.has(id) {
                if self.lets_in(id, ingress, packet) {
                    entry.destination = Some(self.server(id, forward, packet));
                    return self.enter(entry, id);
                }
                entry.block(rule);
            }
        }
        for &id in self.compiled.destinations.statics(to.address) {
            let rule = self.rule(id);
            let RuleKind::Static(fixed) = &rule.kind else { continue };
            let external = self.compiled.plan.external(fixed.external);
            let Some(position) = external.and_then(|r| r.position(to.address)) else { continue };
            if self.active.has(id) && rule.service.holds(packet.protocol, to.port) {
                if self.lets_in(id, ingress, packet) {
                    entry.destination = Some(self.inner_end(id, fixed, position, to)?);
                    return self.enter(entry, id);
                }
                entry.block(rule);
            }
        }
        self.enter_dynamic(ingress, packet, &mut entry);
        Ok(entry)
    }

    /// The internal end of a static rule that belongs to an external one at a position.
    fn inner_end(
        &self,
        id: u16,
        fixed: &Static,
        position: u128,
        to: Endpoint,
    ) -> Result<Endpoint, Refusal> {
        let internal = match to.address {
            IpAddr::V4(_) => fixed.internal.nth(position),
            IpAddr::V6(_) => self.compiled.prefixes(id).and_then(|p| p.inward(to.address)),
        };
        let address = internal.ok_or_else(|| self.refusal(Reason::UnsupportedFamily, id))?;
        Ok(Endpoint { address, port: to.port })
    }

    /// Step 4 for a packet of which it is known which fixed rule lets it in; `None` if that rule
    /// has another end.
    pub(super) fn fixed_entry(&self, id: u16, packet: Packet) -> Option<Result<Entry, Refusal>> {
        let to = packet.destination();
        let destination = match &self.rule(id).kind {
            RuleKind::Forward(forward) if forward.ports.contains(to.port) => {
                self.server(id, forward, packet)
            }
            RuleKind::Static(fixed) => {
                let external = self.compiled.plan.external(fixed.external)?;
                match self.inner_end(id, fixed, external.position(to.address)?, to) {
                    Ok(end) => end,
                    Err(refusal) => return Some(Err(refusal)),
                }
            }
            RuleKind::Forward(_)
            | RuleKind::Exempt
            | RuleKind::Pool { .. }
            | RuleKind::Overload { .. } => return None,
        };
        let entry = Entry { destination: Some(destination), ..Entry::default() };
        Some(self.enter(entry, id))
    }

    /// Whether a fixed rule lets a packet in that has its external end.
    fn lets_in(&self, id: u16, ingress: Option<InterfaceId>, packet: Packet) -> bool {
        let asked = [Condition::Direction, Condition::Into, Condition::Source];
        ingress.is_some_and(|ingress| {
            asked.into_iter().all(|c| self.meets_inbound(c, id, ingress, packet))
        })
    }

    fn enter(&self, mut entry: Entry, id: u16) -> Result<Entry, Refusal> {
        entry.rule = Some(RuleId(id));
        self.check_session_limit(id).map(|()| entry)
    }

    /// The server that a new session of a forward gets.
    fn server(&self, id: u16, forward: &Forward, packet: Packet) -> Endpoint {
        let count = forward.servers.len();
        let chosen = match forward.spread {
            _ if count == 1 => 0,
            Spread::InTurn => self.bindings.choices.next_server[usize::from(id)] as usize % count,
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
        let (Some(address), Some(_)) = (Key::of(to.address), Key::of(packet.source().address))
        else {
            return;
        };
        let Some(external) = self.bindings.externals.find(address) else { return };
        let whole = self.bindings.externals.get(external).whole;
        let mut candidates: Vec<u32> = if whole != NONE {
            vec![whole]
        } else if packet.protocol.is_multiplexed() {
            let port_table = self.bindings.externals.find_port_table(address, packet.protocol);
            // a stranger's query has the identifier of a mapping on its own side
            let port = if packet.signal == Signal::Query { packet.source().port } else { to.port };
            port_table.map_or(Vec::new(), |p| self.bindings.mappings_at(p, port).collect())
        } else {
            self.bindings.portless_at(external, packet.protocol)
        };
        // of several that do not let it in, the rule that is listed first is told
        candidates.sort_unstable_by_key(|id| self.bindings.table.mapping(*id).rule);
        for id in candidates {
            let mapping = *self.bindings.table.mapping(id);
            let rule = self.rule(mapping.rule);
            let enabled = self.active.has(mapping.rule);
            let arrives = |i: &InterfaceId| {
                rule.into.interfaces.contains(*i) || rule.hairpin.interfaces.contains(*i)
            };
            // a query id mapping lets answers in only (RFC 5508 §3.1)
            let queries = packet.protocol.has_query_id() && mapping.kind() == Kind::Endpoint;
            let port =
                if mapping.kind() == Kind::Endpoint { mapping.internal_port } else { to.port };
            let inside = mapping.internal.with_port(port);
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

    /// The sender that filtering looks at: in a hairpin its external end, or the one it would get
    /// (RFC 4787 §6 REQ-9); `None` where step 8 would drop it.
    fn sender_seen(
        &self,
        ingress: InterfaceId,
        packet: Packet,
        rule: u16,
        inside: Endpoint,
    ) -> Option<Endpoint> {
        let hairpins = self.rule(rule).hairpin.interfaces.contains(ingress)
            && self.compiled.plan.behaviour.hairpin_source == HairpinSource::External;
        if !hairpins {
            return Some(packet.source());
        }
        let query = Query {
            source: Some(packet.source().address),
            ingress: Some(ingress),
            preferred: Some(&self.rule(rule).from.interfaces),
            ..Query::to(inside.address)
        };
        let way = self.compiled.routes.find(query)?;
        let source = self
            .translate_source(ingress, way.interface, packet, (Some(RuleId(rule)), inside))
            .ok()?;
        Some(source.endpoint().unwrap_or(packet.source()))
    }

    /// RFC 4787 §5 REQ-8: whether a dynamic mapping lets a sender in. A peer was addressed if a
    /// living session of the mapping has it: one from inside, or one from outside that was
    /// answered.
    fn admits(&self, mapping: u32, sender: Endpoint) -> bool {
        let filtering = self.compiled.plan.behaviour.filtering;
        let m = self.bindings.table.mapping(mapping);
        let peer_bound =
            self.compiled.plan.behaviour.port_overloading && m.kind() == Kind::Endpoint;
        if m.kind() != Kind::Portless && filtering == Dependence::EndpointIndependent && !peer_bound
        {
            return true;
        }
        let Some(address) = Key::of(sender.address) else { return false };
        let ports = filtering == Dependence::AddressAndPortDependent
            || peer_bound
                && self.compiled.plan.behaviour.mapping == Dependence::AddressAndPortDependent;
        let listed = self.bindings.table.sessions_of(mapping).any(|id| {
            let session = self.bindings.table.session(id);
            let addressed = !session.has(INBOUND) || session.has(ANSWERED);
            addressed && session.remote == address && (!ports || session.remote_port == sender.port)
        });
        // hairpinned sessions that came in here are listed under the mapping of their source
        let mut entered = self.bindings.table.entered.get(&mapping).into_iter().flatten();
        let hairpin = &self.rule(m.rule).hairpin.interfaces;
        listed
            || entered.any(|id| {
                let session = self.bindings.table.session(*id);
                // of a hairpin the external end of its sender, of others the sender as it is
                let seen = self.bindings.table.explicit(session).map(|w| {
                    match hairpin.contains(InterfaceId(w.interfaces.0)) {
                        true => w.translated.source,
                        false => w.original.source,
                    }
                });
                let same = seen.is_some_and(|s| {
                    s.address == sender.address && (!ports || s.port == sender.port)
                });
                session.has(ANSWERED) && same
            })
    }
}

/// The number that `by-source` is computed from: the address, or of IPv6 its four words folded by
/// exclusive or.
pub(super) fn source_number(address: IpAddr) -> u32 {
    match address {
        IpAddr::V4(a) => a.to_bits(),
        IpAddr::V6(a) => {
            let b = a.to_bits();
            (b ^ b >> 32 ^ b >> 64 ^ b >> 96) as u32
        }
    }
}
