//! Which sessions are due.

use super::Table;
use super::mapping::{Kind, Mapping};
use super::under_address::hash_under;
use crate::device::bindings::arena::NONE;
use crate::device::bindings::keys::tuple_hash;
use crate::device::bindings::session::EXPLICIT;
use crate::device::bindings::timer_wheel::Wheel;
use crate::device::key::EndKey;

impl Table {
    /// A session may expire earlier than before.
    pub(in crate::device::bindings) fn bring_forward(&mut self, id: u32) {
        self.wheel.arm(&mut self.slots, id);
    }

    /// Whether [`Self::next_expiring`] has some to tell of.
    #[inline]
    pub(in crate::device::bindings) fn has_expiring(&self) -> bool {
        self.wheel.has_ahead()
    }

    /// Reads the mapping of a session, or its tuples. For many at once: of those that are not
    /// beside their mapping, the processor then waits for all together.
    #[inline(always)]
    pub(in crate::device::bindings) fn touch_owner(&self, id: u32) -> u32 {
        let session = &self.slots[id].session;
        match session.owner {
            NONE => 0,
            record if session.has(EXPLICIT) => self.explicit_tuples[record as usize].source_mapping,
            mapping => self.slots[mapping].mapping.place(),
        }
    }

    /// Tells of sessions that are about to expire, the next few, once each: their mapping and their
    /// far end; or of one with tuples of its own, where those are.
    pub(in crate::device::bindings) fn next_expiring(
        &mut self,
        mut tell: impl FnMut(&Mapping, EndKey),
        mut tell_explicit: impl FnMut(u32),
    ) {
        std::hint::black_box(self.wheel.ahead().fold(0, |sum, id| sum ^ self.touch_owner(id)));
        let mut places = 0;
        for id in self.wheel.ahead() {
            let session = &self.slots[id].session;
            match session.owner {
                NONE => {}
                record if session.has(EXPLICIT) => tell_explicit(record),
                mapping => {
                    let mapping = &self.slots[mapping].mapping;
                    if mapping.kind() == Kind::Address {
                        places ^= self.by_tuple.touch(hash_under(mapping, session));
                    }
                    tell(mapping, (session.remote, session.remote_port));
                }
            }
        }
        std::hint::black_box(places);
        self.wheel.pass_ahead();
    }

    /// Reads what sessions with tuples of their own are taken out by, all at once.
    pub(in crate::device::bindings) fn touch_explicit(&self, records: &[u32]) -> u64 {
        let hashes = records.iter().map(|record| {
            let explicit = &self.explicit_tuples[*record as usize];
            let of = |tuple| tuple_hash(explicit.protocol, tuple);
            (of(explicit.original), of(explicit.translated.reversed()), explicit.source_mapping)
        });
        let hashes: Vec<(u32, u32, u32)> = hashes.collect();
        let touch = |(there, back, mapping): &(u32, u32, u32)| {
            let head = if *mapping == NONE { 0 } else { self.slots[*mapping].mapping.head };
            self.by_tuple.touch(*there) ^ self.by_tuple.touch(*back) ^ u64::from(head)
        };
        hashes.iter().fold(0, |sum, h| sum ^ touch(h))
    }

    /// The next session that expires at `now` or before.
    pub(in crate::device::bindings) fn next_due(&mut self, now: u64) -> Option<u32> {
        self.wheel.next_due(&mut self.slots, now)
    }

    /// Files all living sessions anew.
    pub(in crate::device::bindings) fn file_anew(&mut self) {
        let living: Vec<u32> = self.all_sessions().collect();
        self.wheel = Wheel::default();
        for id in living {
            self.slots[id].armed = self.wheel.file(self.slots[id].session.expires, id);
        }
    }

    /// Until when nothing becomes due.
    pub(in crate::device::bindings) fn next_expiry(&self) -> u64 {
        self.wheel.next_expiry()
    }
}
