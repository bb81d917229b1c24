//! The ports of one external address and protocol: which are taken, and how a free one is found.
//! Read first: RFC 4787 §4.2.

use std::sync::LazyLock;

/// A run of ports, both ends included.
pub(in crate::device) type PortSpan = (u16, u16);

/// One bit a port, and one bit for every 64 of them that are all taken.
#[derive(Debug, Clone)]
pub(in crate::device) struct PortMap {
    taken: Box<[u64; 1024]>,
    full: [u64; 16],
    /// Free ports of each group of 64 words.
    free: [u16; 16],
}

/// Words of a group.
const GROUP: usize = 64;

/// Numbers that are all 0, in memory that is not written before it is needed: of most ports nobody
/// hears.
pub(in crate::device) fn zeros<T: Copy + Default, const N: usize>() -> Box<[T; N]> {
    vec![T::default(); N].try_into().unwrap_or_else(|_| Box::new([T::default(); N]))
}

impl PortMap {
    /// All free but 0, which is never handed out.
    pub(in crate::device) fn new() -> Self {
        let mut map = Self { taken: zeros(), full: [0; 16], free: [4096; 16] };
        map.take(0);
        map
    }

    /// The same, to be looked at.
    pub(in crate::device) fn unused() -> &'static Self {
        static UNUSED: LazyLock<PortMap> = LazyLock::new(PortMap::new);
        &UNUSED
    }

    /// Reads where its ports are.
    #[inline(always)]
    pub(super) fn touch(&self) -> u32 {
        self.taken.as_ptr().addr() as u32
    }

    #[inline(always)]
    pub(in crate::device) fn is_free(&self, port: u16) -> bool {
        self.taken[usize::from(port >> 6)] >> (port & 63) & 1 == 0
    }

    #[inline(always)]
    pub(in crate::device) fn take(&mut self, port: u16) {
        let word = usize::from(port >> 6);
        self.free[word / GROUP] -= u16::from(self.is_free(port));
        self.taken[word] |= 1 << (port & 63);
        if self.taken[word] == u64::MAX {
            self.full[word >> 6] |= 1 << (word & 63);
        }
    }

    /// Takes every port of a run, both ends included.
    pub(in crate::device) fn take_all(&mut self, first: u16, last: u16) {
        (first..=last).for_each(|port| self.take(port));
    }

    #[inline(always)]
    pub(in crate::device) fn release(&mut self, port: u16) {
        let word = usize::from(port >> 6);
        self.free[word / GROUP] += u16::from(!self.is_free(port));
        self.taken[word] &= !(1 << (port & 63));
        self.full[word >> 6] &= !(1 << (word & 63));
    }

    /// Free ports of a word that lie in `span` and have the wanted lowest bit.
    fn free_in_word(&self, word: usize, span: PortSpan, odd: Option<bool>) -> u64 {
        let (low, high) = (usize::from(span.0), usize::from(span.1));
        let mut free = !self.taken[word];
        if word == low >> 6 {
            free &= u64::MAX << (low & 63);
        }
        if word == high >> 6 {
            free &= u64::MAX >> (63 - (high & 63));
        }
        match odd {
            None => free,
            Some(true) => free & 0xAAAA_AAAA_AAAA_AAAA,
            Some(false) => free & 0x5555_5555_5555_5555,
        }
    }

    /// The lowest free port of a span.
    pub(in crate::device) fn lowest_free(&self, span: PortSpan, odd: Option<bool>) -> Option<u16> {
        let (mut word, last) = (usize::from(span.0 >> 6), usize::from(span.1 >> 6));
        while word <= last {
            // step over runs of full words sixty-four at a time
            let full = self.full[word >> 6] >> (word & 63);
            if full & 1 == 1 {
                word += (full.trailing_ones() as usize).max(1);
                continue;
            }
            let free = self.free_in_word(word, span, odd);
            if free != 0 {
                return Some((word << 6) as u16 | free.trailing_zeros() as u16);
            }
            word += 1;
        }
        None
    }

    /// The first free port at or behind `from` in `spans` (sorted), going on from their low end.
    #[inline(always)]
    pub(in crate::device) fn next_free(
        &self,
        spans: &[PortSpan],
        from: u16,
        odd: Option<bool>,
    ) -> Option<u16> {
        // the port itself or one close by, most of the time
        if let ([span], None) = (spans, odd)
            && span.0 <= from
        {
            let free = !self.taken[usize::from(from >> 6)] & u64::MAX << (from & 63);
            let port = from & !63 | free.trailing_zeros() as u16;
            if free != 0 && port <= span.1 {
                return Some(port);
            }
        }
        self.search(spans, from, odd)
    }

    #[inline(never)]
    fn search(&self, spans: &[PortSpan], from: u16, odd: Option<bool>) -> Option<u16> {
        let behind = spans.iter().filter(|s| s.1 >= from).map(|s| (s.0.max(from), s.1));
        let before = spans.iter().filter(|s| s.0 < from).map(|s| (s.0, s.1.min(from - 1)));
        behind.chain(before).find_map(|s| self.lowest_free(s, odd))
    }

    /// Free ports of the groups and words that make up a span, one after the other: what is counted
    /// already is not counted again. Gives the first word of each part, and how many are free
    /// there.
    fn parts(
        &self,
        span: PortSpan,
        odd: Option<bool>,
    ) -> impl Iterator<Item = (usize, bool, u32)> + '_ {
        let (mut word, last) = (usize::from(span.0 >> 6), usize::from(span.1 >> 6));
        std::iter::from_fn(move || {
            let at = word;
            if at > last {
                return None;
            }
            // a whole group inside the span, which does not end in it
            let whole = odd.is_none()
                && at.is_multiple_of(GROUP)
                && at + GROUP <= last
                && at > usize::from(span.0 >> 6);
            word += if whole { GROUP } else { 1 };
            let free = match whole {
                true => u32::from(self.free[at / GROUP]),
                false => self.free_in_word(at, span, odd).count_ones(),
            };
            Some((at, whole, free))
        })
    }

    /// How many ports of `spans` are free.
    pub(in crate::device) fn count_free(&self, spans: &[PortSpan], odd: Option<bool>) -> u32 {
        spans.iter().flat_map(|s| self.parts(*s, odd)).map(|part| part.2).sum()
    }

    /// The `n`-th free port of `spans`, from 0.
    pub(in crate::device) fn nth_free(
        &self,
        spans: &[PortSpan],
        mut n: u32,
        odd: Option<bool>,
    ) -> Option<u16> {
        for span in spans {
            for (word, whole, free) in self.parts(*span, odd) {
                if n >= free {
                    n -= free;
                    continue;
                }
                if whole {
                    // once: the words of the group one by one
                    let group = ((word << 6) as u16, ((word + GROUP) << 6).wrapping_sub(1) as u16);
                    return (word..word + GROUP)
                        .find_map(|w| self.nth_in_word(w, group, &mut n, odd));
                }
                return self.nth_in_word(word, *span, &mut n, odd);
            }
        }
        None
    }

    /// The `n`-th free port of a word, or `n` less those that it has.
    fn nth_in_word(
        &self,
        word: usize,
        span: PortSpan,
        n: &mut u32,
        odd: Option<bool>,
    ) -> Option<u16> {
        let mut free = self.free_in_word(word, span, odd);
        if *n >= free.count_ones() {
            *n -= free.count_ones();
            return None;
        }
        for _ in 0..*n {
            free &= free - 1;
        }
        Some((word << 6) as u16 | free.trailing_zeros() as u16)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn spans() -> impl Strategy<Value = Vec<PortSpan>> {
        proptest::collection::vec(1u16.., 2..=6).prop_map(|mut ends| {
            ends.sort_unstable();
            ends.dedup();
            ends.chunks_exact(2).map(|c| (c[0], c[1])).collect()
        })
    }

    proptest! {
        /// Every search against a walk over all ports, in nearly full and nearly empty maps.
        #[test]
        fn searches_agree_with_a_walk(
            spans in spans(),
            from in 1u16..,
            odd in any::<Option<bool>>(),
            keep in 0u16..200,
            step in 1u16..700,
        ) {
            let mut map = PortMap::new();
            (1..=u16::MAX).filter(|p| p % step >= keep % step).for_each(|p| map.take(p));
            let parity = |p: &u16| odd.is_none_or(|o| (p & 1 == 1) == o);
            let free: Vec<u16> = spans
                .iter()
                .flat_map(|s| s.0..=s.1)
                .filter(|p| map.is_free(*p))
                .filter(parity)
                .collect();
            let next = free.iter().find(|p| **p >= from).or(free.first()).copied();
            prop_assert_eq!(map.next_free(&spans, from, odd), next);
            prop_assert_eq!(map.count_free(&spans, odd) as usize, free.len());
            for n in [0, free.len() / 2, free.len()] {
                prop_assert_eq!(map.nth_free(&spans, n as u32, odd), free.get(n).copied());
            }
        }
    }
}
