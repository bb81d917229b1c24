//! A shorter way through the pipeline, for what most traffic is: flows from an inner segment to somebody outside, on a
//! way on which no filter and no policy can object, under an overload that sets no limits.
//!
//! [`Lane`] holds what is known beforehand about such flows, found by asking the same questions as the long way. What a
//! lane does not cover for certain is left to the long way, having changed nothing; a test holds one against the other.

use super::intervals::IntervalMap;
use super::session::{ANSWERED, Heading, INBOUND, NONE, Session, State, Terms};
use super::table::{Kind, Mapping, bits, v4};
use super::translate::Source;
use super::{Device, Ending, Hit, SessionRef};
use crate::net::{Instant, Packet, Protocol};
use crate::plan::{Fallback, InterfaceId, PortAssignment, RuleKind};

/// Flows that come in by one interface.
#[derive(Debug, Clone)]
pub(crate) struct Lane {
    /// By source: the rule that translates whatever comes from there.
    rules: IntervalMap<Option<u16>>,
    /// By destination: the interface that leads to somebody outside.
    exits: IntervalMap<Option<InterfaceId>>,
}

/// A flow as a lane sees it.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Passenger {
    pub protocol: Protocol,
    pub source: (u32, u16),
    pub destination: (u32, u16),
    /// When the answer passes.
    pub answer: Instant,
    /// The last packet.
    pub end: Instant,
    pub ending: Ending,
}

impl Passenger {
    /// Its first packet.
    fn packet(&self) -> Packet {
        let end = |e: (u32, u16)| v4(e.0, e.1);
        Packet::first(self.protocol, end(self.source), end(self.destination))
    }
}

/// What became of a passenger.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Ride {
    /// The whole flow is entered.
    Done,
    /// First it has to be known whether answers to this external address come in by this interface.
    Ask(u32, InterfaceId),
    /// It has to go the long way.
    NotHere,
}

impl Device {
    /// The lane of an interface, if it may have one. `leads_out`: whether what leaves by an interface for a destination
    /// reaches somebody outside; `edges`: where its answer may change.
    pub(crate) fn lane(
        &self,
        ingress: InterfaceId,
        edges: &[u64],
        leads_out: impl Fn(InterfaceId, std::net::IpAddr, std::net::IpAddr) -> bool,
    ) -> Option<Lane> {
        let b = &self.config.plan.behaviour;
        let unlimited = b.max_mappings.is_none() && b.max_sessions.is_none();
        if !self.config.plain || b.port_assignment == PortAssignment::Random || b.port_parity || !unlimited {
            return None;
        }
        let address = |n: u64| std::net::IpAddr::V4(u32::try_from(n).unwrap_or(u32::MAX).into());
        let rule = |n: u64| {
            let mut rules = self.config.source_rules(address(n)).iter();
            let first =
                *rules.find(|r| self.enabled[usize::from(**r)] && self.rule(**r).from.interfaces.contains(ingress))?;
            let rule = self.rule(first);
            let simple = matches!(rule.kind, RuleKind::Overload { fallback: Fallback::Drop, .. });
            (simple && rule.limit.is_none() && rule.service.is_any() && rule.parties.destination.is_all())
                .then_some(first)
        };
        let exit = |n: u64| {
            let to = address(n);
            let way = self.config.routes.find(to, None)?;
            let leads = !self.config.concerns(to) && leads_out(way.interface, to, way.via.unwrap_or(to));
            (leads && self.config.is_open(ingress, way.interface)).then_some(way.interface)
        };
        let mut all = edges.to_vec();
        all.extend(self.config.edges());
        Some(Lane { rules: IntervalMap::from_edges(all.clone(), rule), exits: IntervalMap::from_edges(all, exit) })
    }

    /// Notes whether answers to an external address come in by the interface that it is used on.
    pub(crate) fn note_return(&mut self, address: u32, returns: bool) {
        let external = self.externals.obtain(address);
        self.externals.get_mut(external).returns = Some(returns);
    }

