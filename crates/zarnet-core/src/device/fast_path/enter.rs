//! Flows and packets are entered on the fast path, through the same doors as on the other.

use super::{FastOutcome, FastPacket, FlowKey};
use crate::device::bindings::{
    ANSWERED, Context, Engine, ExternalAddress, Heading, INBOUND, Kind, KnownSession, NONE,
    NewMapping, Session, Sink,
};
use crate::device::key::{EndKey, Key};
use crate::device::outcome::FlowSchedule;
use crate::device::pipeline::Source;
use crate::net::{Instant, Signal};
use crate::plan::{Dependence, RuleId};

impl FlowKey {
    /// What is to be done with a session that was answered already, where it is not certain that
    /// answers to its external address come in by the flow's exit.
    #[inline]
    fn doubts(
        &self,
        session: &Session,
        returns: Option<bool>,
        address: Key,
    ) -> Option<FastOutcome> {
        match returns {
            Some(false) if session.has(ANSWERED) => Some(FastOutcome::SlowPath),
            None if session.has(ANSWERED) => Some(FastOutcome::Ask(address, self.egress)),
            _ => None,
        }
    }
}

impl Context<'_> {
    /// Whether a session that is found by its ends, or a hairpinned one, may have the answers that
    /// come to an external end.
    #[inline(always)]
    fn may_be_contested(&self, flow: &FlowKey, external: EndKey) -> bool {
        // kept apart: there is hardly ever such a session, and what is short is entered in place
        (self.bindings.table.has_found_by_ends() || !self.bindings.hairpins.is_empty())
            && self.may_have_answers(flow, external)
    }

    #[cold]
    #[inline(never)]
    fn may_have_answers(&self, flow: &FlowKey, external: EndKey) -> bool {
        let mut hairpins = self.bindings.hairpins.externals_of(flow.protocol, flow.destination);
        hairpins.next().is_some()
            || self.bindings.table.may_be_found_by_ends(flow.protocol, flow.destination, external)
    }

    /// Whether a session that is found by its ends may be between those of a flow.
    #[inline(always)]
    fn may_be_found_by_ends(&self, flow: &FlowKey) -> bool {
        self.bindings.table.may_be_found_by_ends(flow.protocol, flow.source, flow.destination)
    }

    fn is_found_by_ends(&self, flow: &FlowKey) -> bool {
        let packet = flow.packet();
        self.bindings.table.find_explicit(packet, |_, _| true).is_some()
            || self.find_compact(packet).is_some()
    }

    /// The external address that an endpoint mapping is on.
    #[inline(always)]
    fn external_address(&self, mapping: u32) -> &ExternalAddress {
        let externals = &self.bindings.externals;
        externals.get(externals.external_of(self.bindings.table.mapping(mapping).place()))
    }

    /// What keeps a flow from being entered under a living mapping.
    #[inline(always)]
    fn hindrance(&self, session: &Session, flow: &FlowKey, mapping: u32) -> Option<FastOutcome> {
        let external = self.external_address(mapping);
        let port = self.bindings.table.mapping(mapping).external_port;
        let end = (external.address, port);
        if self.may_be_contested(flow, end) || self.is_filtered_outside(flow, end) {
            return Some(FastOutcome::SlowPath);
        }
        flow.doubts(session, external.returns, external.address)
    }

    /// Whether filters outside drop a flow or its answers on an external end.
    #[inline(always)]
    fn is_filtered_outside(&self, flow: &FlowKey, external: EndKey) -> bool {
        flow.filtered_outside && !self.passes_outside(flow, external)
    }

    /// The mapping of a flow's internal end.
    #[inline(always)]
    fn mapping_of_flow(&self, flow: &FlowKey) -> Option<u32> {
        if self.bindings.dependence == Dependence::EndpointIndependent {
            return self.bindings.find_endpoint(flow.hash, flow.protocol, flow.source);
        }
        self.bindings.mappings_of(flow.protocol, flow.source, flow.destination).next()
    }

    /// The session between a flow's ends under a mapping.
    #[inline(always)]
    fn session_of_flow(&self, mapping: u32, flow: &FlowKey) -> Option<u32> {
        self.bindings.table.under(mapping, flow.destination.0, flow.destination.1)
    }

    /// Whether the session between a flow's ends is beside the mapping that was found beforehand:
    /// both may have ended since.
    #[inline(always)]
    fn is_beside(&self, flow: &FlowKey) -> bool {
        flow.found != NONE
            && self.bindings.is_mapping_of(flow.found, flow.protocol, flow.source)
            && self.bindings.table.is_of(
                flow.found,
                flow.found,
                flow.destination.0,
                flow.destination.1,
            )
    }
}

