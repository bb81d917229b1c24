//! Which sessions are due.

use super::Table;
use super::mapping::Mapping;
use crate::device::bindings::arena::NONE;
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

    /// Tells of sessions that are about to expire, the next few, once each: their mapping and their
    /// far end.
    pub(in crate::device::bindings) fn next_expiring(
        &mut self,
        mut tell: impl FnMut(&Mapping, EndKey),
    ) {
        for id in self.wheel.ahead() {
            let session = &self.slots[id].session;
            if !session.has(EXPLICIT) && session.owner != NONE {
                tell(&self.slots[session.owner].mapping, (session.remote, session.remote_port));
            }
        }
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
