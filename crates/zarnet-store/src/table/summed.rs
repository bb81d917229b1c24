//! The sum of what is written, by which a file is known to be whole.

use std::io::{self, Write};

/// Sums up what it passes on (CRC-32).
pub(crate) struct Summed<W> {
    to: W,
    sum: crc32fast::Hasher,
}

impl<W> Summed<W> {
    pub(crate) fn new(to: W) -> Self {
        Self { to, sum: crc32fast::Hasher::new() }
    }

    /// The sum so far.
    pub(crate) fn sum(self) -> u32 {
        self.sum.finalize()
    }
}

impl<W: Write> Write for Summed<W> {
    fn write(&mut self, octets: &[u8]) -> io::Result<usize> {
        let written = self.to.write(octets)?;
        self.sum.update(&octets[..written]);
        Ok(written)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.to.flush()
    }
}
