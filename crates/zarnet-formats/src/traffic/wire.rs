//! Where the packets of a capture were seen, and how its times are written.

/// An interface of a pcapng section, or the one of a pcap.
#[derive(Clone, Copy)]
pub(super) struct Wire {
    pub link: i32,
    /// Ticks of a second: a power of ten or of two.
    pub ticks: u64,
    /// Seconds to add to every time stamp.
    pub offset: i64,
}

impl Wire {
    /// Nanoseconds since the epoch.
    #[inline(always)]
    pub(super) fn time(&self, ticks: u64) -> i128 {
        if self.ticks == 1_000_000 {
            return i128::from(ticks) * 1000 + i128::from(self.offset) * 1_000_000_000;
        }
        let whole = i128::from(ticks / self.ticks) + i128::from(self.offset);
        let part = u128::from(ticks % self.ticks) * 1_000_000_000 / u128::from(self.ticks);
        whole * 1_000_000_000 + part as i128
    }
}
