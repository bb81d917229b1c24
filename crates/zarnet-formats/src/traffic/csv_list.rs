//! Flow lists as CSV with a header, line by line: a list of any length takes no more memory than its longest line.

use std::cell::RefCell;
use std::io::{ErrorKind, Read};

use csv_core::ReadRecordResult;
use zarnet_core::limits;
use zarnet_core::traffic::{Flow, Item};

use super::Fault;
use super::csv_fast::{self, ROOM};
use super::fields::{Column, Context, Fields};
use super::input::fault_of;

/// Lines of a text that is read as it comes.
pub(super) struct Lines {
    reader: Box<dyn Read + Send>,
    /// Text, with the room behind it that the quick reading of lines needs.
    buffer: Vec<u8>,
    at: usize,
    have: usize,
    ended: bool,
    /// Number of the line given last, from 1.
    pub number: u64,
}

impl Lines {
    pub(super) fn new(reader: Box<dyn Read + Send>) -> Self {
        Self { reader, buffer: vec![0; 1 << 17], at: 0, have: 0, ended: false, number: 0 }
    }

    /// The next line if `read` knows what to make of it, which also tells its length.
    #[inline]
    fn next_plain<T>(&mut self, read: impl Fn(&[u8; ROOM]) -> Option<(T, usize)>) -> Option<T> {
        let (value, length) = read(self.buffer.get(self.at..)?.first_chunk()?)?;
        // behind what was read there may still be what was read before
        if self.at + length > self.have {
            return None;
        }
        self.at += length;
        self.number += 1;
        Some(value)
    }

    /// The next line without its end.
    #[inline]
    pub(super) fn next(&mut self) -> Option<Result<&[u8], Fault>> {
        let mut searched = self.at;
        loop {
            if let Some(n) = memchr::memchr(b'\n', &self.buffer[searched..self.have]) {
                let (start, end) = (self.at, searched + n);
                self.at = end + 1;
                self.number += 1;
                return Some(Ok(strip(&self.buffer[start..end])));
            }
            if self.ended {
                if self.at == self.have {
                    return None;
                }
                let start = std::mem::replace(&mut self.at, self.have);
                self.number += 1;
                return Some(Ok(strip(&self.buffer[start..self.have])));
            }
            if self.have - self.at > limits::LINE_OCTETS {
                self.number += 1;
                return Some(Err(self.skip_long()));
            }
            let seen = self.have - self.at;
            if let Err(fault) = self.fill() {
                self.ended = true;
                self.at = self.have;
                return Some(Err(fault));
            }
            searched = (self.at + seen).min(self.have);
        }
    }

    fn fill(&mut self) -> Result<(), Fault> {
        self.buffer.copy_within(self.at..self.have, 0);
        self.have -= self.at;
        self.at = 0;
        if self.have + ROOM >= self.buffer.len() {
            self.buffer.resize(self.buffer.len() * 2, 0);
        }
        let end = self.buffer.len() - ROOM;
        loop {
            match self.reader.read(&mut self.buffer[self.have..end]) {
                Ok(n) => {
                    self.ended = n == 0;
                    self.have += n;
                    // a mark of the byte order is no part of the first line
                    if self.number == 0 && self.buffer[..self.have].starts_with(b"\xef\xbb\xbf") {
                        self.at = 3;
                    }
                    return Ok(());
                }
                Err(e) if e.kind() == ErrorKind::Interrupted => {}
                Err(e) => return Err(fault_of(e)),
            }
        }
    }

    /// Throws a line away that is too long to be one.
    fn skip_long(&mut self) -> Fault {
        loop {
            if let Some(n) = memchr::memchr(b'\n', &self.buffer[self.at..self.have]) {
                self.at += n + 1;
                break;
            }
            self.at = self.have;
            if self.ended || self.fill().is_err() {
                self.ended = true;
                break;
            }
        }
        Fault::LineTooLong(limits::LINE_OCTETS)
    }
}

fn strip(line: &[u8]) -> &[u8] {
    line.strip_suffix(b"\r").unwrap_or(line)
}

/// Whether a line says nothing.
pub(super) fn is_blank(line: &[u8]) -> bool {
    line.first() == Some(&b'#') || line.iter().all(u8::is_ascii_whitespace)
}

/// A flow list in CSV.
pub(super) struct CsvList<'a> {
    lines: Lines,
    columns: Vec<Column>,
    /// Whether most lines can be read the short way.
    plain: bool,
    context: Context<'a>,
}

impl<'a> CsvList<'a> {
    pub(super) fn new(reader: Box<dyn Read + Send>, context: Context<'a>) -> Result<Self, (u64, Fault)> {
        let mut lines = Lines::new(reader);
        loop {
            let header = match lines.next() {
                None => return Err((0, Fault::Empty)),
                Some(Err(fault)) => return Err((lines.number, fault)),
                Some(Ok(line)) if is_blank(line) => continue,
                Some(Ok(line)) => record(line),
            };
            let columns = header.and_then(|names| {
                let columns = names.iter().map(|n| Column::named(n)).collect::<Result<Vec<_>, _>>()?;
                Column::check(&columns).map(|()| columns)
            });
            let columns = columns.map_err(|fault| (lines.number, fault))?;
            let plain = csv_fast::suits(&columns) && context.names.are_plain();
            return Ok(Self { lines, columns, plain, context });
        }
    }

