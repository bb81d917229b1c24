//! Events of a log in the form that is asked for.

use std::fs::File;
use std::io::{self, BufWriter, Seek, Write};

use tempfile::SpooledTempFile;

use zarnet_analysis::answer::SHAPE;
use zarnet_analysis::answer::log::{Amount, event_shape};
use zarnet_formats::nat_log::ipfix::{MOST_IN_FILE, Writer};
use zarnet_formats::nat_log::{
    LogNames, TimeText, TranslationEvent, csv_header, csv_line, syslog_line,
};
use zarnet_live::send_log::LogSender;

use crate::args::Format;
use crate::present::log::EventTable;

/// Writes events one after the other.
pub enum Encoder<'a> {
    Ipfix(&'a mut dyn Output, Writer),
    /// A line an event; the time, the line under way, and what writes it.
    Lines(&'a mut dyn Output, TimeText, Vec<u8>, Line),
    Json(&'a mut dyn Output, TimeText, u64),
    Text(&'a mut EventTable),
    Sent(&'a mut LogSender),
    Counted(&'a mut Counter),
}

type Line = fn(&TranslationEvent, &LogNames, &mut TimeText, &mut Vec<u8>);

/// What comes before the first line.
fn head(line: Line) -> Vec<u8> {
    let mut head = Vec::new();
    if std::ptr::fn_addr_eq(line, csv_line as Line) {
        csv_header(&mut head);
    }
    head
}

/// Where a log is written to until it is known to be whole.
pub trait Output: Write {
    /// Forgets what was written.
    fn restart(&mut self) -> io::Result<()>;
}

impl<W: Write + Restart> Output for BufWriter<W> {
    fn restart(&mut self) -> io::Result<()> {
        self.flush()?;
        self.get_mut().empty()
    }
}

/// A file that can be written anew.
pub trait Restart {
    /// Makes it empty.
    fn empty(&mut self) -> io::Result<()>;
}

impl Restart for SpooledTempFile {
    fn empty(&mut self) -> io::Result<()> {
        self.rewind()?;
        self.set_len(0)
    }
}

impl Restart for &File {
    fn empty(&mut self) -> io::Result<()> {
        self.rewind()?;
        self.set_len(0)
    }
}

fn line_of_syslog(e: &TranslationEvent, names: &LogNames, time: &mut TimeText, out: &mut Vec<u8>) {
    syslog_line(e, names, time, out);
    out.push(b'\n');
}

impl<'a> Encoder<'a> {
    /// What writes a form; text has an encoder of its own.
    pub fn of(format: Format, out: &'a mut dyn Output) -> Self {
        match format {
            Format::Ipfix => Self::Ipfix(out, Writer::new(MOST_IN_FILE)),
            Format::Json => Self::Json(out, TimeText::default(), 0),
            Format::Syslog => Self::Lines(out, TimeText::default(), Vec::new(), line_of_syslog),
            Format::Csv | Format::Text => {
                Self::Lines(out, TimeText::default(), head(csv_line), csv_line)
            }
        }
    }

    /// Begins anew, because the traffic does: it was not in order. `false`: what was sent already
    /// stays sent, and comes again.
    pub fn restart(&mut self) -> io::Result<bool> {
        match self {
            Self::Ipfix(out, writer) => {
                *writer = Writer::new(MOST_IN_FILE);
                out.restart()?;
            }
            Self::Lines(out, _, held, line) => {
                *held = head(*line);
                out.restart()?;
            }
            Self::Json(out, _, count) => {
                *count = 0;
                out.restart()?;
            }
            Self::Text(table) => table.restart(),
            Self::Counted(counter) => **counter = Counter::new(),
            Self::Sent(_) => return Ok(false),
        }
        Ok(true)
    }

    /// Writes an event.
    #[inline]
    pub fn event(&mut self, event: &TranslationEvent, names: &LogNames) -> io::Result<()> {
        match self {
            Self::Ipfix(out, writer) => {
                writer.write(event, names, |message| out.write_all(message))
            }
            Self::Lines(out, time, held, line) => {
                line(event, names, time, held);
                if held.len() >= HELD {
                    out.write_all(held)?;
                    held.clear();
                }
                Ok(())
            }
            Self::Json(out, time, count) => {
                match count {
                    0 => writeln!(out, "{{\"shape\":{SHAPE},\"events\":[")?,
                    _ => out.write_all(b",\n")?,
                }
                *count += 1;
                serde_json::to_writer(&mut **out, &event_shape(event, names, time))
                    .map_err(io::Error::from)
            }
            Self::Text(table) => {
                table.take(event);
                Ok(())
            }
            Self::Sent(sender) => sender.send(event, names),
            Self::Counted(counter) => {
                counter.event(event, names);
                Ok(())
            }
        }
    }

    /// Writes what is still held.
    pub fn finish(&mut self) -> io::Result<()> {
        match self {
            Self::Ipfix(out, writer) => {
                writer.flush(|message| out.write_all(message))?;
                out.flush()
            }
            Self::Lines(out, _, held, _) => {
                out.write_all(held)?;
                out.flush()
            }
            Self::Json(out, _, count) => {
                if *count == 0 {
                    write!(out, "{{\"shape\":{SHAPE},\"events\":[")?;
                }
                out.write_all(b"\n]}\n")?;
                out.flush()
            }
            Self::Sent(sender) => sender.finish(),
            Self::Text(_) => Ok(()),
            Self::Counted(counter) => {
                counter.finish();
                Ok(())
            }
        }
    }
}

/// So many octets are written at once.
const HELD: usize = 1 << 16;

/// How much a log would be, without writing it.
pub struct Counter {
    /// What it came to.
    pub amount: Amount,
    /// When the first and the last event happened.
    pub span: Option<(i64, i64)>,
    writer: Writer,
    time: TimeText,
    line: Vec<u8>,
    /// The second under way, and its events.
    second: (i64, u64),
}

impl Counter {
    /// Nothing counted yet.
    pub fn new() -> Self {
        let mut line = Vec::new();
        csv_header(&mut line);
        let amount = Amount { csv: line.len() as u64, ..Amount::default() };
        let (writer, time) = (Writer::new(MOST_IN_FILE), TimeText::default());
        Self { amount, span: None, writer, time, line, second: (i64::MIN, 0) }
    }

    fn event(&mut self, event: &TranslationEvent, names: &LogNames) {
        let Self { amount, writer, time, line, .. } = self;
        amount.records += 1;
        let counted = writer.write(event, names, |message| {
            amount.ipfix += message.len() as u64;
            Ok::<(), std::convert::Infallible>(())
        });
        let Ok(()) = counted;
        line.clear();
        line_of_syslog(event, names, time, line);
        amount.syslog += line.len() as u64;
        line.clear();
        csv_line(event, names, time, line);
        amount.csv += line.len() as u64;
        let second = event.at.div_euclid(1000);
        if second != self.second.0 {
            self.second = (second, 0);
        }
        self.second.1 += 1;
        amount.most_in_a_second = amount.most_in_a_second.max(self.second.1);
        let first = self.span.map_or(event.at, |span| span.0);
        self.span = Some((first, event.at));
    }

    fn finish(&mut self) {
        let amount = &mut self.amount;
        let counted = self.writer.flush(|message| {
            amount.ipfix += message.len() as u64;
            Ok::<(), std::convert::Infallible>(())
        });
        let Ok(()) = counted;
    }
}
