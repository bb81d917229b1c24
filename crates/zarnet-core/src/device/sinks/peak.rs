//! The most there was of something.

use crate::net::Instant;

/// The most there was of something, and since when.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Peak {
    /// The greatest number at one instant.
    pub count: u64,
    /// The first moment with so many.
    pub at: Instant,
}

impl Peak {
    /// Notes how many there are.
    #[inline]
    pub(in crate::device) fn note(&mut self, count: u64, now: u64) {
        if count > self.count {
            *self = Self { count, at: Instant(now) };
        }
    }
}
