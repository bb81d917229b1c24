//! Step 3: which session a packet belongs to.

use super::Context;
use super::arena::NONE;
use super::session::{HAIRPIN, Heading, INBOUND};
use crate::device::key::{EndKey, Key};
use crate::net::{Packet, Protocol};
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

    /// The oldest of the sessions under mappings, without tuples of their own, that a packet fits.
    pub(in crate::device) fn find_compact(&self, packet: Packet) -> Option<KnownSession> {
        let ends = Key::of(packet.source().address).zip(Key::of(packet.destination().address))?;
        let (from, to) = ((ends.0, packet.source().port), (ends.1, packet.destination().port));
        let under_address = match self.bindings.table.has_under_address() {
            true => self.find_under_address(packet.protocol, from, to),
            false => None,
        };
        let under_endpoint = match packet.protocol.is_multiplexed() {
            true => self.find_under_endpoint(packet.protocol, from, to),
            false => None,
        };
        let (Some(one), Some(other)) = (under_address, under_endpoint) else {
            return under_address.or(under_endpoint);
        };
        // one under an address mapping was made only where nobody else had its answers
        let created = |hit: KnownSession| self.bindings.table.session(hit.id).created;
        Some(if created(one) <= created(other) { one } else { other })
    }

    /// The oldest of those under address mappings.
    fn find_under_address(
        &self,
        protocol: Protocol,
        from: EndKey,
        to: EndKey,
    ) -> Option<KnownSession> {
        let bindings = self.bindings;
        let outward = bindings.table.find_under_address(protocol, from, to, None);
        let whole = bindings.externals.find(to.0).map_or(NONE, |e| bindings.externals.get(e).whole);
        let inward = (whole != NONE).then(|| (bindings.table.mapping(whole).internal, to.1));
        let inward = inward.and_then(|internal| {
            bindings.table.find_under_address(protocol, internal, from, Some(whole))
        });
        let hits = [(outward, true), (inward, false)].into_iter().filter_map(|(id, outbound)| {
            let from_initiator = bindings.table.session(id?).has(INBOUND) != outbound;
            Some(KnownSession { id: id?, heading: Heading { from_initiator, outbound } })
        });
        hits.min_by_key(|hit| bindings.table.session(hit.id).created)
    }

    /// The oldest of those under endpoint mappings.
    fn find_under_endpoint(
        &self,
        protocol: Protocol,
        from: EndKey,
        to: EndKey,
    ) -> Option<KnownSession> {
        let bindings = self.bindings;
        let mut oldest: Option<KnownSession> = None;
        let mut fits = |id: u32, outbound: bool| {
            let session = bindings.table.session(id);
            let from_initiator = session.has(INBOUND) != outbound;
            // answers of a hairpinned one come from inside too
            let heading = Heading { from_initiator, outbound: outbound || session.has(HAIRPIN) };
            let created = |hit: &KnownSession| (bindings.table.session(hit.id).created, hit.id);
            let hit = KnownSession { id, heading };
            if oldest.is_none_or(|o| created(&hit) < created(&o)) {
                oldest = Some(hit);
            }
        };
        if bindings.table.may_be_inside(from.0) {
            for mapping in bindings.mappings_of(protocol, from, to) {
                if let Some(id) = bindings.table.under(mapping, to.0, to.1) {
                    fits(id, true);
                }
            }
        }
        let port_table = || bindings.externals.find_port_table(to.0, protocol);
        if let Some(port_table) = self.compiled.concerns(to.0.address()).then(port_table).flatten()
        {
            for mapping in bindings.mappings_at(port_table, to.1) {
                let is_hairpin = |id: &u32| bindings.table.session(*id).has(HAIRPIN);
                let direct = bindings.table.under(mapping, from.0, from.1);
                if let Some(id) = direct.filter(|id| !is_hairpin(id)) {
                    fits(id, false);
                }
                for (address, port) in bindings.hairpins.externals_of(protocol, from) {
                    let turned = bindings.table.under(mapping, address, port);
                    if let Some(id) = turned.filter(is_hairpin) {
                        fits(id, false);
                    }
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
