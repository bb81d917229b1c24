//! Sessions with tuples of their own, found by those.

use super::Table;
use super::mapping::ExplicitTuple;
use crate::device::bindings::keys::{ends_hash, tuple_hash};
use crate::device::bindings::session::{EXPLICIT, HAIRPIN};
use crate::device::key::EndKey;
use crate::net::{Packet, Protocol, Tuple};

impl Table {
    /// Gives a session that is at its place tuples of its own.
    pub(super) fn add_tuples(&mut self, id: u32, mut explicit: ExplicitTuple) {
        explicit.serial = self.explicit_made;
        self.explicit_made += 1;
        let record = match self.free_explicit.pop() {
            Some(place) => {
                self.explicit_tuples[place as usize] = explicit;
                place
            }
            None => {
                self.explicit_tuples.push(explicit);
                self.explicit_tuples.len() as u32 - 1
            }
        };
        let session = &mut self.slots[id].session;
        session.flags |= EXPLICIT;
        session.owner = record;
        self.by_tuple.insert(tuple_hash(explicit.protocol, explicit.original), id);
        self.by_tuple.insert(tuple_hash(explicit.protocol, explicit.translated.reversed()), id);
        if explicit.has_two_mappings() {
            self.entered.entry(explicit.entered).or_default().push(id);
        }
    }

    /// Gives a session that followed from its mapping tuples of its own.
    pub(in crate::device::bindings) fn spell_out(&mut self, id: u32, explicit: ExplicitTuple) {
        let session = self.slots[id].session;
        match self.is_under_address(&session) {
            true => self.leave_address(id),
            false => self.unlist(session.owner, id, session.next),
        }
        self.slots[id].session.flags &= !HAIRPIN;
        self.add_tuples(id, explicit);
        self.list(session.owner, id);
    }

    /// Whether a packet between IPv4 endpoints may belong to a session that is found by its ends.
    pub(in crate::device) fn may_be_found_by_ends(
        &self,
        protocol: Protocol,
        source: EndKey,
        destination: EndKey,
    ) -> bool {
        let hash = || ends_hash(protocol, source, destination);
        self.has_found_by_ends() && self.by_tuple.candidates(hash()).next().is_some()
    }

    /// What a session with a tuple is found by.
    pub(in crate::device) fn hash_of_ends(&self, protocol: Protocol, tuple: Tuple) -> u32 {
        tuple_hash(protocol, tuple)
    }

    /// Reads where the search for a session by its ends begins.
    #[inline(always)]
    pub(in crate::device) fn touch_ends(&self, hash: u32) -> u64 {
        self.by_tuple.touch(hash)
    }

    /// The same for the session between two ends.
    #[inline(always)]
    pub(in crate::device) fn touch_between(
        &self,
        protocol: Protocol,
        source: EndKey,
        destination: EndKey,
    ) -> u64 {
        self.by_tuple.touch(ends_hash(protocol, source, destination))
    }

    /// Whether any session has tuples of its own.
    pub(in crate::device) fn has_explicit(&self) -> bool {
        self.explicit_tuples.len() > self.free_explicit.len()
    }

    /// Whether any session is found by its ends: one with tuples of its own, or under an address
    /// mapping.
    pub(in crate::device) fn has_found_by_ends(&self) -> bool {
        self.has_explicit() || self.has_under_address()
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
                let session = &self.slots[id].session;
                let explicit = self.explicit(session)?;
                let age = (session.created, explicit.comes_second, explicit.serial);
                let same =
                    |tuple: Tuple| explicit.protocol == packet.protocol && tuple == packet.ends;
                if same(explicit.original) && suits(explicit, true) {
                    Some((age, id, true))
                } else {
                    (same(explicit.translated.reversed()) && suits(explicit, false))
                        .then_some((age, id, false))
                }
            });
        fitting.min().map(|(_, id, forth)| (id, forth))
    }
}
