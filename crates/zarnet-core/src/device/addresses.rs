//! The IPv4 addresses that a pool can hand out, numbered in numeric order, and which of them are free.

use std::net::IpAddr;

use crate::net::AddressSet;

/// Addresses in numeric order, by position.
#[derive(Debug, Clone, Default)]
pub(super) struct Space {
    runs: Vec<Run>,
    count: u32,
    /// What the remainder of a division by `count` is found with.
    magic: u64,
}

#[derive(Debug, Clone, Copy)]
struct Run {
    first: u32,
    last: u32,
    /// Position of `first`.
    base: u32,
}

impl Space {
    /// The IPv4 addresses of a set; a built plan has no pool with more than 2^24 of them.
    pub(super) fn new(set: &AddressSet) -> Self {
        let mut space = Self::default();
        for range in set.ranges() {
            if let (IpAddr::V4(first), IpAddr::V4(last)) = (range.first(), range.last()) {
                let (first, last) = (first.to_bits(), last.to_bits());
                space.runs.push(Run { first, last, base: space.count });
                space.count = space.count.saturating_add((last - first).saturating_add(1));
            }
        }
        space.magic = u64::MAX.checked_div(space.count.into()).unwrap_or(0).wrapping_add(1);
        space
    }

    /// The position where `by-source` begins for a host: its address modulo [`Space::count`], which is not 0. By two
    /// multiplications in place of a division (Lemire, Kaser and Kurz, 2019): every new flow asks.
    #[inline(always)]
    pub(super) fn home(&self, host: u32) -> u32 {
        let part = self.magic.wrapping_mul(host.into());
        ((u128::from(part) * u128::from(self.count)) >> 64) as u32
    }

    pub(super) fn count(&self) -> u32 {
        self.count
    }

    /// The address at a position below [`Space::count`].
    pub(super) fn nth(&self, position: u32) -> u32 {
        let run = self.runs[self.runs.partition_point(|r| r.base <= position) - 1];
        run.first + (position - run.base)
    }

    pub(super) fn position(&self, address: u32) -> Option<u32> {
        let run = self.runs.get(self.runs.partition_point(|r| r.first <= address).checked_sub(1)?)?;
        (address <= run.last).then(|| run.base + (address - run.first))
    }

    /// The position of the first address above `address`, wrapping.
    pub(super) fn position_after(&self, address: u32) -> u32 {
        let i = self.runs.partition_point(|r| r.last <= address);
        self.runs.get(i).map_or(0, |r| if r.first > address { r.base } else { r.base + (address - r.first) + 1 })
    }

    pub(super) fn runs(&self) -> impl Iterator<Item = (u32, u32)> + '_ {
        self.runs.iter().map(|r| (r.first, r.last))
    }
}

/// A set of positions in which the next member is found in a few steps, however few there are: each level has one bit
/// for every 64 of the level below that is not empty.
#[derive(Debug, Clone)]
pub(super) struct FreeSet {
    levels: Vec<Vec<u64>>,
    len: u32,
}

impl FreeSet {
    /// All positions below `count`.
    pub(super) fn full(count: u32) -> Self {
        let mut levels = Vec::new();
        let mut bits = count as usize;
        loop {
            let mut level = vec![u64::MAX; bits.div_ceil(64).max(1)];
            if !bits.is_multiple_of(64) || bits == 0 {
                let last = level.len() - 1;
                level[last] = (1 << (bits % 64)) - 1;
            }
            bits = level.len();
            levels.push(level);
            if bits == 1 {
                return Self { levels, len: count };
            }
        }
    }

    pub(super) fn len(&self) -> u32 {
        self.len
    }

    pub(super) fn contains(&self, position: u32) -> bool {
        self.levels[0][position as usize / 64] >> (position % 64) & 1 == 1
    }

    pub(super) fn insert(&mut self, position: u32) {
        self.len += u32::from(!self.contains(position));
        let mut at = position as usize;
        for level in &mut self.levels {
            level[at / 64] |= 1 << (at % 64);
            at /= 64;
        }
    }

    pub(super) fn remove(&mut self, position: u32) {
        self.len -= u32::from(self.contains(position));
        let mut at = position as usize;
        for level in &mut self.levels {
            level[at / 64] &= !(1 << (at % 64));
            if level[at / 64] != 0 {
                break;
            }
            at /= 64;
        }
    }

    /// The lowest member at or above `from`.
    pub(super) fn at_or_above(&self, from: u32) -> Option<u32> {
        let mut at = from as usize;
        for height in 0..self.levels.len() {
            let word = self.levels[height].get(at / 64)? & u64::MAX << (at % 64);
            if word != 0 {
                at = at / 64 * 64 + word.trailing_zeros() as usize;
                for level in self.levels[..height].iter().rev() {
                    at = at * 64 + level[at].trailing_zeros() as usize;
                }
                return Some(at as u32);
            }
            at = at / 64 + 1;
        }
        None
    }

    /// The highest member.
    pub(super) fn highest(&self) -> Option<u32> {
        let mut at = 0;
        for level in self.levels.iter().rev() {
            at = at * 64 + level[at].checked_ilog2()? as usize;
        }
        Some(at as u32)
    }

    /// The `n`-th member, from 0.
    pub(super) fn nth(&self, mut n: u32) -> Option<u32> {
        for (i, word) in self.levels[0].iter().enumerate() {
            if n >= word.count_ones() {
                n -= word.count_ones();
                continue;
            }
            let rest = (0..n).fold(*word, |w, _| w & (w - 1));
            return Some(i as u32 * 64 + rest.trailing_zeros());
        }
        None
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::net::AddressRange;
    use proptest::prelude::*;

    #[test]
    fn positions_run_through_holes() {
        let set =
            ["203.0.113.12-203.0.113.13", "203.0.113.9", "2001:db8::/64"].map(|t| t.parse::<AddressRange>().unwrap());
        let space = Space::new(&set.into_iter().collect());
        let address = |last: u32| 0xCB00_7100 + last;
        assert_eq!((0..space.count()).map(|n| space.nth(n)).collect::<Vec<_>>(), [9, 12, 13].map(address));
        assert_eq!([9, 10, 13].map(|a| space.position(address(a))), [Some(0), None, Some(2)]);
        assert_eq!([8, 9, 10, 12, 13, 99].map(|a| space.position_after(address(a))), [0, 1, 1, 2, 0, 0]);
    }

    proptest! {
        #[test]
        fn members_are_found_however_few(count in 1u32..9000, steps in proptest::collection::vec((any::<bool>(), 0u32..9000), 0..60), from in 0u32..9000) {
            let (mut set, mut model) = (FreeSet::full(count), vec![true; count as usize]);
            // nearly empty, as a pool is when it matters
            for position in 40.min(count)..count {
                set.remove(position);
                model[position as usize] = false;
            }
            for (put, position) in steps {
                let position = position % count;
                if put { set.insert(position) } else { set.remove(position) }
                model[position as usize] = put;
            }
            let members: Vec<u32> = (0..count).filter(|p| model[*p as usize]).collect();
            prop_assert_eq!(set.len() as usize, members.len());
            prop_assert_eq!(set.at_or_above(from), members.iter().find(|m| **m >= from).copied());
            prop_assert_eq!(set.highest(), members.last().copied());
            prop_assert_eq!(set.nth(members.len() as u32 / 2), members.get(members.len() / 2).copied());
        }
    }
}
