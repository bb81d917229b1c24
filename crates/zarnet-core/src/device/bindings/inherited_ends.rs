//! What sessions of fixed rules hold that were made before another plan took over. Their external
//! ends are theirs as long as they live, although the plan may say nothing of them any more.

use std::collections::HashMap;

use foldhash::fast::RandomState;

use crate::device::key::Key;
use crate::net::Protocol;

/// An external address, the protocol, and the port; 0 where there is none.
pub(in crate::device) type HeldEnd = (Key, Protocol, u16);

/// What such sessions hold.
#[derive(Debug, Clone, Default)]
pub(in crate::device) struct InheritedEnds {
    pub(super) by_session: HashMap<u32, Vec<HeldEnd>, RandomState>,
    /// How many sessions hold an end, and whether it was free otherwise.
    pub(super) ends: HashMap<HeldEnd, (u32, bool), RandomState>,
    /// How many ends are held by address.
    pub(super) by_address: HashMap<Key, u32, RandomState>,
}

impl InheritedEnds {
    pub(super) fn is_empty(&self) -> bool {
        self.by_session.is_empty()
    }

    /// Whether an end on an address is held.
    pub(super) fn are_on(&self, address: Key) -> bool {
        !self.is_empty() && self.by_address.contains_key(&address)
    }

    /// Whether a protocol without ports is held on an address.
    pub(in crate::device) fn hold(&self, address: Key, protocol: Protocol) -> bool {
        !self.is_empty() && self.ends.contains_key(&(address, protocol, 0))
    }
}
