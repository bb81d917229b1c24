//! The translation table: mappings and the sessions under them, in arenas, found from either side.
//!
//! Most sessions of a busy edge run under an endpoint mapping of an overload and change the source only. Such a session
//! is stored as the mapping and the far end, without tuples of its own: it is found through its mapping, whichever side
//! a packet comes from. All other sessions have a [`Wide`] record with both tuples.

use std::collections::HashMap;
use std::net::{IpAddr, Ipv4Addr};

use foldhash::fast::RandomState;

use super::Ending;
use super::index::{Index, mix};
use super::session::{NONE, SHARED, Session, WIDE};
use super::wheel::{Timed, UNARMED, Wheel};
use crate::net::{Endpoint, Packet, Protocol, Tuple};

/// What a mapping maps.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Kind {
    /// Address and port, or query id.
    Endpoint,
    /// A whole address.
    Address,
    /// An address, for one peer and a protocol without ports.
    Portless,
}

/// A dynamic mapping. 32 octets.
#[derive(Debug, Clone, Copy)]
pub(super) struct Mapping {
    pub internal: u32,
    /// Kind in the two highest bits, free choice in the third; the page, or for a whole or portless mapping the
    /// external address.
    place: u32,
    /// Of a portless mapping the protocol.
    pub internal_port: u16,
    pub external_port: u16,
    pub rule: u16,
    /// What the external address was taken from.
    pub target: u16,
    pub sessions: u32,
    /// First of its sessions.
    pub head: u32,
    pub created: u64,
}

const FREELY: u32 = 1 << 29;
const PLACE: u32 = FREELY - 1;

impl Mapping {
    pub(super) fn new(kind: Kind, place: u32, freely: bool, now: u64) -> Self {
        let place = place | (kind as u32) << 30 | if freely { FREELY } else { 0 };
        Self {
            internal: 0,
            place,
            internal_port: 0,
            external_port: 0,
            rule: 0,
            target: 0,
            sessions: 0,
            head: NONE,
            created: now,
        }
    }

    pub(super) fn kind(&self) -> Kind {
        match self.place >> 30 {
            0 => Kind::Endpoint,
            1 => Kind::Address,
            _ => Kind::Portless,
        }
    }

    /// Whether the device chose the external end freely.
    pub(super) fn freely(&self) -> bool {
        self.place & FREELY != 0
    }

    /// Page of an endpoint mapping, external address of the others.
    pub(super) fn place(&self) -> u32 {
        self.place & PLACE
    }
}

/// A session with tuples of its own.
#[derive(Debug, Clone, Copy)]
pub(super) struct Wide {
    pub protocol: Protocol,
    /// The initiator's packet as sent.
    pub original: Tuple,
    /// The same as forwarded.
    pub translated: Tuple,
    /// Rule that translated the destination.
    pub inbound_rule: Option<u16>,
    /// Rule that translated the source.
    pub outbound_rule: Option<u16>,
    /// Dynamic mapping of the source.
    pub source_mapping: u32,
    /// Dynamic mapping that the packet came in through.
    pub entered: u32,
    /// Interfaces that its first packet came in and went out by.
    pub interfaces: (u16, u16),
}

/// The arenas and their indexes.
#[derive(Debug, Clone)]
pub(super) struct Table {
    pub mappings: Vec<Mapping>,
    free_mappings: Chain,
    pub sessions: Vec<Session>,
    free_sessions: Chain,
    wides: Vec<Wide>,
    free_wides: Vec<u32>,
    pub by_internal: Index,
    by_tuple: Index,
    /// Sessions of mappings that have too many to look through, by mapping and far end.
    by_peer: Index,
    wheel: Wheel,
    /// Flows that run on a session that has several.
    pub overlaps: HashMap<u32, Vec<(u64, Ending)>, RandomState>,
    /// Sessions that came in through a mapping but are listed under that of their source.
    pub entered: HashMap<u32, Vec<u32>, RandomState>,
}

/// Free places of an arena, linked through the places themselves.
#[derive(Debug, Clone, Copy)]
struct Chain {
    first: u32,
    length: usize,
}

