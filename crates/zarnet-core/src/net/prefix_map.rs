//! Values by prefix, found by an address, the longest prefix first.

use std::collections::HashMap;
use std::net::IpAddr;

use foldhash::fast::RandomState;

use super::Prefix;

/// Values by prefix; each prefix may have several.
#[derive(Debug, Clone)]
pub struct PrefixMap<T> {
    values: HashMap<Prefix, Vec<T>, RandomState>,
    /// Lengths that occur, the longest first: few, whatever the number of prefixes.
    lengths: Vec<u8>,
}

impl<T> Default for PrefixMap<T> {
    fn default() -> Self {
        Self { values: HashMap::default(), lengths: Vec::new() }
    }
}

impl<T> PrefixMap<T> {
    /// Adds a value behind those that the prefix has.
    pub fn insert(&mut self, prefix: Prefix, value: T) {
        self.values.entry(prefix).or_default().push(value);
        if let Err(position) = self.lengths.binary_search_by(|l| prefix.length().cmp(l)) {
            self.lengths.insert(position, prefix.length());
        }
    }

    /// The values of every prefix that holds an address, the longest prefix first.
    pub fn holding(&self, address: IpAddr) -> impl Iterator<Item = &[T]> {
        let prefixes = self.lengths.iter().filter_map(move |&l| Prefix::holding(address, l));
        prefixes.filter_map(|p| self.values.get(&p).map(Vec::as_slice))
    }

    /// The value of the longest prefix that holds an address; of several the one that was inserted
    /// first.
    pub fn longest(&self, address: IpAddr) -> Option<&T> {
        self.holding(address).next()?.first()
    }

    /// The prefixes, in no order.
    pub fn prefixes(&self) -> impl Iterator<Item = Prefix> {
        self.values.keys().copied()
    }
}

impl<T> Extend<(Prefix, T)> for PrefixMap<T> {
    fn extend<I: IntoIterator<Item = (Prefix, T)>>(&mut self, items: I) {
        items.into_iter().for_each(|(prefix, value)| self.insert(prefix, value));
    }
}