    /// Number of the line read last.
    pub(super) fn line(&self) -> u64 {
        self.lines.number
    }

    /// Adds flows to a batch until it holds `most` items, or a line is none that can be read the short way.
    #[inline]
    pub(super) fn fill(&mut self, batch: &mut Vec<Item>, most: usize) {
        while self.plain && batch.len() < most {
            let Some(flow) = self.lines.next_plain(|text| csv_fast::flow(text, self.columns.len())) else { return };
            batch.push(Item::Flow(flow));
        }
    }
}

impl Iterator for CsvList<'_> {
    type Item = Result<Flow, Fault>;

    #[inline]
    fn next(&mut self) -> Option<Self::Item> {
        if self.plain
            && let Some(flow) = self.lines.next_plain(|text| csv_fast::flow(text, self.columns.len()))
        {
            return Some(Ok(flow));
        }
        self.next_careful()
    }
}

impl CsvList<'_> {
    #[inline(never)]
    fn next_careful(&mut self) -> Option<Result<Flow, Fault>> {
        loop {
            return match self.lines.next()? {
                Ok(line) if is_blank(line) => continue,
                Ok(line) => Some(careful(line, &self.columns, self.context)),
                Err(fault) => Some(Err(fault)),
            };
        }
    }
}

/// Any line, with what is wrong with it.
#[inline(never)]
pub(super) fn careful(line: &[u8], columns: &[Column], context: Context<'_>) -> Result<Flow, Fault> {
    let Ok(text) = std::str::from_utf8(line) else { return Err(Fault::Malformed("text".into())) };
    let mut fields = Fields::EMPTY;
    if memchr::memchr(b'"', line).is_some() {
        let values = record(line)?;
        count(columns.len(), values.len())?;
        for (column, value) in columns.iter().zip(&values) {
            fields.set(*column, value.trim(), context)?;
        }
        return fields.flow(context);
    }
    let mut rest = text;
    for (i, column) in columns.iter().enumerate() {
        let value = match memchr::memchr(b',', rest.as_bytes()) {
            Some(n) if i + 1 < columns.len() => {
                let value = &rest[..n];
                rest = &rest[n + 1..];
                value
            }
            None if i + 1 == columns.len() => rest,
            _ => return count(columns.len(), text.split(',').count()).and(Err(Fault::Malformed("CSV".into()))),
        };
        fields.set(*column, trim(value), context)?;
    }
    fields.flow(context)
}

/// Most fields have nothing to trim.
#[inline]
fn trim(text: &str) -> &str {
    match (text.as_bytes().first(), text.as_bytes().last()) {
        (Some(a), Some(b)) if !a.is_ascii_whitespace() && !b.is_ascii_whitespace() => text,
        _ => text.trim(),
    }
}

fn count(wanted: usize, got: usize) -> Result<(), Fault> {
    if wanted == got { Ok(()) } else { Err(Fault::FieldCount { wanted, got }) }
}

thread_local! {
    /// Reads lines with quotes. Its tables are made once a thread: they cost more than a line, and cannot be copied.
    static QUOTED: RefCell<csv_core::Reader> = RefCell::new(csv_core::Reader::new());
}

/// The fields of one line with quotes (RFC 4180 §2).
fn record(line: &[u8]) -> Result<Vec<String>, Fault> {
    let most = memchr::memchr_iter(b',', line).count() + 2;
    let (mut octets, mut ends) = (vec![0; line.len() + 1], vec![0; most]);
    let (mut written, mut fields) = (0, 0);
    QUOTED.with_borrow_mut(|reader| {
        reader.reset();
        // that there is no more ends the record, unless something in the line did
        for input in [line, &[]] {
            let (read, _, more, ended) = reader.read_record(input, &mut octets[written..], &mut ends[fields..]);
            (written, fields) = (written + more, fields + ended);
            if read != ReadRecordResult::InputEmpty {
                break;
            }
        }
    });
    let octets = std::str::from_utf8(&octets[..written]).map_err(|_| Fault::Malformed("CSV".into()))?;
    let mut start = 0;
    let field = |end: &usize| octets.get(std::mem::replace(&mut start, *end)..*end).unwrap_or("").trim().to_owned();
    Ok(ends[..fields].iter().map(field).collect())
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        /// A line that is quoted as RFC 4180 says comes out as it went in.
        #[test]
        fn quoted_fields_come_out_as_they_went_in(fields in proptest::collection::vec("[a-z,\" ]{0,6}", 1..9)) {
            let quoted: Vec<String> = fields.iter().map(|f| format!("\"{}\"", f.replace('"', "\"\""))).collect();
            let trimmed: Vec<String> = fields.iter().map(|f| f.trim().to_owned()).collect();
            prop_assert_eq!(record(quoted.join(",").as_bytes()).unwrap(), trimmed);
        }

        /// Any line at all is split the way the library splits a file of one line.
        #[test]
        fn lines_are_split_as_the_library_splits_them(line in "[a,\"\\r ]{0,20}") {
            let mut reader = csv::ReaderBuilder::new();
            let mut reader = reader.has_headers(false).flexible(true).from_reader(line.as_bytes());
            let first = reader.records().next().map(|r| r.unwrap()).unwrap_or_default();
            let wanted: Vec<String> = first.iter().map(|f| f.trim().to_owned()).collect();
            prop_assert_eq!(record(line.as_bytes()).unwrap(), wanted);
        }
    }
}
