//! A hash index from keys to positions in an arena: buckets of eight places, each one line of a
//! cache, whose hashes are compared all at once. Neither growth nor most misses touch the arena.

use wide::u32x8;

/// Positions by hash. The caller compares keys; the index only narrows down.
///
/// What finds its bucket full goes to the next one with room. So all buckets between an entry's own
/// and the one that it is in are full, and a search ends at the first that is not.
#[derive(Debug, Clone)]
pub(super) struct Index {
    buckets: Vec<Bucket>,
    len: usize,
    /// With so many entries it grows.
    most: usize,
}

/// So many places a bucket.
const PLACES: usize = 8;

/// The places of a bucket. A tag of 0 is a free place.
#[derive(Debug, Clone, Copy, Default)]
#[repr(align(64))]
struct Bucket {
    tags: [u32; PLACES],
    positions: [u32; PLACES],
}

impl Bucket {
    /// A bit for each place with a tag.
    #[inline(always)]
    fn with(&self, tag: u32) -> u32 {
        u32x8::new(self.tags).simd_eq(u32x8::splat(tag)).to_bitmask()
    }

    fn is_full(&self) -> bool {
        self.with(0) == 0
    }
}

/// From so many entries on, memory counts more than a full bucket now and then.
const LARGE: usize = 1 << 19;

/// Mixes two words into a hash whose bits are all of use.
pub(super) fn mix(a: u64, b: u64) -> u32 {
    let product = u128::from(a ^ 0x9E37_79B9_7F4A_7C15) * u128::from(b ^ 0xD1B5_4A32_D192_ED03);
    let folded = (product >> 64) as u64 ^ product as u64;
    (folded ^ folded >> 32) as u32
}

/// What stands for a hash in a bucket.
#[inline(always)]
fn tag_of(hash: u32) -> u32 {
    hash.max(1)
}

impl Index {
    pub(super) fn new() -> Self {
        Self { buckets: vec![Bucket::default(); 2], len: 0, most: PLACES }
    }

    #[inline(always)]
    fn home(&self, tag: u32) -> usize {
        tag as usize & (self.buckets.len() - 1)
    }

    #[inline(always)]
    fn behind(&self, bucket: usize) -> usize {
        (bucket + 1) & (self.buckets.len() - 1)
    }

