//! Endpoint mappings with a single session, which stand at its place.

use super::super::session::EXPLICIT;
use super::Table;
use super::{Kind, Mapping};

impl Table {
    /// The endpoint mapping that is at a session's place, if the session is its only one and there
    /// is nothing more to either.
    pub(in crate::device::bindings) fn lone_mapping(&self, id: u32) -> Option<Mapping> {
        let slot = &self.slots[id];
        let (session, mapping) = (&slot.session, slot.mapping);
        let alone = session.owner == id
            && !session.has(EXPLICIT)
            && slot.listed == 1
            && self.entered.is_empty();
        (alone && mapping.kind() == Kind::Endpoint).then_some(mapping)
    }

    /// Takes out a mapping and its session that [`Self::lone_mapping`] has found.
    pub(in crate::device::bindings) fn remove_lone(&mut self, id: u32, hash: u32) {
        self.by_internal.remove(hash, id);
        self.forget_lone(id);
    }

    /// The same after [`Self::release`].
    pub(in crate::device::bindings) fn forget_lone(&mut self, id: u32) {
        self.mappings -= 1;
        self.slots[id].mapping = Mapping::NONE;
        self.vacate_session(id);
    }
}
