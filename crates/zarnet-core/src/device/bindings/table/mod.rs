//! The translation table: mappings and the sessions under them, in an arena, found from either
//! side.
//!
//! Most sessions of a busy edge run under an endpoint mapping of an overload and change the source
//! only. Such a session is stored as the mapping and the far end, without tuples of its own: it is
//! found through its mapping, whichever side a packet comes from; so is one that a fixed rule turned
//! back inside, whose far end is that rule's external end. One under an address mapping is found by
//! its ends as they are inside. All other sessions have an [`ExplicitTuple`] record with both
//! tuples.

mod due;
mod explicit;
mod listing;
mod lone;
mod mapping;
mod under_address;

use std::collections::HashMap;

use foldhash::fast::RandomState;

use super::arena::{Arena, NONE};
use super::index::Index;
use super::keys::tuple_hash;
use super::overlapping_flows::Overlap;
use super::session::{EXPLICIT, SHARED, Session};
use super::timer_wheel::{NEVER, Timed, UNARMED, Wheel};
use crate::device::key::{Key, NEIGHBOURHOODS};
use mapping::EXPECTANT;

pub(in crate::device) use mapping::{ExplicitTuple, Kind, Mapping};

/// A place in the arena: 64 octets, one line of a cache. Most mappings have one session, and both
/// are at one place.
///
/// The first session of a mapping is put beside it. When that ends before the mapping does, its
/// place waits for the mapping, and goes on telling when it was made. Further sessions have places
/// of their own.
#[derive(Debug, Clone, Copy)]
#[repr(align(64))]
struct Slot {
    session: Session,
    mapping: Mapping,
    /// Bookkeeping of the wheel.
    armed: u16,
    /// Sessions listed under the mapping, or [`CROWDED`].
    listed: u8,
}

impl Slot {
    const FREE: Self =
        Self { session: Session::NONE, mapping: Mapping::NONE, armed: UNARMED, listed: 0 };
}

/// By the neighbourhood of an address: whether a mapping has had one of it inside. Most far ends
/// are told from inner hosts by it, without a look at the index.
#[derive(Debug, Clone)]
struct Inner(Vec<u64>);

impl Inner {
    fn new() -> Self {
        Self(vec![0; NEIGHBOURHOODS / 64])
    }

    #[inline(always)]
    fn note(&mut self, address: Key) {
        let n = address.neighbourhood();
        self.0[n >> 6] |= 1 << (n & 63);
    }

    #[inline(always)]
    fn may_hold(&self, address: Key) -> bool {
        let n = address.neighbourhood();
        self.0[n >> 6] >> (n & 63) & 1 != 0
    }
}

/// The arena and its indexes.
#[derive(Debug, Clone)]
pub(in crate::device) struct Table {
    slots: Arena<Slot>,
    /// First of the free places, which are linked through their sessions.
    free: u32,
    sessions: u64,
    mappings: u64,
    explicit_tuples: Vec<ExplicitTuple>,
    free_explicit: Vec<u32>,
    /// How many explicit sessions were made so far.
    explicit_made: u64,
    pub(super) by_internal: Index,
    inner: Inner,
    by_tuple: Index,
    /// Sessions without tuples under address mappings.
    under_address: u64,
    /// The sessions of mappings that have many; each session's `next` is its position.
    crowds: HashMap<u32, Vec<u32>, RandomState>,
    /// The same by mapping and far end.
    by_peer: Index,
    wheel: Wheel,
    /// Flows that run on a session that has several.
    pub(super) overlaps: HashMap<u32, Overlap, RandomState>,
    /// Sessions that came in through a mapping but are listed under that of their source.
    pub(in crate::device) entered: HashMap<u32, Vec<u32>, RandomState>,
}

impl Timed for Arena<Slot> {
    fn expires(&self, id: u32) -> u64 {
        self[id].session.expires
    }

    fn armed(&mut self, id: u32) -> &mut u16 {
        &mut self[id].armed
    }
}

impl Table {
    pub(super) fn new() -> Self {
        Self {
            slots: Arena::new(),
            free: NONE,
            sessions: 0,
            mappings: 0,
            explicit_tuples: Vec::new(),
            free_explicit: Vec::new(),
            explicit_made: 0,
            by_internal: Index::new(),
            inner: Inner::new(),
            by_tuple: Index::new(),
            under_address: 0,
            crowds: HashMap::default(),
            by_peer: Index::new(),
            wheel: Wheel::default(),
            overlaps: HashMap::default(),
            entered: HashMap::default(),
        }
    }

