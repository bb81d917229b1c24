//! Random choices that move nothing until they are committed.

use crate::device::bindings::RandomStream;

/// A random stream that is read but not moved.
pub(in crate::device) struct Draw<'a> {
    stream: &'a RandomStream,
    /// Which number is drawn next.
    at: u64,
}

impl<'a> Draw<'a> {
    /// From where the stream of a device stands.
    pub(super) fn new(stream: &'a RandomStream) -> Self {
        Self { stream, at: stream.position() }
    }

    /// A number below `n`, each equally likely.
    pub(super) fn below(&mut self, n: u32) -> u32 {
        let number = self.stream.at(self.at);
        self.at += 1;
        ((u128::from(number) * u128::from(n)) >> 64) as u32
    }

    /// Where the stream stands behind what was drawn; `None` if nothing was.
    pub(in crate::device) fn position(&self) -> Option<u64> {
        (self.at != self.stream.position()).then_some(self.at)
    }
}
