//! Sets of addresses: sorted ranges without overlap, one list a family.

use std::fmt;
use std::net::IpAddr;

use super::address::{AddressRange, Family, number};

/// A set of addresses of both families.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct AddressSet {
    v4: Vec<(u32, u32)>,
    v6: Vec<(u128, u128)>,
}

impl AddressSet {
    /// Every address of both families.
    pub fn all() -> Self {
        Self { v4: vec![(0, u32::MAX)], v6: vec![(0, u128::MAX)] }
    }

    /// Adds a range, joined with those that it touches.
    pub fn insert(&mut self, range: AddressRange) {
        let (first, last) = (number(range.first()), number(range.last()));
        match range.family() {
            Family::V4 => insert(&mut self.v4, (first as u32, last as u32), |x| x.checked_add(1)),
            Family::V6 => insert(&mut self.v6, (first, last), |x| x.checked_add(1)),
        }
    }

    /// Adds every address of `other`.
    pub fn extend(&mut self, other: &Self) {
        // a few ranges find their places; many are merged in one go
        if other.v4.len() + other.v6.len() <= FEW {
            other.ranges().for_each(|r| self.insert(r));
            return;
        }
        self.v4.extend_from_slice(&other.v4);
        self.v6.extend_from_slice(&other.v6);
        merge(&mut self.v4, |x| x.checked_add(1));
        merge(&mut self.v6, |x| x.checked_add(1));
    }

    /// Takes a range out.
    pub fn remove(&mut self, range: AddressRange) {
        let (first, last) = (number(range.first()), number(range.last()));
        match range.family() {
            Family::V4 => remove(&mut self.v4, (first as u32, last as u32), |x| x - 1, |x| x + 1),
            Family::V6 => remove(&mut self.v6, (first, last), |x| x - 1, |x| x + 1),
        }
    }

    /// Whether the set holds `address`.
    pub fn contains(&self, address: IpAddr) -> bool {
        match address {
            IpAddr::V4(a) => position(&self.v4, a.to_bits()).is_some(),
            IpAddr::V6(a) => position(&self.v6, a.to_bits()).is_some(),
        }
    }

    /// Whether it holds nothing.
    pub fn is_empty(&self) -> bool {
        self.v4.is_empty() && self.v6.is_empty()
    }

    /// Whether it holds every address of both families.
    pub fn is_all(&self) -> bool {
        self.v4 == [(0, u32::MAX)] && self.v6 == [(0, u128::MAX)]
    }

    /// Whether the two have an address in common.
    pub fn intersects(&self, other: &Self) -> bool {
        intersects(&self.v4, &other.v4) || intersects(&self.v6, &other.v6)
    }

    /// Number of addresses, saturating.
    pub fn count(&self) -> u128 {
        self.ranges().fold(0, |n: u128, r| n.saturating_add(r.count()))
    }

    /// The ranges in numeric order, IPv4 first.
    pub fn ranges(&self) -> impl Iterator<Item = AddressRange> + '_ {
        let range =
            |family: Family, a, b| AddressRange::new(family.address(a), family.address(b)).ok();
        let v4 = self.v4.iter().filter_map(move |&(a, b)| range(Family::V4, a.into(), b.into()));
        v4.chain(self.v6.iter().filter_map(move |&(a, b)| range(Family::V6, a, b)))
    }

    /// The ranges that have an address in common with `with`, in numeric order.
    pub fn overlapping(&self, with: AddressRange) -> impl Iterator<Item = AddressRange> + '_ {
        let (first, last) = (number(with.first()), number(with.last()));
        let range =
            |family: Family, a, b| AddressRange::new(family.address(a), family.address(b)).ok();
        let (v4, v6): (&[_], &[_]) = match with.family() {
            Family::V4 => (overlapping(&self.v4, first as u32, last as u32), &[]),
            Family::V6 => (&[], overlapping(&self.v6, first, last)),
        };
        let v4 = v4.iter().filter_map(move |&(a, b)| range(Family::V4, a.into(), b.into()));
        v4.chain(v6.iter().filter_map(move |&(a, b)| range(Family::V6, a, b)))
    }

    /// The addresses of another set that this one lacks.
    pub fn missing(&self, of: &Self) -> Self {
        let mut missing = of.clone();
        of.ranges().flat_map(|part| self.overlapping(part)).for_each(|r| missing.remove(r));
        missing
    }

    /// The one address of a set of one.
    pub fn single(&self) -> Option<IpAddr> {
        let mut ranges = self.ranges();
        let range = ranges.next()?;
        (range.count() == 1 && ranges.next().is_none()).then(|| range.first())
    }
}

