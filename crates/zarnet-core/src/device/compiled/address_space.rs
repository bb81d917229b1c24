//! The addresses that a target can hand out, numbered in numeric order.

use crate::device::key::Key;
use crate::net::{AddressRange, AddressSet};

/// Addresses in numeric order, by position.
#[derive(Debug, Clone, Default)]
pub(in crate::device) struct AddressSpace {
    runs: Vec<Run>,
    count: u32,
    /// What the remainder of a division by `count` is found with.
    magic: u64,
}

#[derive(Debug, Clone, Copy)]
struct Run {
    first: Key,
    last: Key,
    /// Position that the first address has.
    base: u32,
}

impl AddressSpace {
    /// The IPv4 addresses of a set; a built plan has no pool with more than 2^24 of them.
    pub(in crate::device) fn new(set: &AddressSet) -> Self {
        let mut space = Self::default();
        for range in set.ranges() {
            if let Some((first, last)) = Key::ends_of(range) {
                space.runs.push(Run { first, last, base: space.count });
                space.count = space.count.saturating_add(last.minus(first).saturating_add(1));
            }
        }
        space.magic = u64::MAX.checked_div(space.count.into()).unwrap_or(0).wrapping_add(1);
        space
    }

    /// The position where `by-source` begins for a host: its address modulo
    /// [`AddressSpace::count`], which is not 0. By two multiplications in place of a division
    /// (Lemire, Kaser and Kurz, 2019): every new flow asks.
    #[inline(always)]
    pub(in crate::device) fn first_for(&self, host: Key) -> u32 {
        let part = self.magic.wrapping_mul(host.number());
        ((u128::from(part) * u128::from(self.count)) >> 64) as u32
    }

    pub(in crate::device) fn count(&self) -> u32 {
        self.count
    }

    /// The address at a position below [`AddressSpace::count`].
    pub(in crate::device) fn nth(&self, position: u32) -> Key {
        let run = self.runs[self.runs.partition_point(|r| r.base <= position) - 1];
        run.first.plus(position - run.base)
    }

    pub(in crate::device) fn position(&self, address: Key) -> Option<u32> {
        let run =
            self.runs.get(self.runs.partition_point(|r| r.first <= address).checked_sub(1)?)?;
        (address <= run.last).then(|| run.base + address.minus(run.first))
    }

    /// The position of the first address above `address`, wrapping.
    pub(in crate::device) fn position_after(&self, address: Key) -> u32 {
        let i = self.runs.partition_point(|r| r.last <= address);
        self.runs.get(i).map_or(0, |r| {
            if r.first > address { r.base } else { r.base + address.minus(r.first) + 1 }
        })
    }

    pub(in crate::device) fn runs(&self) -> impl Iterator<Item = (Key, Key)> + '_ {
        self.runs.iter().map(|r| (r.first, r.last))
    }

    /// The same as ranges of addresses.
    pub(in crate::device) fn ranges(&self) -> impl Iterator<Item = AddressRange> + '_ {
        self.runs()
            .filter_map(|(first, last)| AddressRange::new(first.address(), last.address()).ok())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn positions_run_through_holes() {
        let set = ["203.0.113.12-203.0.113.13", "203.0.113.9", "2001:db8::/64"]
            .map(|t| t.parse::<AddressRange>().unwrap());
        let space = AddressSpace::new(&set.into_iter().collect());
        let address = |last: u8| Key::of([203, 0, 113, last].into()).unwrap();
        assert_eq!(
            (0..space.count()).map(|n| space.nth(n)).collect::<Vec<_>>(),
            [9, 12, 13].map(address)
        );
        assert_eq!([9, 10, 13].map(|a| space.position(address(a))), [Some(0), None, Some(2)]);
        assert_eq!(
            [8, 9, 10, 12, 13, 99].map(|a| space.position_after(address(a))),
            [0, 1, 1, 2, 0, 0]
        );
    }
}
