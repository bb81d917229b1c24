//! A log as it is named: a file in any of the formats, packed or not, or what a pipe held.

use std::io::Read;

use super::csv_log::LOGS;
use super::ipfix::{Message, Session};
use super::syslog::{Frames, parse_line};
use super::{CsvReader, LogColumns, LogNames, Name, Noted, TranslationEvent};
use crate::traffic::{Fault, Given, Input};

/// How a log is read.
#[derive(Debug, Clone, Default)]
pub struct LogForm {
    /// Which column is what, in CSV that does not have our names.
    pub columns: Option<LogColumns>,
    /// The device that it is of, where it does not say.
    pub device: Option<Name>,
}

/// What a log is written in.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum LogFormat {
    /// RFC 7011, as in a file of RFC 5655.
    Ipfix,
    /// RFC 5424.
    Syslog,
    /// Rows with a header.
    Csv,
}

impl LogFormat {
    /// The format of a log, by its first octets.
    ///
    /// # Errors
    /// It is empty, or in none of them.
    pub fn of(head: &[u8]) -> Result<Self, Fault> {
        let text = head.trim_ascii_start();
        let counted = text.iter().position(|o| !o.is_ascii_digit()).filter(|n| (1..7).contains(n));
        Ok(match text {
            [] => return Err(Fault::Empty),
            _ if Message::header(head).is_some() => Self::Ipfix,
            [b'<', ..] => Self::Syslog,
            _ if counted.is_some_and(|n| text[n..].starts_with(b" <")) => Self::Syslog,
            _ => {
                let line = text.split(|o| *o == b'\n').next().unwrap_or_default();
                let is_text = std::str::from_utf8(line).is_ok_and(|l| !l.contains('\0'));
                if !is_text || !line.iter().any(|o| matches!(o, b',' | b';' | b'\t')) {
                    return Err(Fault::Malformed(LOGS.into()));
                }
                Self::Csv
            }
        })
    }
}

/// What came of reading a log.
#[derive(Debug)]
pub struct LogRead {
    /// What it is written in.
    pub format: LogFormat,
    /// Why it could not be read to its end. What came before counts.
    pub cut: Option<Fault>,
}

/// Reads a log from its beginning to its end. What is wrong in it is counted in `noted`.
///
/// # Errors
/// It cannot be read at all, or is no log.
pub fn read_log(
    given: &Given,
    form: &LogForm,
    names: &mut LogNames,
    noted: &mut Noted,
    mut take: impl FnMut(TranslationEvent, &LogNames),
) -> Result<LogRead, Fault> {
    let contents = Input::open(given)?.read()?;
    let mut reader = Buffered { from: contents.reader, held: Vec::new(), at: 0, ended: false };
    reader.fill(4096);
    if let (true, Some(fault)) = (reader.held.is_empty(), contents.failure.fault()) {
        return Err(fault);
    }
    let format = LogFormat::of(&reader.held)?;
    match format {
        LogFormat::Ipfix => read_ipfix(&mut reader, names, noted, &mut take),
        LogFormat::Syslog => read_syslog(&mut reader, names, noted, &mut take),
        LogFormat::Csv => read_csv(reader, form, names, noted, &mut take)?,
    }
    Ok(LogRead { format, cut: contents.failure.fault() })
}

/// A file as it is read: as much of it as is needed at a time.
struct Buffered {
    from: Box<dyn Read + Send>,
    held: Vec<u8>,
    /// Where what was not used yet begins.
    at: usize,
    ended: bool,
}

/// So much is read at once.
const PIECE: usize = 1 << 18;

impl Buffered {
    fn rest(&self) -> &[u8] {
        &self.held[self.at..]
    }

    /// Makes at least so many octets ready, if there are as many.
    fn fill(&mut self, least: usize) {
        while self.held.len() - self.at < least && !self.ended {
            self.held.drain(..self.at);
            self.at = 0;
            let have = self.held.len();
            self.held.resize(have + PIECE, 0);
            let (got, ended) = match self.from.read(&mut self.held[have..]) {
                Ok(got) => (got, got == 0),
                // of any other error the reader keeps the reason
                Err(error) => (0, error.kind() != std::io::ErrorKind::Interrupted),
            };
            self.held.truncate(have + got);
            self.ended = ended;
        }
    }
}

impl Read for Buffered {
    fn read(&mut self, into: &mut [u8]) -> std::io::Result<usize> {
        self.fill(1);
        let got = self.rest().read(into)?;
        self.at += got;
        Ok(got)
    }
}

/// The longest message of IPFIX.
const LONGEST: usize = 1 << 16;

fn read_ipfix(
    reader: &mut Buffered,
    names: &mut LogNames,
    noted: &mut Noted,
    take: &mut impl FnMut(TranslationEvent, &LogNames),
) {
    let mut session = Session::new("");
    loop {
        reader.fill(2 * LONGEST);
        let rest = reader.rest();
        if rest.is_empty() {
            return;
        }
        match Message::header(rest).filter(|m| m.length <= rest.len()) {
            Some(message) => {
                session.read(&rest[..message.length], names, noted, &mut *take);
                reader.at += message.length;
            }
            None => {
                let skipped = next_message(rest);
                noted.bad_messages += 1;
                noted.octets_skipped += skipped as u64;
                reader.at += skipped;
            }
        }
    }
}

/// Where the next message seems to begin, behind the first octet: there is a header, and another
/// one or the end behind its message.
fn next_message(octets: &[u8]) -> usize {
    let seems = |at: usize| {
        let Some(message) = Message::header(&octets[at..]) else { return false };
        let next = at + message.length;
        let recent = message.export > 946_684_800;
        recent
            && (next == octets.len()
                || octets.get(next..).is_some_and(|o| Message::header(o).is_some()))
    };
    let places = memchr::memmem::find_iter(octets, &[0, 10]).filter(|at| *at > 0);
    places.into_iter().find(|at| seems(*at)).unwrap_or(octets.len())
}

fn read_syslog(
    reader: &mut Buffered,
    names: &mut LogNames,
    noted: &mut Noted,
    take: &mut impl FnMut(TranslationEvent, &LogNames),
) {
    let mut frames = Frames::default();
    loop {
        reader.fill(1);
        let ended = reader.rest().is_empty();
        frames.push(reader.rest());
        reader.at = reader.held.len();
        while let Some(message) = frames.next(ended, noted) {
            if let Some(event) = parse_line(message, names, noted) {
                take(event, names);
            }
        }
        if ended {
            return;
        }
    }
}

fn read_csv(
    reader: Buffered,
    form: &LogForm,
    names: &mut LogNames,
    noted: &mut Noted,
    take: &mut impl FnMut(TranslationEvent, &LogNames),
) -> Result<(), Fault> {
    let line = reader.rest().split(|o| *o == b'\n').next().unwrap_or_default();
    let count = |delimiter: &u8| line.iter().filter(|o| *o == delimiter).count();
    let delimiter = [b'\t', b';', b','].into_iter().max_by_key(count).unwrap_or(b',');
    let mut rows = csv::ReaderBuilder::new()
        .delimiter(delimiter)
        .has_headers(false)
        .flexible(true)
        .comment(Some(b'#'))
        .from_reader(reader);
    let mut reader = CsvReader::new(form.columns.clone(), form.device);
    let mut row = csv::StringRecord::new();
    loop {
        match rows.read_record(&mut row) {
            Ok(false) => return Ok(()),
            Ok(true) => reader.row(&row, names, noted, take)?,
            // text that is no text
            Err(error) if !error.is_io_error() => noted.bad_records += 1,
            Err(_) => return Ok(()),
        }
    }
}
