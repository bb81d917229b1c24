//! What time does to the table, and how sessions and mappings end.

use std::cmp::Reverse;

use super::choose::endpoint_hash;
use super::commit::distinct;
use super::pairs::Pairs;
use super::session::{INBOUND, NONE, SHARED, Session, Terms};
use super::table::{Kind, Mapping, Wide, v4};
use super::{Device, Ending, Hit, SessionRef};
use crate::net::{Endpoint, Instant, Packet, Protocol, Signal, Tuple};
use crate::plan::RuleId;
use crate::reason::Reason;

impl Device {
    /// Ends everything whose time is up at `now`, in the order of expiry.
    #[inline]
    pub fn expire(&mut self, now: Instant) {
        if now.0 >= self.calm_until {
            self.expire_due(now);
        }
    }

    fn expire_due(&mut self, now: Instant) {
        'next: loop {
            let lingering = self.lingering.peek().map_or(u64::MAX, |l| l.0.0);
            let until = now.0.min(lingering);
            while let Some(id) = self.table.next_due(until) {
                if self.table.has_leavers() {
                    self.warm_leavers();
                }
                if !self.alight(id) {
                    let at = self.table.session(id).expires;
                    self.end_session(id, at, true);
                    // its address mapping may linger, and for less than the next session lives
                    continue 'next;
                }
            }
            let Some(&Reverse((until, mapping))) = self.lingering.peek().filter(|l| l.0.0 <= now.0) else { break };
            self.lingering.pop();
            if self.lingers.get(&mapping) == Some(&until) {
                self.remove_mapping(mapping, 0, 0, until);
            }
        }
        self.externals.wake(now.0);
        let lingering = self.lingering.peek().map_or(u64::MAX, |l| l.0.0);
        self.calm_until = self.table.calm_until().min(lingering).min(self.externals.next_wake());
    }

    /// Reads what the sessions that are about to expire are found by, and hold. For many at once: what has to be waited for
    /// is then waited for together.
    fn warm_leavers(&mut self) {
        let mut leavers = std::mem::take(&mut self.leavers);
        leavers.clear();
        let (externals, dependence) = (&self.externals, self.config.plan.behaviour.mapping);
        self.table.next_leavers(|m, peer| {
            if m.kind() == Kind::Endpoint {
                let end = (externals.protocol_of(m.place()), m.internal, m.internal_port);
                leavers.push((*m, endpoint_hash(dependence, end, peer)));
            }
        });
        let found = leavers.iter().fold(0, |sum, l| sum ^ self.table.by_internal.touch(l.1));
        let port = |m: &Mapping| self.externals.page(m.place()).mapping(m.external_port).unwrap_or(0);
        let ports = leavers.iter().fold(0, |sum, l| sum ^ port(&l.0));
        let hosts = leavers.iter().fold(0, |sum, l| sum ^ self.pairs.touch(l.0.internal, l.0.target));
        std::hint::black_box((found, ports, hosts));
        self.leavers = leavers;
    }

    /// Adds a session to the table.
    pub(super) fn add_session(&mut self, session: Session, wide: Option<Wide>) -> u32 {
        self.calm_until = self.calm_until.min(session.expires);
        let id = self.table.add_session(session, wide);
        self.counters.begin_session(self.table.session_count(), session.created);
        self.record_sessions(session.created, true);
        id
    }

    /// Puts a changed session back.
    pub(super) fn put_session(&mut self, id: u32, session: Session) {
        *self.table.session_mut(id) = session;
        self.bring_forward(id, session.expires);
    }

    /// A session was changed so that it may expire earlier than before. One that expires later needs nothing: it is looked at
    /// when it would have expired.
    pub(super) fn bring_forward(&mut self, id: u32, expires: u64) {
        self.calm_until = self.calm_until.min(expires);
        self.table.bring_forward(id);
    }

    /// Protocol and port that a session's timers depend on.
    pub(super) fn terms(&self, session: &Session) -> Terms<'_> {
        let (protocol, port) = match self.table.wide(session) {
            Some(wide) => (wide.protocol, wide.original.destination.port),
            None => {
                let mapping = self.table.mapping(session.owner);
                let port = if session.has(INBOUND) { mapping.external_port } else { session.remote_port };
                (self.externals.protocol_of(mapping.place()), port)
            }
        };
        Terms::new(&self.config, protocol, port)
    }

    /// The initiator's packet as sent and as forwarded.
    pub(super) fn tuples(&self, id: u32) -> (Tuple, Tuple) {
        let session = self.table.session(id);
        if let Some(wide) = self.table.wide(session) {
            return (wide.original, wide.translated);
        }
        let mapping = self.table.mapping(session.owner);
        let address = self.externals.get(self.externals.external_of(mapping.place())).address;
        let internal = v4(mapping.internal, mapping.internal_port);
        let external = v4(address, mapping.external_port);
        let remote = v4(session.remote, session.remote_port);
        let pair = |source: Endpoint, destination: Endpoint| Tuple { source, destination };
        if session.has(INBOUND) {
            (pair(remote, external), pair(remote, internal))
        } else {
            (pair(internal, remote), pair(external, remote))
        }
    }

    pub(super) fn protocol_of(&self, session: &Session) -> Protocol {
        self.terms(session).protocol
    }

    /// Rules of steps 4 and 8 that a session was made by.
    pub(super) fn rules_of(&self, session: &Session) -> (Option<RuleId>, Option<RuleId>) {
        match self.table.wide(session) {
            Some(wide) => (wide.inbound_rule.map(RuleId), wide.outbound_rule.map(RuleId)),
            None => {
                let rule = Some(RuleId(self.table.mapping(session.owner).rule));
                if session.has(INBOUND) { (rule, None) } else { (None, rule) }
            }
        }
    }

    /// The ends of a session that fixed rules translated, in steps 4 and 8: the rule, the internal and the external end.
    pub(super) fn fixed_ends(&self, id: u32) -> [Option<(RuleId, Endpoint, Endpoint)>; 2] {
        let (inbound, outbound) = self.rules_of(self.table.session(id));
        let fixed = |rule: Option<RuleId>| rule.filter(|r| self.rule(r.0).kind.is_fixed());
        let (inbound, outbound) = (fixed(inbound), fixed(outbound));
        if inbound.or(outbound).is_none() {
            return [None; 2];
        }
        let (original, translated) = self.tuples(id);
        [
            inbound.map(|r| (r, translated.destination, original.destination)),
            outbound.map(|r| (r, original.source, translated.source)),
        ]
    }

    pub(super) fn unchanged_reason(&self, id: u32) -> (Reason, Option<RuleId>) {
        let own = self.table.wide(self.table.session(id)).is_some_and(|w| w.interfaces.0 == u16::MAX);
        (if own { Reason::FromDevice } else { Reason::NoRule }, None)
    }

    /// Enters an accepted packet of a session. Tells whether it keeps it alive for longer.
    pub(super) fn refresh(&mut self, now: Instant, hit: Hit, signal: Signal) -> bool {
        let mut session = *self.table.session(hit.id);
        let refreshes = session.on_packet(now.0, signal, hit.heading, self.terms(&session));
        self.put_session(hit.id, session);
        refreshes
    }

    /// A packet that was entered ahead of its time, at `entered`, passes at `at`.
    pub(crate) fn put_off(&mut self, passed: SessionRef, refreshed: bool, entered: Instant, at: Instant) {
        let mut session = *self.table.session(passed.id);
        // of a flow that runs on it, other packets pass later still
        if self.is_alive(passed) && session.last == entered.0 {
            session.last = at.0;
            if refreshed {
                session.expires = session.expires.saturating_add(at.0 - entered.0);
            }
            self.put_session(passed.id, session);
        }
    }

    /// Gives back the memory of everything that is only needed for packets still to come.
    pub(crate) fn release(&mut self) {
        self.table.release();
        self.pairs = Pairs::new();
    }

    /// Whether a session still lives.
    pub fn is_alive(&self, session: SessionRef) -> bool {
        let s = self.table.session(session.id);
        s.owner != NONE && s.created == session.created
    }

    /// Whether the answers of a session belong to an older one.
    pub(crate) fn is_contested(&self, session: SessionRef) -> bool {
        let (_, translated) = self.tuples(session.id);
        let protocol = self.protocol_of(self.table.session(session.id));
        let answer = Packet { protocol, signal: Signal::Plain, ends: translated.reversed() };
        self.find(answer, None).is_some_and(|hit| hit.id != session.id)
    }

    /// When a session ends if nothing more comes.
    pub fn expires(&self, session: SessionRef) -> Instant {
        Instant(self.table.session(session.id).expires)
    }

    /// A flow runs on a session until `end`, both ways without a pause. Entered at once instead of packet by packet: the
    /// session's state at any moment in between follows from it.
    pub fn run_until(&mut self, now: Instant, session: SessionRef, end: Instant, ending: Ending) {
        if self.is_alive(session) {
            self.run_on(now, session.id, *self.table.session(session.id), (end.0, ending));
        }
    }

    /// A flow that runs on a session is over: nothing more is sent on it.
    pub fn stop(&mut self, now: Instant, session: SessionRef) {
        if !self.is_alive(session) {
            return;
        }
        let s = *self.table.session(session.id);
        // of several flows, the others go on
        if s.running(now.0).is_some() && !s.has(SHARED) {
            let stopped = s.stopped(now.0, self.terms(&s));
            self.put_session(session.id, stopped);
        }
    }

    /// The same for a living session as it has become meanwhile.
    pub(super) fn run_on(&mut self, now: Instant, id: u32, mut s: Session, flow: (u64, Ending)) {
        let running = s.running(now.0);
        let (mut end, mut ending) = flow;
        if let (Some(other), false) = (running, s.has(SHARED) || ending == Ending::Close)
            && other.1 != Ending::Close
        {
            // neither ends the session for the other: it lasts as long as the longer one, and the shorter is of no account
            if other.0 > end {
                (end, ending) = other;
            }
        } else if running.is_some() || s.has(SHARED) {
            let overlap = self.table.overlaps.entry(id).or_default();
            overlap.add(now.0, running.filter(|_| !s.has(SHARED)).into_iter().chain([flow]));
            s.flags |= SHARED;
            (end, ending) = overlap.end().unwrap_or(flow);
        }
        s.run_until(end, ending, self.terms(&s));
        self.put_session(id, s);
    }

    /// Ends a session, and its mapping if it was the last one.
    pub(super) fn end_session(&mut self, id: u32, at: u64, expired: bool) {
        if !self.leftovers.is_empty() {
            self.let_go(id);
        }
        let session = *self.table.session(id);
        let (inbound, outbound) = self.rules_of(&session);
        for rule in distinct(inbound, outbound) {
            self.counters.end(rule.0, expired);
        }
        self.counters.end_session(expired);
        self.record_sessions(at, false);
        for mapping in self.table.remove_session(id) {
            if mapping != NONE && self.table.session_count_of(mapping) == 0 {
                self.leave_mapping(mapping, session.remote, session.remote_port, at);
            }
        }
    }

    /// A mapping has lost its last session: it goes, or an address mapping lingers for the `binding` timer.
    fn leave_mapping(&mut self, id: u32, peer: u32, peer_port: u16, at: u64) {
        let binding = self.binding_of(self.table.mapping(id));
        if binding > 0 {
            let until = at.saturating_add(binding);
            self.lingers.insert(id, until);
            self.lingering.push(Reverse((until, id)));
            self.calm_until = self.calm_until.min(until);
        } else {
            self.remove_mapping(id, peer, peer_port, at);
        }
    }

    /// How long a mapping outlasts its last session: an address mapping of a rule that takes part does.
    pub(super) fn binding_of(&self, m: &Mapping) -> u64 {
        let lingers = m.kind() == Kind::Address && self.enabled[usize::from(m.rule)];
        if lingers { self.config.spans.binding } else { 0 }
    }

    /// Until when an address mapping without sessions lasts.
    pub(super) fn lingers_until(&self, id: u32) -> Option<u64> {
        self.lingers.get(&id).copied()
    }

    /// Takes a mapping without sessions out of the table. `peer`: the far end of its last session.
    pub(super) fn remove_mapping(&mut self, id: u32, peer: u32, peer_port: u16, at: u64) {
        let m = *self.table.mapping(id);
        let (peer, peer_port) = self.peers.remove(&id).unwrap_or((peer, peer_port));
        let (external, hash) = match m.kind() {
            Kind::Endpoint => {
                let (external, protocol) = self.externals.owner(m.place());
                self.free_port(id, protocol, at);
                (external, self.endpoint_hash(protocol, m.internal, m.internal_port, peer, peer_port))
            }
            Kind::Address => {
                self.externals.get_mut(m.place()).whole = NONE;
                self.lingers.remove(&id);
                self.sharing.remove(&id);
                (m.place(), Self::address_hash(m.internal, m.target))
            }
            Kind::Portless => {
                let protocol = Protocol(m.internal_port as u8);
                self.externals.get_mut(m.place()).endpoints -= 1;
                self.portless.remove(&(m.place(), protocol, peer));
                (m.place(), Self::portless_hash(protocol, m.internal, peer))
            }
        };
        if m.kind() != Kind::Address {
            self.unpair(m.internal, m.target, m.rule);
        }
        self.table.remove_mapping(id, hash);
        self.counters.rules[usize::from(m.rule)].mappings -= 1;
        self.record_mappings(at, false);
        if !self.externals.get(external).is_used() {
            self.note_use(self.externals.get(external).address, false, at);
        }
    }

    /// RFC 6888 §3 REQ-8: a freed port rests before another host gets it, but for TCP, which is tracked (REQ-8a).
    fn free_port(&mut self, id: u32, protocol: Protocol, at: u64) {
        let m = *self.table.mapping(id);
        let hold = self.config.spans.hold_down;
        let rest = (hold > 0 && protocol != Protocol::TCP).then(|| at.saturating_add(hold));
        if self.externals.unbind(m.place(), m.external_port, id, m.internal, rest) {
            self.record_port(m.place(), m.external_port, at, false);
        }
        self.calm_until = self.calm_until.min(rest.unwrap_or(u64::MAX));
        if let Some(size) = self.config.plan.behaviour.block_size {
            let behaviour = &self.config.plan.behaviour;
            let class = behaviour.port_class(m.internal_port);
            let block =
                (class as u32) << 16 | u32::from((m.external_port - behaviour.port_classes[class].into.0) / size);
            let blocks = &mut self.externals.page_mut(m.place()).blocks;
            if let Some(used) = blocks.get_mut(&block).map(|b| &mut b.1) {
                *used -= 1;
                if *used == 0 {
                    blocks.remove(&block);
                    self.record_block(m.place(), m.external_port, at, false);
                }
            }
        }
        if self.config.plan.behaviour.ports_per_host.is_some()
            && let Some(count) = self.by_host.get_mut(&m.internal)
        {
            *count -= 1;
            if *count == 0 {
                self.by_host.remove(&m.internal);
            }
        }
    }

    fn unpair(&mut self, host: u32, target: u16, rule: u16) {
        if self.keeps_pairs(target) {
            self.pairs.remove(host, target);
        }
        if self.config.rule_targets[usize::from(rule)].fallback == Some(target)
            && let Some(count) = self.on_fallback.get_mut(&(host, rule))
        {
            *count -= 1;
            if *count == 0 {
                self.on_fallback.remove(&(host, rule));
            }
        }
    }
}
