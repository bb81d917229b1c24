//! Times of traffic: seconds, lengths of time, or RFC 3339 with a common origin.

use zarnet_core::limits;
use zarnet_core::net::{Instant, parse_span};

use super::Fault;

/// The clock of a prediction. Times of day count from its origin: the first one that is read,
/// unless it is known already.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Clock {
    origin: Option<i128>,
    /// The earliest time of day that was read.
    earliest: Option<i128>,
    /// Whether the origin is looked for: then no time of day lies before it.
    surveys: bool,
    /// Whether times were read that do not count from the origin.
    has_plain: bool,
}

/// So far before the first time of day the origin is taken to be while it is looked for, in
/// nanoseconds: a century.
const BEFORE_ALL: i128 = limits::SECONDS as i128 * 1_000_000_000;

impl Clock {
    /// A clock with a known origin; the first time of day, if there is none.
    pub(super) fn from(origin: Option<i128>) -> Self {
        Self { origin, earliest: origin, ..Self::default() }
    }

    /// From now on, the origin is looked for.
    pub(super) fn survey(&mut self) {
        self.surveys = true;
    }

    /// The earliest time of day that was read.
    pub(super) fn earliest(&self) -> Option<i128> {
        self.earliest
    }

    /// Whether times were read that count from the origin, and others that do not: which comes
    /// first is not known before the origin is.
    pub(super) fn is_mixed(&self) -> bool {
        self.has_plain && self.earliest.is_some()
    }

    /// Times were read that do not count from the origin.
    #[inline(always)]
    pub(super) fn note_plain(&mut self) {
        self.has_plain = true;
    }

    /// Time since the epoch, in nanoseconds, on this clock; `None` if it lies before its origin.
    #[inline]
    pub(super) fn absolute(&mut self, nanoseconds: i128) -> Option<Instant> {
        self.earliest = Some(self.earliest.map_or(nanoseconds, |e| e.min(nanoseconds)));
        let origin = *self.origin.get_or_insert(nanoseconds);
        let origin = if self.surveys { origin - BEFORE_ALL } else { origin };
        u64::try_from(nanoseconds - origin).ok().map(Instant)
    }

    /// A time as written.
    pub(super) fn parse(&mut self, text: &str) -> Result<Instant, Fault> {
        let text = text.trim();
        if let Some(instant) = plain_seconds(text.as_bytes()) {
            self.has_plain = true;
            return Ok(instant);
        }
        match parse_span(text) {
            Ok(span) => within_a_century((Instant::ZERO + span).0, text).map(Instant),
            Err(error) => match day_time(text) {
                Some(at) => self.absolute(at).ok_or_else(|| Fault::NegativeTime(text.into())),
                None if text.starts_with('-') && text.len() > 1 => {
                    Err(Fault::NegativeTime(text.into()))
                }
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

/// A date, or a time of day (RFC 3339), in days since the epoch.
pub fn days_of(text: &str) -> Option<f64> {
    const DAY: f64 = 86_400e9;
    let midnight = || {
        let date = text.trim().parse::<jiff::civil::Date>().ok()?;
        Some(date.to_zoned(jiff::tz::TimeZone::UTC).ok()?.timestamp().as_nanosecond())
    };
    day_time(text.trim()).or_else(midnight).map(|nanoseconds| nanoseconds as f64 / DAY)
}

/// The date of so many days since the epoch, if it is one of this millennium.
pub fn date_of(days: f64) -> Option<String> {
    let seconds = (days * 86_400.0) as i64;
    let at = jiff::Timestamp::from_second(seconds).ok().filter(|_| (0.0..3.7e5).contains(&days))?;
    Some(at.to_zoned(jiff::tz::TimeZone::UTC).date().to_string())
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
    fn dates_are_days_and_days_are_dates() {
        assert_eq!(days_of("1970-01-02"), Some(1.0));
        assert_eq!(days_of("2026-08-01T12:00:00Z"), days_of("2026-08-01").map(|d| d + 0.5));
        assert_eq!(days_of("tomorrow"), None);
        assert_eq!(days_of("2026-08-01").and_then(date_of).as_deref(), Some("2026-08-01"));
        assert_eq!((date_of(f64::NAN), date_of(1e9)), (None, None));
    }

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