    pub(in crate::device) fn mapping(&self, id: u32) -> &Mapping {
        &self.slots[id].mapping
    }

    pub(super) fn mapping_mut(&mut self, id: u32) -> &mut Mapping {
        &mut self.slots[id].mapping
    }

    /// When a mapping was made.
    pub(in crate::device) fn made(&self, mapping: u32) -> u64 {
        self.slots[mapping].session.created
    }

    pub(in crate::device) fn session(&self, id: u32) -> &Session {
        &self.slots[id].session
    }

    /// A session, to change it. Where it expires earlier then, [`Self::bring_forward`] has to know.
    #[inline(always)]
    pub(super) fn session_mut(&mut self, id: u32) -> &mut Session {
        &mut self.slots[id].session
    }

    /// Gives everything other numbers that is known by one: rules, targets, and the interfaces of
    /// explicit sessions.
    pub(super) fn rename(
        &mut self,
        rule: impl Fn(u16) -> u16,
        target: impl Fn(u16) -> u16,
        interface: impl Fn(u16) -> u16,
    ) {
        let all: Vec<u32> = self.all_mappings().collect();
        for id in all {
            let m = &mut self.slots[id].mapping;
            (m.rule, m.target) = (rule(m.rule), target(m.target));
        }
        let explicit_tuples: Vec<u32> =
            self.all_sessions().filter(|id| self.session(*id).has(EXPLICIT)).collect();
        for id in explicit_tuples {
            let explicit = &mut self.explicit_tuples[self.slots[id].session.owner as usize];
            (explicit.inbound_rule, explicit.outbound_rule) =
                (explicit.inbound_rule.map(&rule), explicit.outbound_rule.map(&rule));
            let (ingress, egress) = explicit.interfaces;
            explicit.interfaces = (interface(ingress), interface(egress));
        }
    }

    /// The explicit record of a session that has one.
    pub(in crate::device) fn explicit(&self, session: &Session) -> Option<&ExplicitTuple> {
        session.has(EXPLICIT).then(|| &self.explicit_tuples[session.owner as usize])
    }

    /// The mapping among whose sessions a session is listed.
    pub(in crate::device) fn listed_under(&self, session: &Session) -> u32 {
        self.explicit(session).map_or(session.owner, ExplicitTuple::listed_under)
    }

    /// Whether a session uses a mapping.
    pub(super) fn uses_mapping(&self, id: u32) -> bool {
        self.used_by(self.session(id)) != [NONE; 2]
    }

    /// The mappings that a session uses; [`NONE`] for none.
    pub(in crate::device) fn used_by(&self, session: &Session) -> [u32; 2] {
        let entered =
            self.explicit(session).filter(|w| w.has_two_mappings()).map_or(NONE, |w| w.entered);
        [self.listed_under(session), entered]
    }

    #[inline(always)]
    fn take_slot(&mut self) -> u32 {
        match self.free {
            NONE => self.slots.push(Slot::FREE),
            id => {
                self.free = self.slots[id].session.next;
                id
            }
        }
    }

    /// Gives a place back that holds neither mapping nor session any more.
    fn release_slot(&mut self, id: u32) {
        self.slots[id].session.next = std::mem::replace(&mut self.free, id);
    }

    pub(super) fn add_mapping(&mut self, mapping: Mapping, now: u64, hash: u32) -> u32 {
        let id = self.take_slot();
        let slot = &mut self.slots[id];
        (slot.mapping, slot.listed, slot.session.created) = (mapping, 0, now);
        if mapping.kind() == Kind::Address {
            slot.session.next = 0;
        }
        self.inner.note(mapping.internal);
        self.mappings += 1;
        self.by_internal.insert(hash, id);
        id
    }

    /// Adds an endpoint mapping and its first session, which changes the source only.
    #[inline(always)]
    pub(super) fn add_both(
        &mut self,
        mut mapping: Mapping,
        mut session: Session,
        hash: u32,
    ) -> u32 {
        let id = self.take_slot();
        self.inner.note(mapping.internal);
        mapping.place &= !EXPECTANT;
        (mapping.head, session.owner) = (id, id);
        let armed = self.wheel.file(session.expires, id);
        let slot = &mut self.slots[id];
        (slot.session, slot.mapping, slot.armed, slot.listed) = (session, mapping, armed, 1);
        self.mappings += 1;
        self.sessions += 1;
        self.by_internal.insert(hash, id);
        id
    }

    pub(super) fn remove_mapping(&mut self, id: u32, hash: u32) {
        self.by_internal.remove(hash, id);
        self.mappings -= 1;
        let slot = &mut self.slots[id];
        slot.mapping = Mapping::NONE;
        if slot.session.owner == NONE {
            self.release_slot(id);
        }
    }

