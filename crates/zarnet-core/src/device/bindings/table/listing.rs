//! The sessions of a mapping: in a chain while they are few, found by hash and listed apart when
//! they are many.

use super::Table;
use crate::device::bindings::arena::NONE;
use crate::device::bindings::index::mix;
use crate::device::bindings::session::EXPLICIT;
use crate::device::key::Key;

/// With more sessions than this, a mapping's are found by hash and listed apart.
const CROWD: u8 = 12;
const CROWDED: u8 = u8::MAX;

fn peer_hash(mapping: u32, remote: Key, port: u16) -> u32 {
    mix(u64::from(mapping) << 32 | remote.number(), u64::from(port))
}

impl Table {
    pub(super) fn list(&mut self, mapping: u32, id: u32) {
        let slot = &mut self.slots[mapping];
        match slot.listed {
            CROWDED => self.join_crowd(mapping, id),
            CROWD => {
                slot.listed = CROWDED;
                let head = std::mem::replace(&mut slot.mapping.head, NONE);
                let all: Vec<u32> = self.chain(head).collect();
                all.into_iter().chain([id]).for_each(|s| self.join_crowd(mapping, s));
            }
            _ => {
                slot.listed += 1;
                let head = std::mem::replace(&mut slot.mapping.head, id);
                self.slots[id].session.next = head;
            }
        }
    }

    fn join_crowd(&mut self, mapping: u32, id: u32) {
        let crowd = self.crowds.entry(mapping).or_default();
        let s = &mut self.slots[id].session;
        s.next = crowd.len() as u32;
        crowd.push(id);
        // one with tuples of its own is found by those
        if !s.has(EXPLICIT) {
            self.by_peer.insert(peer_hash(mapping, s.remote, s.remote_port), id);
        }
    }

    fn leave_crowd(&mut self, mapping: u32, id: u32) {
        let Some(crowd) = self.crowds.get_mut(&mapping) else { return };
        let s = self.slots[id].session;
        if !s.has(EXPLICIT) {
            self.by_peer.remove(peer_hash(mapping, s.remote, s.remote_port), id);
        }
        crowd.swap_remove(s.next as usize);
        if let Some(moved) = crowd.get(s.next as usize) {
            self.slots[*moved].session.next = s.next;
        }
        // back to a list only when it is well below, so as not to go to and fro
        if crowd.len() > usize::from(CROWD / 2) {
            return;
        }
        let rest = self.crowds.remove(&mapping).unwrap_or_default();
        self.slots[mapping].listed = 0;
        for other in rest {
            let s = self.slots[other].session;
            if !s.has(EXPLICIT) {
                self.by_peer.remove(peer_hash(mapping, s.remote, s.remote_port), other);
            }
            self.list(mapping, other);
        }
    }

    fn chain(&self, mut at: u32) -> impl Iterator<Item = u32> + '_ {
        std::iter::from_fn(move || {
            let id = at;
            (id != NONE).then(|| {
                at = self.slots[id].session.next;
                id
            })
        })
    }

    /// The sessions that are listed under a mapping: all but those that an address mapping only
    /// counts.
    pub(in crate::device) fn sessions_of(&self, mapping: u32) -> impl Iterator<Item = u32> + '_ {
        let slot = &self.slots[mapping];
        let crowd = (slot.listed == CROWDED).then(|| self.crowds.get(&mapping)).flatten();
        self.chain(slot.mapping.head).chain(crowd.into_iter().flatten().copied())
    }

    /// How many sessions use a mapping: those listed or counted under it, and those that only came
    /// in through it.
    pub(in crate::device) fn session_count_of(&self, mapping: u32) -> u32 {
        let listed = match self.slots[mapping].listed {
            CROWDED => self.crowds.get(&mapping).map_or(0, Vec::len) as u32,
            few => few.into(),
        };
        listed
            + self.counted(mapping)
            + if self.entered.is_empty() {
                0
            } else {
                self.entered.get(&mapping).map_or(0, Vec::len) as u32
            }
    }

    pub(super) fn unlist(&mut self, mapping: u32, id: u32, next: u32) {
        let slot = &mut self.slots[mapping];
        if slot.listed == CROWDED {
            return self.leave_crowd(mapping, id);
        }
        slot.listed -= 1;
        if slot.mapping.head == id {
            slot.mapping.head = next;
            return;
        }
        let head = slot.mapping.head;
        let before = self.chain(head).find(|s| self.slots[*s].session.next == id);
        if let Some(before) = before {
            self.slots[before].session.next = next;
        }
    }

    /// The session without tuples under a mapping that has this far end.
    pub(in crate::device) fn under(&self, mapping: u32, remote: Key, port: u16) -> Option<u32> {
        let fits = |id: u32| self.is_of(id, mapping, remote, port);
        let slot = &self.slots[mapping];
        if slot.listed == CROWDED {
            let mut all = self.by_peer.candidates(peer_hash(mapping, remote, port));
            return all.find(|id| fits(*id));
        }
        self.chain(slot.mapping.head).find(|id| fits(*id))
    }

    /// Whether a place holds the session without tuples under a mapping that has this far end.
    #[inline(always)]
    pub(in crate::device) fn is_of(&self, id: u32, mapping: u32, remote: Key, port: u16) -> bool {
        let s = &self.slots[id].session;
        s.owner == mapping && !s.has(EXPLICIT) && s.remote == remote && s.remote_port == port
    }
}
