//! Which external address an internal host was given, so that it gets the same one again (RFC 4787
//! §4.1 REQ-2).
//!
//! Contract: §M8 of docs/semantics.md.

use super::host_map::{HostMap, Kept};
use crate::device::key::Key;

/// Endpoint mappings of a host on a target.
#[derive(Debug, Clone, Copy, Default)]
struct Pair {
    external: u32,
    count: u32,
}

impl Kept for Pair {
    fn is_nothing(&self) -> bool {
        self.count == 0
    }
}

/// External addresses by internal host and target.
#[derive(Debug, Clone, Default)]
pub(in crate::device) struct PairedAddresses(HostMap<Pair>);

impl PairedAddresses {
    pub(super) fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// The external address that a host has on a target, and where that is noted until the next
    /// change.
    #[inline]
    pub(in crate::device) fn find(&self, host: Key, target: u16) -> Option<(u32, usize)> {
        self.0.find(host, target.into()).map(|(pair, place)| (pair.external, place))
    }

    /// Counts one more mapping where [`Self::find`] has found it.
    pub(in crate::device) fn count_at(&mut self, place: usize) {
        self.0.at(place).count += 1;
    }

    /// Counts one more mapping; the first one decides on the address.
    pub(in crate::device) fn add(&mut self, host: Key, target: u16, external: u32) {
        self.0.change(host, target.into(), |pair| {
            if pair.is_nothing() {
                pair.external = external;
            }
            pair.count += 1;
        });
    }

    /// Counts one mapping less; the last one frees the host.
    pub(in crate::device) fn remove(&mut self, host: Key, target: u16) {
        self.0.change(host, target.into(), |pair| pair.count = pair.count.saturating_sub(1));
    }

    /// Reads where a search begins, so that the processor has it at hand when the search comes.
    pub(in crate::device) fn touch(&self, host: Key, target: u16) -> u64 {
        self.0.touch(host, target.into())
    }
}

#[cfg(test)]
mod tests {
    use std::collections::HashMap;

    use proptest::prelude::*;

    use super::*;

    proptest! {
        /// The first mapping of a host decides on its address, until the last one has ended.
        #[test]
        fn pairs_last_as_long_as_a_mapping(
            steps in proptest::collection::vec((any::<bool>(), 0u32..5, 0u16..2), 0..200),
        ) {
            let (mut pairs, mut model) = (PairedAddresses::default(), HashMap::new());
            for (n, (add, host, target)) in steps.into_iter().enumerate() {
                let key = (Key::from_number(host.into()), target);
                if add {
                    pairs.add(key.0, target, n as u32);
                    model.entry(key).or_insert((n as u32, 0)).1 += 1;
                } else {
                    pairs.remove(key.0, target);
                    model.entry(key).and_modify(|pair| pair.1 -= 1);
                    model.retain(|_, pair| pair.1 > 0);
                }
                let found = pairs.find(key.0, target).map(|found| found.0);
                prop_assert_eq!(found, model.get(&key).map(|pair| pair.0));
            }
        }
    }
}
