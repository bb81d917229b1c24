//! The random numbers of a device: a stream that can be read ahead without being moved.

use rand_chacha::ChaCha12Rng;
use rand_chacha::rand_core::{Rng, SeedableRng};

/// So many numbers are made at once: what the generator makes in one go.
const BLOCK: usize = 32;

/// A stream of numbers, the same on every machine for one seed.
#[derive(Debug, Clone)]
pub(in crate::device) struct RandomStream {
    rng: ChaCha12Rng,
    block: [u64; BLOCK],
    /// Which of all numbers is the first of the block.
    first: u64,
    /// Which one comes next.
    position: u64,
}

impl RandomStream {
    pub(super) fn new(seed: u64) -> Self {
        let rng = ChaCha12Rng::seed_from_u64(seed);
        let mut stream = Self { rng, block: [0; BLOCK], first: 0, position: 0 };
        stream.fill();
        stream
    }

    /// Which number comes next.
    pub(in crate::device) fn position(&self) -> u64 {
        self.position
    }

    /// The number at a position, as a rule not far behind the next one.
    #[inline]
    pub(in crate::device) fn at(&self, position: u64) -> u64 {
        let known = position.checked_sub(self.first).and_then(|i| self.block.get(i as usize));
        known.copied().unwrap_or_else(|| self.far(position))
    }

    #[cold]
    fn far(&self, position: u64) -> u64 {
        let mut rng = self.rng.clone();
        rng.set_word_pos(u128::from(position) * 2);
        rng.next_u64()
    }

    /// Goes on at a position.
    #[inline]
    pub(super) fn move_to(&mut self, position: u64) {
        self.position = position;
        if position.wrapping_sub(self.first) >= BLOCK as u64 {
            self.fill();
        }
    }

    /// Makes the block that begins with the next number.
    fn fill(&mut self) {
        self.first = self.position;
        self.rng.set_word_pos(u128::from(self.first) * 2);
        self.block.iter_mut().for_each(|number| *number = self.rng.next_u64());
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// However it is read, the numbers are those of the generator, one after the other.
    #[test]
    fn numbers_are_those_of_the_generator() {
        let (mut rng, mut stream) = (ChaCha12Rng::seed_from_u64(7), RandomStream::new(7));
        let numbers: Vec<u64> = (0..500).map(|_| rng.next_u64()).collect();
        let mut step = 1;
        while stream.position() < 400 {
            let at = stream.position();
            for ahead in [0, 1, 31, 32, 90] {
                assert_eq!(stream.at(at + ahead), numbers[(at + ahead) as usize]);
            }
            stream.move_to(at + step);
            step = step * 3 % 47 + 1;
        }
        stream.move_to(3);
        assert_eq!(stream.at(3), numbers[3]);
    }
}
