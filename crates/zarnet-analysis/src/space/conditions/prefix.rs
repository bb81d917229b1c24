//! Sets of addresses through a prefix translation: a word of each address is adjusted (RFC 6296
//! §3), so that what lies beside each other on one side need not do so on the other.

use std::net::IpAddr;

use zarnet_core::device::PrefixPair;
use zarnet_core::net::AddressRange;

use super::super::boxes::Intervals;
use super::super::{address, number};

/// Of addresses without a counterpart so many are told apart; more than a plan of networks has.
const MOST_ODD: u128 = 4096;

/// The word that has no counterpart, or leaves the adjusting to the next one.
const FULL: u128 = 0xFFFF;

/// What a set of addresses of one prefix becomes on the other side.
pub(super) fn mapped(
    set: &Intervals,
    pair: &PrefixPair,
    map: impl Fn(IpAddr) -> Option<IpAddr>,
) -> Intervals {
    let word = if pair.length() <= 48 { 3 } else { 4 };
    let mut through = Through { map, is_last: word == 3, list: Vec::new() };
    set.list().iter().for_each(|(first, last)| through.add(*first, *last, word));
    Intervals::new(through.list)
}

/// A mapping of intervals in the making.
struct Through<F> {
    map: F,
    /// Whether no other word than the first takes the adjustment.
    is_last: bool,
    list: Vec<(u128, u128)>,
}

impl<F: Fn(IpAddr) -> Option<IpAddr>> Through<F> {
    /// The counterpart of an address by its words alone: the address of the routers of a subnet,
    /// which has none (§3.5), counts as its neighbour.
    fn one(&self, n: u128) -> Option<u128> {
        let is_router = !self.is_last && n as u64 == 0;
        let mapped = number((self.map)(address(n | u128::from(is_router)))?);
        Some(mapped - u128::from(is_router))
    }

    /// Adds the counterparts of an interval; `word`: which one is adjusted, counted from 0.
    fn add(&mut self, first: u128, last: u128, word: u32) {
        let low = 112 - 16 * word;
        let (from, to) = (first >> low, last >> low);
        if from == to {
            return self.in_block(first, last, word);
        }
        let end_of = |block: u128| (block << low) | ((1 << low) - 1);
        let (whole_from, whole_to) =
            (from + u128::from(first != from << low), to - u128::from(last != end_of(to)));
        if whole_from > from {
            self.in_block(first, end_of(from), word);
        }
        if whole_to < to {
            self.in_block(to << low, last, word);
        }
        // where the adjusted word takes every value it does so on the other side too
        let (group_from, group_to) = (whole_from.div_ceil(FULL + 1), (whole_to + 1) >> 16);
        if group_from >= group_to {
            let seam = (whole_to & !FULL).max(whole_from);
            if seam > whole_from {
                self.blocks(whole_from, seam - 1, word);
            }
            return self.blocks(seam, whole_to, word);
        }
        if let Some(n) = self.one((group_from << 16 << low) | 1) {
            let start = n >> low >> 16 << 16 << low;
            self.list.push((start, start + ((group_to - group_from) << 16 << low) - 1));
        }
        if whole_from < group_from << 16 {
            self.blocks(whole_from, (group_from << 16) - 1, word);
        }
        if group_to << 16 <= whole_to {
            self.blocks(group_to << 16, whole_to, word);
        }
    }

    /// Adds whole blocks of one group: they differ in the adjusted word only.
    fn blocks(&mut self, first: u128, last: u128, word: u32) {
        let low = 112 - 16 * word;
        if last & FULL == FULL && !self.is_last {
            // there the next word is adjusted, and takes every value
            if let Some(n) = self.one((last << low) | 1) {
                let start = n >> low << low;
                self.list.push((start, start | ((1 << low) - 1)));
            }
        }
        let last = last - u128::from(last & FULL == FULL);
        if first > last {
            return;
        }
        let Some((a, b)) = self.one(first << low).zip(self.one(last << low)) else { return };
        let (a, b) = (a >> low, b >> low);
        let mut push = |a: u128, b: u128| self.list.push((a << low, (b << low) | ((1 << low) - 1)));
        if a <= b {
            push(a, b);
        } else {
            // one's complement: what is below 0xFFFF goes round
            push(a, (a & !FULL) | (FULL - 1));
            push(b & !FULL, b);
        }
    }

    /// Adds a part of one block, in which the adjusted word is the same.
    fn in_block(&mut self, first: u128, last: u128, word: u32) {
        let low = 112 - 16 * word;
        if (first >> low) & FULL == FULL {
            if !self.is_last && word < 7 {
                self.add(first, last, word + 1);
            }
        } else if let Some((a, b)) = self.one(first).zip(self.one(last)) {
            self.list.push((a, b));
        }
    }
}

/// Addresses of a prefix that have no counterpart: the last subnet of a short prefix (§3.4), or of
/// each subnet the address of its routers (§3.5) and the one of which every word is full.
pub(super) fn without_counterpart(prefix: AddressRange, pair: &PrefixPair) -> Intervals {
    let first = number(prefix.first());
    let hosts = u128::from(u64::MAX);
    let list = match pair.length() {
        length @ ..=48 => {
            let last = |n: u128| first + (n << 80) + (FULL << 64);
            let many = (1 << (48 - length)).min(MOST_ODD);
            (0..many).map(|n| (last(n), last(n) + hosts)).collect()
        }
        length => {
            let subnet = |n: u128| first + (n << 64);
            let many = (1 << (64 - length)).min(MOST_ODD);
            let ends = |n| [subnet(n), subnet(n) + hosts].map(|a| (a, a));
            (0..many).flat_map(ends).collect()
        }
    };
    Intervals::new(list)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use zarnet_core::net::Prefix;

    fn pair(length: u8) -> (AddressRange, AddressRange, PrefixPair) {
        let range = |text: &str| -> AddressRange {
            format!("{text}/{length}").parse::<Prefix>().unwrap().range()
        };
        let (inside, outside) = (range("fd00:1:2::"), range("2001:db8:7::"));
        (inside, outside, PrefixPair::new(inside, outside).unwrap())
    }

    proptest! {
        /// An address lies in a set if its counterpart lies in what the set becomes.
        #[test]
        fn a_set_becomes_what_its_addresses_become(
            length in prop::sample::select(vec![44u8, 48, 52, 56, 60, 64]),
            ends in prop::array::uniform2(any::<u128>()),
            wide in 0u32..100,
            probes in prop::collection::vec((any::<u128>(), 0u32..100), 40),
        ) {
            let (inside, outside, pair) = pair(length);
            let (base, host) = (number(inside.first()), u128::MAX >> length);
            let (a, b) = (ends[0] & host, (ends[0] ^ (ends[1] & host) >> wide) & host);
            let set = Intervals::new(vec![(base + a.min(b), base + a.max(b))]);
            let through = mapped(&set, &pair, |a| pair.outward(a));
            let range = Intervals::new(vec![(number(outside.first()), number(outside.last()))]);
            prop_assert_eq!(through.difference(&range), Intervals::new(Vec::new()));
            for (n, near) in probes {
                // anywhere, near an end of the set, and where a word is full
                for n in [n & host, (a ^ (n & host) >> near) & host, (n | FULL << 48) & host] {
                    let Some(there) = pair.outward(address(base + n)) else { continue };
                    let held = through.contains(number(there));
                    prop_assert_eq!(set.contains(base + n), held, "{:x} in {:x?}", base + n, set);
                }
            }
        }
    }
}
