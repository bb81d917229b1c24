//! Blocks of ports and whose they are. Read first: RFC 7422.
//!
//! Contract: §B6 of docs/semantics.md.

use std::collections::HashMap;

use foldhash::fast::RandomState;

use super::few_numbers::FewNumbers;
use crate::device::key::Key;

/// The blocks of an external address and protocol that have an owner, by port class.
#[derive(Debug, Clone, Default)]
pub(in crate::device) struct Blocks(Vec<ClassBlocks>);

/// Those of one class.
#[derive(Debug, Clone, Default)]
struct ClassBlocks {
    /// By number, the owner and how many ports are in use; none of a block without an owner.
    used: Vec<(Key, u32)>,
    /// The same from the other side.
    of_host: HashMap<Key, FewNumbers<u16>, RandomState>,
    /// One bit a block that has an owner.
    owned: Vec<u64>,
}

impl Blocks {
    /// The blocks of a host, in ascending order.
    pub(in crate::device) fn of_host(
        &self,
        class: usize,
        host: Key,
    ) -> impl Iterator<Item = u16> + '_ {
        let own = self.0.get(class).and_then(|c| c.of_host.get(&host));
        own.into_iter().flat_map(FewNumbers::iter)
    }

    /// The blocks below `count` that nobody has, in ascending order.
    pub(in crate::device) fn unowned(
        &self,
        class: usize,
        count: u32,
    ) -> impl Iterator<Item = u16> + '_ {
        let owned = self.0.get(class).map_or(&[][..], |c| &c.owned);
        let free = |word: u32| !owned.get(word as usize).copied().unwrap_or(0);
        let words = (0..count.div_ceil(64)).filter(move |w| free(*w) != 0);
        let in_word =
            move |w: u32| (w * 64..w * 64 + 64).filter(move |n| free(w) >> (n % 64) & 1 == 1);
        words.flat_map(in_word).take_while(move |n| *n < count).map(|n| n as u16)
    }

    /// Counts one more port in use of a block, and tells whether it is the first.
    pub(super) fn take(&mut self, class: usize, number: u16, host: Key) -> bool {
        if self.0.len() <= class {
            self.0.resize(class + 1, ClassBlocks::default());
        }
        let (class, at) = (&mut self.0[class], usize::from(number));
        if class.used.len() <= at {
            class.used.resize(at + 1, (Key::NONE, 0));
            class.owned.resize(at / 64 + 1, 0);
        }
        let (owner, used) = &mut class.used[at];
        *used += 1;
        if *used > 1 {
            return false;
        }
        *owner = host;
        class.owned[at / 64] |= 1 << (at % 64);
        let own = class.of_host.entry(host);
        own.and_modify(|own| own.add(number)).or_insert_with(|| FewNumbers::of(number));
        true
    }

    /// Counts one port less, and tells whether it was the last: then the block is nobody's.
    pub(super) fn release(&mut self, class: usize, number: u16) -> bool {
        let Some(class) = self.0.get_mut(class) else { return false };
        let Some((owner, used)) = class.used.get_mut(usize::from(number)) else { return false };
        if *used == 0 {
            return false;
        }
        *used -= 1;
        if *used > 0 {
            return false;
        }
        class.owned[usize::from(number / 64)] &= !(1 << (number % 64));
        if class.of_host.get_mut(owner).is_some_and(|own| own.remove(number)) {
            class.of_host.remove(owner);
        }
        true
    }

    /// Forgets whose they are.
    pub(super) fn clear(&mut self) {
        self.0.clear();
    }
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeMap;

    use proptest::prelude::*;

    use super::*;

    proptest! {
        /// Against a plain map, with hosts that have several blocks.
        #[test]
        fn blocks_are_whose_a_map_says(
            steps in proptest::collection::vec((any::<bool>(), 0usize..2, 0u16..140, 0u32..5), 0..400),
        ) {
            let (mut blocks, mut model) = (Blocks::default(), BTreeMap::new());
            for (take, class, number, host) in steps {
                let host = Key::from_number(host.into());
                let known: Option<(Key, u32)> = model.get(&(class, number)).copied();
                if take {
                    let owner = known.map_or(host, |k| k.0);
                    prop_assert_eq!(blocks.take(class, number, owner), known.is_none());
                    model.insert((class, number), (owner, known.map_or(1, |k| k.1 + 1)));
                } else {
                    let is_last = known.is_some_and(|k| k.1 == 1);
                    prop_assert_eq!(blocks.release(class, number), is_last);
                    match known {
                        Some((owner, used)) if used > 1 => {
                            model.insert((class, number), (owner, used - 1));
                        }
                        _ => {
                            model.remove(&(class, number));
                        }
                    }
                }
                let of = |h: Key| -> Vec<u16> {
                    let own = model.iter().filter(|(at, by)| at.0 == class && by.0 == h);
                    own.map(|(at, _)| at.1).collect()
                };
                prop_assert_eq!(blocks.of_host(class, host).collect::<Vec<_>>(), of(host));
                let free: Vec<u16> = (0..140).filter(|n| !model.contains_key(&(class, *n))).collect();
                prop_assert_eq!(blocks.unowned(class, 140).collect::<Vec<_>>(), free);
            }
        }
    }
}
