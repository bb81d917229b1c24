//! Where a number of 32 bits stands among many that are in order, found by its octets, as many as
//! it takes: a few steps where a binary search among ten thousand takes fourteen, each a guess.

/// A table for every part of the numbers, of a 256th of the part above it, that holds many.
#[derive(Debug, Clone)]
pub(super) struct Octets {
    /// By octet: the last number of the list that is not behind the beginning of that part, or
    /// [`DEEPER`] and the table of it.
    tables: Vec<[u32; 256]>,
}

const DEEPER: u32 = 1 << 31;

/// Among no more numbers than this a binary search is as quick.
const MANY: usize = 64;

/// A part with no more numbers than this has no table: they are gone through.
const FEW: usize = 2;

impl Octets {
    /// Of numbers in ascending order, of which the first is 0; `None` for a list that needs no
    /// tables.
    pub(super) fn new(list: &[u64]) -> Option<Self> {
        if list.len() > MANY { Self::always(list) } else { None }
    }

    /// The same of a list that is asked all the time; `None` only for one that is too long.
    pub(super) fn always(list: &[u64]) -> Option<Self> {
        let mut octets = Self { tables: Vec::new() };
        (list.len() < DEEPER as usize).then(|| {
            octets.add_table(list, 0, 24);
            octets
        })
    }

    /// Adds the table of the part that begins at `low`, and gives its position.
    fn add_table(&mut self, list: &[u64], low: u64, shift: u32) -> u32 {
        let position = self.tables.len();
        self.tables.push([0; 256]);
        let last_up_to = |mut at: usize, x: u64| {
            while list.get(at + 1).is_some_and(|n| *n <= x) {
                at += 1;
            }
            at
        };
        let mut at = list.partition_point(|n| *n <= low) - 1;
        for octet in 0..256 {
            let (first, last) = (low + (octet << shift), low + ((octet + 1) << shift) - 1);
            let first_at = last_up_to(at, first);
            let last_at = last_up_to(first_at, last);
            at = last_at;
            let entry = match last_at - first_at {
                0..=FEW => first_at as u32,
                _ => DEEPER | self.add_table(list, first, shift - 8),
            };
            self.tables[position][octet as usize] = entry;
        }
        position as u32
    }

    /// The position of the last number of the list that is not above `x`.
    #[inline(always)]
    pub(super) fn last_up_to(&self, list: &[u64], x: u32) -> usize {
        let mut entry = DEEPER;
        let mut shift = 24u32;
        while entry & DEEPER != 0 {
            entry = self.tables[(entry & !DEEPER) as usize][(x >> shift) as usize & 255];
            shift = shift.saturating_sub(8);
        }
        let mut at = entry as usize;
        while list.get(at + 1).is_some_and(|n| *n <= x.into()) {
            at += 1;
        }
        at
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        /// Against a binary search, with numbers that are close together and far apart.
        #[test]
        fn finds_what_a_binary_search_finds(
            near in proptest::collection::btree_set(0u64..2000, 0..400),
            far in proptest::collection::btree_set(0u64..1 << 32, 0..40),
            base: u32,
            asked in proptest::collection::vec(any::<u32>(), 0..20),
        ) {
            let near = near.into_iter().map(|n| (u64::from(base) + n).min(u32::MAX.into()));
            let mut list: Vec<u64> = near.chain(far).chain([0]).collect();
            list.sort_unstable();
            list.dedup();
            let asked = asked.into_iter().chain((0..2100).map(|n| base.wrapping_add(n)));
            let octets = Octets::always(&list).unwrap();
            for x in asked {
                let wanted = list.partition_point(|n| *n <= x.into()) - 1;
                prop_assert_eq!(octets.last_up_to(&list, x), wanted);
            }
        }
    }
}
