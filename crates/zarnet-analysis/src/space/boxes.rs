//! Sets of numbers, and products of them.

use super::{Field, MAPPED, Point, number};
use zarnet_core::net::{AddressRange, AddressSet};

/// A set of numbers: sorted, disjoint, not adjacent; both ends included.
#[derive(Debug, Clone, Default, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Intervals(Vec<(u128, u128)>);

impl Intervals {
    /// The union of intervals, which may overlap, in any order.
    pub fn new(mut list: Vec<(u128, u128)>) -> Self {
        list.retain(|i| i.0 <= i.1);
        list.sort_unstable();
        let mut merged: Vec<(u128, u128)> = Vec::with_capacity(list.len());
        for (first, last) in list {
            match merged.last_mut() {
                Some(m) if m.1 == u128::MAX || first <= m.1 + 1 => m.1 = m.1.max(last),
                _ => merged.push((first, last)),
            }
        }
        Self(merged)
    }

    /// All numbers of a field.
    pub fn all(field: Field) -> Self {
        Self(vec![(0, field.most())])
    }

    /// The set of a single number.
    pub fn one(n: u128) -> Self {
        Self(vec![(n, n)])
    }

    /// The addresses of a set.
    pub fn addresses(set: &AddressSet) -> Self {
        if set.is_all() {
            return Self::all(Field::Source);
        }
        let (v4, v6): (Vec<_>, Vec<_>) = set.ranges().partition(|r| r.first().is_ipv4());
        let list = |ranges: Vec<AddressRange>| {
            Self::new(ranges.iter().map(|r| (number(r.first()), number(r.last()))).collect())
        };
        // where IPv4 stands, IPv6 has addresses that no packet carries
        list(v6).difference(&Self::ipv4()).union(&list(v4))
    }

    /// All addresses of IPv4.
    pub fn ipv4() -> Self {
        Self(vec![(MAPPED, MAPPED | 0xffff_ffff)])
    }

    /// The intervals in ascending order, both ends included.
    pub fn list(&self) -> &[(u128, u128)] {
        &self.0
    }

    /// Whether it holds nothing.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// Whether it holds a number.
    pub fn contains(&self, n: u128) -> bool {
        let behind = self.0.partition_point(|i| i.0 <= n);
        behind.checked_sub(1).is_some_and(|i| n <= self.0[i].1)
    }

    /// Everything that either set holds.
    pub fn union(&self, other: &Self) -> Self {
        Self::new(self.0.iter().chain(&other.0).copied().collect())
    }

    /// Everything that both sets hold.
    pub fn intersection(&self, other: &Self) -> Self {
        let (few, many) = if self.0.len() < other.0.len() { (self, other) } else { (other, self) };
        let both = few
            .0
            .iter()
            .flat_map(|a| many.overlapping(a.0, a.1).iter().map(|b| (a.0.max(b.0), a.1.min(b.1))));
        Self(both.collect())
    }

    /// The intervals that have a number in common with another one.
    fn overlapping(&self, first: u128, last: u128) -> &[(u128, u128)] {
        let rest = &self.0[self.0.partition_point(|i| i.1 < first)..];
        &rest[..rest.partition_point(|i| i.0 <= last)]
    }

    /// Whether the two have a number in common.
    pub fn intersects(&self, other: &Self) -> bool {
        let (few, many) = if self.0.len() < other.0.len() { (self, other) } else { (other, self) };
        few.0.iter().any(|a| !many.overlapping(a.0, a.1).is_empty())
    }

    /// Whether it holds one of some addresses.
    pub fn holds_any(&self, set: &AddressSet) -> bool {
        set.is_all() || set.ranges().any(|r| self.meets((number(r.first()), number(r.last()))))
    }

    /// Whether it holds a number of an interval.
    pub fn meets(&self, (first, last): (u128, u128)) -> bool {
        !self.overlapping(first, last).is_empty()
    }

    /// What this one holds and the other does not.
    pub fn difference(&self, other: &Self) -> Self {
        let mut list = Vec::new();
        for (first, last) in &self.0 {
            let mut next = Some(*first);
            for &(a, b) in other.overlapping(*first, *last) {
                if let Some(n) = next.filter(|n| *n < a) {
                    list.push((n, a - 1));
                }
                next = b.checked_add(1);
            }
            list.extend(next.filter(|n| n <= last).map(|n| (n, *last)));
        }
        Self(list)
    }

    /// Every number moved by a distance, wrapping: as addresses are that a rule translates one by
    /// one.
    pub fn moved(&self, by: u128) -> Self {
        Self::new(self.0.iter().map(|i| (i.0.wrapping_add(by), i.1.wrapping_add(by))).collect())
    }

    /// How many members there are; saturates at `u128::MAX`.
    pub fn count(&self) -> u128 {
        self.0.iter().fold(0, |n: u128, i| n.saturating_add(i.1 - i.0).saturating_add(1))
    }

    /// The addresses that it stands for.
    pub fn as_addresses(&self) -> AddressSet {
        let parts = [
            (0, MAPPED - 1),
            (MAPPED, MAPPED | 0xffff_ffff),
            ((MAPPED | 0xffff_ffff) + 1, u128::MAX),
        ];
        let mut set = AddressSet::default();
        for part in parts {
            for (first, last) in self.intersection(&Self(vec![part])).0 {
                if let Ok(range) = AddressRange::new(super::address(first), super::address(last)) {
                    set.insert(range);
                }
            }
        }
        set
    }
}

/// A product of sets, one for each field.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Area(pub [Intervals; 5]);

impl Area {
    /// The box that holds every packet.
    pub fn all() -> Self {
        Self(Field::ALL.map(Intervals::all))
    }

    /// One of its sets.
    pub fn of(&self, field: Field) -> &Intervals {
        &self.0[field as usize]
    }

    /// Whether it holds a packet.
    pub fn contains(&self, point: Point) -> bool {
        self.0.iter().zip(point).all(|(set, n)| set.contains(n))
    }

    /// Puts two into one where they differ in one field only, again and again.
    pub fn merged(mut list: Vec<Self>) -> Vec<Self> {
        for field in [4, 3, 2, 1, 0] {
            // those that agree in all other fields lie beside each other
            let key = |a: &Self| {
                let mut rest = a.0.clone();
                rest[field] = Intervals::default();
                rest
            };
            list.sort_by_cached_key(key);
            let mut merged: Vec<Self> = Vec::with_capacity(list.len());
            for area in list {
                match merged.last_mut() {
                    Some(last) if key(last) == key(&area) => {
                        last.0[field] = last.0[field].union(&area.0[field])
                    }
                    _ => merged.push(area),
                }
            }
            list = merged;
        }
        list
    }
}
