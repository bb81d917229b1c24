//! Which addresses of a target can be borrowed whole: by their position in it.

/// A set of positions in which the next member is found in a few steps, however few there are: each
/// level has one bit for every 64 of the level below that is not empty.
#[derive(Debug, Clone)]
pub(in crate::device) struct FreeSet {
    levels: Vec<Vec<u64>>,
    len: u32,
}

impl FreeSet {
    /// All positions below `count`.
    pub(in crate::device) fn full(count: u32) -> Self {
        let mut levels = Vec::new();
        let mut bits = count as usize;
        loop {
            let mut level = vec![u64::MAX; bits.div_ceil(64).max(1)];
            if !bits.is_multiple_of(64) || bits == 0 {
                let last = level.len() - 1;
                level[last] = (1 << (bits % 64)) - 1;
            }
            bits = level.len();
            levels.push(level);
            if bits == 1 {
                return Self { levels, len: count };
            }
        }
    }

    pub(in crate::device) fn len(&self) -> u32 {
        self.len
    }

    pub(in crate::device) fn contains(&self, position: u32) -> bool {
        self.levels[0][position as usize / 64] >> (position % 64) & 1 == 1
    }

    pub(in crate::device) fn insert(&mut self, position: u32) {
        self.len += u32::from(!self.contains(position));
        let mut at = position as usize;
        for level in &mut self.levels {
            level[at / 64] |= 1 << (at % 64);
            at /= 64;
        }
    }

    pub(in crate::device) fn remove(&mut self, position: u32) {
        self.len -= u32::from(self.contains(position));
        let mut at = position as usize;
        for level in &mut self.levels {
            level[at / 64] &= !(1 << (at % 64));
            if level[at / 64] != 0 {
                break;
            }
            at /= 64;
        }
    }

    /// The lowest member at or above `from`.
    pub(in crate::device) fn at_or_above(&self, from: u32) -> Option<u32> {
        let mut at = from as usize;
        for height in 0..self.levels.len() {
            let word = self.levels[height].get(at / 64)? & u64::MAX << (at % 64);
            if word != 0 {
                at = at / 64 * 64 + word.trailing_zeros() as usize;
                for level in self.levels[..height].iter().rev() {
                    at = at * 64 + level[at].trailing_zeros() as usize;
                }
                return Some(at as u32);
            }
            at = at / 64 + 1;
        }
        None
    }

    /// The highest position in the set.
    pub(in crate::device) fn highest(&self) -> Option<u32> {
        let mut at = 0;
        for level in self.levels.iter().rev() {
            at = at * 64 + level[at].checked_ilog2()? as usize;
        }
        Some(at as u32)
    }

    /// The `n`-th member, from 0.
    pub(in crate::device) fn nth(&self, mut n: u32) -> Option<u32> {
        for (i, word) in self.levels[0].iter().enumerate() {
            if n >= word.count_ones() {
                n -= word.count_ones();
                continue;
            }
            let rest = (0..n).fold(*word, |w, _| w & (w - 1));
            return Some(i as u32 * 64 + rest.trailing_zeros());
        }
        None
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn members_are_found_however_few(
            count in 1u32..9000,
            steps in proptest::collection::vec((any::<bool>(), 0u32..9000), 0..60),
            from in 0u32..9000,
        ) {
            let (mut set, mut model) = (FreeSet::full(count), vec![true; count as usize]);
            // nearly empty, as a pool is when it matters
            for position in 40.min(count)..count {
                set.remove(position);
                model[position as usize] = false;
            }
            for (put, position) in steps {
                let position = position % count;
                if put {
                    set.insert(position)
                } else {
                    set.remove(position)
                }
                model[position as usize] = put;
            }
            let members: Vec<u32> = (0..count).filter(|p| model[*p as usize]).collect();
            prop_assert_eq!(set.len() as usize, members.len());
            prop_assert_eq!(set.at_or_above(from), members.iter().find(|m| **m >= from).copied());
            prop_assert_eq!(set.highest(), members.last().copied());
            prop_assert_eq!(
                set.nth(members.len() as u32 / 2),
                members.get(members.len() / 2).copied()
            );
        }
    }
}
