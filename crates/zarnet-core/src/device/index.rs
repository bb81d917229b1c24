//! A hash index from keys to positions in an arena: open addressing, eight octets a slot, the hash kept beside the
//! position so that neither growth nor most misses touch the arena.

/// Positions by hash. The caller compares keys; the index only narrows down.
#[derive(Debug, Clone)]
pub(super) struct Index {
    /// `hash << 32 | position + 1`; 0 is free.
    slots: Vec<u64>,
    len: usize,
}

/// From so many slots on, memory counts more than a step or two of a search.
const LARGE: usize = 1 << 20;

/// Mixes two words into a hash whose bits are all of use.
pub(super) fn mix(a: u64, b: u64) -> u32 {
    let product = u128::from(a ^ 0x9E37_79B9_7F4A_7C15) * u128::from(b ^ 0xD1B5_4A32_D192_ED03);
    let folded = (product >> 64) as u64 ^ product as u64;
    (folded ^ folded >> 32) as u32
}

impl Index {
    pub(super) fn new() -> Self {
        Self { slots: vec![0; 16], len: 0 }
    }

    /// The positions that were put in under `hash`.
    pub(super) fn candidates(&self, hash: u32) -> impl Iterator<Item = u32> + '_ {
        let mask = self.slots.len() - 1;
        let mut at = hash as usize & mask;
        std::iter::from_fn(move || {
            loop {
                let slot = self.slots[at];
                if slot == 0 {
                    return None;
                }
                at = (at + 1) & mask;
                if (slot >> 32) as u32 == hash {
                    return Some(slot as u32 - 1);
                }
            }
        })
    }

    /// Reads the slot where a search for `hash` begins, so that the processor has it at hand when the search comes.
    pub(super) fn touch(&self, hash: u32) -> u64 {
        self.slots[hash as usize & (self.slots.len() - 1)]
    }

    pub(super) fn insert(&mut self, hash: u32, position: u32) {
        // small indexes are kept half empty, large ones as full as is still quick
        let most = if self.slots.len() < LARGE { self.slots.len() / 2 } else { self.slots.len() / 4 * 3 };
        if self.len >= most {
            self.grow();
        }
        self.len += 1;
        put(&mut self.slots, u64::from(hash) << 32 | (u64::from(position) + 1));
    }

    fn grow(&mut self) {
        let larger = vec![0; self.slots.len() * 2];
        for slot in std::mem::replace(&mut self.slots, larger).into_iter().filter(|s| *s != 0) {
            put(&mut self.slots, slot);
        }
    }

    /// Takes out a position that was put in under `hash`.
    pub(super) fn remove(&mut self, hash: u32, position: u32) {
        let mask = self.slots.len() - 1;
        let wanted = u64::from(hash) << 32 | (u64::from(position) + 1);
        let mut hole = hash as usize & mask;
        while self.slots[hole] != wanted {
            if self.slots[hole] == 0 {
                return;
            }
            hole = (hole + 1) & mask;
        }
        // move back those behind it that would not be found across a hole
        let mut at = (hole + 1) & mask;
        while self.slots[at] != 0 {
            let home = (self.slots[at] >> 32) as usize;
            if at.wrapping_sub(home) & mask >= at.wrapping_sub(hole) & mask {
                self.slots[hole] = self.slots[at];
                hole = at;
            }
            at = (at + 1) & mask;
        }
        self.slots[hole] = 0;
        self.len -= 1;
    }
}

fn put(slots: &mut [u64], slot: u64) {
    let mask = slots.len() - 1;
    let mut at = (slot >> 32) as usize & mask;
    while slots[at] != 0 {
        at = (at + 1) & mask;
    }
    slots[at] = slot;
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        /// Against a plain list, with hashes that collide all the time.
        #[test]
        fn finds_what_was_put_in(steps in proptest::collection::vec((any::<bool>(), 0u32..12, 0u32..60), 0..400)) {
            let (mut index, mut model) = (Index::new(), Vec::new());
            for (put_in, hash, position) in steps {
                let hash = hash.wrapping_mul(0x1000_0001);
                if put_in {
                    if !model.contains(&(hash, position)) {
                        index.insert(hash, position);
                        model.push((hash, position));
                    }
                } else {
                    index.remove(hash, position);
                    model.retain(|m| *m != (hash, position));
                }
            }
            for hash in (0u32..12).map(|h| h.wrapping_mul(0x1000_0001)) {
                let mut found: Vec<u32> = index.candidates(hash).collect();
                let mut wanted: Vec<u32> = model.iter().filter(|m| m.0 == hash).map(|m| m.1).collect();
                found.sort_unstable();
                wanted.sort_unstable();
                prop_assert_eq!(found, wanted);
            }
        }
    }
}
