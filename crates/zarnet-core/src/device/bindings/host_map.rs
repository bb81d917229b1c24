//! What is kept of internal hosts, by host and something besides: looked up for most new mappings,
//! and so a table of its own, in which a look-up is one place that can be read beforehand.

use super::index::mix;
use crate::device::key::Key;

/// What a host can have. One that has nothing has no place in the table.
pub(super) trait Kept: Clone + Default {
    /// Whether this is what a host has that is not in the table.
    fn is_nothing(&self) -> bool;
}

impl Kept for u32 {
    fn is_nothing(&self) -> bool {
        *self == 0
    }
}

/// A place of the table: free, if what it holds is nothing.
#[derive(Debug, Clone, Default)]
struct Place<V> {
    host: Key,
    /// A target, a rule or a port table.
    of: u32,
    value: V,
}

/// What hosts have, by host and something besides.
#[derive(Debug, Clone)]
pub(in crate::device) struct HostMap<V> {
    /// A power of two of them; none before the first host.
    places: Vec<Place<V>>,
    len: usize,
}

/// So many places for the first hosts.
const FIRST: usize = 16;

impl<V> Default for HostMap<V> {
    fn default() -> Self {
        Self { places: Vec::new(), len: 0 }
    }
}

impl<V: Kept> HostMap<V> {
    pub(super) fn is_empty(&self) -> bool {
        self.len == 0
    }

    #[inline(always)]
    fn home(&self, host: Key, of: u32) -> usize {
        mix(host.number(), of.into()) as usize & self.places.len().wrapping_sub(1)
    }

    /// Where a host is, or the free place where it would go; there must be places.
    #[inline]
    fn search(&self, host: Key, of: u32) -> Result<usize, usize> {
        let mut at = self.home(host, of);
        loop {
            let place = &self.places[at];
            if place.value.is_nothing() {
                return Err(at);
            }
            if place.host == host && place.of == of {
                return Ok(at);
            }
            at = (at + 1) & (self.places.len() - 1);
        }
    }

    /// What a host has, and where that is noted until the next change.
    #[inline]
    pub(super) fn find(&self, host: Key, of: u32) -> Option<(&V, usize)> {
        if self.len == 0 {
            return None;
        }
        let at = self.search(host, of).ok()?;
        Some((&self.places[at].value, at))
    }

    /// What is noted where [`Self::find`] has found it. It must not become nothing.
    pub(super) fn at(&mut self, place: usize) -> &mut V {
        &mut self.places[place].value
    }

    /// Changes what a host has, and gives what `change` does.
    #[inline]
    pub(super) fn change<T>(&mut self, host: Key, of: u32, change: impl FnOnce(&mut V) -> T) -> T {
        // half of the places stay free
        if self.len * 2 >= self.places.len() {
            self.grow();
        }
        match self.search(host, of) {
            Ok(at) => {
                let result = change(&mut self.places[at].value);
                if self.places[at].value.is_nothing() {
                    self.vacate(at);
                }
                result
            }
            Err(free) => {
                let place = &mut self.places[free];
                (place.host, place.of) = (host, of);
                let result = change(&mut place.value);
                self.len += usize::from(!place.value.is_nothing());
                result
            }
        }
    }

    fn grow(&mut self) {
        let larger = vec![Place::default(); (self.places.len() * 2).max(FIRST)];
        for place in std::mem::replace(&mut self.places, larger) {
            if !place.value.is_nothing()
                && let Err(free) = self.search(place.host, place.of)
            {
                self.places[free] = place;
            }
        }
    }

    /// Frees a place, and moves back those behind it that would not be found across a hole.
    fn vacate(&mut self, mut hole: usize) {
        self.len -= 1;
        let mask = self.places.len() - 1;
        let mut at = (hole + 1) & mask;
        while !self.places[at].value.is_nothing() {
            let home = self.home(self.places[at].host, self.places[at].of);
            if at.wrapping_sub(home) & mask >= at.wrapping_sub(hole) & mask {
                self.places[hole] = std::mem::take(&mut self.places[at]);
                hole = at;
            }
            at = (at + 1) & mask;
        }
    }

    /// Changes what every host has.
    pub(super) fn change_all(&mut self, change: impl Fn(&mut V)) {
        let all = std::mem::take(self).places;
        for mut place in all.into_iter().filter(|place| !place.value.is_nothing()) {
            change(&mut place.value);
            if !place.value.is_nothing() {
                self.change(place.host, place.of, |value| *value = place.value);
            }
        }
    }

    /// Reads where a search begins, so that the processor has it at hand when the search comes.
    #[inline(always)]
    pub(super) fn touch(&self, host: Key, of: u32) -> u64 {
        self.places.get(self.home(host, of)).map_or(0, |place| place.host.number())
    }
}

#[cfg(test)]
mod tests {
    use std::collections::HashMap;

    use proptest::prelude::*;

    use super::*;

    proptest! {
        /// Against a plain map, crowded enough for places to be moved.
        #[test]
        fn hosts_have_what_a_map_says(
            steps in proptest::collection::vec((0u8..9, 0u32..40, 0u32..2), 0..600),
        ) {
            let (mut map, mut model) = (HostMap::<u32>::default(), HashMap::new());
            for (what, host, of) in steps {
                let key = (Key::from_number(host.into()), of);
                let known: u32 = model.get(&key).copied().unwrap_or(0);
                let wanted = match what {
                    0..5 => known + 1,
                    5..8 => known.saturating_sub(1),
                    _ => known,
                };
                let before = map.change(key.0, of, |n| std::mem::replace(n, wanted));
                prop_assert_eq!(before, known);
                model.insert(key, wanted);
                model.retain(|_, n| *n > 0);
                if what == 8 {
                    map.change_all(|n| *n /= 2);
                    model.values_mut().for_each(|n| *n /= 2);
                    model.retain(|_, n| *n > 0);
                }
                let hosts = (0..40).map(Key::from_number);
                for key in hosts.flat_map(|h| [(h, 0), (h, 1)]) {
                    prop_assert_eq!(map.find(key.0, key.1).map(|f| *f.0), model.get(&key).copied());
                }
                prop_assert_eq!(map.len, model.len());
            }
        }
    }
}
