//! The records that a file may have together: of a span of time, by how long they last.

use std::path::PathBuf;

use jiff::Timestamp;
use jiff::civil::Date;
use jiff::tz::TimeZone;

use crate::record::{Record, Short, Unseen};

/// How long the records of a file last at most: a look-up at an instant needs the files of that
/// instant and of one such span before.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub(crate) enum SpanOfTime {
    /// An hour; a file has those of one hour.
    Hour,
    /// A day; a file has those of one day.
    Day,
    /// Longer; a file has those of one month.
    Month,
    /// Of which one end was not logged.
    Open,
}

pub(crate) const HOUR: i64 = 3_600_000;
pub(crate) const DAY: i64 = 24 * HOUR;

impl SpanOfTime {
    pub(crate) const ALL: [Self; 4] = [Self::Hour, Self::Day, Self::Month, Self::Open];

    pub(crate) fn folder(self) -> &'static str {
        match self {
            Self::Hour => "span=hour",
            Self::Day => "span=day",
            Self::Month => "span=month",
            Self::Open => "span=open",
        }
    }

    /// The longest that a record may last.
    pub(crate) fn longest(self) -> i64 {
        match self {
            Self::Hour => HOUR,
            Self::Day => DAY,
            Self::Month | Self::Open => i64::MAX,
        }
    }

    fn of(record: &Record) -> Self {
        match record.unseen {
            Some(Unseen::Beginning) => Self::Open,
            Some(Unseen::End) if record.lasted == 0 => Self::Open,
            _ => Self::lasting(i64::try_from(record.lasted).unwrap_or(i64::MAX)),
        }
    }

    /// For so many milliseconds.
    #[inline]
    fn lasting(milliseconds: i64) -> Self {
        match milliseconds {
            ..=HOUR => Self::Hour,
            _ if milliseconds <= DAY => Self::Day,
            _ => Self::Month,
        }
    }
}

/// The records that a file may have together.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub(crate) struct Part {
    /// Whether they are of ranges of ports and whole addresses: what a port is looked for in, of
    /// which there are few.
    pub is_range: bool,
    pub span: SpanOfTime,
    /// When the hour, the day or the month begins, in milliseconds since 1970.
    pub from: i64,
}

impl Part {
    pub(crate) fn of(record: &Record) -> Self {
        Self::at(record.begun, SpanOfTime::of(record), record.is_range())
    }

    #[inline]
    pub(crate) fn of_short(short: &Short) -> Self {
        Self::at(short.begun, SpanOfTime::lasting(short.lasted.into()), false)
    }

    #[inline]
    fn at(begun: i64, span: SpanOfTime, is_range: bool) -> Self {
        let from = match span {
            SpanOfTime::Hour => begun.div_euclid(HOUR) * HOUR,
            SpanOfTime::Day => begun.div_euclid(DAY) * DAY,
            SpanOfTime::Month | SpanOfTime::Open => milliseconds(date(begun).first_of_month()),
        };
        Self { is_range, span, from }
    }

    /// A part that any record may be of.
    pub(crate) fn whole() -> Self {
        Self { is_range: false, span: SpanOfTime::Open, from: 0 }
    }

    /// The folder of its files, below that of the order.
    pub(crate) fn folder(self, device: &str) -> PathBuf {
        let day = format!("day={}", date(self.from));
        let ports = ports_folder(self.is_range);
        [device_folder(device).as_str(), ports, self.span.folder(), &day].iter().collect()
    }
}

/// The folder of what is looked for by port, or otherwise.
pub(crate) fn ports_folder(is_range: bool) -> &'static str {
    if is_range { "ports=range" } else { "ports=one" }
}

/// The day of a time in milliseconds since 1970 (UTC).
fn date(at: i64) -> Date {
    let at = Timestamp::from_millisecond(at).unwrap_or(Timestamp::MIN);
    at.to_zoned(TimeZone::UTC).date()
}

/// When a day begins.
pub(crate) fn milliseconds(day: Date) -> i64 {
    day.to_zoned(TimeZone::UTC).map_or(0, |zoned| zoned.timestamp().as_millisecond())
}

/// The folder of a device: its name, with what a folder's cannot have as `%` and two digits.
pub(crate) fn device_folder(device: &str) -> String {
    let mut name = String::from("device=");
    for octet in device.bytes() {
        if octet.is_ascii_alphanumeric() || matches!(octet, b'-' | b'_' | b'.') {
            name.push(octet.into());
        } else {
            name.push_str(&format!("%{octet:02X}"));
        }
    }
    name
}
