//! Blocks of ports and whose they are. Read first: RFC 7422.
//!
//! Contract: §B6 of docs/semantics.md.

use crate::device::key::Key;

/// Whose the blocks of an external address and protocol are, and how many of their ports are in
/// use.
#[derive(Debug, Clone)]
pub(in crate::device) struct Blocks {
    /// How many port classes there are.
    classes: usize,
    /// By number and class; none in use of a block without an owner.
    used: Vec<(Key, u32)>,
    /// By class, one bit a block that has an owner.
    owned: Vec<Vec<u64>>,
}

impl Blocks {
    pub(super) fn new(classes: usize) -> Self {
        Self { classes, used: Vec::new(), owned: vec![Vec::new(); classes] }
    }

    /// The blocks below `count` that nobody has, in ascending order.
    pub(in crate::device) fn unowned(
        &self,
        class: usize,
        count: u32,
    ) -> impl Iterator<Item = u16> + '_ {
        let owned = &self.owned[class];
        let free = |word: u32| !owned.get(word as usize).copied().unwrap_or(0);
        let words = (0..count.div_ceil(64)).filter(move |w| free(*w) != 0);
        let in_word =
            move |w: u32| (w * 64..w * 64 + 64).filter(move |n| free(w) >> (n % 64) & 1 == 1);
        words.flat_map(in_word).take_while(move |n| *n < count).map(|n| n as u16)
    }

    #[inline(always)]
    fn place(&self, class: usize, number: u16) -> usize {
        usize::from(number) * self.classes + class
    }

    /// Reads where its blocks are.
    #[inline(always)]
    pub(super) fn touch_beginning(&self) -> u32 {
        self.used.as_ptr().addr() as u32
    }

    /// Reads what there is of a block.
    #[inline(always)]
    pub(super) fn touch(&self, class: usize, number: u16) -> u32 {
        self.used.get(self.place(class, number)).map_or(0, |block| block.1)
    }

    /// Counts one more port in use of a block, and tells whether it is the first: then the block is
    /// the host's.
    #[inline]
    pub(super) fn take(&mut self, class: usize, number: u16, host: Key) -> bool {
        let place = self.place(class, number);
        if let Some((_, used)) = self.used.get_mut(place).filter(|block| block.1 > 0) {
            *used += 1;
            return false;
        }
        if self.used.len() <= place {
            self.used.resize(place + 1, (Key::NONE, 0));
        }
        self.used[place] = (host, 1);
        let (owned, word) = (&mut self.owned[class], usize::from(number / 64));
        if owned.len() <= word {
            owned.resize(word + 1, 0);
        }
        owned[word] |= 1 << (number % 64);
        true
    }

    /// Counts one port less; if it was the last, the block is nobody's any more, and whose it was
    /// is told.
    #[inline]
    pub(super) fn release(&mut self, class: usize, number: u16) -> Option<Key> {
        let place = self.place(class, number);
        let (owner, used) = self.used.get_mut(place).filter(|block| block.1 > 0)?;
        *used -= 1;
        if *used > 0 {
            return None;
        }
        self.owned[class][usize::from(number / 64)] &= !(1 << (number % 64));
        Some(*owner)
    }
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeMap;

    use proptest::prelude::*;

    use super::*;

    proptest! {
        /// Against a plain map.
        #[test]
        fn blocks_are_whose_a_map_says(
            steps in proptest::collection::vec((any::<bool>(), 0usize..2, 0u16..140, 0u32..5), 0..400),
        ) {
            let (mut blocks, mut model) = (Blocks::new(2), BTreeMap::new());
            for (take, class, number, host) in steps {
                let host = Key::from_number(host.into());
                let known: Option<(Key, u32)> = model.get(&(class, number)).copied();
                if take {
                    let owner = known.map_or(host, |k| k.0);
                    prop_assert_eq!(blocks.take(class, number, owner), known.is_none());
                    model.insert((class, number), (owner, known.map_or(1, |k| k.1 + 1)));
                } else {
                    let last = known.filter(|k| k.1 == 1).map(|k| k.0);
                    prop_assert_eq!(blocks.release(class, number), last);
                    match known {
                        Some((owner, used)) if used > 1 => {
                            model.insert((class, number), (owner, used - 1));
                        }
                        _ => {
                            model.remove(&(class, number));
                        }
                    }
                }
                let free: Vec<u16> = (0..140).filter(|n| !model.contains_key(&(class, *n))).collect();
                prop_assert_eq!(blocks.unowned(class, 140).collect::<Vec<_>>(), free);
            }
        }
    }
}
