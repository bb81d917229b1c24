//! Who had an external address and port, as text.

use std::io::{self, Write};

use zarnet_analysis::answer::whose::{Certainty, WhoseAnswer};
use zarnet_formats::nat_log::TimeText;
use zarnet_store::Asked;

use crate::present::View;
use crate::present::table::{self, BAD, BOLD, CAUTION, Cell, Column, DIM, GOOD, count, span};

const COLUMNS: [Column; 11] = [
    Column::text("HOST").expendable(2),
    Column::text("PROTO"),
    Column::text("INTERNAL"),
    Column::text("EXTERNAL"),
    Column::text("PEER").expendable(4),
    Column::text("FROM"),
    Column::text("UNTIL"),
    Column::text("ENDED BY").expendable(6),
    Column::text("RULE").expendable(3),
    Column::text("DEVICE").expendable(5),
    Column::text("CERTAINTY").expendable(1),
];

/// Writes the answer, how certain it is, and what the logs lack.
pub fn whose_text(out: &mut dyn Write, answer: &WhoseAnswer<'_>, view: View) -> io::Result<()> {
    let mut time = TimeText::default();
    headline(out, answer, &mut time)?;
    let found = &answer.finding.found;
    if !found.is_empty() {
        let shown = if view.rows == 0 { found.len() } else { found.len().min(view.rows) };
        let rows: Vec<Vec<Cell>> =
            found[..shown].iter().map(|f| cells(answer, f, &mut time)).collect();
        let gone = table::write(out, &COLUMNS, &rows, view.width)?;
        let mut footer = count(found.len() as u64, "translation", "translations");
        if shown < found.len() {
            footer = format!("{shown} of {footer} shown; --rows 0 shows all");
        }
        if !gone.is_empty() {
            footer += &format!("; no room for {}", gone.join(", ").to_lowercase());
        }
        writeln!(out, "{DIM}{footer}{DIM:#}")?;
    }
    gaps(out, answer, &mut time)
}

/// Answers the question in a sentence.
fn headline(out: &mut dyn Write, answer: &WhoseAnswer<'_>, time: &mut TimeText) -> io::Result<()> {
    let (from, until) = answer.question.between;
    let when = match from == until {
        true => format!("at {}", time.of(from)),
        false => {
            let from = time.of(from).to_owned();
            format!("from {from} to {}", time.of(until))
        }
    };
    let asked = match answer.question.asked {
        Asked::External(address, Some(port)) if address.is_ipv6() => format!("[{address}]:{port}"),
        Asked::External(address, Some(port)) => format!("{address}:{port}"),
        Asked::External(address, None) => address.to_string(),
        Asked::Host(address) => address.to_string(),
    };
    let asked = match answer.question.protocol {
        Some(protocol) => format!("{asked}/{protocol}"),
        None => asked,
    };
    let found = &answer.finding.found;
    let mut hosts: Vec<String> = found.iter().map(|f| answer.host(&f.record)).collect();
    hosts.sort_unstable();
    hosts.dedup();
    match (answer.question.asked, hosts.as_slice()) {
        (_, []) if answer.is_complete() => {
            writeln!(out, "{BAD}nobody{BAD:#} had {asked} {when}: the logs have no gap there")
        }
        (_, []) => writeln!(out, "{BAD}nobody{BAD:#} is known to have had {asked} {when}"),
        (Asked::Host(_), _) => {
            let n = count(found.len() as u64, "translation", "translations");
            writeln!(out, "{BOLD}{asked}{BOLD:#} had {n} {when}")
        }
        (Asked::External(..), [host]) => {
            writeln!(out, "{asked} was {GOOD}{host}{GOOD:#} {when}")
        }
        (Asked::External(..), hosts) => {
            writeln!(out, "{asked} was one of {CAUTION}{}{CAUTION:#} {when}", hosts.join(", "))
        }
    }
}

fn cells(answer: &WhoseAnswer<'_>, found: &zarnet_store::Found, time: &mut TimeText) -> Vec<Cell> {
    let shape = answer.answer(found, time);
    let named = answer.hosts.contains_key(&found.record.internal);
    let style = match shape.certainty {
        Certainty::Sure => GOOD,
        Certainty::Block => CAUTION,
        Certainty::OneOf => BAD,
    };
    let until = match (shape.until, shape.gone_by) {
        (Some(until), _) => until,
        (None, Some(by)) => format!("by {by}"),
        (None, None) => "end not logged".into(),
    };
    vec![
        // an address would stand there twice
        if named { shape.host } else { String::new() }.into(),
        shape.protocol.unwrap_or_else(|| "any".into()).into(),
        shape.internal.to_string().into(),
        shape.external.to_string().into(),
        shape.peer.map(|p| p.to_string()).unwrap_or_default().into(),
        shape.from.unwrap_or_else(|| "not logged".into()).into(),
        until.into(),
        shape.ended_by.unwrap_or_default().into(),
        shape.rule.unwrap_or_default().into(),
        shape.device.into(),
        Cell::styled(shape.certainty.name(), style),
    ]
}

/// So many gaps are listed.
const GAPS: usize = 5;

fn gaps(out: &mut dyn Write, answer: &WhoseAnswer<'_>, time: &mut TimeText) -> io::Result<()> {
    let gaps = &answer.finding.gaps;
    if answer.finding.devices.is_empty() {
        return writeln!(out, "{CAUTION}the store has no logs{CAUTION:#} of that device");
    }
    // the same gap of several devices is one line
    let mut lines: Vec<(String, Vec<&str>)> = Vec::new();
    for known in gaps {
        let gap = answer.gap(known, time);
        let what = match gap.lost {
            Some(lost) => format!("{} did not come", count(lost, "record", "records")),
            None => "there is no log".to_owned(),
        };
        let line = format!("from {} to {}: {what}", gap.from, gap.until);
        match lines.iter_mut().find(|known| known.0 == line) {
            Some(known) => known.1.push(gap.device),
            None => lines.push((line, vec![gap.device])),
        }
    }
    for (line, devices) in lines.iter().take(GAPS) {
        writeln!(out, "{CAUTION}gap{CAUTION:#} of {} {line}", devices.join(", "))?;
    }
    if lines.len() > GAPS {
        let more = count((lines.len() - GAPS) as u64, "gap", "gaps");
        writeln!(out, "{DIM}and {more} more; --format json has all{DIM:#}")?;
    }
    for clock in answer.clocks() {
        let most = clock.least.abs().max(clock.most.abs());
        if most >= 1.0 {
            let (device, off) = (clock.device, span(std::time::Duration::from_secs_f64(most)));
            writeln!(
                out,
                "{DIM}the clock of {device} was up to {off} off when its log came{DIM:#}"
            )?;
        }
    }
    Ok(())
}
