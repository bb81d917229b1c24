//! Which of many ranges hold a number: found in a few steps, whatever their number and overlap.

use std::collections::BTreeSet;

use super::octets::Octets;

/// A value for every elementary interval between the ends of some ranges.
#[derive(Debug, Clone)]
pub(crate) struct IntervalMap<V> {
    starts: Vec<u64>,
    values: Vec<V>,
    /// Where the start of an address's interval is, where there are many.
    octets: Option<Octets>,
    /// For each 256th part of the IPv4 addresses the interval that most packets are for, if that
    /// was asked for.
    usual: Vec<Usual>,
    /// The same for each 256th of such a part, one after the other, where it has several intervals.
    usual_within: Vec<[Usual; 256]>,
    /// By part: the position of that, or [`NO_PARTS`].
    within: Vec<u16>,
}

/// An interval as far as it lies in a part.
#[derive(Debug, Clone, Copy)]
struct Usual {
    start: u32,
    /// The last number behind the start.
    span: u32,
    position: u32,
}

impl Usual {
    #[inline(always)]
    fn holds(&self, x: u64) -> bool {
        (x as u32).wrapping_sub(self.start) <= self.span
    }
}

/// So many bits of an address tell its place in a part.
const PART: u32 = 24;
/// The same of a part of such a part.
const PART_WITHIN: u32 = 16;
/// Of a part that is one interval.
const NO_PARTS: u16 = u16::MAX;

impl<V: Clone + PartialEq> IntervalMap<V> {
    fn plain(starts: Vec<u64>, values: Vec<V>) -> Self {
        let octets = Octets::new(&starts);
        let (usual, usual_within, within) = (Vec::new(), Vec::new(), Vec::new());
        Self { starts, values, octets, usual, usual_within, within }
    }

    /// From ranges of numbers below 2^64 - 1, both ends included. `value` makes an interval's value
    /// out of the positions of the ranges that hold it, in ascending order.
    pub(crate) fn new(ranges: &[(u64, u64)], value: impl Fn(&BTreeSet<usize>) -> V) -> Self {
        let mut edges: Vec<(u64, bool, usize)> = Vec::with_capacity(ranges.len() * 2);
        for (i, &(first, last)) in ranges.iter().enumerate() {
            edges.push((first, true, i));
            edges.push((last + 1, false, i));
        }
        // ranges come mostly in order: such runs are merged, not sorted
        edges.sort();
        let mut active = BTreeSet::new();
        let (mut starts, mut values) = (vec![0], vec![value(&active)]);
        let mut i = 0;
        while i < edges.len() {
            let at = edges[i].0;
            while i < edges.len() && edges[i].0 == at {
                if edges[i].1 {
                    active.insert(edges[i].2)
                } else {
                    active.remove(&edges[i].2)
                };
                i += 1;
            }
            let new = value(&active);
            if at == 0 {
                values[0] = new;
            } else if values.last() != Some(&new) {
                starts.push(at);
                values.push(new);
            }
        }
        Self::plain(starts, values)
    }

    /// From numbers at which the value may change. `value` tells it for a number.
    pub(crate) fn from_edges(mut edges: Vec<u64>, value: impl Fn(u64) -> V) -> Self {
        edges.push(0);
        edges.sort();
        edges.dedup();
        let (mut starts, mut values): (Vec<u64>, Vec<V>) = (Vec::new(), Vec::new());
        for at in edges {
            let new = value(at);
            if values.last() != Some(&new) {
                starts.push(at);
                values.push(new);
            }
        }
        Self::plain(starts, values)
    }

    /// Finds numbers sooner, at the cost of a table, where there are few intervals too.
    pub(crate) fn by_octets(mut self) -> Self {
        self.octets = Octets::always(&self.starts);
        self
    }

    /// Finds addresses sooner that are in the widest interval of their part that has such a value.
    pub(crate) fn favouring(mut self, favourite: impl Fn(&V) -> bool) -> Self {
        let parts = (0..1u64 << (32 - PART)).map(|part| part << PART);
        self.usual = parts.map(|low| self.widest(low, PART, &favourite)).collect();
        self
    }

