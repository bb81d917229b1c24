//! Random choices that move nothing until they are committed.

use rand_chacha::ChaCha12Rng;
use rand_chacha::rand_core::Rng;

/// A random stream that is read but not moved.
pub(super) struct Draw {
    rng: ChaCha12Rng,
    used: bool,
}

impl Draw {
    /// From where the stream of a device stands.
    pub(super) fn new(stream: &ChaCha12Rng) -> Self {
        Self { rng: stream.clone(), used: false }
    }

    /// A number below `n`, each equally likely.
    pub(super) fn below(&mut self, n: u32) -> u32 {
        self.used = true;
        ((u128::from(self.rng.next_u64()) * u128::from(n)) >> 64) as u32
    }

    /// Where the stream stands behind what was drawn; `None` if nothing was.
    pub(super) fn position(&self) -> Option<u128> {
        self.used.then(|| self.rng.get_word_pos())
    }
}