    /// Enters a whole flow at once: its first packet, the answer, and that it runs until its end.
    pub(crate) fn ride(&mut self, now: Instant, lane: &Lane, p: Passenger) -> Ride {
        let ((host, port), (peer, peer_port)) = (p.source, p.destination);
        let (Some(id), Some(egress)) = (*lane.rules.get(host.into()), *lane.exits.get(peer.into())) else {
            return Ride::NotHere;
        };
        if !self.rule(id).into.interfaces.contains(egress) || !p.protocol.is_multiplexed() {
            return Ride::NotHere;
        }
        self.expire(now);
        let plan = &self.config.plan;
        let (to, refresh_both) = (p.destination.1, plan.behaviour.refresh_both);
        let terms = Terms { spans: &self.config.spans, protocol: p.protocol, port: to, refresh_both };
        let mut session = Session::new(now.0, terms, NONE, ANSWERED);
        if session.expires <= p.answer.0 {
            return Ride::NotHere;
        }
        (session.remote, session.remote_port) = p.destination;
        // the server's SYN establishes it: RFC 7857 figure 1
        if session.state == State::Opening {
            session.state = State::Established;
        }
        session.run_until(p.end.0, p.ending, terms);
        let known = self.mappings_of(p.protocol, host, port, peer, peer_port).next();
        if let Some(mapping) = known {
            let m = self.table.mapping(mapping);
            let external = self.externals.page(m.place()).external;
            if m.rule != id || self.externals.get(external).returns != Some(true) {
                return Ride::NotHere;
            }
            if let Some(session) = self.table.under(mapping, peer, peer_port) {
                return self.ride_again(now, session, p);
            }
            return self.begin_ride(id, mapping, session);
        }
        if self.table.may_be_wide(p.protocol, p.source, p.destination) && self.find_wide_of(p) {
            return Ride::NotHere;
        }
        let Some(target) = self.config.rule_targets[usize::from(id)].main else { return Ride::NotHere };
        let space = &self.config.targets[usize::from(target)].space;
        let mut pair = None;
        let external = match space.count() {
            1 => self.externals.find(space.nth(0)),
            _ => {
                let found = self.pairs.find(host, target);
                pair = found.map(|f| f.1);
                found.map(|f| f.0)
            }
        };
        // the first mapping of a host on a pool, or on an address, picks its place with all due care
        let Some(external) = external else { return self.ride_first(now, id, egress, session, p) };
        let e = self.externals.get(external);
        let Some(page) = e.page(p.protocol).filter(|_| e.endpoints > 0) else {
            return self.ride_first(now, id, egress, session, p);
        };
        match e.returns {
            Some(true) => {}
            Some(false) => return Ride::NotHere,
            None => return Ride::Ask(e.address, egress),
        }
        let behaviour = &self.config.plan.behaviour;
        let class = behaviour.port_class(port);
        let range = behaviour.port_classes[class].into;
        let from = self.search_from(range, self.externals.page(page).last[class], port);
        let Some(chosen) = self.externals.page(page).ports.next_free(&[range], from, None) else {
            return Ride::NotHere;
        };
        let mut mapping = Mapping::new(Kind::Endpoint, page, false);
        (mapping.internal, mapping.internal_port, mapping.external_port) = (host, port, chosen);
        (mapping.rule, mapping.target) = (id, target);
        let hash = self.endpoint_hash(p.protocol, host, port, peer, peer_port);
        let mapping = self.table.add_mapping(mapping, now.0, hash);
        self.externals.bind(page, chosen, mapping);
        self.externals.page_mut(page).last[class] = chosen;
        if let Some(pair) = pair {
            self.pairs.count_at(pair);
        }
        self.counters.rules[usize::from(id)].mappings += 1;
        self.counters.peak_mappings = self.counters.peak_mappings.max(self.table.mapping_count());
        self.begin_ride(id, mapping, session)
    }

    fn find_wide_of(&self, p: Passenger) -> bool {
        self.table.find_wide(p.packet(), |_, _| true).is_some()
    }

    /// A flow that needs a new place on a target.
    fn ride_first(&mut self, now: Instant, id: u16, egress: InterfaceId, session: Session, p: Passenger) -> Ride {
        let packet = p.packet();
        let Ok(Source::New(rule, choice, _)) = self.overload(id, packet) else { return Ride::NotHere };
        if choice.kind != Kind::Endpoint {
            return Ride::NotHere;
        }
        let external = self.externals.find(choice.address).map(|e| self.externals.get(e).returns);
        match external.flatten() {
            Some(true) => {}
            Some(false) => return Ride::NotHere,
            None => return Ride::Ask(choice.address, egress),
        }
        let mapping = self.make_mapping(now, rule, &choice, packet, packet.destination());
        self.begin_ride(id, mapping, session)
    }

    /// A new session under a mapping.
    fn begin_ride(&mut self, id: u16, mapping: u32, mut session: Session) -> Ride {
        session.owner = mapping;
        self.add_session(session, None);
        self.counters.begin(id);
        Ride::Done
    }

    /// Another flow on a living session.
    fn ride_again(&mut self, now: Instant, id: u32, p: Passenger) -> Ride {
        let session = self.table.session(id);
        if session.expires <= p.answer.0 {
            return Ride::NotHere;
        }
        let (from_initiator, created) = (!session.has(INBOUND), session.created);
        let packet = p.packet();
        self.refresh(now, Hit { id, heading: Heading { from_initiator, outbound: true } }, packet.signal);
        let back = Heading { from_initiator: !from_initiator, outbound: false };
        self.refresh(now, Hit { id, heading: back }, packet.answer().signal);
        self.run_until(now, SessionRef { id, created }, p.end, p.ending);
        Ride::Done
    }

    /// Ends a session that is due, and its mapping with it, if there is nothing more to either: `false` if there is.
    pub(super) fn alight(&mut self, id: u32) -> bool {
        if !self.config.plain {
            return false;
        }
        let Some(m) = self.table.lone_mapping(id) else { return false };
        if self.config.rule_targets[usize::from(m.rule)].fallback.is_some() {
            return false;
        }
        let page = self.externals.page(m.place());
        let (protocol, external) = (page.protocol, page.external);
        self.externals.unbind(m.place(), m.external_port, id, m.internal, None);
        if self.is_paired(m.target) {
            self.pairs.remove(m.internal, m.target);
        }
        // the peer is of no account: mappings of a plain device do not depend on it
        self.table.remove_lone(id, self.endpoint_hash(protocol, m.internal, m.internal_port, 0, 0));
        let counters = &mut self.counters.rules[usize::from(m.rule)];
        counters.mappings -= 1;
        self.counters.end(m.rule, true);
        if !self.externals.get(external).is_used() {
            self.note_use(self.externals.get(external).address, false);
        }
        true
    }

    /// Reads what a first packet will be looked up by, so that it is at hand when the packet's turn comes.
    #[inline]
    pub(crate) fn warm(&self, protocol: Protocol, source: (u32, u16), destination: (u32, u16)) -> u64 {
        let hash = self.endpoint_hash(protocol, source.0, source.1, destination.0, destination.1);
        self.table.by_internal.touch(hash)
    }
}

/// An address as a lane counts it.
pub(crate) fn lane_number(address: std::net::IpAddr) -> Option<u32> {
    bits(address)
}