    /// The same in the parts of each part, at the cost of more tables; after [`Self::favouring`].
    pub(crate) fn favouring_within(mut self, favourite: impl Fn(&V) -> bool) -> Self {
        for (part, usual) in (0..).zip(&self.usual) {
            if usual.span == (1 << PART) - 1 {
                self.within.push(NO_PARTS);
                continue;
            }
            let low = |n: usize| (part << PART) + ((n as u64) << PART_WITHIN);
            self.within.push(self.usual_within.len() as u16);
            self.usual_within
                .push(std::array::from_fn(|n| self.widest(low(n), PART_WITHIN, &favourite)));
        }
        self
    }

    /// The widest interval of those with such a value in the part of so many bits that begins at
    /// `low`; or the widest of all.
    fn widest(&self, low: u64, bits: u32, favourite: &impl Fn(&V) -> bool) -> Usual {
        let high = low + (1 << bits);
        let first = self.starts.partition_point(|s| *s <= low) - 1;
        let inside = (first..self.starts.len()).take_while(|i| self.starts[*i] < high);
        let end = |i: usize| self.starts.get(i + 1).map_or(high, |s| high.min(*s));
        let bounds = inside.map(|i| (self.starts[i].max(low), end(i), i));
        let widest =
            bounds.max_by_key(|(start, end, i)| (favourite(&self.values[*i]), end - start));
        let (start, end, position) = widest.unwrap_or((low, low + 1, first));
        Usual { start: start as u32, span: (end - start - 1) as u32, position: position as u32 }
    }

    /// Where the value changes.
    pub(crate) fn edges(&self) -> &[u64] {
        &self.starts
    }

    /// The value of the interval that holds `x`.
    #[inline(always)]
    pub(crate) fn get(&self, x: u64) -> &V {
        if let Some(usual) = self.usual.get((x >> PART) as usize)
            && usual.holds(x)
        {
            return &self.values[usual.position as usize];
        }
        self.search(x)
    }

    /// Apart, so that what most packets are for is found in place.
    #[inline(never)]
    fn search(&self, x: u64) -> &V {
        if let Some(within) = self.within.get((x >> PART) as usize)
            && let Some(parts) = self.usual_within.get(usize::from(*within))
            && let usual = parts[(x >> PART_WITHIN) as usize % 256]
            && usual.holds(x)
        {
            return &self.values[usual.position as usize];
        }
        let position = match &self.octets {
            Some(octets) if x <= u32::MAX.into() => octets.last_up_to(&self.starts, x as u32),
            Some(_) | None => self.starts.partition_point(|s| *s <= x) - 1,
        };
        &self.values[position]
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn names_exactly_the_ranges_that_hold_a_number(
            ranges in proptest::collection::vec((0u64..60, 0u64..20), 0..12),
            // close together, or all over the addresses
            scale in prop_oneof![Just(1u64), Just(9_000), Just(40_000_000)],
        ) {
            let ranges: Vec<_> =
                ranges.into_iter().map(|(a, n)| (a * scale, (a + n) * scale)).collect();
            let map =
                IntervalMap::new(&ranges, |active| active.iter().copied().collect::<Vec<_>>());
            let favouring = map.clone().favouring(|v| v.len() == 1);
            let within = favouring.clone().favouring_within(|v| v.len() == 1);
            let by_octets = map.clone().by_octets();
            for x in (0..90).flat_map(|x| [x * scale, x * scale + 1, x * scale + scale / 2]) {
                prop_assert_eq!(favouring.get(x), map.get(x));
                prop_assert_eq!(within.get(x), map.get(x));
                prop_assert_eq!(by_octets.get(x), map.get(x));
                let holding: Vec<_> =
                    (0..ranges.len()).filter(|i| ranges[*i].0 <= x && x <= ranges[*i].1).collect();
                prop_assert_eq!(map.get(x), &holding);
            }
        }
    }
}
