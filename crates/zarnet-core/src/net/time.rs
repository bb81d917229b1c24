//! Instants and lengths of time. Nothing here reads a clock.

use std::fmt;
use std::ops::{Add, Sub};
use std::time::Duration;

use super::NotationError;

/// A point on the clock of a prediction: nanoseconds since its origin.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Default)]
pub struct Instant(pub u64);

impl Instant {
    /// The origin of the clock.
    pub const ZERO: Self = Self(0);
    /// Later than every instant that traffic can reach.
    pub const NEVER: Self = Self(u64::MAX);

    /// Seconds since the origin, rounded to what an `f64` holds.
    pub fn seconds(self) -> f64 {
        // whole and broken part apart, so that 61.5 s is exactly 61.5
        (self.0 / 1_000_000_000) as f64 + (self.0 % 1_000_000_000) as f64 / 1e9
    }
}

impl Add<Duration> for Instant {
    type Output = Self;

    fn add(self, span: Duration) -> Self {
        Self(self.0.saturating_add(u64::try_from(span.as_nanos()).unwrap_or(u64::MAX)))
    }
}

impl Sub for Instant {
    type Output = Duration;

    /// How long after `earlier` this is; zero if it is not.
    fn sub(self, earlier: Self) -> Duration {
        Duration::from_nanos(self.0.saturating_sub(earlier.0))
    }
}

impl fmt::Display for Instant {
    /// The way [`parse_span`] reads it back, to the millisecond: `61.5s`, `2h10m50.8s`.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let milliseconds = (self.0 + 500_000) / 1_000_000;
        let (whole, part) = (milliseconds / 1000, milliseconds % 1000);
        let (hours, minutes, seconds) = (whole / 3600, whole / 60 % 60, whole % 60);
        if hours > 0 {
            write!(f, "{hours}h")?;
        }
        let short = whole < 120;
        if !short && minutes > 0 {
            write!(f, "{minutes}m")?;
        }
        if !short && seconds == 0 && part == 0 {
            return Ok(());
        }
        let fraction = format!("{part:03}");
        let fraction = fraction.trim_end_matches('0');
        let point = if fraction.is_empty() { "" } else { "." };
        write!(f, "{}{point}{fraction}s", if short { whole } else { seconds })
    }
}

/// Units that a time may be written in, longest first, in nanoseconds.
const UNITS: [(&str, u64); 6] = [
    ("d", 86_400_000_000_000),
    ("h", 3_600_000_000_000),
    ("m", 60_000_000_000),
    ("s", 1_000_000_000),
    ("ms", 1_000_000),
    ("us", 1_000),
];

/// Parses a length of time: seconds (`90`, `1.5`), or numbers with units (`90s`, `2m30s`, `1h`,
/// `250ms`).
pub fn parse_span(text: &str) -> Result<Duration, NotationError> {
    let wrong = || NotationError::Time(text.into());
    let mut rest = text.trim();
    if rest.is_empty() {
        return Err(NotationError::Empty);
    }
    let mut total: u64 = 0;
    while !rest.is_empty() {
        let digits = rest.find(|c: char| !c.is_ascii_digit() && c != '.').unwrap_or(rest.len());
        let (number, tail) = rest.split_at(digits);
        let letters = tail.find(|c: char| c.is_ascii_digit() || c == '.').unwrap_or(tail.len());
        let (unit, tail) = tail.split_at(letters);
        let scale = match unit.trim() {
            "" if number.len() == text.trim().len() => 1_000_000_000,
            unit => UNITS.iter().find(|(n, _)| *n == unit).ok_or_else(wrong)?.1,
        };
        total = scaled(number, scale).and_then(|n| total.checked_add(n)).ok_or_else(wrong)?;
        rest = tail;
    }
    Ok(Duration::from_nanos(total))
}

/// A decimal number times `scale`, exact; `None` if it is not one or does not fit.
fn scaled(number: &str, scale: u64) -> Option<u64> {
    let (whole, broken) = number.split_once('.').unwrap_or((number, ""));
    if (whole.is_empty() && broken.is_empty()) || !broken.bytes().all(|c| c.is_ascii_digit()) {
        return None;
    }
    let whole: u64 = if whole.is_empty() { 0 } else { whole.parse().ok()? };
    let (mut value, mut weight) = (whole.checked_mul(scale)?, scale);
    for digit in broken.bytes() {
        weight /= 10;
        value = value.checked_add(weight * u64::from(digit - b'0'))?;
    }
    Some(value)
}
