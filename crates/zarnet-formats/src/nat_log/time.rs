//! Times of day of a log.

use std::io::Write;

/// Times of day as text (RFC 3339, UTC, milliseconds). Most are of the same second as the one
/// before.
#[derive(Debug, Default)]
pub struct TimeText {
    second: Option<i64>,
    text: Vec<u8>,
}

impl TimeText {
    /// The text of a time in milliseconds since 1970.
    pub fn of(&mut self, at: i64) -> &str {
        let (second, part) = (at.div_euclid(1000), at.rem_euclid(1000));
        if self.second != Some(second) {
            self.second = Some(second);
            self.text.clear();
            let known = jiff::Timestamp::from_second(second).unwrap_or(jiff::Timestamp::MIN);
            let _ = write!(self.text, "{known}");
            // without the Z
            self.text.pop();
        }
        let length = "2026-08-01T06:00:00".len();
        self.text.truncate(length.max(self.text.iter().position(|b| *b == b'.').unwrap_or(length)));
        let _ = write!(self.text, ".{part:03}Z");
        std::str::from_utf8(&self.text).unwrap_or_default()
    }
}

/// Reads a time of day: RFC 3339; or a number of seconds since 1970, or of milliseconds where it is
/// that large. In milliseconds since 1970.
pub fn time_of(text: &str) -> Option<i64> {
    if let Ok(number) = text.parse::<f64>() {
        let milliseconds = if number.abs() < 1e11 { number * 1000.0 } else { number };
        let fits = milliseconds.is_finite() && milliseconds.abs() < 1e15;
        return fits.then_some(milliseconds.floor() as i64);
    }
    // exports write a space where the standard has a T
    let read = |text: &str| text.parse::<jiff::Timestamp>().ok();
    let at = read(text).or_else(|| read(&text.replacen(' ', "T", 1)))?;
    Some(
        at.as_millisecond()
            - i64::from(at.subsec_nanosecond() < 0 && at.subsec_nanosecond() % 1_000_000 != 0),
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn times_are_text_and_come_back() {
        let mut text = TimeText::default();
        for at in [0, 1, 999, 1000, 1_785_564_000_250, 1_785_564_000_251, 1_785_564_001_000] {
            assert_eq!(time_of(text.of(at)), Some(at), "{}", text.of(at));
        }
        assert_eq!(text.of(1_785_564_000_250), "2026-08-01T06:00:00.250Z");
        assert_eq!(time_of("2026-08-01 08:00:00.2509+02:00"), Some(1_785_564_000_250));
        assert_eq!(time_of("1785564000.25"), Some(1_785_564_000_250));
        assert_eq!(time_of("1785564000250"), Some(1_785_564_000_250));
        assert_eq!((time_of("yesterday"), time_of("1e300"), time_of("NaN")), (None, None, None));
    }

    #[test]
    fn a_time_of_no_calendar_is_shown_nonetheless() {
        let _ = TimeText::default().of(i64::MAX);
        let _ = TimeText::default().of(i64::MIN);
    }
}
