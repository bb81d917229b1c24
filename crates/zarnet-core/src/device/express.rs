//! A shorter way through the pipeline, for what most traffic is: flows from an inner segment to somebody outside, on a
//! way on which no filter and no policy can object, under an overload that sets no limits.
//!
//! [`Lane`] holds what is known beforehand about such flows, found by asking the same questions as the long way. What a
//! lane does not cover for certain is left to the long way, having changed nothing; a test holds one against the other.

use super::config::RuleTargets;
use super::external::External;
use super::intervals::IntervalMap;
use super::routes::Query;
use super::session::{ANSWERED, Heading, INBOUND, NONE, Session, State, Terms};
use super::table::{Kind, Mapping, v4};
use super::translate::Source;
use super::{Device, Ending};
use crate::net::{Instant, Packet, Protocol, Signal};
use crate::plan::{Fallback, InterfaceId, InterfaceSet, PortAssignment, Rule, RuleKind};

/// Flows that come in by one interface.
#[derive(Debug, Clone)]
pub(crate) struct Lane {
    ingress: InterfaceId,
    /// Whether packets of known sessions pass whatever they are.
    unfiltered: bool,
    /// By source: the rule that translates whatever comes from there.
    rules: IntervalMap<Option<u16>>,
    /// By rule: what it translates to, and where; nowhere if it has no target.
    fares: Vec<Fare>,
    /// By destination: the interface that leads to somebody outside.
    exits: IntervalMap<Option<InterfaceId>>,
}

/// What a rule does for flows that it translates.
#[derive(Debug, Clone)]
struct Fare {
    target: u16,
    into: InterfaceSet,
}

impl Lane {
    /// Where the rule may change, and which one it is for a source.
    pub(crate) fn rules(&self) -> &IntervalMap<Option<u16>> {
        &self.rules
    }

    /// Whether packets of known sessions that are seen on an interface are on it.
    pub(crate) fn shows(&self, interface: InterfaceId) -> bool {
        self.ingress == interface && self.unfiltered
    }
}

/// The ends of a flow and what is known of its way before it comes.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Ticket {
    pub protocol: Protocol,
    pub source: (u32, u16),
    pub destination: (u32, u16),
    rule: u16,
    target: u16,
    egress: InterfaceId,
    /// What its mapping is found by.
    hash: u32,
    /// The external address that it is on, where that does not depend on what other mappings there are; or [`NONE`].
    external: u32,
    /// The mapping that was found under that hash beforehand; or [`NONE`]. It may have ended since.
    found: u32,
}

impl Ticket {
    /// Whether the external address was found beforehand.
    #[inline(always)]
    pub(crate) fn knows_external(&self) -> bool {
        self.external != NONE
    }

    /// The flow's first packet.
    fn packet(&self) -> Packet {
        let end = |e: (u32, u16)| v4(e.0, e.1);
        Packet::first(self.protocol, end(self.source), end(self.destination))
    }

    /// What is to be done with a session that was answered already, where it is not certain that answers to its external
    /// address come in by the flow's exit.
    #[inline]
    fn doubts(&self, session: &Session, returns: Option<bool>, address: u32) -> Option<Ride> {
        match returns {
            Some(false) if session.has(ANSWERED) => Some(Ride::NotHere),
            None if session.has(ANSWERED) => Some(Ride::Ask(address, self.egress)),
            _ => None,
        }
    }
}

/// When a flow is answered, and when and how it ends.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Course {
    /// When the answer passes.
    pub answer: Instant,
    /// The last packet.
    pub end: Instant,
    pub ending: Ending,
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

