//! Times of traffic: seconds, lengths of time, or RFC 3339 with a common origin.

use std::cell::Cell;

use zarnet_core::limits;
use zarnet_core::net::{Instant, parse_span};

use super::Fault;

/// The clock of a prediction. Times of day count from the first one that is read.
#[derive(Debug, Default)]
pub(super) struct Clock {
    origin: Cell<Option<i128>>,
}

impl Clock {
    /// Time since the epoch, in nanoseconds, on this clock; `None` if it lies before its origin.
    pub(super) fn absolute(&self, nanoseconds: i128) -> Option<Instant> {
        let origin = self.origin.get().unwrap_or(nanoseconds);
        self.origin.set(Some(origin));
        u64::try_from(nanoseconds - origin).ok().map(Instant)
    }

    /// Moves the origin back, if need be, so that this time lies behind it.
    pub(super) fn include(&self, nanoseconds: i128) {
        self.origin.set(Some(self.origin.get().map_or(nanoseconds, |o| o.min(nanoseconds))));
    }

    /// A time as written.
    pub(super) fn parse(&self, text: &str) -> Result<Instant, Fault> {
        let text = text.trim();
        if let Some(instant) = plain_seconds(text.as_bytes()) {
            return Ok(instant);
        }
        match parse_span(text) {
            Ok(span) => within_a_century((Instant::ZERO + span).0, text).map(Instant),
            Err(error) => match day_time(text) {
                Some(at) => self.absolute(at).ok_or_else(|| Fault::NegativeTime(text.into())),
                None if text.starts_with('-') && text.len() > 1 => Err(Fault::NegativeTime(text.into())),
                None => Err(Fault::Notation { column: "start", error }),
            },
        }
    }
}

/// Nanoseconds, if they are no more than is taken.
pub(super) fn within_a_century(nanoseconds: u64, text: &str) -> Result<u64, Fault> {
    let fits = nanoseconds <= limits::SECONDS * 1_000_000_000;
    if fits { Ok(nanoseconds) } else { Err(Fault::TimeTooLong(text.into())) }
}

/// RFC 3339, in nanoseconds since the epoch.
pub(super) fn day_time(text: &str) -> Option<i128> {
    text.parse::<jiff::Timestamp>().ok().map(|t| t.as_nanosecond())
}

/// Seconds with at most nine decimals, the way nearly every list has them.
#[inline]
pub(super) fn plain_seconds(text: &[u8]) -> Option<Instant> {
    let mut value: u64 = 0;
    let mut digits = 0;
    let mut at = 0;
    while let Some(d) = text.get(at).map(|c| c.wrapping_sub(b'0')).filter(|d| *d < 10) {
        // more digits than a clock has, however many there are
        if digits == 9 {
            return None;
        }
        value = value * 10 + u64::from(d);
        digits += 1;
        at += 1;
    }
    if digits == 0 {
        return None;
    }
    let mut scale = 1_000_000_000;
    value *= scale;
    if at < text.len() {
        if text[at] != b'.' || text.len() - at > 10 || text.len() - at < 2 {
            return None;
        }
        for c in &text[at + 1..] {
            let d = c.wrapping_sub(b'0');
            if d >= 10 {
                return None;
            }
            scale /= 10;
            value += u64::from(d) * scale;
        }
    }
    Some(Instant(value))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_of_any_length_are_read_or_refused() {
        assert_eq!(plain_seconds(b"999999999.5"), Some(Instant(999_999_999_500_000_000)));
        assert_eq!(plain_seconds(b"1000000000"), None, "left to the careful reading");
        for digits in [10, 19, 20, 40, 4000] {
            let text = "7".repeat(digits);
            assert_eq!(plain_seconds(text.as_bytes()), None);
            let _ = Clock::default().parse(&text);
        }
    }
}
