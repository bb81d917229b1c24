//! How mappings and sessions are found, and what there is to know of them.

use super::arena::NONE;
use super::keys::{address_hash, endpoint_hash, portless_hash};
use super::session::{EXPLICIT, HAIRPIN, INBOUND, Session};
use super::{Bindings, HairpinEnd, Kind};
use crate::device::compiled::Targets;
use crate::device::key::{EndKey, Key};
use crate::device::outcome::SessionRef;
use crate::net::{Endpoint, Protocol, Tuple};
use crate::plan::{Dependence, RuleId};

impl Bindings {
    /// What an endpoint mapping is found by.
    #[inline(always)]
    pub(in crate::device) fn endpoint_hash(
        &self,
        protocol: Protocol,
        end: EndKey,
        peer: EndKey,
    ) -> u32 {
        endpoint_hash(self.dependence, protocol, end, peer)
    }

    /// Endpoint mappings of an internal endpoint that a packet to this peer may use, whichever rule
    /// made them.
    #[inline]
    pub(in crate::device) fn mappings_of(
        &self,
        protocol: Protocol,
        end: EndKey,
        peer: EndKey,
    ) -> impl Iterator<Item = u32> + '_ {
        let hash = self.endpoint_hash(protocol, end, peer);
        self.table.by_internal.candidates(hash).filter(move |&id| {
            self.is_mapping_of(id, protocol, end)
                && match self.dependence {
                    Dependence::EndpointIndependent => true,
                    Dependence::AddressDependent => self.peer_of(id).is_some_and(|p| p.0 == peer.0),
                    Dependence::AddressAndPortDependent => self.peer_of(id) == Some(peer),
                }
        })
    }

    /// The mapping of an internal endpoint, where mappings do not depend on the peer.
    #[inline(always)]
    pub(in crate::device) fn find_endpoint(
        &self,
        hash: u32,
        protocol: Protocol,
        end: EndKey,
    ) -> Option<u32> {
        self.table.by_internal.candidates(hash).find(|id| self.is_mapping_of(*id, protocol, end))
    }

    /// Whether a place holds a mapping of an internal endpoint.
    #[inline(always)]
    pub(in crate::device) fn is_mapping_of(
        &self,
        id: u32,
        protocol: Protocol,
        end: EndKey,
    ) -> bool {
        let m = self.table.mapping(id);
        m.internal == end.0
            && m.internal_port == end.1
            && m.kind() == Kind::Endpoint
            && self.externals.protocol_of(m.place()) == protocol
    }

    /// The peer that an endpoint mapping was made for, where mappings depend on it.
    pub(in crate::device) fn peer_of(&self, mapping: u32) -> Option<EndKey> {
        self.details.peers.get(&mapping).copied()
    }

    /// Whether a peer is the one that an endpoint mapping was made for, as far as mappings tell
    /// peers apart.
    pub(in crate::device) fn is_own_peer(&self, mapping: u32, peer: EndKey) -> bool {
        self.peer_of(mapping).is_none_or(|own| match self.dependence {
            Dependence::EndpointIndependent => true,
            Dependence::AddressDependent => own.0 == peer.0,
            Dependence::AddressAndPortDependent => own == peer,
        })
    }

    /// The address mapping of a host on a target for whole addresses.
    pub(in crate::device) fn address_mapping(&self, host: Key, target: u16) -> Option<u32> {
        self.table.by_internal.candidates(address_hash(host, target)).find(|&id| {
            let m = self.table.mapping(id);
            m.kind() == Kind::Address && m.internal == host && m.target == target
        })
    }

    /// What an address mapping is found by.
    pub(in crate::device) fn hash_of_address_mapping(&self, host: Key, target: u16) -> u32 {
        address_hash(host, target)
    }

    /// The portless mapping of a host and a rule for a protocol and a peer.
    pub(in crate::device) fn portless_mapping(
        &self,
        rule: u16,
        protocol: Protocol,
        host: Key,
        peer: Key,
    ) -> Option<u32> {
        self.table.by_internal.candidates(portless_hash(protocol, host, peer)).find(|&id| {
            let m = self.table.mapping(id);
            m.kind() == Kind::Portless
                && m.internal == host
                && m.rule == rule
                && m.internal_port == u16::from(protocol.0)
                && self
                    .table
                    .sessions_of(id)
                    .next()
                    .is_some_and(|s| self.table.session(s).remote == peer)
        })
    }

    /// Portless mappings on an external address.
    pub(in crate::device) fn portless_at(&self, external: u32, protocol: Protocol) -> Vec<u32> {
        let all =
            self.details.portless.iter().filter(|(key, _)| key.0 == external && key.1 == protocol);
        all.map(|(_, id)| *id).collect()
    }

    /// Whether a host has a mapping on a target: found by going through all.
    pub(in crate::device) fn is_on(&self, host: Key, target: u16) -> bool {
        self.table
            .all_mappings()
            .map(|id| self.table.mapping(id))
            .any(|m| m.internal == host && m.target == target)
    }

    /// The position of the external address that a mapping is on.
    pub(in crate::device) fn external_under(&self, mapping: u32) -> u32 {
        let m = self.table.mapping(mapping);
        if m.kind() == Kind::Endpoint { self.externals.external_of(m.place()) } else { m.place() }
    }

    /// Whether a mapping or a session of a former rule that still lives has this external address.
    pub(in crate::device) fn holds(&self, address: Key) -> bool {
        let external = self.externals.find(address);
        external.is_some_and(|e| self.externals.get(e).is_used()) || self.inherited.are_on(address)
    }

    /// Protocol and port that a session's timers depend on: the destination's port as the initiator
    /// sent it.
    pub(in crate::device) fn timed_by(&self, session: &Session) -> (Protocol, u16) {
        match self.table.explicit(session) {
            Some(explicit) => (explicit.protocol, explicit.original.destination.port),
            None if self.table.is_under_address(session) => {
                let (protocol, port) = session.internal();
                (protocol, if session.has(INBOUND) { port } else { session.remote_port })
            }
            None => {
                let mapping = self.table.mapping(session.owner);
                let port =
                    if session.has(INBOUND) { mapping.external_port } else { session.remote_port };
                (self.externals.protocol_of(mapping.place()), port)
            }
        }
    }

    pub(in crate::device) fn protocol_of(&self, session: &Session) -> Protocol {
        self.timed_by(session).0
    }

    /// The initiator's packet as sent and as forwarded.
    pub(in crate::device) fn tuples(&self, id: u32) -> (Tuple, Tuple) {
        let session = self.table.session(id);
        if let Some(explicit) = self.table.explicit(session) {
            return (explicit.original, explicit.translated);
        }
        let mapping = self.table.mapping(session.owner);
        let (inside, outside) = match mapping.kind() {
            Kind::Address => (session.internal().1, session.internal().1),
            Kind::Endpoint | Kind::Portless => (mapping.internal_port, mapping.external_port),
        };
        let address = self.externals.get(self.external_under(session.owner)).address;
        let (internal, external) = (mapping.internal.with_port(inside), address.with_port(outside));
        let remote = session.remote.with_port(session.remote_port);
        let pair = |source: Endpoint, destination: Endpoint| Tuple { source, destination };
        if session.has(INBOUND) {
            (pair(remote, external), pair(remote, internal))
        } else {
            let receiver = match self.hairpin_of(session) {
                Some(HairpinEnd { internal: (address, port), .. }) => address.with_port(port),
                None => remote,
            };
            (pair(internal, remote), pair(external, receiver))
        }
    }

    /// The rule, the protocol and the internal, external and far end of a session that follow from
    /// its mapping alone: of one without tuples on an endpoint mapping that was not turned back.
    #[inline(always)]
    pub(in crate::device) fn translation(
        &self,
        session: &Session,
    ) -> Option<(RuleId, Protocol, [EndKey; 3])> {
        if session.has(EXPLICIT | HAIRPIN) {
            return None;
        }
        let mapping = self.table.mapping(session.owner);
        if mapping.kind() != Kind::Endpoint {
            return None;
        }
        let address = self.externals.get(self.externals.external_of(mapping.place())).address;
        let ends = [
            (mapping.internal, mapping.internal_port),
            (address, mapping.external_port),
            (session.remote, session.remote_port),
        ];
        Some((RuleId(mapping.rule), self.externals.protocol_of(mapping.place()), ends))
    }

    /// Rules of steps 4 and 8 that a session was made by.
    pub(in crate::device) fn rules_of(
        &self,
        session: &Session,
    ) -> (Option<RuleId>, Option<RuleId>) {
        match self.table.explicit(session) {
            Some(explicit) => {
                (explicit.inbound_rule.map(RuleId), explicit.outbound_rule.map(RuleId))
            }
            None => {
                let rule = Some(RuleId(self.table.mapping(session.owner).rule));
                match session.has(INBOUND) {
                    true => (rule, None),
                    false => (self.hairpin_of(session).map(|end| RuleId(end.rule)), rule),
                }
            }
        }
    }

    /// The external address that a host has on a target, as [`super::Context::paired_address`].
    #[inline]
    pub(in crate::device) fn paired_address(
        &self,
        targets: &Targets,
        host: Key,
        target: u16,
    ) -> Option<Key> {
        if self.target(target).is_stable() {
            let space = &targets.get(target).space;
            return Some(space.nth(space.first_for(host)));
        }
        self.paired.find(host, target).map(|found| self.externals.get(found.0).address)
    }

    /// Every mapping at a port.
    pub(in crate::device) fn mappings_at(
        &self,
        port_table: u32,
        port: u16,
    ) -> impl Iterator<Item = u32> + '_ {
        let (first, others) = self.by_port.at(port_table, port).unwrap_or_else(|| {
            let is_free = self.externals.port_table(port_table).ports.is_free(port);
            let found = (!is_free).then(|| self.by_port.find(&self.table, port_table, port));
            (found.flatten(), &[])
        });
        first.into_iter().chain(others.iter().copied())
    }

    /// Reads the place of a port.
    #[inline(always)]
    pub(in crate::device) fn touch_port(&self, port_table: u32, port: u16) -> u32 {
        let ports = &self.externals.port_table(port_table).ports;
        self.by_port.touch(port_table, port) ^ u32::from(ports.is_free(port))
    }

    /// Reads what a host has besides mappings, and on a port table; and that table.
    #[inline(always)]
    pub(in crate::device) fn touch_host(&self, port_table: u32, host: Key) -> u32 {
        let noted = self.hosts.touch_ports(host) ^ self.externals.touch_own(port_table, host);
        noted as u32 ^ self.externals.touch_table(port_table)
    }

    /// Reads what lives of a rule.
    #[inline(always)]
    pub(in crate::device) fn touch_live(&self, rule: u16) -> u32 {
        self.live[usize::from(rule)].sessions as u32
    }

    /// The external end that a session without tuples is hairpinned by, if it is.
    #[inline(always)]
    pub(super) fn hairpinned_by(&self, session: &Session) -> Option<(Protocol, EndKey)> {
        session.has(HAIRPIN).then(|| {
            let protocol = self.externals.protocol_of(self.table.mapping(session.owner).place());
            (protocol, (session.remote, session.remote_port))
        })
    }

    /// Where such a session was turned to.
    #[inline(always)]
    pub(super) fn hairpin_of(&self, session: &Session) -> Option<HairpinEnd> {
        let (protocol, external) = self.hairpinned_by(session)?;
        self.hairpins.find(protocol, external)
    }

    /// Whether a session still lives.
    pub(in crate::device) fn is_alive(&self, session: SessionRef) -> bool {
        let s = self.table.session(session.id);
        s.owner != NONE && s.created == session.created
    }
}
