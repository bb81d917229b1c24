//! Step 3: which session a packet belongs to.

use super::Context;
use super::session::{Heading, INBOUND};
use crate::device::key::Key;
use crate::net::Packet;
use crate::plan::InterfaceId;

/// A known session that a packet belongs to.
#[derive(Debug, Clone, Copy)]
pub(in crate::device) struct KnownSession {
    pub id: u32,
    pub heading: Heading,
}

impl Context<'_> {
    /// Step 3: the session that a packet belongs to.
    pub(in crate::device) fn find(
        &self,
        packet: Packet,
        ingress: Option<InterfaceId>,
    ) -> Option<KnownSession> {
        // of two sessions that a packet fits, it belongs to the one that was made first
        let (compact, explicit) = (self.find_compact(packet), self.find_explicit(packet, ingress));
        let (Some(one), Some(other)) = (compact, explicit) else { return compact.or(explicit) };
        let table = &self.bindings.table;
        let (a, b) = (table.session(one.id), table.session(other.id));
        let other_second = table.explicit(b).is_some_and(|w| w.comes_second);
        Some(if (a.created, !other_second) < (b.created, true) { one } else { other })
    }

    /// The oldest of the sessions under endpoint mappings that a packet fits.
    pub(in crate::device) fn find_compact(&self, packet: Packet) -> Option<KnownSession> {
        if !packet.protocol.is_multiplexed() {
            return None;
        }
        let bindings = self.bindings;
        let (source, destination) = (packet.source(), packet.destination());
        let (from, to) = (Key::of(source.address)?, Key::of(destination.address)?);
        let mut oldest: Option<KnownSession> = None;
        let mut fits = |id: u32, outbound: bool| {
            let from_initiator = bindings.table.session(id).has(INBOUND) != outbound;
            let created = |hit: &KnownSession| (bindings.table.session(hit.id).created, hit.id);
            let hit = KnownSession { id, heading: Heading { from_initiator, outbound } };
            if oldest.is_none_or(|o| created(&hit) < created(&o)) {
                oldest = Some(hit);
            }
        };
        if bindings.table.may_be_inside(from) {
            for mapping in
                bindings.mappings_of(packet.protocol, (from, source.port), (to, destination.port))
            {
                if let Some(id) = bindings.table.under(mapping, to, destination.port) {
                    fits(id, true);
                }
            }
        }
        let port_table = || bindings.externals.find_port_table(to, packet.protocol);
        if let Some(port_table) =
            self.compiled.concerns(destination.address).then(port_table).flatten()
        {
            for mapping in bindings.externals.mappings(port_table, destination.port) {
                if let Some(id) = bindings.table.under(mapping, from, source.port) {
                    fits(id, false);
                }
            }
        }
        oldest
    }

    /// The oldest of the sessions with tuples of their own that a packet fits.
    pub(in crate::device) fn find_explicit(
        &self,
        packet: Packet,
        ingress: Option<InterfaceId>,
    ) -> Option<KnownSession> {
        let ambiguous = self.compiled.routes.ambiguous;
        let (id, forth) = self.bindings.table.find_explicit(packet, |explicit, forth| {
            let side = if forth { explicit.interfaces.0 } else { explicit.interfaces.1 };
            !ambiguous || ingress.is_none_or(|i| i.0 == side || side == u16::MAX)
        })?;
        // outbound for any of its mappings, fixed ones included: it comes from that one's internal
        // end
        let (inward, outward) = self.bindings.rules_of(self.bindings.table.session(id));
        let outbound = match (inward, outward, forth) {
            (None, None, forth) => forth,
            (_, outward, true) => outward.is_some(),
            (inward, _, false) => inward.is_some(),
        };
        Some(KnownSession { id, heading: Heading { from_initiator: forth, outbound } })
    }
}
