//! Sessions under address mappings. Such a session changes the address and nothing else, so that it
//! needs no tuples of its own: they follow from its mapping, its far end and its internal port. It
//! is found by its ends as they are inside, whichever side a packet comes from, and its mapping
//! only counts it.

use super::Table;
use super::mapping::{Kind, Mapping};
use crate::device::bindings::arena::NONE;
use crate::device::bindings::keys::ends_hash;
use crate::device::bindings::session::{EXPLICIT, Session};
use crate::device::key::EndKey;
use crate::net::Protocol;

/// What such a session is found by.
#[inline(always)]
pub(super) fn hash_under(mapping: &Mapping, session: &Session) -> u32 {
    let (protocol, port) = session.internal();
    ends_hash(protocol, (mapping.internal, port), (session.remote, session.remote_port))
}

impl Table {
    /// Whether a session is one without tuples under an address mapping.
    #[inline(always)]
    pub(in crate::device) fn is_under_address(&self, session: &Session) -> bool {
        !session.has(EXPLICIT)
            && session.owner != NONE
            && self.slots[session.owner].mapping.kind() == Kind::Address
    }

    /// Whether there are any.
    #[inline(always)]
    pub(in crate::device) fn has_under_address(&self) -> bool {
        self.under_address > 0
    }

    /// How many of them a mapping has.
    pub(in crate::device::bindings) fn counted(&self, mapping: u32) -> u32 {
        let slot = &self.slots[mapping];
        if slot.mapping.kind() == Kind::Address { slot.session.next } else { 0 }
    }

    pub(super) fn add_under_address(&mut self, session: Session) -> u32 {
        let hash = hash_under(&self.slots[session.owner].mapping, &session);
        let id = self.take_slot();
        self.sessions += 1;
        self.under_address += 1;
        self.slots[session.owner].session.next += 1;
        let armed = self.wheel.file(session.expires, id);
        let slot = &mut self.slots[id];
        (slot.session, slot.armed) = (session, armed);
        self.by_tuple.insert(hash, id);
        id
    }

    /// Such a session is found no more, and counted no more.
    pub(super) fn leave_address(&mut self, id: u32) {
        let session = self.slots[id].session;
        self.by_tuple.remove(hash_under(&self.slots[session.owner].mapping, &session), id);
        self.under_address -= 1;
        self.slots[session.owner].session.next -= 1;
    }

    /// The session between an internal end and a far end under an address mapping, the oldest of
    /// several. `of`: the mapping, if it is to be that one.
    pub(in crate::device) fn find_under_address(
        &self,
        protocol: Protocol,
        internal: EndKey,
        remote: EndKey,
        of: Option<u32>,
    ) -> Option<u32> {
        let fits = |id: &u32| {
            let session = &self.slots[*id].session;
            (session.remote, session.remote_port) == remote
                && session.internal() == (protocol, internal.1)
                && self.is_under_address(session)
                && of.is_none_or(|mapping| session.owner == mapping)
                && self.slots[session.owner].mapping.internal == internal.0
        };
        let all = self.by_tuple.candidates(ends_hash(protocol, internal, remote)).filter(fits);
        all.min_by_key(|id| self.slots[*id].session.created)
    }
}
