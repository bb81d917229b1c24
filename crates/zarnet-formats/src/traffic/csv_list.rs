//! Flow lists as CSV with a header, line by line.

use std::cell::RefCell;
use std::io::Read;

use csv_core::ReadRecordResult;
use zarnet_core::traffic::{Flow, Item};

use super::clock::Clock;
use super::csv_fast;
use super::fields::{Column, Context, Fields};
use super::lines::{Lines, is_blank};
use super::source::{Located, Source};
use super::{Fault, Names, Skipped};

/// A flow list in CSV.
pub(super) struct CsvList<'a> {
    lines: Lines,
    columns: Vec<Column>,
    /// Whether most lines can be read the short way.
    plain: bool,
    /// Whether the last plain line was one between IPv6 addresses: others most likely are too.
    v6: bool,
    /// Room for one item.
    one: Vec<Item>,
    names: &'a Names,
}

impl<'a> CsvList<'a> {
    pub(super) fn new(reader: Box<dyn Read + Send>, names: &'a Names) -> Result<Self, Located> {
        let mut lines = Lines::new(reader);
        loop {
            let header = match lines.next() {
                None => return Err((0, Fault::Empty)),
                Some(Err(fault)) => return Err((lines.number, fault)),
                Some(Ok(line)) if is_blank(line) => continue,
                Some(Ok(line)) => record(line),
            };
            let columns = header.and_then(|names| {
                let columns =
                    names.iter().map(|n| Column::named(n)).collect::<Result<Vec<_>, _>>()?;
                Column::check(&columns).map(|()| columns)
            });
            let columns = columns.map_err(|fault| (lines.number, fault))?;
            let plain = csv_fast::suits(&columns) && names.are_plain();
            return Ok(Self { lines, columns, plain, v6: false, one: Vec::new(), names });
        }
    }

    #[inline(never)]
    fn next_careful(&mut self, clock: &mut Clock) -> Option<Result<Item, Located>> {
        loop {
            let flow = match self.lines.next()? {
                Ok(line) if is_blank(line) => continue,
                Ok(line) => careful(line, &self.columns, &mut Context { names: self.names, clock }),
                Err(fault) => Err(fault),
            };
            return Some(flow.map(Item::Flow).map_err(|fault| (self.lines.number, fault)));
        }
    }
}

impl Source for CsvList<'_> {
    #[inline]
    fn next(&mut self, clock: &mut Clock) -> Option<Result<Item, Located>> {
        let mut one = std::mem::take(&mut self.one);
        self.fill(clock, &mut one, 1);
        if one.is_empty() {
            // the other family, if it is not the one that was tried
            self.v6 = !self.v6;
            self.fill(clock, &mut one, 1);
        }
        let item = one.pop();
        self.one = one;
        item.map(Ok).or_else(|| self.next_careful(clock))
    }

    fn fill(&mut self, clock: &mut Clock, batch: &mut Vec<Item>, most: usize) {
        let columns = self.columns.len();
        // a loop for each family, in which its lines are read in place
        while self.plain && !self.v6 && batch.len() < most {
            let flow = self.lines.next_plain(|text| csv_fast::flow(text, columns));
            let Some(flow) = flow else { return };
            clock.note_plain();
            batch.push(Item::Flow(flow));
        }
        while self.plain && self.v6 && batch.len() < most {
            let flow = self.lines.next_plain(|text| csv_fast::flow_v6(text, columns));
            let Some(flow) = flow else { return };
            clock.note_plain();
            batch.push(Item::Flow(flow));
        }
    }

    fn skipped(&self) -> Skipped {
        Skipped::default()
    }
}

/// Any line, with what is wrong with it.
#[inline(never)]
pub(super) fn careful(
    line: &[u8],
    columns: &[Column],
    context: &mut Context<'_>,
) -> Result<Flow, Fault> {
    let Ok(text) = std::str::from_utf8(line) else { return Err(Fault::Malformed("text".into())) };
    let mut fields = Fields::EMPTY;
    if memchr::memchr(b'"', line).is_some() {
        let values = record(line)?;
        count(columns.len(), values.len())?;
        for (column, value) in columns.iter().zip(&values) {
            fields.set(*column, value.trim(), context)?;
        }
        return fields.flow(context.names);
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
            _ => {
                return count(columns.len(), text.split(',').count())
                    .and(Err(Fault::Malformed("CSV".into())));
            }
        };
        fields.set(*column, trim(value), context)?;
    }
    fields.flow(context.names)
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
    /// Reads lines with quotes. Its tables are made once a thread: they cost more than a line, and
    /// cannot be copied.
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
            let (read, _, more, ended) =
                reader.read_record(input, &mut octets[written..], &mut ends[fields..]);
            (written, fields) = (written + more, fields + ended);
            if read != ReadRecordResult::InputEmpty {
                break;
            }
        }
    });
    let octets =
        std::str::from_utf8(&octets[..written]).map_err(|_| Fault::Malformed("CSV".into()))?;
    let mut start = 0;
    let field = |end: &usize| {
        octets.get(std::mem::replace(&mut start, *end)..*end).unwrap_or("").trim().to_owned()
    };
    Ok(ends[..fields].iter().map(field).collect())
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        /// A line that is quoted as RFC 4180 says comes out as it went in.
        #[test]
        fn quoted_fields_come_out_as_they_went_in(
            fields in proptest::collection::vec("[a-z,\" ]{0,6}", 1..9),
        ) {
            let quoted: Vec<String> =
                fields.iter().map(|f| format!("\"{}\"", f.replace('"', "\"\""))).collect();
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
