//! The doors by which mappings and sessions leave the table.

use super::arena::NONE;
use super::keys::{address_hash, endpoint_hash, portless_hash};
use super::open::distinct;
use super::session::{HAIRPIN, Session};
use super::table::{Kind, Mapping};
use super::{Bindings, Cause, Engine, Sink, TableEvent, for_each};
use crate::device::key::{EndKey, Key};
use crate::net::Protocol;
use crate::plan::RuleId;

impl Bindings {
    /// A session that is hairpinned without tuples is so no more.
    #[inline(always)]
    pub(super) fn leave_hairpin(&mut self, session: &Session) {
        if let Some((protocol, external)) = self.hairpinned_by(session) {
            self.hairpins.leave(protocol, external);
        }
    }

    /// Takes a port from a mapping, and tells whether no other has it: then it is free at once, or
    /// rests until `rest_until` but for its host.
    #[inline(always)]
    fn unbind(&mut self, id: u32, m: &Mapping, rest_until: Option<u64>) -> bool {
        let (port_table, port) = (m.place(), m.external_port);
        let is_left = self.by_port.take_back(port_table, port, id);
        self.externals.unbind(port_table, port, m.internal, is_left, rest_until);
        is_left
    }
}

impl<S: Sink> Engine<'_, S> {
    /// Closes a session, and its mapping if it was the last one.
    pub(in crate::device) fn close_session(&mut self, id: u32, at: u64, cause: Cause) {
        if !self.bindings.inherited.is_empty() {
            self.give_back_inherited(id);
        }
        let session = *self.bindings.table.session(id);
        let (inbound, outbound) = self.bindings.rules_of(&session);
        let rules = distinct(inbound, outbound);
        rules.iter().flatten().for_each(|r| self.bindings.live[r.index()].sessions -= 1);
        self.report(at, TableEvent::SessionClosed { session: id, rules, cause });
        self.bindings.leave_hairpin(&session);
        for mapping in self.bindings.table.remove_session(id) {
            if mapping != NONE && self.bindings.table.session_count_of(mapping) == 0 {
                self.leave_mapping(mapping, (session.remote, session.remote_port), at, cause);
            }
        }
    }

    /// A mapping has lost its last session: it goes, or an address mapping lingers for the
    /// `binding` timer.
    fn leave_mapping(&mut self, id: u32, peer: EndKey, at: u64, cause: Cause) {
        let binding = self.context().binding_of(self.bindings.table.mapping(id));
        if binding > 0 {
            let until = at.saturating_add(binding);
            self.bindings.lingering.add(id, until);
            self.bindings.due_by(until);
        } else {
            self.close_with_peer(id, peer, at, cause);
        }
    }

    /// Closes a mapping that has no sessions.
    pub(in crate::device) fn close_mapping(&mut self, id: u32, at: u64, cause: Cause) {
        self.close_with_peer(id, (Key::NONE, 0), at, cause);
    }

    /// The same. `peer`: the far end of its last session.
    fn close_with_peer(&mut self, id: u32, peer: EndKey, at: u64, cause: Cause) {
        let m = *self.bindings.table.mapping(id);
        let peer = self.bindings.details.peers.remove(&id).unwrap_or(peer);
        let (external, hash) = match m.kind() {
            Kind::Endpoint => {
                let (external, protocol) = self.bindings.externals.owner(m.place());
                self.free_port(id, &m, protocol, at, cause);
                let end = (m.internal, m.internal_port);
                (external, endpoint_hash(self.bindings.dependence, protocol, end, peer))
            }
            Kind::Address => {
                self.bindings.externals.get_mut(m.place()).whole = NONE;
                self.bindings.lingering.remove(id);
                self.bindings.details.sharing.remove(&id);
                (m.place(), address_hash(m.internal, m.target))
            }
            Kind::Portless => {
                let protocol = Protocol(m.internal_port as u8);
                self.bindings.externals.get_mut(m.place()).endpoints -= 1;
                self.bindings.details.portless.remove(&(m.place(), protocol, peer.0));
                (m.place(), portless_hash(protocol, m.internal, peer.0))
            }
        };
        if m.kind() != Kind::Address {
            self.unpair(&m);
        }
        self.bindings.live[usize::from(m.rule)].mappings -= 1;
        let rule = m.rule;
        self.report(at, TableEvent::MappingClosed { mapping: id, rule, cause, peer });
        self.bindings.table.remove_mapping(id, hash);
        self.out_of_use(external, at);
    }

    /// Tells of an external address that no mapping is on any more.
    #[inline(always)]
    fn out_of_use(&mut self, external: u32, at: u64) {
        let external = self.bindings.externals.get(external);
        if !external.is_used() {
            self.note_use(external.address, false, at);
        }
    }

    /// RFC 6888 §3 REQ-8: a freed port rests before another host gets it, but for TCP, which is
    /// tracked (REQ-8a).
    fn free_port(&mut self, id: u32, m: &Mapping, protocol: Protocol, at: u64, cause: Cause) {
        let (port_table, port) = (m.place(), m.external_port);
        let hold = self.compiled.timers.hold_down;
        let rest = (hold > 0 && protocol != Protocol::TCP).then(|| at.saturating_add(hold));
        if self.bindings.unbind(id, m, rest) {
            self.report(at, TableEvent::PortFreed { port_table, port });
        }
        self.bindings.due_by(rest.unwrap_or(u64::MAX));
        let behaviour = &self.compiled.plan.behaviour;
        if let Some(size) = behaviour.block_size {
            let class = behaviour.port_class(m.internal_port);
            let (first, last) = behaviour.port_classes[class].into;
            let externals = &mut self.bindings.externals;
            // a plan that took over may have other ports for the class
            if (first..=last).contains(&port)
                && externals.release_block(port_table, (class, (port - first) / size))
            {
                let (host, rule) = (m.internal, m.rule);
                self.report(at, TableEvent::BlockFreed { port_table, port, host, rule, cause });
            }
        }
        if behaviour.ports_per_host.is_some() {
            self.bindings.hosts.remove_port(m.internal);
        }
    }

    /// A host has one mapping less on a target.
    fn unpair(&mut self, m: &Mapping) {
        if self.bindings.target(m.target).keeps_pairs() {
            self.bindings.paired.remove(m.internal, m.target);
        }
        if self.compiled.targets.is_fallback(m.rule, m.target) {
            self.bindings.hosts.remove_on_fallback(m.internal, m.rule);
        }
    }

    /// The endpoint mapping at a session's place, if there is nothing more to either than its port.
    #[inline(always)]
    fn lone_mapping(&self, id: u32) -> Option<Mapping> {
        let m = self.bindings.table.lone_mapping(id)?;
        self.compiled.targets.of(m.rule).fallback.is_none().then_some(m)
    }

    /// Closes a session that is due, and its mapping with it, if there is nothing more to either:
    /// both doors in one step. `false`: there is more, and nothing was done.
    pub(super) fn close_both(&mut self, id: u32) -> bool {
        if !self.compiled.mappings_are_plain {
            return false;
        }
        let Some(m) = self.lone_mapping(id) else { return false };
        let (external, protocol) = self.bindings.externals.owner(m.place());
        let session = self.bindings.table.session(id);
        let (at, remote) = (session.expires, (session.remote, session.remote_port));
        if self.compiled.mappings_are_simple {
            self.bindings.unbind(id, &m, None);
            self.report(at, TableEvent::PortFreed { port_table: m.place(), port: m.external_port });
            self.both_closed(at, id, m.rule);
        } else {
            self.session_closed(at, id, m.rule);
            self.free_port(id, &m, protocol, at, Cause::Expired);
            self.mapping_closed(at, id, m.rule, remote);
        }
        if self.bindings.target(m.target).keeps_pairs() {
            self.bindings.paired.remove(m.internal, m.target);
        }
        // the peer is of no account: mappings of such a device do not depend on it
        let hash =
            self.bindings.endpoint_hash(protocol, (m.internal, m.internal_port), (Key::NONE, 0));
        self.bindings.table.remove_lone(id, hash);
        self.out_of_use(external, at);
        true
    }

    /// The same when no packet will come any more: nothing is looked up then, so that ports,
    /// indexes and pairs are left as they are.
    #[inline(always)]
    pub(super) fn close_both_finally(&mut self, id: u32, at: u64) -> bool {
        let Some(m) = self.lone_mapping(id) else { return false };
        self.report(at, TableEvent::PortFreed { port_table: m.place(), port: m.external_port });
        self.both_closed(at, id, m.rule);
        self.bindings.table.forget_lone(id);
        if let Some(address) = self.bindings.externals.leave(m.place()) {
            self.note_use(address, false, at);
        }
        true
    }

    #[inline(always)]
    fn both_closed(&mut self, at: u64, id: u32, rule: u16) {
        // the peer is of no account: mappings of such a device do not depend on it
        self.mapping_closed(at, id, rule, (Key::NONE, 0));
        self.session_closed(at, id, rule);
    }

    #[inline(always)]
    fn mapping_closed(&mut self, at: u64, id: u32, rule: u16, peer: EndKey) {
        self.bindings.live[usize::from(rule)].mappings -= 1;
        let cause = Cause::Expired;
        self.report(at, TableEvent::MappingClosed { mapping: id, rule, cause, peer });
    }

    #[inline(always)]
    fn session_closed(&mut self, at: u64, id: u32, rule: u16) {
        if self.bindings.table.session(id).has(HAIRPIN) {
            return self.hairpin_closed(at, id, rule);
        }
        self.bindings.live[usize::from(rule)].sessions -= 1;
        let (rules, cause) = ([Some(RuleId(rule)), None], Cause::Expired);
        self.report(at, TableEvent::SessionClosed { session: id, rules, cause });
    }

    #[inline(never)]
    fn hairpin_closed(&mut self, at: u64, id: u32, rule: u16) {
        let session = *self.bindings.table.session(id);
        let hairpin = self.bindings.hairpin_of(&session).map(|end| RuleId(end.rule));
        let (rules, cause) = (distinct(hairpin, Some(RuleId(rule))), Cause::Expired);
        for_each(rules, |rule| self.bindings.live[rule.index()].sessions -= 1);
        self.report(at, TableEvent::SessionClosed { session: id, rules, cause });
        self.bindings.leave_hairpin(&session);
    }
}
