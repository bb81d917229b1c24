//! Translation logs as CSV: a row an event, or in the exports of others a row a translation with
//! the times of its beginning and its end.

use std::io::Write;

use zarnet_core::plan::nearest;

use super::fields::{EventDraft, FIELDS, Field};
use super::noted::in_this_age;
use super::time::{TimeText, time_of};
use super::{EventKind, LogNames, Name, Noted, TranslationEvent};
use crate::traffic::Fault;

/// What a log looks like.
pub(super) const LOGS: &str =
    "a translation log: IPFIX, syslog (RFC 5424), or CSV with a header that names its columns";

/// The time of an event; begun and ended for a row that is a whole translation.
const TIMES: [&str; 3] = ["time", "begun", "ended"];

/// Appends the header of our own rows.
pub fn csv_header(out: &mut Vec<u8>) {
    out.extend(TIMES[0].as_bytes());
    for (_, name) in FIELDS {
        let _ = write!(out, ",{name}");
    }
    out.push(b'\n');
}

/// Appends the row of an event, with its end of line.
pub fn csv_line(
    event: &TranslationEvent,
    names: &LogNames,
    time: &mut TimeText,
    out: &mut Vec<u8>,
) {
    out.extend(time.of(event.at).as_bytes());
    for (field, _) in FIELDS {
        out.push(b',');
        let from = out.len();
        field.write(event, names, out);
        if out[from..].iter().any(|o| matches!(o, b',' | b'"' | b'\n' | b'\r')) {
            let value = String::from_utf8_lossy(&out[from..]).replace('"', "\"\"");
            out.truncate(from);
            let _ = write!(out, "\"{value}\"");
        }
    }
    out.push(b'\n');
}

/// Which column of a log is what, counted from 0.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct LogColumns {
    times: [Option<usize>; TIMES.len()],
    fields: Vec<(Field, usize)>,
}

impl LogColumns {
    /// Reads `time=1,event=2,internal=5,...`, columns counted from 1.
    ///
    /// # Errors
    /// A name that is no column, or a number that is none.
    pub fn parse(text: &str) -> Result<Self, Fault> {
        let mut columns = Self::default();
        for part in text.split(',') {
            let (name, number) =
                part.split_once('=').ok_or_else(|| Fault::Malformed("NAME=NUMBER".into()))?;
            let number: Option<usize> = number.trim().parse().ok();
            let position = number
                .and_then(|n| n.checked_sub(1))
                .ok_or_else(|| Fault::Malformed(format!("a number from 1 in `{part}`")))?;
            columns.put(name.trim(), position).ok_or_else(|| unknown(name.trim()))?;
        }
        columns.complete()
    }

    /// The names that columns may have.
    pub fn names() -> impl Iterator<Item = &'static str> {
        TIMES.into_iter().chain(FIELDS.into_iter().map(|f| f.1))
    }

    /// The columns of a header. Those of other names are passed over.
    fn of_header(header: &csv::StringRecord) -> Result<Self, Fault> {
        let mut columns = Self::default();
        for (position, name) in header.iter().enumerate() {
            columns.put(&name.trim().to_ascii_lowercase().replace('_', "-"), position);
        }
        if columns == Self::default() {
            return Err(Fault::Malformed(LOGS.into()));
        }
        columns.complete()
    }

    fn put(&mut self, name: &str, position: usize) -> Option<()> {
        match TIMES.iter().position(|t| *t == name) {
            Some(time) => self.times[time] = Some(position),
            None => self.fields.push((Field::of_name(name)?, position)),
        }
        Some(())
    }

    /// The same, if that is enough to read a log by.
    fn complete(mut self) -> Result<Self, Fault> {
        // an address may bring its port along, and one of its own counts for more
        self.fields.sort_unstable();
        let has = |field| self.fields.iter().any(|f| f.0 == field);
        let [time, begun, _] = self.times;
        let is_missing = |name: &'static str| Err(Fault::MissingColumn(name));
        match (time, begun) {
            (None, None) => return is_missing("time"),
            (Some(_), None) if !has(Field::Event) => return is_missing("event"),
            _ => {}
        }
        for (field, name) in [(Field::Internal, "internal"), (Field::External, "external")] {
            if !has(field) {
                return is_missing(name);
            }
        }
        Ok(self)
    }
}

fn unknown(name: &str) -> Fault {
    let near = nearest(name, LogColumns::names());
    let near = LogColumns::names().find(|known| Some(*known) == near.as_deref());
    Fault::UnknownColumn { name: name.into(), near }
}

/// Reads rows one after the other.
#[derive(Debug)]
pub struct CsvReader {
    columns: Option<LogColumns>,
    /// Whether the first row is still to come: it may be a header of other names.
    is_first: bool,
    /// The device that rows are of that do not say.
    device: Option<Name>,
}

impl CsvReader {
    /// A reader of rows of the given columns, or of those that the header names. `device`: what
    /// rows are of that do not say.
    pub fn new(columns: Option<LogColumns>, device: Option<Name>) -> Self {
        Self { columns, is_first: true, device }
    }

    /// Takes a row.
    ///
    /// # Errors
    /// The header is that of no log.
    pub fn row(
        &mut self,
        row: &csv::StringRecord,
        names: &mut LogNames,
        noted: &mut Noted,
        take: &mut impl FnMut(TranslationEvent, &LogNames),
    ) -> Result<(), Fault> {
        let is_first = std::mem::take(&mut self.is_first);
        let Some(columns) = &self.columns else {
            self.columns = Some(LogColumns::of_header(row)?);
            return Ok(());
        };
        match self.events(columns, row, names) {
            Some(events) => {
                for event in events.into_iter().flatten() {
                    noted.events += 1;
                    take(event, names);
                }
            }
            // its own header
            None if is_first => {}
            None => noted.bad_records += 1,
        }
        Ok(())
    }

    /// The event of a row, or the two of a whole translation.
    fn events(
        &self,
        columns: &LogColumns,
        row: &csv::StringRecord,
        names: &mut LogNames,
    ) -> Option<[Option<TranslationEvent>; 2]> {
        let mut draft = EventDraft::default();
        for (field, position) in &columns.fields {
            draft.take(*field, row.get(*position).unwrap_or(""), names)?;
        }
        let device = draft.device.or(self.device)?;
        let time = |position: Option<usize>| match row.get(position?)?.trim() {
            "" | "-" => None,
            text => Some(time_of(text).filter(|at| in_this_age(*at))),
        };
        let [at, begun, ended] = columns.times.map(time);
        if let Some(at) = at {
            return Some([Some(draft.event(at?, draft.kind?, device)?), None]);
        }
        let (first, last) = match draft.has_block() {
            true => (EventKind::BlockAllocated, EventKind::BlockReleased),
            false => (EventKind::MappingCreated, EventKind::MappingEnded),
        };
        let begun = draft.event(begun??, first, device)?;
        let begun = TranslationEvent { cause: None, ..begun };
        let ended = match ended {
            Some(ended) => Some(draft.event(ended?.max(begun.at), last, device)?),
            None => None,
        };
        Some([Some(begun), ended])
    }
}