impl Default for Chain {
    fn default() -> Self {
        Self { first: NONE, length: 0 }
    }
}

impl Chain {
    /// Takes a free place out of the chain; `next` tells which one follows.
    fn pop(&mut self, next: impl Fn(u32) -> u32) -> Option<u32> {
        let place = (self.first != NONE).then_some(self.first)?;
        self.first = next(place);
        self.length -= 1;
        Some(place)
    }

    /// Puts a place in front, and gives the one that follows it.
    fn push(&mut self, place: u32) -> u32 {
        self.length += 1;
        std::mem::replace(&mut self.first, place)
    }
}

/// With more sessions than this, a mapping's are found by hash.
const CROWD: u32 = 12;

struct Arena<'a>(&'a mut Vec<Session>);

impl Timed for Arena<'_> {
    fn expires(&self, id: u32) -> u64 {
        self.0[id as usize].expires
    }

    fn armed(&mut self, id: u32) -> &mut u32 {
        &mut self.0[id as usize].armed
    }
}

pub(super) fn tuple_hash(protocol: Protocol, tuple: Tuple) -> u32 {
    let end = |e: Endpoint| match e.address {
        IpAddr::V4(a) => u64::from(a.to_bits()) << 16 | u64::from(e.port),
        IpAddr::V6(a) => {
            let bits = a.to_bits();
            u64::from(mix(bits as u64, (bits >> 64) as u64)) << 16 | u64::from(e.port)
        }
    };
    mix(end(tuple.source) ^ u64::from(protocol.0) << 56, end(tuple.destination))
}

fn peer_hash(mapping: u32, remote: u32, port: u16) -> u32 {
    mix(u64::from(mapping) << 32 | u64::from(remote), u64::from(port))
}

impl Table {
    pub(super) fn new() -> Self {
        Self {
            mappings: Vec::new(),
            free_mappings: Chain::default(),
            sessions: Vec::new(),
            free_sessions: Chain::default(),
            wides: Vec::new(),
            free_wides: Vec::new(),
            by_internal: Index::new(),
            by_tuple: Index::new(),
            by_peer: Index::new(),
            wheel: Wheel::default(),
            overlaps: HashMap::default(),
            entered: HashMap::default(),
        }
    }

    pub(super) fn mapping(&self, id: u32) -> &Mapping {
        &self.mappings[id as usize]
    }

    pub(super) fn session(&self, id: u32) -> &Session {
        &self.sessions[id as usize]
    }

    /// The wide record of a session that has one.
    pub(super) fn wide(&self, session: &Session) -> Option<&Wide> {
        session.has(WIDE).then(|| &self.wides[session.owner as usize])
    }

    /// The mapping among whose sessions a session is listed.
    pub(super) fn listed_under(&self, session: &Session) -> u32 {
        match self.wide(session) {
            None => session.owner,
            Some(w) if w.source_mapping != NONE => w.source_mapping,
            Some(w) => w.entered,
        }
    }

    pub(super) fn add_mapping(&mut self, mapping: Mapping, hash: u32) -> u32 {
        let free = self.free_mappings.pop(|m| self.mappings[m as usize].head);
        let id = put(&mut self.mappings, free, mapping);
        self.by_internal.insert(hash, id);
        id
    }

    pub(super) fn remove_mapping(&mut self, id: u32, hash: u32) {
        self.by_internal.remove(hash, id);
        self.mappings[id as usize].head = self.free_mappings.push(id);
        self.mappings[id as usize].created = u64::MAX; // marks it as free for those who walk the arena
    }

    /// Adds a session; `wide` where its tuples do not follow from its mapping.
    pub(super) fn add_session(&mut self, mut session: Session, wide: Option<Wide>) -> u32 {
        if let Some(wide) = wide {
            session.flags |= WIDE;
            session.owner = put(&mut self.wides, self.free_wides.pop(), wide);
        }
        let free = self.free_sessions.pop(|s| self.sessions[s as usize].next);
        let id = put(&mut self.sessions, free, session);
        if let Some(wide) = wide {
            self.by_tuple.insert(tuple_hash(wide.protocol, wide.original), id);
            self.by_tuple.insert(tuple_hash(wide.protocol, wide.translated.reversed()), id);
            if wide.entered != NONE && wide.source_mapping != NONE {
                self.entered.entry(wide.entered).or_default().push(id);
                self.mappings[wide.entered as usize].sessions += 1;
            }
        }
        let mapping = self.listed_under(&session);
        if mapping != NONE {
            self.list(mapping, id);
        }
        self.wheel.arm(&mut Arena(&mut self.sessions), id);
        id
    }

