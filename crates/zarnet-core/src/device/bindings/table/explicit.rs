//! Sessions with tuples of their own, found by those.

use super::Table;
use super::mapping::ExplicitTuple;
use crate::device::bindings::keys::{pair_hash, tuple_hash};
use crate::device::key::EndKey;
use crate::net::{Packet, Protocol, Tuple};

impl Table {
    /// Whether a packet between IPv4 endpoints may belong to a session with tuples of its own.
    pub(in crate::device) fn may_be_explicit(
        &self,
        protocol: Protocol,
        source: EndKey,
        destination: EndKey,
    ) -> bool {
        let hash = || {
            pair_hash(
                protocol,
                source.0.port_number(source.1),
                destination.0.port_number(destination.1),
            )
        };
        self.has_explicit() && self.by_tuple.candidates(hash()).next().is_some()
    }

    /// Reads where the search for a session with a tuple begins.
    #[inline]
    pub(in crate::device) fn touch_tuple(&self, protocol: Protocol, tuple: Tuple) -> u64 {
        self.by_tuple.touch(tuple_hash(protocol, tuple))
    }

    /// Whether any session has tuples of its own.
    pub(in crate::device) fn has_explicit(&self) -> bool {
        self.explicit_tuples.len() > self.free_explicit.len()
    }

    /// The explicit session that a packet belongs to, the oldest of several, and whether it goes
    /// the initiator's way.
    pub(in crate::device) fn find_explicit(
        &self,
        packet: Packet,
        mut suits: impl FnMut(&ExplicitTuple, bool) -> bool,
    ) -> Option<(u32, bool)> {
        if !self.has_explicit() {
            return None;
        }
        let fitting =
            self.by_tuple.candidates(tuple_hash(packet.protocol, packet.ends)).filter_map(|id| {
                let explicit = self.explicit(&self.slots[id].session)?;
                let same =
                    |tuple: Tuple| explicit.protocol == packet.protocol && tuple == packet.ends;
                if same(explicit.original) && suits(explicit, true) {
                    Some((explicit.serial, id, true))
                } else {
                    (same(explicit.translated.reversed()) && suits(explicit, false)).then_some((
                        explicit.serial,
                        id,
                        false,
                    ))
                }
            });
        fitting.min().map(|(_, id, forth)| (id, forth))
    }
}