impl From<AddressRange> for AddressSet {
    fn from(range: AddressRange) -> Self {
        let mut set = Self::default();
        set.insert(range);
        set
    }
}

impl FromIterator<AddressRange> for AddressSet {
    fn from_iter<I: IntoIterator<Item = AddressRange>>(ranges: I) -> Self {
        let mut set = Self::default();
        for range in ranges {
            let (first, last) = (number(range.first()), number(range.last()));
            match range.family() {
                Family::V4 => set.v4.push((first as u32, last as u32)),
                Family::V6 => set.v6.push((first, last)),
            }
        }
        merge(&mut set.v4, |x| x.checked_add(1));
        merge(&mut set.v6, |x| x.checked_add(1));
        set
    }
}

/// So many ranges are put into a set one by one.
const FEW: usize = 8;

/// Puts ranges in order, and joins those that overlap or touch.
fn merge<T: Ord + Copy>(list: &mut Vec<(T, T)>, next: impl Fn(T) -> Option<T>) {
    list.sort_unstable();
    list.dedup_by(|later, before| {
        let joined = next(before.1).is_none_or(|n| later.0 <= n);
        if joined {
            before.1 = before.1.max(later.1);
        }
        joined
    });
}

impl fmt::Display for AddressSet {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (i, range) in self.ranges().enumerate() {
            write!(f, "{}{range}", if i == 0 { "" } else { ", " })?;
        }
        Ok(())
    }
}

/// The ranges between the first that ends behind `first` and the last that begins before `last`.
fn overlapping<T: Ord + Copy>(list: &[(T, T)], first: T, last: T) -> &[(T, T)] {
    let start = list.partition_point(|r| r.1 < first);
    let end = start + list[start..].partition_point(|r| r.0 <= last);
    &list[start..end]
}

/// The index of the range that holds `x`.
fn position<T: Ord + Copy>(list: &[(T, T)], x: T) -> Option<usize> {
    let i = list.partition_point(|r| r.0 <= x).checked_sub(1)?;
    (x <= list[i].1).then_some(i)
}

fn insert<T: Ord + Copy>(list: &mut Vec<(T, T)>, new: (T, T), next: impl Fn(T) -> Option<T>) {
    // everything that overlaps or touches the new range is swallowed by it
    let touches_below = |end: T| next(end).is_none_or(|n| n >= new.0);
    let start = list.partition_point(|r| !touches_below(r.1) && r.1 < new.0);
    let reach = next(new.1);
    let end = start + list[start..].partition_point(|r| reach.is_none_or(|n| r.0 <= n));
    let merged = list[start..end].iter().fold(new, |m, r| (m.0.min(r.0), m.1.max(r.1)));
    list.splice(start..end, [merged]);
}

fn remove<T: Ord + Copy>(
    list: &mut Vec<(T, T)>,
    gone: (T, T),
    before: impl Fn(T) -> T,
    after: impl Fn(T) -> T,
) {
    let start = list.partition_point(|r| r.1 < gone.0);
    let end = start + list[start..].partition_point(|r| r.0 <= gone.1);
    if start == end {
        return;
    }
    let (first, last) = (list[start], list[end - 1]);
    let left = (first.0 < gone.0).then(|| (first.0, before(gone.0)));
    let right = (last.1 > gone.1).then(|| (after(gone.1), last.1));
    list.splice(start..end, left.into_iter().chain(right));
}

fn intersects<T: Ord>(a: &[(T, T)], b: &[(T, T)]) -> bool {
    let (mut i, mut j) = (0, 0);
    while i < a.len() && j < b.len() {
        if a[i].1 < b[j].0 {
            i += 1;
        } else if b[j].1 < a[i].0 {
            j += 1;
        } else {
            return true;
        }
    }
    false
}