    fn list(&mut self, mapping: u32, id: u32) {
        let head = self.mappings[mapping as usize].head;
        if head != NONE {
            self.sessions[head as usize].previous = id;
        }
        self.sessions[id as usize].next = head;
        let m = &mut self.mappings[mapping as usize];
        m.head = id;
        m.sessions += 1;
        let count = m.sessions;
        if count == CROWD + 1 {
            let all: Vec<u32> = self.sessions_of(mapping).collect();
            all.into_iter().for_each(|s| self.index_peer(mapping, s));
        } else if count > CROWD {
            self.index_peer(mapping, id);
        }
    }

    fn index_peer(&mut self, mapping: u32, id: u32) {
        let s = self.sessions[id as usize];
        self.by_peer.insert(peer_hash(mapping, s.remote, s.remote_port), id);
    }

    /// The sessions that are listed under a mapping.
    pub(super) fn sessions_of(&self, mapping: u32) -> impl Iterator<Item = u32> + '_ {
        let mut at = self.mappings[mapping as usize].head;
        std::iter::from_fn(move || {
            let id = at;
            (id != NONE).then(|| {
                at = self.sessions[id as usize].next;
                id
            })
        })
    }

    /// Takes a session out, and gives the mappings that it was counted under.
    pub(super) fn remove_session(&mut self, id: u32) -> [u32; 2] {
        let session = self.sessions[id as usize];
        let listed = self.listed_under(&session);
        let mut entered = NONE;
        if let Some(wide) = self.wide(&session).copied() {
            self.by_tuple.remove(tuple_hash(wide.protocol, wide.original), id);
            self.by_tuple.remove(tuple_hash(wide.protocol, wide.translated.reversed()), id);
            self.free_wides.push(session.owner);
            if wide.entered != NONE && wide.source_mapping != NONE {
                entered = wide.entered;
                self.mappings[entered as usize].sessions -= 1;
                if let Some(list) = self.entered.get_mut(&entered) {
                    list.retain(|s| *s != id);
                    if list.is_empty() {
                        self.entered.remove(&entered);
                    }
                }
            }
        }
        if listed != NONE {
            self.unlist(listed, id, session);
        }
        if session.has(SHARED) {
            self.overlaps.remove(&id);
        }
        let s = &mut self.sessions[id as usize];
        s.armed = UNARMED;
        s.owner = NONE; // marks it as free for those who walk the arena
        s.next = self.free_sessions.push(id);
        [listed, entered]
    }

    fn unlist(&mut self, mapping: u32, id: u32, session: Session) {
        let count = self.mappings[mapping as usize].sessions;
        if count > CROWD {
            self.by_peer.remove(peer_hash(mapping, session.remote, session.remote_port), id);
        }
        if count == CROWD + 1 {
            let rest: Vec<u32> = self.sessions_of(mapping).filter(|s| *s != id).collect();
            for other in rest {
                let s = self.sessions[other as usize];
                self.by_peer.remove(peer_hash(mapping, s.remote, s.remote_port), other);
            }
        }
        match session.previous {
            NONE => self.mappings[mapping as usize].head = session.next,
            p => self.sessions[p as usize].next = session.next,
        }
        if session.next != NONE {
            self.sessions[session.next as usize].previous = session.previous;
        }
        self.mappings[mapping as usize].sessions -= 1;
    }

    /// The session without tuples under a mapping that has this far end.
    pub(super) fn under(&self, mapping: u32, remote: u32, port: u16) -> Option<u32> {
        let fits = |id: u32| {
            let s = &self.sessions[id as usize];
            s.owner == mapping && !s.has(WIDE) && s.remote == remote && s.remote_port == port
        };
        if self.mappings[mapping as usize].sessions > CROWD {
            let mut all = self.by_peer.candidates(peer_hash(mapping, remote, port));
            return all.find(|id| fits(*id));
        }
        self.sessions_of(mapping).find(|id| fits(*id))
    }

    /// Whether any session has tuples of its own.
    pub(super) fn has_wide(&self) -> bool {
        self.wides.len() > self.free_wides.len()
    }

    /// The wide session that a packet belongs to, and whether it goes the initiator's way.
    pub(super) fn find_wide(&self, packet: Packet, mut suits: impl FnMut(&Wide, bool) -> bool) -> Option<(u32, bool)> {
        if !self.has_wide() {
            return None;
        }
        self.by_tuple.candidates(tuple_hash(packet.protocol, packet.ends)).find_map(|id| {
            let wide = self.wide(&self.sessions[id as usize])?;
            let same = |tuple: Tuple| wide.protocol == packet.protocol && tuple == packet.ends;
            if same(wide.original) && suits(wide, true) {
                Some((id, true))
            } else {
                (same(wide.translated.reversed()) && suits(wide, false)).then_some((id, false))
            }
        })
    }

    /// Reads the mappings of the sessions that are about to expire, and what these are found by, all at once: one after
    /// the other they would each be waited for.
    pub(super) fn warm_due(&mut self, touch: impl Fn(&Index, &Mapping, &Session) -> u64) -> u64 {
        let due = self.wheel.fetch_ahead();
        due.iter().fold(0, |sum, (_, id)| {
            let session = &self.sessions[*id as usize];
            let mapping = self.mappings.get(session.owner as usize).filter(|_| !session.has(WIDE));
            sum ^ mapping.map_or(0, |m| touch(&self.by_internal, m, session))
        })
    }

    /// Tells the wheel that a session's expiry has changed.
    pub(super) fn rearm(&mut self, id: u32) {
        self.wheel.arm(&mut Arena(&mut self.sessions), id);
    }

    /// The next session that expires at `now` or before.
    pub(super) fn next_due(&mut self, now: u64) -> Option<u32> {
        self.wheel.next_due(&mut Arena(&mut self.sessions), now)
    }

    /// Forgets how to find mappings and sessions; they can still be walked through.
    pub(super) fn release(&mut self) {
        (self.by_internal, self.by_tuple, self.by_peer) = (Index::new(), Index::new(), Index::new());
    }

    /// Until when nothing becomes due.
    pub(super) fn calm_until(&self) -> u64 {
        self.wheel.calm_until()
    }

    /// Every living session.
    pub(super) fn all_sessions(&self) -> impl Iterator<Item = u32> + '_ {
        (0..self.sessions.len() as u32).filter(|id| self.sessions[*id as usize].owner != NONE)
    }

    /// Every living mapping.
    pub(super) fn all_mappings(&self) -> impl Iterator<Item = u32> + '_ {
        (0..self.mappings.len() as u32).filter(|id| self.mappings[*id as usize].created != u64::MAX)
    }

    pub(super) fn session_count(&self) -> u64 {
        (self.sessions.len() - self.free_sessions.length) as u64
    }

    pub(super) fn mapping_count(&self) -> u64 {
        (self.mappings.len() - self.free_mappings.length) as u64
    }
}

/// Puts a value into a free place, or behind the last one.
fn put<T>(arena: &mut Vec<T>, free: Option<u32>, value: T) -> u32 {
    match free {
        Some(id) => {
            arena[id as usize] = value;
            id
        }
        None => {
            arena.push(value);
            arena.len() as u32 - 1
        }
    }
}

/// An IPv4 endpoint.
pub(super) fn v4(address: u32, port: u16) -> Endpoint {
    Endpoint { address: IpAddr::V4(Ipv4Addr::from_bits(address)), port }
}

/// The number of an IPv4 address.
pub(super) fn bits(address: IpAddr) -> Option<u32> {
    match address {
        IpAddr::V4(a) => Some(a.to_bits()),
        IpAddr::V6(_) => None,
    }
}
