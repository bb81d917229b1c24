//! What came of recording logs, as text.

use std::io::{self, Write};

use zarnet_analysis::answer::record::{RecordAnswer, passed_over};
use zarnet_formats::nat_log::TimeText;
use zarnet_store::Checked;

use super::octets;
use crate::present::table::{self, BAD, BOLD, CAUTION, Cell, Column, DIM, GOOD, count};

const COLUMNS: [Column; 6] = [
    Column::text("LOG"),
    Column::text("FORMAT"),
    Column::number("EVENTS"),
    Column::text("FROM").expendable(2),
    Column::text("UNTIL").expendable(3),
    Column::number("LOST"),
];

/// Writes what was taken of each log, and what is in the store now.
pub fn recorded_text(
    out: &mut dyn Write,
    answer: &RecordAnswer<'_>,
    width: usize,
) -> io::Result<()> {
    let mut time = TimeText::default();
    if !answer.logs.is_empty() {
        let rows: Vec<Vec<Cell>> = answer
            .logs
            .iter()
            .map(|log| {
                let mut text = |at: Option<i64>| at.map_or(String::new(), |at| time.of(at).into());
                let lost = log.noted.lost;
                vec![
                    log.name.clone().into(),
                    log.format.into(),
                    log.noted.events.to_string().into(),
                    text(log.span.map(|s| s.0)).into(),
                    text(log.span.map(|s| s.1)).into(),
                    Cell::styled(lost.to_string(), if lost > 0 { BAD } else { DIM }),
                ]
            })
            .collect();
        table::write(out, &COLUMNS, &rows, width)?;
        writeln!(out)?;
    }
    for log in answer.logs {
        let mut notes: Vec<String> =
            passed_over(&log.noted).iter().map(|p| format!("{} {}", p.count, p.what)).collect();
        if !log.noted.unknown_elements.is_empty() {
            let unknown = log.noted.unknown_elements.keys();
            let unknown: Vec<String> =
                unknown.map(|e| format!("{}/{}", e.enterprise, e.id)).collect();
            notes.push(format!("elements that are unknown here ({})", unknown.join(", ")));
        }
        if !notes.is_empty() {
            let notes = notes.join(", ");
            writeln!(out, "{CAUTION}passed over{CAUTION:#} in {}: {notes}", log.name)?;
        }
        if let Some(cut) = &log.cut {
            writeln!(out, "{BAD}cut short{BAD:#}: {}: {cut}", log.name)?;
        }
        for gap in &log.noted.missing {
            let from = time.of(gap.from).to_owned();
            writeln!(
                out,
                "{BAD}lost{BAD:#}: {} between {from} and {}",
                count(gap.records, "record", "records"),
                time.of(gap.until)
            )?;
        }
    }
    let recorded = answer.recorded;
    let (events, records) = (
        count(recorded.events, "event", "events"),
        count(recorded.records, "translation", "translations"),
    );
    writeln!(
        out,
        "{BOLD}recorded{BOLD:#} {events}: {records} with both ends, {} with one",
        answer.open
    )?;
    if recorded.shortages > 0 {
        let shortages = count(recorded.shortages, "event", "events");
        writeln!(
            out,
            "{CAUTION}{shortages}{CAUTION:#} told of something that ran out or of a limit"
        )?;
    }
    if answer.removed > 0 {
        writeln!(out, "{} removed: too old to be kept", count(answer.removed, "file", "files"))?;
    }
    writeln!(out, "{DIM}next: zarnet whose STORE ADDRESS:PORT/PROTOCOL --at TIME{DIM:#}")
}

/// Writes what a check found.
pub fn checked_text(out: &mut dyn Write, checked: &Checked) -> io::Result<()> {
    for (path, fault) in &checked.faults {
        writeln!(out, "{BAD}damaged{BAD:#}: {}: {fault}", path.display())?;
    }
    let style = if checked.faults.is_empty() { GOOD } else { BAD };
    let whole = match checked.faults.len() {
        0 => "every file is as it was written".to_owned(),
        n => count(n as u64, "fault", "faults"),
    };
    writeln!(
        out,
        "{style}{whole}{style:#}: {}, {}, {}",
        count(checked.files, "file", "files"),
        count(checked.records, "translation", "translations"),
        octets(checked.octets)
    )
}

/// What was made to last while logs come.
#[derive(Debug, Clone, Copy)]
pub struct Kept {
    /// Events so far.
    pub events: u64,
    /// Translations of which one end was logged.
    pub open: usize,
    /// Records that were sent and did not come.
    pub lost: u64,
    /// Datagrams that were thrown away.
    pub dropped: u64,
    /// Messages, sets and records that are none.
    pub bad: u64,
}

/// Writes what was made to last.
pub fn kept_text(out: &mut dyn Write, kept: &Kept) -> io::Result<()> {
    let Kept { events, open, lost, dropped, bad } = kept;
    write!(out, "kept {events} events, {open} translations open")?;
    for (number, what) in [(lost, "lost"), (dropped, "datagrams dropped"), (bad, "bad")] {
        if *number > 0 {
            write!(out, ", {BAD}{number} {what}{BAD:#}")?;
        }
    }
    writeln!(out)
}
