//! Where in the folder of a store what lies.
//!
//! ```text
//! zarnet-store.json                the version
//! rules.json                       names of rules by their numbers
//! lock                             held by who writes
//! by-external/device=N/ports=one/span=hour/day=D/FIRST-LAST-ID.parquet
//! by-internal/                     the same records in the other order
//! state/ID/device=N.parquet        translations of which one end was logged
//! state/ID/coverage.json           when logs were heard, and where they have gaps
//! journal/ID                       events since then
//! ```

use std::collections::BTreeMap;
use std::ffi::OsStr;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use jiff::Timestamp;
use jiff::civil::{Date, DateTime};
use jiff::tz::TimeZone;

use crate::error::StoreError;
use crate::record::{Record, Short, Unseen};
use crate::table::Order;

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

const HOUR: i64 = 3_600_000;
const DAY: i64 = 24 * HOUR;

impl SpanOfTime {
    pub(crate) const ALL: [Self; 4] = [Self::Hour, Self::Day, Self::Month, Self::Open];

    fn folder(self) -> &'static str {
        match self {
            Self::Hour => "span=hour",
            Self::Day => "span=day",
            Self::Month => "span=month",
            Self::Open => "span=open",
        }
    }

    /// The longest that a record may last.
    fn longest(self) -> i64 {
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

fn ports_folder(is_range: bool) -> &'static str {
    if is_range { "ports=range" } else { "ports=one" }
}

/// The day of a time in milliseconds since 1970 (UTC).
fn date(at: i64) -> Date {
    let at = Timestamp::from_millisecond(at).unwrap_or(Timestamp::MIN);
    at.to_zoned(TimeZone::UTC).date()
}

/// When a day begins.
fn milliseconds(day: Date) -> i64 {
    day.to_zoned(TimeZone::UTC).map_or(0, |zoned| zoned.timestamp().as_millisecond())
}

/// The folder of a device: its name, with what a folder's cannot have as `%` and two digits.
fn device_folder(device: &str) -> String {
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

/// The device of a folder.
fn device_of(folder: &str) -> Option<String> {
    let name = folder.strip_prefix("device=")?;
    let (mut octets, mut rest) = (Vec::new(), name.bytes());
    while let Some(octet) = rest.next() {
        octets.push(match octet {
            b'%' => {
                let digits = [rest.next()?, rest.next()?];
                u8::from_str_radix(std::str::from_utf8(&digits).ok()?, 16).ok()?
            }
            octet => octet,
        });
    }
    String::from_utf8(octets).ok()
}

/// A file of records.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct TableFile {
    pub device: String,
    pub part: Part,
    pub path: PathBuf,
    /// Its name, which is the same in both orders.
    pub name: String,
    /// The earliest beginning and the latest end of its records.
    pub span: (i64, i64),
}

const TIME: &str = "%Y%m%dT%H%M%SZ";

/// The name of a file: whole seconds around its records, and a number.
pub(crate) fn file_name(span: (i64, i64), id: &str) -> String {
    let text = |seconds: i64| {
        Timestamp::from_second(seconds).unwrap_or(Timestamp::MIN).strftime(TIME).to_string()
    };
    let (first, last) = (span.0.div_euclid(1000), span.1.div_euclid(1000) + 1);
    format!("{}-{}-{id}.parquet", text(first), text(last))
}

/// The span of time that the name of a file tells.
fn span_of(name: &str) -> Option<(i64, i64)> {
    let mut parts = name.strip_suffix(".parquet")?.splitn(3, '-');
    let mut time = || {
        let text = parts.next()?;
        let read = DateTime::strptime(TIME, text).ok()?;
        Some(read.to_zoned(TimeZone::UTC).ok()?.timestamp().as_millisecond())
    };
    Some((time()?, time()?))
}

/// The entries of a folder by their names, in order; none where it is not there.
fn entries(folder: &Path) -> Result<Vec<(String, PathBuf)>, StoreError> {
    let read = match fs::read_dir(folder) {
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Vec::new()),
        read => read.map_err(StoreError::io(folder))?,
    };
    let mut all = Vec::new();
    for entry in read {
        let path = entry.map_err(StoreError::io(folder))?.path();
        if let Some(name) = path.file_name().and_then(OsStr::to_str) {
            all.push((name.to_owned(), path));
        }
    }
    all.sort_unstable();
    Ok(all)
}

/// Devices that a store has records of, with their folders.
pub(crate) fn devices(root: &Path, order: Order) -> Result<Vec<(String, PathBuf)>, StoreError> {
    let all = entries(&root.join(order.folder()))?;
    Ok(all.into_iter().filter_map(|(name, path)| Some((device_of(&name)?, path))).collect())
}

/// Files of an order that may have records that lived between two instants; of one device, or of
/// all.
pub(crate) fn files(
    root: &Path,
    order: Order,
    only: Option<&str>,
    (from, until): (i64, i64),
) -> Result<Vec<TableFile>, StoreError> {
    let mut all = Vec::new();
    for (device, folder) in devices(root, order)? {
        if only.is_some_and(|only| only != device) {
            continue;
        }
        for (is_range, span) in
            [false, true].into_iter().flat_map(|r| SpanOfTime::ALL.map(|s| (r, s)))
        {
            let earliest = from.saturating_sub(span.longest());
            let folder = folder.join(ports_folder(is_range)).join(span.folder());
            for (day, folder) in entries(&folder)? {
                let begins = day.strip_prefix("day=").and_then(|d| d.parse().ok());
                let Some(begins) = begins.map(milliseconds) else { continue };
                // a folder has the beginnings of a day, or of a month
                let ends = begins.saturating_add(match span {
                    SpanOfTime::Hour | SpanOfTime::Day => DAY,
                    SpanOfTime::Month | SpanOfTime::Open => 31 * DAY,
                });
                // of what has one end only, anything may be at any time
                if span == SpanOfTime::Open || ends >= earliest && begins <= until {
                    let part = Part { is_range, span, from: begins };
                    files_of(&folder, &device, part, (from, until), &mut all)?;
                }
            }
        }
    }
    Ok(all)
}

