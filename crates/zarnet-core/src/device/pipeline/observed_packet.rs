//! What a packet that was seen on an interface says about the device's state.

use std::net::IpAddr;

use crate::device::bindings::{Context, EXPLICIT, Engine, HAIRPIN, Heading, KnownSession, Sink};
use crate::device::compiled::Query;
use crate::device::key::Key;
use crate::net::{Endpoint, Instant, Packet, Tuple};
use crate::plan::{InterfaceId, RuleKind};

impl Context<'_> {
    /// Whether a packet seen on an interface was coming in: its sender lies that way.
    pub(in crate::device) fn comes_in_by(&self, interface: InterfaceId, packet: Packet) -> bool {
        let source = packet.source().address;
        !self.is_known_as(source) && self.compiled.routes.lead_over(interface, source)
    }

    /// Whether an address is the device's own, or one that it translates to.
    pub(in crate::device) fn is_known_as(&self, address: IpAddr) -> bool {
        self.compiled.own.contains_key(&address) || self.compiled.claimed.contains(address)
    }

    /// What a first packet that was seen going out must have been when it came in, and where:
    /// through a fixed rule, or as it is. `None` where nothing tells, and where it cannot have gone
    /// out.
    pub(in crate::device) fn before_leaving(
        &self,
        interface: InterfaceId,
        packet: Packet,
    ) -> Option<(InterfaceId, Packet)> {
        let to = packet.destination();
        let source = packet.source().address;
        let leaves = self.compiled.routes.lead_over(interface, to.address);
        if !leaves || self.is_known_as(source) {
            return None;
        }
        let ingress = self.compiled.routes.find(Query::to(source))?.interface;
        for id in self.compiled.sources.of_source(to.address) {
            let rule = self.rule(id);
            let external = match &rule.kind {
                _ if !self.active.has(id) || !rule.into.interfaces.contains(ingress) => None,
                RuleKind::Static(s) if rule.service.holds(packet.protocol, to.port) => {
                    let position = s.internal.position(to.address);
                    let address = self
                        .compiled
                        .plan
                        .external(s.external)
                        .zip(position)
                        .and_then(|(r, n)| r.nth(n));
                    address.map(|address| Endpoint { address, port: to.port })
                }
                RuleKind::Forward(f) if f.protocol == packet.protocol => {
                    let mut servers = f.servers.iter().filter(|s| s.address == to.address);
                    let offset = servers.find_map(|s| {
                        to.port.checked_sub(s.port).filter(|o| u32::from(*o) < f.ports.count())
                    });
                    let address = self.compiled.plan.external(f.external).map(|r| r.first());
                    address
                        .zip(offset)
                        .map(|(address, o)| Endpoint { address, port: f.ports.first + o })
                }
                RuleKind::Exempt
                | RuleKind::Static(_)
                | RuleKind::Pool { .. }
                | RuleKind::Overload { .. }
                | RuleKind::Forward(_) => None,
            };
            if let Some(destination) = external {
                let ends = Tuple { destination, ..packet.ends };
                return Some((ingress, Packet { ends, ..packet }));
            }
        }
        Key::of(to.address).map(|_| (ingress, packet))
    }
}

impl<S: Sink> Engine<'_, S> {
    /// Enters a packet that was seen coming in on an inner interface and belongs to a session that
    /// nothing can object to any more. `false`: nothing was done, and the packet has to go the
    /// whole way.
    pub(in crate::device) fn refresh_coming(
        &mut self,
        now: Instant,
        interface: InterfaceId,
        packet: Packet,
    ) -> bool {
        self.expire(now);
        let Some(hit) = self.context().find(packet, Some(interface)).filter(|h| h.heading.outbound)
        else {
            return false;
        };
        let session = self.bindings.table.session(hit.id);
        let inner = !session.has(EXPLICIT | HAIRPIN) && {
            let rule = self.compiled.rule(self.bindings.table.mapping(session.owner).rule);
            rule.from.interfaces.contains(interface)
        };
        if !inner || !self.compiled.is_unfiltered() {
            return false;
        }
        self.refresh(now, hit, packet.signal);
        true
    }

    /// Enters a packet that was seen going out and belongs to a known session.
    pub(in crate::device) fn refresh_leaving(&mut self, now: Instant, packet: Packet) -> bool {
        self.expire(now);
        // its reverse is what would come in on that side
        let Some(hit) =
            self.context().find(Packet { ends: packet.ends.reversed(), ..packet }, None)
        else {
            return false;
        };
        let Heading { from_initiator, outbound } = hit.heading;
        let heading = Heading { from_initiator: !from_initiator, outbound: !outbound };
        self.refresh(now, KnownSession { heading, ..hit }, packet.signal);
        true
    }
}
