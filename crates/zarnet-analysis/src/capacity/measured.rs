//! The share of requests that the record shows to be refused, and how far that can be trusted.

use zarnet_core::device::Series;
use zarnet_core::net::Instant;

use super::{Lost, SampleSpread};

/// The share that was refused in an hour.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Measured {
    /// Requests, refused ones included; what is tried again and again is one.
    pub requests: u64,
    /// Requests that were refused.
    pub refused: u64,
    /// The share of these.
    pub share: f64,
    /// Lower end of the interval that holds the true share with 95 % confidence.
    pub low: f64,
    /// Upper end of the interval.
    pub high: f64,
}

/// Parts that an hour is cut into, to see how much the share moves by itself.
const PARTS: usize = 12;

impl Measured {
    /// Of an hour: `refused` in it, and how far requests are from being independent.
    pub(super) fn of(
        series: &Series,
        refused: &[Instant],
        (from, until): (Instant, Instant),
        peakedness: f64,
    ) -> Self {
        let begun = series.begun_between(from, until);
        let (lost, requests) = (refused.len() as u64, begun + refused.len() as u64);
        if requests == 0 {
            return Self { high: 1.0, ..Self::default() };
        }
        let share = lost as f64 / requests as f64;
        // of none in n, three in n is still likely once in twenty times
        let unseen = 3.0 * peakedness.max(1.0) / requests as f64;
        let half = match lost {
            0 => 0.0,
            _ => Self::half_width(series, refused, (from, until), share),
        };
        let (low, high) = ((share - half).max(0.0), (share + half.max(unseen)).min(1.0));
        Self { requests, refused: lost, share, low, high }
    }

    /// By how much the share of parts differs, of a ratio of sums.
    fn half_width(
        series: &Series,
        refused: &[Instant],
        (from, until): (Instant, Instant),
        share: f64,
    ) -> f64 {
        let width = (until.0.saturating_sub(from.0) / PARTS as u64).max(1);
        let edge = |n: usize| Instant(from.0 + width * n as u64);
        let mut errors = Vec::with_capacity(PARTS);
        let mut all = 0.0;
        for n in 0..PARTS {
            let (a, b) = (edge(n), if n + 1 == PARTS { until } else { edge(n + 1) });
            let lost = refused.iter().filter(|t| (a..b).contains(*t)).count() as f64;
            let requests = series.begun_between(a, b) as f64 + lost;
            errors.push(lost - share * requests);
            all += requests;
        }
        let spread = SampleSpread::of(&errors).map_or(0.0, |s| s.high - s.mean);
        if all > 0.0 { spread * PARTS as f64 / all } else { 0.0 }
    }

    /// Whether a computed share is what was measured, as far as that can be told.
    pub fn agrees(&self, computed: f64) -> bool {
        computed >= self.low * 0.9 && computed <= self.high * 1.1
    }
}

/// Refusals between two instants.
pub(super) fn lost_between(
    lost: &[Lost],
    from: Instant,
    until: Instant,
) -> impl Iterator<Item = &Lost> + Clone {
    let range = lost.partition_point(|l| l.at < from)..lost.partition_point(|l| l.at < until);
    lost[range].iter()
}