impl<S: Sink> Engine<'_, S> {
    /// Enters a whole flow at once: its first packet, the answer, and that it runs until its end.
    pub(in crate::device) fn enter_flow(
        &mut self,
        now: Instant,
        flow: &FlowKey,
        schedule: FlowSchedule,
    ) -> FastOutcome {
        self.expire(now);
        let timing = self.compiled.timing(flow.protocol, flow.destination.1);
        let mut session = Session::new(now.0, timing, NONE, 0);
        if session.expires <= schedule.answer.0 {
            return FastOutcome::SlowPath;
        }
        (session.remote, session.remote_port) = flow.destination;
        session.run_from_start(schedule.end.0, schedule.ending, timing);
        let mapping = self.context().mapping_of_flow(flow);
        if let Some(known) = mapping.and_then(|m| self.context().session_of_flow(m, flow)) {
            // of two sessions with one answer, the older counts
            if self.context().may_be_found_by_ends(flow) {
                return FastOutcome::SlowPath;
            }
            let owner = self.bindings.table.session(known).owner;
            if let Some(hindrance) = self.context().hindrance(&session, flow, owner) {
                return hindrance;
            }
            return self.enter_again(now, known, flow, schedule);
        }
        self.enter_new(now, session, flow, mapping)
    }

    /// Enters a new session, under a mapping that is known or a new one. `session`: as it is to be
    /// but for its owner; one that was answered already is only entered where answers come back.
    #[inline(always)]
    fn enter_new(
        &mut self,
        now: Instant,
        mut session: Session,
        flow: &FlowKey,
        mapping: Option<u32>,
    ) -> FastOutcome {
        // it may be an answer in a session that was let in as it was
        if self.context().may_be_found_by_ends(flow) && self.context().is_found_by_ends(flow) {
            return FastOutcome::SlowPath;
        }
        if self.context().check_sessions().is_err() {
            return FastOutcome::SlowPath;
        }
        if let Some(mapping) = mapping {
            if self.bindings.table.mapping(mapping).rule != flow.rule {
                return FastOutcome::SlowPath;
            }
            if let Some(hindrance) = self.context().hindrance(&session, flow, mapping) {
                return hindrance;
            }
            session.owner = mapping;
            return self.open_under(flow.rule, session);
        }
        if !flow.at_once {
            return self.enter_first(now, session, flow);
        }
        let (external, pair) = self.context().external_for(flow);
        // the first mapping of a host on a pool, or on an address, picks its place with all due
        // care
        let Some(external) = external else { return self.enter_first(now, session, flow) };
        let e = self.bindings.externals.get(external);
        let Some(port_table) = e.port_table(flow.protocol).filter(|_| e.endpoints > 0) else {
            return self.enter_first(now, session, flow);
        };
        if let Some(unsure) = flow.doubts(&session, e.returns, e.address) {
            return unsure;
        }
        let FlowKey { rule, target, hash, freely, source: internal, .. } = *flow;
        let place = (rule, target, freely);
        let Some(new) = self.context().new_port(place, (internal, hash), port_table, pair) else {
            // none is left, or it takes a new block or more than a few draws
            return self.enter_first(now, session, flow);
        };
        let end = (self.bindings.externals.get(external).address, new.port);
        if self.context().may_be_contested(flow, end)
            || self.context().is_filtered_outside(flow, end)
        {
            return FastOutcome::SlowPath;
        }
        self.open_both(session, &new, None);
        FastOutcome::Entered
    }

    /// Enters a packet that was seen on the path's interface: one of a flow from there, or `back`
    /// to who began it.
    #[inline(always)]
    pub(in crate::device) fn enter_packet(
        &mut self,
        now: Instant,
        flow: &FlowKey,
        back: bool,
        signal: Signal,
    ) -> FastPacket {
        self.expire(now);
        // another session could have the same ends the other way round
        let table = &self.bindings.table;
        let inside = table.may_be_inside(flow.destination.0);
        if back & (inside | table.has_found_by_ends()) {
            let other =
                inside && table.first_by_internal(self.context().reverse_hash(flow)).is_some();
            if other || table.may_be_found_by_ends(flow.protocol, flow.destination, flow.source) {
                return FastPacket::SlowPath;
            }
        }
        let id = match self.context().is_beside(flow) && !table.has_found_by_ends() {
            true => flow.found,
            false => {
                let mapping = self.context().mapping_of_flow(flow);
                match mapping.and_then(|m| self.context().session_of_flow(m, flow)) {
                    Some(_) if self.context().may_be_found_by_ends(flow) => {
                        return FastPacket::SlowPath;
                    }
                    Some(id) => id,
                    None if back => return FastPacket::SlowPath,
                    None => return self.enter_first_packet(now, flow, signal, mapping),
                }
            }
        };
        let session = self.bindings.table.session(id);
        let inbound = session.has(INBOUND);
        let mapping = self.bindings.table.mapping(session.owner);
        if mapping.rule != flow.rule {
            return FastPacket::SlowPath;
        }
        let port = if inbound { mapping.external_port } else { flow.destination.1 };
        let timing = self.compiled.timing(flow.protocol, port);
        let heading = Heading { from_initiator: inbound == back, outbound: !back };
        self.change_in_place(id, |session| {
            session.on_packet(now.0, signal, heading, timing);
        });
        FastPacket::Known
    }

    /// A packet of no session that is known: it may begin one.
    fn enter_first_packet(
        &mut self,
        now: Instant,
        flow: &FlowKey,
        signal: Signal,
        mapping: Option<u32>,
    ) -> FastPacket {
        if signal != flow.packet().signal {
            return FastPacket::SlowPath;
        }
        let mut session =
            Session::new(now.0, self.compiled.timing(flow.protocol, flow.destination.1), NONE, 0);
        (session.remote, session.remote_port) = flow.destination;
        match self.enter_new(now, session, flow, mapping) {
            FastOutcome::Entered => FastPacket::New,
            FastOutcome::Ask(..) | FastOutcome::SlowPath => FastPacket::SlowPath,
        }
    }

    /// A flow that needs a new place on a target, found with all due care.
    #[inline(never)]
    fn enter_first(&mut self, now: Instant, mut session: Session, flow: &FlowKey) -> FastOutcome {
        let packet = flow.packet();
        let Ok(Source::New(rule, external, _)) =
            self.context().overload(flow.rule, packet, packet.destination())
        else {
            return FastOutcome::SlowPath;
        };
        let end = (external.address, external.port);
        let contested = self.context().may_be_contested(flow, end);
        if external.kind != Kind::Endpoint
            || contested
            || self.context().is_filtered_outside(flow, end)
        {
            return FastOutcome::SlowPath;
        }
        let known = self.bindings.externals.find(external.address);
        let returns = known.and_then(|e| self.bindings.externals.get(e).returns);
        if let Some(unsure) = flow.doubts(&session, returns, external.address) {
            return unsure;
        }
        let (rule, protocol, internal, peer) =
            (rule.0, flow.protocol, flow.source, flow.destination);
        session.owner =
            self.open_mapping(now.0, &NewMapping { rule, protocol, internal, peer, external });
        self.open_under(flow.rule, session)
    }

    /// A new session under a mapping.
    fn open_under(&mut self, rule: u16, session: Session) -> FastOutcome {
        self.open_session(session, None, [Some(RuleId(rule)), None]);
        FastOutcome::Entered
    }

    /// Another flow on a living session.
    fn enter_again(
        &mut self,
        now: Instant,
        id: u32,
        flow: &FlowKey,
        schedule: FlowSchedule,
    ) -> FastOutcome {
        let session = self.bindings.table.session(id);
        if session.expires <= schedule.answer.0 {
            return FastOutcome::SlowPath;
        }
        let heading = Heading { from_initiator: !session.has(INBOUND), outbound: true };
        self.go_on(now, KnownSession { id, heading }, flow.packet(), schedule);
        FastOutcome::Entered
    }
}