    /// The positions that were put in under `hash`.
    #[inline]
    pub(super) fn candidates(&self, hash: u32) -> impl Iterator<Item = u32> + '_ {
        let tag = tag_of(hash);
        let mut at = self.home(tag);
        let mut found = self.buckets[at].with(tag);
        std::iter::from_fn(move || {
            while found == 0 {
                if !self.buckets[at].is_full() {
                    return None;
                }
                at = self.behind(at);
                found = self.buckets[at].with(tag);
            }
            let place = found.trailing_zeros() as usize % PLACES;
            found &= found - 1;
            Some(self.buckets[at].positions[place])
        })
    }

    /// One of the positions that were put in under `hash`.
    #[inline(always)]
    pub(super) fn first(&self, hash: u32) -> Option<u32> {
        let tag = tag_of(hash);
        let bucket = &self.buckets[self.home(tag)];
        let found = bucket.with(tag);
        if found != 0 {
            return Some(bucket.positions[found.trailing_zeros() as usize % PLACES]);
        }
        if bucket.is_full() { self.candidates(hash).next() } else { None }
    }

    /// Reads the bucket where a search for `hash` begins, so that the processor has it at hand when
    /// the search comes.
    #[inline]
    pub(super) fn touch(&self, hash: u32) -> u64 {
        self.buckets[self.home(tag_of(hash))].tags[0].into()
    }

    #[inline]
    pub(super) fn insert(&mut self, hash: u32, position: u32) {
        if self.len >= self.most {
            self.grow();
        }
        self.len += 1;
        self.put(tag_of(hash), position);
    }

    #[inline(always)]
    fn put(&mut self, tag: u32, position: u32) {
        let mut at = self.home(tag);
        loop {
            let bucket = &mut self.buckets[at];
            let free = bucket.with(0);
            if free != 0 {
                let place = free.trailing_zeros() as usize % PLACES;
                (bucket.tags[place], bucket.positions[place]) = (tag, position);
                return;
            }
            at = self.behind(at);
        }
    }

    #[cold]
    fn grow(&mut self) {
        let larger = vec![Bucket::default(); self.buckets.len() * 2];
        let places = larger.len() * PLACES;
        // small indexes are kept half empty, large ones as full as is still quick
        self.most = if places < 2 * LARGE { places / 2 } else { places / 4 * 3 };
        for bucket in std::mem::replace(&mut self.buckets, larger) {
            let mut taken = !bucket.with(0) & ((1 << PLACES) - 1);
            while taken != 0 {
                let place = taken.trailing_zeros() as usize % PLACES;
                self.put(bucket.tags[place], bucket.positions[place]);
                taken &= taken - 1;
            }
        }
    }

    /// Takes out a position that was put in under `hash`.
    #[inline]
    pub(super) fn remove(&mut self, hash: u32, position: u32) {
        let tag = tag_of(hash);
        let mut at = self.home(tag);
        loop {
            let bucket = &self.buckets[at];
            let mut found = bucket.with(tag);
            while found != 0 {
                let place = found.trailing_zeros() as usize % PLACES;
                if bucket.positions[place] == position {
                    self.len -= 1;
                    return self.vacate(at, place);
                }
                found &= found - 1;
            }
            if !bucket.is_full() {
                return;
            }
            at = self.behind(at);
        }
    }

    /// Frees a place, and moves up what only was where it is because there was none.
    #[inline(always)]
    fn vacate(&mut self, mut at: usize, mut place: usize) {
        while self.buckets[at].is_full()
            && let Some((next, other)) = self.find_follower(at)
        {
            let (tag, position) =
                (self.buckets[next].tags[other], self.buckets[next].positions[other]);
            (self.buckets[at].tags[place], self.buckets[at].positions[place]) = (tag, position);
            (at, place) = (next, other);
        }
        self.buckets[at].tags[place] = 0;
    }

    /// An entry of a later bucket that belongs into `bucket`, which is full, or before it.
    #[inline(never)]
    fn find_follower(&self, bucket: usize) -> Option<(usize, usize)> {
        let mask = self.buckets.len() - 1;
        let mut at = bucket;
        loop {
            at = self.behind(at);
            let far = at.wrapping_sub(bucket) & mask;
            let belongs = |tag: &u32| *tag != 0 && at.wrapping_sub(self.home(*tag)) & mask >= far;
            if let Some(place) = self.buckets[at].tags.iter().position(belongs) {
                return Some((at, place));
            }
            if !self.buckets[at].is_full() || at == bucket {
                return None;
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        /// Against a plain list, with hashes that collide all the time.
        #[test]
        fn finds_what_was_put_in(
            steps in proptest::collection::vec((0u32..3, 0u32..12, 0u32..60), 0..800),
        ) {
            let (mut index, mut model) = (Index::new(), Vec::new());
            for (choice, hash, position) in steps {
                let hash = hash.wrapping_mul(0x1000_0001);
                if choice > 0 {
                    if !model.contains(&(hash, position)) {
                        index.insert(hash, position);
                        model.push((hash, position));
                    }
                } else {
                    index.remove(hash, position);
                    model.retain(|m| *m != (hash, position));
                }
            }
            for hash in (0u32..12).map(|h| h.wrapping_mul(0x1000_0001)) {
                let mut found: Vec<u32> = index.candidates(hash).collect();
                let mut wanted: Vec<u32> =
                    model.iter().filter(|m| m.0 == hash).map(|m| m.1).collect();
                found.sort_unstable();
                wanted.sort_unstable();
                prop_assert_eq!(found, wanted);
            }
        }
    }
}
