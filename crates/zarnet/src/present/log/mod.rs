//! A translation log as text, and how much of it there is.

mod record;
mod whose;

pub use record::{Kept, checked_text, kept_text, recorded_text};
pub use whose::whose_text;

use std::collections::BTreeMap;
use std::io::{self, Write};

use zarnet_analysis::answer::log::{LogSummary, event_shape, log_name};
use zarnet_formats::nat_log::{EventKind, LogNames, TimeText, TranslationEvent};

use super::View;
use super::table::{self, BAD, BOLD, Cell, Column, DIM, GOOD, count};

const COLUMNS: [Column; 8] = [
    Column::text("TIME"),
    Column::text("EVENT"),
    Column::text("PROTO"),
    Column::text("INTERNAL"),
    Column::text("EXTERNAL"),
    Column::text("PEER").expendable(3),
    Column::text("RULE").expendable(1),
    Column::text("DEVICE").expendable(2),
];

/// The first events of a log, and how many of each kind there are.
pub struct EventTable {
    view: View,
    first: Vec<TranslationEvent>,
    counts: BTreeMap<EventKind, u64>,
}

impl EventTable {
    /// Nothing in it yet.
    pub fn new(view: View) -> Self {
        Self { view, first: Vec::new(), counts: BTreeMap::new() }
    }

    /// Forgets what was taken.
    pub fn restart(&mut self) {
        self.first.clear();
        self.counts.clear();
    }

    /// Takes an event.
    pub fn take(&mut self, event: &TranslationEvent) {
        if self.view.rows == 0 || self.first.len() < self.view.rows {
            self.first.push(*event);
        }
        *self.counts.entry(event.kind).or_default() += 1;
    }

    /// Writes the table.
    pub fn write(&self, out: &mut dyn Write, names: &LogNames) -> io::Result<()> {
        writeln!(out, "{BOLD}Translation log{BOLD:#}, as the devices would write it")?;
        let mut time = TimeText::default();
        let rows: Vec<Vec<Cell>> =
            self.first.iter().map(|event| cells(event, names, &mut time)).collect();
        let gone = table::write(out, &COLUMNS, &rows, self.view.width)?;
        let all: u64 = self.counts.values().sum();
        let mut footer = count(all, "event", "events");
        if (self.first.len() as u64) < all {
            footer = format!("{} of {footer} shown; --rows 0 shows all", self.first.len());
        }
        if !gone.is_empty() {
            footer += &format!("; no room for {}", gone.join(", ").to_lowercase());
        }
        writeln!(out, "{DIM}{footer}{DIM:#}\n")?;
        let kinds: Vec<String> =
            self.counts.iter().map(|(kind, n)| format!("{n} {}", kind.name())).collect();
        if !kinds.is_empty() {
            writeln!(out, "{}", kinds.join(", "))?;
        }
        writeln!(
            out,
            "{DIM}--format ipfix, syslog or csv writes it for a collector; --summary compares what \
             the choices cost{DIM:#}"
        )
    }
}

fn cells(event: &TranslationEvent, names: &LogNames, time: &mut TimeText) -> Vec<Cell> {
    let shape = event_shape(event, names, time);
    let style = match event.kind.begins() {
        Some(true) => GOOD,
        Some(false) => DIM,
        None => BAD,
    };
    let what = match shape.ended_by {
        Some(cause) => format!("{} ({cause})", shape.event),
        None => shape.event.to_owned(),
    };
    let external = match (shape.external, shape.last_port, shape.pool) {
        (Some(end), Some(last), _) => format!("{end}-{last}"),
        (Some(end), None, _) => end.to_string(),
        (None, _, Some(pool)) => format!("pool {pool}"),
        (None, _, None) => shape.limit.map_or(String::new(), |n| format!("limit {n}")),
    };
    vec![
        shape.time.into(),
        Cell::styled(what, style),
        shape.protocol.unwrap_or_default().into(),
        shape.internal.map(|e| e.to_string()).unwrap_or_default().into(),
        external.into(),
        shape.peer.map(|e| e.to_string()).unwrap_or_default().into(),
        shape.rule.unwrap_or_default().into(),
        shape.device.into(),
    ]
}

/// Tells that a log was sent.
pub fn sent(out: &mut dyn Write, to: &str, (events, messages): (u64, u64)) -> io::Result<()> {
    let (events, messages) =
        (count(events, "event", "events"), count(messages, "message", "messages"));
    writeln!(out, "sent {events} in {messages} to {to}")
}

const SUMMARY: [Column; 6] = [
    Column::text("LOGGED"),
    Column::number("RECORDS"),
    Column::number("IPFIX"),
    Column::number("SYSLOG"),
    Column::number("CSV"),
    Column::number("MOST A SECOND"),
];

/// Writes how much log each choice makes, of the traffic and of a day like it.
pub fn summary_text(out: &mut dyn Write, summary: &LogSummary) -> io::Result<()> {
    let mut time = TimeText::default();
    let (from, until) = (time.of(summary.span.0).to_owned(), time.of(summary.span.1).to_owned());
    writeln!(out, "{BOLD}Amount of log{BOLD:#} from {from} to {until}")?;
    let row = |scale: bool| {
        summary.choices.iter().map(move |(log, amount)| {
            let amount = amount.and_then(|a| if scale { summary.a_day(a) } else { Some(a) });
            let Some(a) = amount else {
                return vec![
                    log_name(*log).into(),
                    Cell::styled("none", DIM),
                    "".into(),
                    "".into(),
                    "".into(),
                    "".into(),
                ];
            };
            vec![
                log_name(*log).into(),
                a.records.to_string().into(),
                octets(a.ipfix).into(),
                octets(a.syslog).into(),
                octets(a.csv).into(),
                a.most_in_a_second.to_string().into(),
            ]
        })
    };
    let rows: Vec<Vec<Cell>> = row(false).collect();
    table::write(out, &SUMMARY, &rows, usize::MAX)?;
    if summary.span.1 > summary.span.0 {
        writeln!(out, "\n{BOLD}A day like it{BOLD:#}")?;
        let rows: Vec<Vec<Cell>> = row(true).collect();
        table::write(out, &SUMMARY, &rows, usize::MAX)?;
    }
    let has_no_blocks = summary.choices.iter().any(|c| c.1.is_none());
    let why = if has_no_blocks { "no device hands out blocks of ports; " } else { "" };
    writeln!(
        out,
        "\n{DIM}{why}octets without the headers of UDP or TCP; a record is made or ended{DIM:#}"
    )
}

/// Octets in a unit that keeps the number short.
pub fn octets(n: u64) -> String {
    const UNITS: [&str; 5] = ["B", "kB", "MB", "GB", "TB"];
    let (mut value, mut unit) = (n as f64, 0);
    while value >= 1000.0 && unit + 1 < UNITS.len() {
        value /= 1000.0;
        unit += 1;
    }
    if unit == 0 { format!("{n} B") } else { format!("{value:.1} {}", UNITS[unit]) }
}
