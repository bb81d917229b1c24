//! Which external address an internal host was given, so that it gets the same one again (RFC 4787
//! §4.1 REQ-2): looked up for every new mapping, and therefore a table of its own.
//!
//! Contract: §M8 of docs/semantics.md.

use super::index::mix;
use crate::device::key::Key;

/// Endpoint mappings of a host on a target. A count of 0 is a free place.
#[derive(Debug, Clone, Copy, Default)]
struct Pair {
    host: Key,
    external: u32,
    count: u32,
    target: u16,
}

/// ExternalAddress addresses by internal host and target.
#[derive(Debug, Clone)]
pub(in crate::device) struct PairedAddresses {
    places: Vec<Pair>,
    len: usize,
}

impl PairedAddresses {
    pub(in crate::device) fn new() -> Self {
        Self { places: vec![Pair::default(); 16], len: 0 }
    }

    #[inline(always)]
    fn home(&self, host: Key, target: u16) -> usize {
        mix(host.number(), target.into()) as usize & (self.places.len() - 1)
    }

    /// Where a pair is, or the free place where it would go.
    #[inline]
    fn search(&self, host: Key, target: u16) -> Result<usize, usize> {
        let mut at = self.home(host, target);
        loop {
            let pair = &self.places[at];
            if pair.count == 0 {
                return Err(at);
            }
            if pair.host == host && pair.target == target {
                return Ok(at);
            }
            at = (at + 1) & (self.places.len() - 1);
        }
    }

    /// The external address that a host has on a target, and where that is noted until the next
    /// change.
    #[inline]
    pub(in crate::device) fn find(&self, host: Key, target: u16) -> Option<(u32, usize)> {
        let at = self.search(host, target).ok()?;
        Some((self.places[at].external, at))
    }

    /// Counts one more mapping where [`Self::find`] has found it.
    pub(in crate::device) fn count_at(&mut self, place: usize) {
        self.places[place].count += 1;
    }

    /// Counts one more mapping; the first one decides on the address.
    pub(in crate::device) fn add(&mut self, host: Key, target: u16, external: u32) {
        if (self.len + 1) * 2 > self.places.len() {
            let larger = vec![Pair::default(); self.places.len() * 2];
            for pair in
                std::mem::replace(&mut self.places, larger).into_iter().filter(|p| p.count > 0)
            {
                if let Err(free) = self.search(pair.host, pair.target) {
                    self.places[free] = pair;
                }
            }
        }
        match self.search(host, target) {
            Ok(at) => self.places[at].count += 1,
            Err(free) => {
                self.places[free] = Pair { host, external, count: 1, target };
                self.len += 1;
            }
        }
    }

    /// Counts one mapping less; the last one frees the host.
    pub(in crate::device) fn remove(&mut self, host: Key, target: u16) {
        let Ok(mut hole) = self.search(host, target) else { return };
        self.places[hole].count -= 1;
        if self.places[hole].count > 0 {
            return;
        }
        self.len -= 1;
        // move back those behind it that would not be found across a hole
        let mask = self.places.len() - 1;
        let mut at = (hole + 1) & mask;
        while self.places[at].count > 0 {
            let home = self.home(self.places[at].host, self.places[at].target);
            if at.wrapping_sub(home) & mask >= at.wrapping_sub(hole) & mask {
                self.places[hole] = std::mem::take(&mut self.places[at]);
                hole = at;
            }
            at = (at + 1) & mask;
        }
    }

    /// Reads where a search begins, so that the processor has it at hand when the search comes.
    pub(in crate::device) fn touch(&self, host: Key, target: u16) -> u64 {
        self.places[self.home(host, target)].host.number()
    }
}

#[cfg(test)]
mod tests {
    use std::collections::HashMap;

    use proptest::prelude::*;

    use super::*;

    proptest! {
        /// Against a plain map, crowded enough for places to be moved.
        #[test]
        fn counts_like_a_map(
            steps in proptest::collection::vec((any::<bool>(), 0u32..40, 0u16..2), 0..600),
        ) {
            let (mut pairs, mut model) = (PairedAddresses::new(), HashMap::new());
            for (n, (add, host, target)) in steps.into_iter().enumerate() {
                let host = Key::from_number(host.into());
                if add {
                    pairs.add(host, target, n as u32);
                    model.entry((host, target)).or_insert((n as u32, 0)).1 += 1;
                } else {
                    pairs.remove(host, target);
                    if let Some(pair) = model.get_mut(&(host, target)) {
                        pair.1 -= 1;
                        if pair.1 == 0 {
                            model.remove(&(host, target));
                        }
                    }
                }
                let hosts = (0..40).map(Key::from_number);
                for key in hosts.flat_map(|h| [(h, 0), (h, 1)]) {
                    prop_assert_eq!(
                        pairs.find(key.0, key.1).map(|f| f.0),
                        model.get(&key).map(|m| m.0)
                    );
                }
                prop_assert_eq!(pairs.len, model.len());
            }
        }
    }
}
