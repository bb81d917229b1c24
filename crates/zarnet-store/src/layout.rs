//! Where in the folder of a store what lies.
//!
//! ```text
//! zarnet-store.json                the version
//! rules.json                       names of rules by their numbers
//! lock                             held by who writes
//! by-external/device=N/ports=one/span=hour/day=D/FIRST-LAST-ID-SUM.parquet
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
use jiff::civil::DateTime;
use jiff::tz::TimeZone;

use crate::error::StoreError;
use crate::part::{DAY, HOUR, Part, SpanOfTime, device_folder, milliseconds, ports_folder};
use crate::table::Order;

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

/// The name of a file: whole seconds around its records, a number that it has in both orders, and
/// the sum of its contents.
pub(crate) fn file_name(span: (i64, i64), id: &str, sum: u32) -> String {
    let text = |seconds: i64| {
        Timestamp::from_second(seconds).unwrap_or(Timestamp::MIN).strftime(TIME).to_string()
    };
    let (first, last) = (span.0.div_euclid(1000), span.1.div_euclid(1000) + 1);
    format!("{}-{}-{id}-{sum:08x}.parquet", text(first), text(last))
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

/// The sum that the name of a file tells, and the part of the name that it has in both orders.
fn sum_of(name: &str) -> Option<(&str, u32)> {
    let (same, sum) = name.strip_suffix(".parquet")?.rsplit_once('-')?;
    Some((same, u32::from_str_radix(sum, 16).ok()?))
}

impl TableFile {
    /// The sum that its contents should have.
    pub(crate) fn sum(&self) -> Option<u32> {
        sum_of(&self.name).map(|found| found.1)
    }

    /// Its place below the folder of its order, without what differs in the other one.
    pub(crate) fn same_in(&self, folder: &Path) -> Option<PathBuf> {
        let (same, _) = sum_of(&self.name)?;
        Some(self.path.parent()?.strip_prefix(folder).ok()?.join(same))
    }
}

/// The file of a folder that has the same records as one of the other order.
pub(crate) fn find_same(folder: &Path, name: &str) -> Result<Option<PathBuf>, StoreError> {
    let same = sum_of(name).map(|found| found.0);
    let all = entries(folder)?;
    Ok(all.into_iter().find(|(n, _)| sum_of(n).map(|f| f.0) == same).map(|(_, path)| path))
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
        let name = file_name((1_785_564_000_250, 1_785_567_600_001), "0000000001-0002", 0xab);
        assert_eq!(name, "20260801T060000Z-20260801T070001Z-0000000001-0002-000000ab.parquet");
        assert_eq!(span_of(&name), Some((1_785_564_000_000, 1_785_567_601_000)));
        assert_eq!(span_of("other.parquet"), None);
    }
}