/// What became of a packet that was seen.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum RideAlong {
    /// It was one of a known session.
    Known,
    /// It has begun a session.
    New,
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
        let plain = self.config.plain && self.config.routes.are_plain() && !self.config.remembers_interfaces();
        if !plain
            || self.config.is_beyond_rules(Protocol::ICMP)
            || b.port_assignment == PortAssignment::Random
            || b.port_parity
            || !unlimited
        {
            return None;
        }
        let address = |n: u64| std::net::IpAddr::V4(u32::try_from(n).unwrap_or(u32::MAX).into());
        let rule = |n: u64| {
            let mut rules = self.config.source_rules(address(n));
            let first =
                rules.find(|r| self.enabled[usize::from(*r)] && self.rule(*r).from.interfaces.contains(ingress))?;
            let rule = self.rule(first);
            let simple = matches!(rule.kind, RuleKind::Overload { fallback: Fallback::Drop, .. });
            (simple
                && !self.config.concerns(address(n))
                && rule.limit.is_none()
                && rule.service.is_any()
                && rule.parties.destination.is_all())
            .then_some(first)
        };
        let exit = |n: u64| {
            let to = address(n);
            let way = self.config.routes.find(Query::to(to))?;
            let leads = !self.config.concerns(to) && leads_out(way.interface, to, way.via.unwrap_or(to));
            (leads && self.config.is_open(ingress, way.interface)).then_some(way.interface)
        };
        let mut all = edges.to_vec();
        all.extend(self.config.edges());
        let rules = IntervalMap::from_edges(all.clone(), rule);
        let exits = IntervalMap::from_edges(all, exit).favouring(Option::is_some);
        let fare = |(rule, targets): (&Rule, &RuleTargets)| match targets.main {
            Some(target) => Fare { target, into: rule.into.interfaces.clone() },
            None => Fare { target: u16::MAX, into: InterfaceSet::default() },
        };
        let fares = self.config.plan.rules.iter().zip(&self.config.rule_targets).map(fare).collect();
        Some(Lane { ingress, unfiltered: self.config.is_unfiltered(), rules, fares, exits })
    }

    /// Notes whether answers to an external address come in by the interface that it is used on.
    pub(crate) fn note_return(&mut self, address: u32, returns: bool) {
        let external = self.externals.obtain(address);
        self.externals.get_mut(external).returns = Some(returns);
    }

    /// What can be known of a flow before its turn comes.
    #[inline(always)]
    pub(crate) fn ticket(
        &self,
        lane: &Lane,
        rule: u16,
        protocol: Protocol,
        source: (u32, u16),
        destination: (u32, u16),
    ) -> Option<Ticket> {
        let egress = (*lane.exits.get(destination.0.into()))?;
        let fare = &lane.fares[usize::from(rule)];
        if !(fare.into.contains(egress) & protocol.is_multiplexed()) {
            return None;
        }
        let target = fare.target;
        let hash = self.endpoint_hash(protocol, source.0, source.1, destination.0, destination.1);
        Some(Ticket { protocol, source, destination, rule, target, egress, hash, external: NONE, found: NONE })
    }

    /// A ticket with what only a new mapping needs.
    #[inline(always)]
    pub(crate) fn prepared(&self, t: Ticket) -> Ticket {
        Ticket { external: self.fixed_external(t.source.0, t.target).unwrap_or(NONE), ..t }
    }

    /// Reads what a flow will be looked up by. For many flows at once: what has to be waited for is then waited for
    /// together.
    #[inline(always)]
    pub(crate) fn warm(&self, t: &Ticket) -> u64 {
        self.table.by_internal.touch(t.hash)
    }

    /// Looks for the mapping that a packet may belong to.
    #[inline(always)]
    pub(crate) fn look_up(&self, t: &mut Ticket) {
        t.found = self.table.by_internal.first(t.hash).unwrap_or(NONE);
    }

    /// Reads the mapping that was found; or else what a new one needs.
    #[inline(always)]
    pub(crate) fn warm_mapping(&self, t: &Ticket) -> u32 {
        if t.found == NONE { self.warm_port(t) } else { self.table.mapping(t.found).internal }
    }

    /// Reads where a packet that goes back would have another mapping.
    #[inline(always)]
    pub(crate) fn warm_reverse(&self, t: &Ticket) -> u64 {
        if self.table.may_be_inside(t.destination.0) { self.table.by_internal.touch(self.reverse_hash(t)) } else { 0 }
    }

    /// What would find a mapping of a flow's receiver, as if that had begun it.
    fn reverse_hash(&self, t: &Ticket) -> u32 {
        self.endpoint_hash(t.protocol, t.destination.0, t.destination.1, t.source.0, t.source.1)
    }

    /// Reads what a flow's host is looked up by, where that is kept.
    #[inline(always)]
    pub(crate) fn warm_host(&self, t: &Ticket) -> u32 {
        if self.keeps_pairs(t.target) { self.pairs.touch(t.source.0, t.target) } else { 0 }
    }

    /// Reads where the next port of a flow's host will be entered.
    #[inline(always)]
    pub(crate) fn warm_port(&self, t: &Ticket) -> u32 {
        let external = if t.knows_external() { Some(t.external) } else { self.external_for(t).0 };
        let page = external.and_then(|e| self.externals.get(e).page(t.protocol));
        page.map_or(0, |p| self.externals.touch_next(p))
    }

    /// The external address that a host has or would get, if it has been used, and where that is noted.
    #[inline(always)]
    fn external_for(&self, t: &Ticket) -> (Option<u32>, Option<usize>) {
        // asked when its turn comes: what was known of the ticket may hold no longer
        if !self.keeps_pairs(t.target) {
            let known = t.knows_external().then_some(t.external);
            return (known.or_else(|| self.fixed_external(t.source.0, t.target)), None);
        }
        self.pairs.find(t.source.0, t.target).unzip()
    }

    /// The same where it is the only one, or every host is at home.
    #[inline(always)]
    fn fixed_external(&self, host: u32, target: u16) -> Option<u32> {
        let state = &self.targets[usize::from(target)];
        let space = &self.config.targets[usize::from(target)].space;
        let position = match space.count() {
            1 => 0,
            _ if state.at_home => space.home(host),
            _ => return None,
        };
        state.used_as.get(position as usize).copied().filter(|external| *external != NONE)
    }

    /// Enters a whole flow at once: its first packet, the answer, and that it runs until its end.
    pub(crate) fn ride(&mut self, now: Instant, t: &Ticket, course: Course) -> Ride {
        let (peer, peer_port) = t.destination;
        self.expire(now);
        let terms = Terms::new(&self.config, t.protocol, peer_port);
        let mut session = Session::new(now.0, terms, NONE, ANSWERED);
        if session.expires <= course.answer.0 {
            return Ride::NotHere;
        }
        (session.remote, session.remote_port) = t.destination;
        // the server's SYN establishes it: RFC 7857 figure 1
        session.state = [State::Open, State::Established][usize::from(t.protocol == Protocol::TCP)];
        session.run_until(course.end.0, course.ending, terms);
        let mapping = self.find_endpoint(t.hash, t.protocol, t.source.0, t.source.1);
        if let Some(known) = mapping.and_then(|m| self.table.under(m, peer, peer_port)) {
            // of two sessions with one answer, the older counts
            if self.table.may_be_wide(t.protocol, t.source, t.destination) {
                return Ride::NotHere;
            }
            let owner = self.table.session(known).owner;
            let external = self.external_under(owner);
            if self.is_contested_by_wide(t, (external.address, self.table.mapping(owner).external_port)) {
                return Ride::NotHere;
            }
            if let Some(unsure) = t.doubts(&session, external.returns, external.address) {
                return unsure;
            }
            return self.ride_again(now, known, t, course);
        }
        self.take_aboard(now, session, t, mapping)
    }

    /// Whether a session with tuples of its own may have the answers that come to an external end.
    #[inline(always)]
    fn is_contested_by_wide(&self, t: &Ticket, external: (u32, u16)) -> bool {
        // kept apart: there is hardly ever such a session, and what is short is entered in place
        self.table.has_wide() && self.has_wide_for(t, external)
    }

    #[cold]
    #[inline(never)]
    fn has_wide_for(&self, t: &Ticket, external: (u32, u16)) -> bool {
        self.table.may_be_wide(t.protocol, t.destination, external)
    }

    /// The external address that a mapping is on.
    fn external_under(&self, mapping: u32) -> &External {
        self.externals.get(self.externals.external_of(self.table.mapping(mapping).place()))
    }

    /// Enters a new session, under a mapping that is known or a new one. `session`: as it is to be but for its owner; one
    /// that was answered already is only entered where answers come back.
    #[inline(always)]
    fn take_aboard(&mut self, now: Instant, mut session: Session, t: &Ticket, mapping: Option<u32>) -> Ride {
        let (host, port) = t.source;
        // it may be an answer in a session that was let in as it was
        if self.table.may_be_wide(t.protocol, t.source, t.destination) && self.find_wide_of(t) {
            return Ride::NotHere;
        }
        if let Some(mapping) = mapping {
            if self.table.mapping(mapping).rule != t.rule {
                return Ride::NotHere;
            }
            let external = self.external_under(mapping);
            if self.is_contested_by_wide(t, (external.address, self.table.mapping(mapping).external_port)) {
                return Ride::NotHere;
            }
            if let Some(unsure) = t.doubts(&session, external.returns, external.address) {
                return unsure;
            }
            session.owner = mapping;
            return self.begin_ride(t.rule, session);
        }
        let (external, pair) = self.external_for(t);
        // the first mapping of a host on a pool, or on an address, picks its place with all due care
        let Some(external) = external else { return self.ride_first(now, session, t) };
        let e = self.externals.get(external);
        let Some(page) = e.page(t.protocol).filter(|_| e.endpoints > 0) else {
            return self.ride_first(now, session, t);
        };
        if let Some(unsure) = t.doubts(&session, e.returns, e.address) {
            return unsure;
        }
        let behaviour = &self.config.plan.behaviour;
        let class = behaviour.port_class(port);
        let range = behaviour.port_classes[class].into;
        let from = self.search_from(range, self.externals.last(page, class), port);
        let Some(chosen) = self.externals.page(page).ports.next_free(&[range], from, None) else {
            return Ride::NotHere;
        };
        if self.is_contested_by_wide(t, (e.address, chosen)) {
            return Ride::NotHere;
        }
        let mut mapping = Mapping::new(Kind::Endpoint, page, false);
        (mapping.internal, mapping.internal_port, mapping.external_port) = (host, port, chosen);
        (mapping.rule, mapping.target) = (t.rule, t.target);
        self.calm_until = self.calm_until.min(session.expires);
        let mapping = self.table.add_both(mapping, session, t.hash);
        self.externals.bind(page, chosen, mapping, now.0);
        self.record_port(page, chosen, now.0, true);
        self.record_mappings(now.0, true);
        self.record_sessions(now.0, true);
        self.externals.set_last(page, class, chosen);
        if let Some(pair) = pair {
            self.pairs.count_at(pair);
        }
        let counters = &mut self.counters;
        counters.map(t.rule, self.table.mapping_count(), now.0);
        counters.begin_session(self.table.session_count(), now.0);
        counters.begin(t.rule, now.0);
        Ride::Done
    }

    /// Enters a packet that was seen on the lane's interface: one of a flow from there, or `back` to who began it.
    #[inline(always)]
    pub(crate) fn ride_along(&mut self, now: Instant, t: &Ticket, back: bool, signal: Signal) -> RideAlong {
        self.expire(now);
        // another session could have the same ends the other way round
        let inside = self.table.may_be_inside(t.destination.0);
        if back & (inside | self.table.has_wide()) {
            let other = inside && self.table.by_internal.first(self.reverse_hash(t)).is_some();
            if other || self.table.may_be_wide(t.protocol, t.destination, t.source) {
                return RideAlong::NotHere;
            }
        }
        let id = match self.is_beside(t) && !self.table.has_wide() {
            true => t.found,
            false => {
                let mapping = self.find_endpoint(t.hash, t.protocol, t.source.0, t.source.1);
                match mapping.and_then(|m| self.table.under(m, t.destination.0, t.destination.1)) {
                    Some(_) if self.table.may_be_wide(t.protocol, t.source, t.destination) => {
                        return RideAlong::NotHere;
                    }
                    Some(id) => id,
                    None if back => return RideAlong::NotHere,
                    None => return self.ride_new(now, t, signal, mapping),
                }
            }
        };
        let session = self.table.session(id);
        let (inbound, before) = (session.has(INBOUND), session.expires);
        let mapping = self.table.mapping(session.owner);
        if mapping.rule != t.rule {
            return RideAlong::NotHere;
        }
        let port = if inbound { mapping.external_port } else { t.destination.1 };
        let terms = Terms::new(&self.config, t.protocol, port);
        let session = self.table.session_mut(id);
        session.on_packet(now.0, signal, Heading { from_initiator: inbound == back, outbound: !back }, terms);
        let expires = session.expires;
        if expires < before {
            self.bring_forward(id, expires);
        }
        RideAlong::Known
    }

    /// Whether the session between a flow's ends is beside the mapping that was found beforehand: both may have ended since.
    #[inline(always)]
    fn is_beside(&self, t: &Ticket) -> bool {
        t.found != NONE
            && self.is_mapping_of(t.found, t.protocol, t.source.0, t.source.1)
            && self.table.is_of(t.found, t.found, t.destination.0, t.destination.1)
    }

    /// A packet of no session that is known: it may begin one.
    fn ride_new(&mut self, now: Instant, t: &Ticket, signal: Signal, mapping: Option<u32>) -> RideAlong {
        if signal != t.packet().signal {
            return RideAlong::NotHere;
        }
        let mut session = Session::new(now.0, Terms::new(&self.config, t.protocol, t.destination.1), NONE, 0);
        (session.remote, session.remote_port) = t.destination;
        match self.take_aboard(now, session, t, mapping) {
            Ride::Done => RideAlong::New,
            Ride::Ask(..) | Ride::NotHere => RideAlong::NotHere,
        }
    }

    fn find_wide_of(&self, t: &Ticket) -> bool {
        self.table.find_wide(t.packet(), |_, _| true).is_some()
    }

    /// A flow that needs a new place on a target.
    #[cold]
    fn ride_first(&mut self, now: Instant, mut session: Session, t: &Ticket) -> Ride {
        let packet = t.packet();
        let Ok(Source::New(rule, choice, _)) = self.overload(t.rule, packet, packet.destination()) else {
            return Ride::NotHere;
        };
        if choice.kind != Kind::Endpoint || self.is_contested_by_wide(t, (choice.address, choice.port)) {
            return Ride::NotHere;
        }
        let external = self.externals.find(choice.address).map(|e| self.externals.get(e).returns);
        if let Some(unsure) = t.doubts(&session, external.flatten(), choice.address) {
            return unsure;
        }
        session.owner = self.make_mapping(now, rule, &choice, packet, packet.destination());
        self.begin_ride(t.rule, session)
    }

    /// A new session under a mapping.
    fn begin_ride(&mut self, rule: u16, session: Session) -> Ride {
        self.add_session(session, None);
        self.counters.begin(rule, session.created);
        Ride::Done
    }

    /// Another flow on a living session.
    fn ride_again(&mut self, now: Instant, id: u32, t: &Ticket, course: Course) -> Ride {
        let mut session = *self.table.session(id);
        if session.expires <= course.answer.0 {
            return Ride::NotHere;
        }
        let (from_initiator, packet, terms) = (!session.has(INBOUND), t.packet(), self.terms(&session));
        session.on_packet(now.0, packet.signal, Heading { from_initiator, outbound: true }, terms);
        let back = Heading { from_initiator: !from_initiator, outbound: false };
        session.on_packet(now.0, packet.answer().signal, back, terms);
        self.run_on(now, id, session, (course.end.0, course.ending));
        Ride::Done
    }

    /// Counts that a rule's mapping and its session expire.
    pub(super) fn count_end(&mut self, rule: u16) {
        self.counters.rules[usize::from(rule)].mappings -= 1;
        self.counters.end(rule, true);
        self.counters.end_session(true);
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
        let (external, protocol) = self.externals.owner(m.place());
        let at = self.table.session(id).expires;
        self.externals.unbind(m.place(), m.external_port, id, m.internal, None);
        self.record_port(m.place(), m.external_port, at, false);
        self.record_mappings(at, false);
        self.record_sessions(at, false);
        if self.keeps_pairs(m.target) {
            self.pairs.remove(m.internal, m.target);
        }
        // the peer is of no account: mappings of a plain device do not depend on it
        self.table.remove_lone(id, self.endpoint_hash(protocol, m.internal, m.internal_port, 0, 0));
        self.count_end(m.rule);
        if !self.externals.get(external).is_used() {
            self.note_use(self.externals.get(external).address, false, at);
        }
        true
    }
}