fn files_of(
    folder: &Path,
    device: &str,
    part: Part,
    (from, until): (i64, i64),
    all: &mut Vec<TableFile>,
) -> Result<(), StoreError> {
    for (name, path) in entries(folder)? {
        let Some((first, last)) = span_of(&name) else { continue };
        if part.span == SpanOfTime::Open || first <= until && last >= from {
            let device = device.to_owned();
            all.push(TableFile { device, part, path, name, span: (first, last) });
        }
    }
    Ok(())
}

/// The states of a store by their numbers, the latest last.
pub(crate) fn states(root: &Path) -> Result<Vec<(u64, PathBuf)>, StoreError> {
    numbered(&root.join("state"))
}

/// The journals of a store by their numbers, the latest last.
pub(crate) fn journals(root: &Path) -> Result<Vec<(u64, PathBuf)>, StoreError> {
    numbered(&root.join("journal"))
}

fn numbered(folder: &Path) -> Result<Vec<(u64, PathBuf)>, StoreError> {
    let all = entries(folder)?.into_iter();
    Ok(all.filter_map(|(name, path)| Some((name.parse().ok()?, path))).collect())
}

/// What the file of a device in a state ends with.
fn state_suffix(order: Order) -> &'static str {
    match order {
        Order::External => ".parquet",
        Order::Internal => ".by-internal.parquet",
    }
}

/// Translations of which one end was logged, of each device, as a state has them.
pub(crate) fn state_files(
    state: &Path,
    order: Order,
) -> Result<Vec<(String, PathBuf)>, StoreError> {
    let all = entries(state)?.into_iter();
    let is_other =
        |name: &str| order == Order::External && name.ends_with(state_suffix(Order::Internal));
    let device = |name: &str| device_of(name.strip_suffix(state_suffix(order))?);
    Ok(all
        .filter(|(name, _)| !is_other(name))
        .filter_map(|(name, path)| Some((device(&name)?, path)))
        .collect())
}

/// The file of a device in a state.
pub(crate) fn state_file(device: &str, order: Order) -> String {
    format!("{}{}", device_folder(device), state_suffix(order))
}

/// Files of a folder that are small enough to be put together, with their sizes: those of each hour
/// by themselves, where a file is of an hour.
pub(crate) fn small_files(folder: &Path) -> Result<Vec<Vec<(String, u64)>>, StoreError> {
    let is_of_hours = folder.parent().is_some_and(|f| f.ends_with(SpanOfTime::Hour.folder()));
    let mut small: BTreeMap<i64, Vec<(String, u64)>> = BTreeMap::new();
    for (name, path) in entries(folder)? {
        let size = fs::metadata(&path).map_err(StoreError::io(&path))?.len();
        if let Some((first, _)) = span_of(&name).filter(|_| size < SMALL) {
            let hour = if is_of_hours { first.div_euclid(HOUR) } else { 0 };
            small.entry(hour).or_default().push((name, size));
        }
    }
    Ok(small.into_values().collect())
}

/// A file of fewer octets is small: about a million records.
const SMALL: u64 = 8 << 20;

/// Removes files that are not whole, wherever they are.
pub(crate) fn remove_unfinished(root: &Path) -> Result<(), StoreError> {
    for (name, path) in entries(root)? {
        let is_folder = path.is_dir();
        if name.starts_with(crate::store::TEMPORARY) {
            let removed =
                if is_folder { fs::remove_dir_all(&path) } else { fs::remove_file(&path) };
            removed.map_err(StoreError::io(&path))?;
        } else if is_folder {
            remove_unfinished(&path)?;
        }
    }
    Ok(())
}

/// Removes the folders above a file that are empty now.
pub(crate) fn remove_empty(file: &Path, root: &Path) {
    for folder in file.ancestors().skip(1).take_while(|above| *above != root) {
        // one that is not empty stays
        if fs::remove_dir(folder).is_err() {
            return;
        }
    }
}

/// The name of a state or journal.
pub(crate) fn number_name(number: u64) -> String {
    format!("{number:010}")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_of_devices_and_files_come_back() {
        for device in ["harbour-edge", "a/b", "..", "", "käse 100%", "x=y"] {
            let folder = device_folder(device);
            assert!(!folder.contains('/'), "{folder}");
            assert_eq!(device_of(&folder).as_deref(), Some(device));
        }
        let name = file_name((1_785_564_000_250, 1_785_567_600_001), "0000000001-0002");
        assert_eq!(name, "20260801T060000Z-20260801T070001Z-0000000001-0002.parquet");
        assert_eq!(span_of(&name), Some((1_785_564_000_000, 1_785_567_601_000)));
        assert_eq!(span_of("other.parquet"), None);
    }
}
