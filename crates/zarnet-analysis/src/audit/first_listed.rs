//! Which of many sets of addresses that are listed one after the other is the first to hold some.

use std::collections::BTreeMap;
use std::ops::Bound;

use crate::space::Intervals;
use zarnet_core::net::AddressSet;

/// Sets of addresses in the order in which they are listed, by position.
#[derive(Default)]
pub(super) struct FirstListed {
    /// Intervals that do not overlap, by their first numbers: the last one, and the first set that
    /// holds them.
    by_first: BTreeMap<u128, (u128, usize)>,
}

impl FirstListed {
    /// Adds the next set. `position`: where it is listed.
    pub(super) fn push(&mut self, set: &AddressSet, position: usize) {
        for &span in Intervals::addresses(set).list() {
            let held = self.overlapping(span).map(|(first, (last, _))| (*first, *last)).collect();
            let new = Intervals::new(vec![span]).difference(&Intervals::new(held));
            self.by_first
                .extend(new.list().iter().map(|(first, last)| (*first, (*last, position))));
        }
    }

    /// The position of the first set that holds one of some addresses.
    pub(super) fn first(&self, set: &AddressSet) -> Option<usize> {
        let spans = Intervals::addresses(set);
        let all = spans.list().iter().flat_map(|span| self.overlapping(*span));
        all.map(|(_, (_, position))| *position).min()
    }

    fn overlapping(&self, (first, last): (u128, u128)) -> impl Iterator<Item = Held<'_>> {
        let before = self.by_first.range(..first).next_back();
        let before = before.filter(|(_, (end, _))| *end >= first);
        let within = (Bound::Included(first), Bound::Included(last));
        before.into_iter().chain(self.by_first.range(within))
    }
}

type Held<'a> = (&'a u128, &'a (u128, usize));

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use zarnet_core::net::AddressRange;

    use super::*;

    fn sets() -> impl Strategy<Value = Vec<AddressSet>> {
        let range = (0u32..60, 0u32..20).prop_map(|(first, more)| {
            let address = |n: u32| std::net::IpAddr::V4((0x0a00_0000 + n).into());
            AddressRange::new(address(first), address(first + more)).unwrap()
        });
        let set = prop::collection::vec(range, 0..4).prop_map(|r| r.into_iter().collect());
        prop::collection::vec(set, 1..12)
    }

    proptest! {
        /// Against a walk from the beginning of the list.
        #[test]
        fn tells_the_same_as_a_walk(sets in sets(), asked in sets()) {
            let mut listed = FirstListed::default();
            (0..).zip(&sets).for_each(|(i, set)| listed.push(set, i));
            for set in asked {
                let walk = sets.iter().position(|s| s.intersects(&set));
                prop_assert_eq!(listed.first(&set), walk);
            }
        }
    }
}