    /// Adds a session; `explicit` where its tuples do not follow from its mapping.
    pub(super) fn add_session(&mut self, session: Session, explicit: Option<ExplicitTuple>) -> u32 {
        if explicit.is_none() && self.is_under_address(&session) {
            return self.add_under_address(session);
        }
        let mapping = match &explicit {
            None => session.owner,
            Some(explicit) => explicit.listed_under(),
        };
        let beside = mapping != NONE && self.slots[mapping].mapping.place & EXPECTANT != 0;
        let id = if beside { mapping } else { self.take_slot() };
        if beside {
            self.slots[id].mapping.place &= !EXPECTANT;
        }
        self.sessions += 1;
        self.slots[id].session = session;
        if let Some(explicit) = explicit {
            self.add_tuples(id, explicit);
        }
        if mapping != NONE {
            self.list(mapping, id);
        }
        self.slots[id].armed = self.wheel.file(session.expires, id);
        id
    }

    /// Takes a session out, and gives the mappings that it was counted under.
    pub(super) fn remove_session(&mut self, id: u32) -> [u32; 2] {
        let session = self.slots[id].session;
        let listed = self.listed_under(&session);
        let mut entered = NONE;
        if let Some(explicit) = self.explicit(&session).copied() {
            self.by_tuple.remove(tuple_hash(explicit.protocol, explicit.original), id);
            self.by_tuple.remove(tuple_hash(explicit.protocol, explicit.translated.reversed()), id);
            self.free_explicit.push(session.owner);
            if explicit.has_two_mappings() {
                entered = explicit.entered;
                if let Some(list) = self.entered.get_mut(&entered) {
                    list.retain(|s| *s != id);
                    if list.is_empty() {
                        self.entered.remove(&entered);
                    }
                }
            }
        }
        if self.is_under_address(&session) {
            self.leave_address(id);
        } else if listed != NONE {
            self.unlist(listed, id, session.next);
        }
        self.vacate_session(id);
        [listed, entered]
    }

    /// Leaves a place without its session, which nothing refers to any more; without a mapping too,
    /// it is given back.
    fn vacate_session(&mut self, id: u32) {
        self.sessions -= 1;
        let slot = &mut self.slots[id];
        if slot.session.has(SHARED) {
            self.overlaps.remove(&id);
        }
        slot.armed = UNARMED;
        // marks it as free for those who walk the arena
        (slot.session.owner, slot.session.expires) = (NONE, NEVER);
        if slot.mapping.is_vacant() {
            self.release_slot(id);
        }
    }

    /// A place that may hold the mapping that is found by a hash.
    #[inline(always)]
    pub(in crate::device) fn first_by_internal(&self, hash: u32) -> Option<u32> {
        self.by_internal.first(hash)
    }

    /// Reads where the search for a mapping begins.
    #[inline(always)]
    pub(in crate::device) fn touch_internal(&self, hash: u32) -> u64 {
        self.by_internal.touch(hash)
    }

    /// The last packet of any of the flows that run on a session, where they are several.
    pub(in crate::device) fn latest_of_several(&self, id: u32) -> Option<u64> {
        self.overlaps.get(&id).map(Overlap::latest)
    }

    /// Whether a mapping may have an address inside: if not, none has.
    #[inline(always)]
    pub(in crate::device) fn may_be_inside(&self, address: Key) -> bool {
        self.inner.may_hold(address)
    }

    /// Forgets how to find mappings and sessions; they can still be walked through.
    pub(super) fn release(&mut self) {
        (self.by_internal, self.by_tuple, self.by_peer) =
            (Index::new(), Index::new(), Index::new());
    }

    /// How many places there are, taken or free.
    pub(super) fn places(&self) -> u32 {
        self.slots.len()
    }

    /// The places of all living sessions.
    pub(in crate::device) fn all_sessions(&self) -> impl Iterator<Item = u32> + '_ {
        (0..self.slots.len()).filter(|id| self.slots[*id].session.owner != NONE)
    }

    /// The places of all living mappings.
    pub(in crate::device) fn all_mappings(&self) -> impl Iterator<Item = u32> + '_ {
        (0..self.slots.len()).filter(|id| !self.slots[*id].mapping.is_vacant())
    }

    pub(in crate::device) fn session_count(&self) -> u64 {
        self.sessions
    }

    pub(in crate::device) fn mapping_count(&self) -> u64 {
        self.mappings
    }
}
