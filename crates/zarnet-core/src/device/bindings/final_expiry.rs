//! The end of a run: what is due by then ends at once. Nothing is looked up any more, so that ports,
//! indexes and pairs are left as they are, and only what is counted and listed matters.

use super::arena::NONE;
use super::{Bindings, Cause, Engine, PairedAddresses, Sink};
use crate::net::Instant;

/// So many sessions are read at once.
const TOGETHER: usize = 64;

impl Bindings {
    /// Gives back the memory of everything that is only needed for packets still to come.
    pub(in crate::device) fn release(&mut self) {
        self.table.release();
        self.paired = PairedAddresses::default();
    }
}

impl<S: Sink> Engine<'_, S> {
    /// Ends everything whose time is up at `now`, after [`Bindings::release`]. `ordered`: in the
    /// order of expiry, for somebody who is told of it.
    pub(in crate::device) fn expire_finally(&mut self, now: Instant, ordered: bool) {
        if !self.compiled.mappings_are_simple {
            return self.expire(now);
        }
        let mut others = Vec::new();
        for id in 0..self.bindings.table.places() {
            let session = self.bindings.table.session(id);
            let (expires, is_none) = (session.expires, session.owner == NONE);
            if is_none || expires > now.0 || !ordered && self.close_both_finally(id, expires) {
                continue;
            }
            if ordered || self.bindings.table.uses_mapping(id) {
                others.push((expires, id));
            } else {
                self.close_session(id, expires, Cause::Expired);
            }
        }
        // compared as one number: that is no decision
        others.sort_unstable_by_key(|(at, id)| u128::from(*at) << 32 | u128::from(*id));
        for some in others.chunks(TOGETHER) {
            let expires = |(_, id): &(u64, u32)| self.bindings.table.session(*id).expires;
            std::hint::black_box(some.iter().fold(0, |sum, other| sum ^ expires(other)));
            let owner = |(_, id): &(u64, u32)| self.bindings.table.touch_owner(*id);
            std::hint::black_box(some.iter().fold(0, |sum, other| sum ^ owner(other)));
            for &(at, id) in some {
                if !ordered || !self.close_both_finally(id, at) {
                    self.close_session(id, at, Cause::Expired);
                }
            }
        }
        self.bindings.table.file_anew();
        self.bindings.forget_next_expiry();
        self.expire(now);
    }
}
