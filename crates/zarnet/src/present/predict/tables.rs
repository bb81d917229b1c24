//! The tables of mappings and sessions.

use std::io::{self, Write};

use zarnet_analysis::answer::ProtocolName;
use zarnet_analysis::answer::predict::PredictAnswer;
use zarnet_core::device::{MappingRow, SessionRow, State};
use zarnet_core::net::{Endpoint, Instant};
use zarnet_core::plan::DeviceId;
use zarnet_core::predict::DeviceTable;

use super::super::View;
use super::super::table::{self, BAD, BOLD, CAUTION, Cell, Column, DIM, GOOD, count, span};

const MAPPINGS: [Column; 9] = [
    Column::text("PROTOCOL"),
    Column::text("INTERNAL"),
    Column::text("EXTERNAL"),
    Column::text("PEER").expendable(3),
    Column::text("RULE"),
    Column::text("STATE").expendable(1),
    Column::number("SESSIONS").expendable(4),
    Column::number("IDLE FOR").expendable(2),
    Column::number("EXPIRES IN"),
];

const SESSIONS: [Column; 7] = [
    Column::text("PROTOCOL"),
    Column::text("AS SENT"),
    Column::text("AS FORWARDED"),
    Column::text("RULE").expendable(2),
    Column::text("STATE").expendable(1),
    Column::number("IDLE FOR").expendable(3),
    Column::number("EXPIRES IN"),
];

fn title(
    out: &mut dyn Write,
    answer: PredictAnswer<'_>,
    device: DeviceId,
    what: &str,
) -> io::Result<()> {
    let at = answer.prediction.at;
    writeln!(out, "{BOLD}{what} of {} at {at}{BOLD:#}", answer.device(device))
}

fn state(state: Option<State>, fixed: bool) -> Cell {
    match state {
        None if fixed => Cell::styled("fixed", DIM),
        None => "idle".into(),
        Some(s @ (State::Open | State::Established | State::ClientFin | State::ServerFin)) => {
            Cell::styled(s.name(), GOOD)
        }
        Some(s @ State::Reset) => Cell::styled(s.name(), BAD),
        Some(s) => Cell::styled(s.name(), CAUTION),
    }
}

fn idle(at: Instant, last: Option<Instant>) -> Cell {
    last.map_or(Cell::default(), |l| span(at - l).into())
}

pub(super) fn mappings(
    out: &mut dyn Write,
    answer: PredictAnswer<'_>,
    device: DeviceId,
    rows: &[MappingRow],
    view: View,
) -> io::Result<()> {
    title(out, answer, device, "Translation table")?;
    let at = answer.prediction.at;
    let fixed = rows.iter().filter(|m| m.fixed).count();
    if rows.is_empty() {
        writeln!(
            out,
            "empty: no rule of this device is permanent, and nothing is mapped at this moment"
        )?;
        let peak = answer.prediction.peak_mappings;
        if peak > 0 {
            writeln!(
                out,
                "{DIM}most were {} at {}: --at peak{DIM:#}",
                count(peak, "mapping", "mappings"),
                answer.prediction.peak_at
            )?;
        }
        return Ok(());
    }
    let shown = if view.rows == 0 { rows.len() } else { rows.len().min(view.rows) };
    let row = |m: &MappingRow| -> Vec<Cell> {
        let external = if m.freely { format!("{} *", m.external) } else { m.external.to_string() };
        let expires = m.expires.map_or(Cell::styled("never", DIM), |e| span(e - at).into());
        let peer = m.peer.map_or(Cell::styled("any", DIM), |p| p.to_string().into());
        vec![
            ProtocolName(m.protocol).to_string().into(),
            m.internal.to_string().into(),
            external.into(),
            peer,
            answer.rule(device, m.rule).into(),
            state(m.state, m.fixed),
            m.sessions.to_string().into(),
            idle(at, m.last_active),
            expires,
        ]
    };
    let cells: Vec<Vec<Cell>> = rows[..shown].iter().map(row).collect();
    let gone = table::write(out, &MAPPINGS, &cells, view.width)?;
    let dynamic = rows.len() - fixed;
    let mut footer = format!(
        "{} ({fixed} fixed, {dynamic} dynamic)",
        count(rows.len() as u64, "mapping", "mappings")
    );
    if shown < rows.len() {
        footer = format!("{shown} of {footer} shown; --rows 0 shows all");
    }
    if !gone.is_empty() {
        footer += &format!("; no room for {}", gone.join(", ").to_lowercase());
    }
    if rows[..shown].iter().any(|m| m.freely) {
        footer += "; * the device could as well choose another";
    }
    if !answer.sessions {
        footer += "; --sessions shows the sessions under them";
    }
    writeln!(out, "{DIM}{footer}{DIM:#}")
}

/// Says which rules of a device are disabled at the moment.
pub(super) fn disabled(
    out: &mut dyn Write,
    answer: PredictAnswer<'_>,
    table: &DeviceTable,
) -> io::Result<()> {
    const MOST: usize = 6;
    let rules = &answer.plan.devices[table.device.index()].rules;
    let off = rules.iter().zip(&table.enabled).filter(|(r, enabled)| !**enabled && !r.retired);
    let names: Vec<&str> = off.map(|(r, _)| r.name.as_str()).collect();
    let more = match names.len().saturating_sub(MOST) {
        0 => String::new(),
        more => format!(" and {more} more"),
    };
    match names.as_slice() {
        [] => Ok(()),
        names => {
            let takes = if names.len() == 1 { "takes" } else { "take" };
            let names = names[..names.len().min(MOST)].join(", ");
            writeln!(out, "{CAUTION}disabled{CAUTION:#} {names}{more}, which {takes} nothing new")
        }
    }
}

pub(super) fn sessions(
    out: &mut dyn Write,
    answer: PredictAnswer<'_>,
    device: DeviceId,
    rows: &[SessionRow],
    view: View,
) -> io::Result<()> {
    title(out, answer, device, "Sessions")?;
    if rows.is_empty() {
        return writeln!(out, "none at this moment");
    }
    let at = answer.prediction.at;
    let shown = if view.rows == 0 { rows.len() } else { rows.len().min(view.rows) };
    let row = |s: &SessionRow| -> Vec<Cell> {
        let rules: Vec<&str> = s.rules.iter().flatten().map(|r| answer.rule(device, *r)).collect();
        let tuple = |t: zarnet_core::net::Tuple| {
            let port = if s.protocol.has_query_id() { 0 } else { t.destination.port };
            format!("{} -> {}", t.source, Endpoint { port, ..t.destination })
        };
        vec![
            s.protocol.to_string().into(),
            tuple(s.original).into(),
            tuple(s.translated).into(),
            rules.join(", ").into(),
            state(Some(s.state), false),
            idle(at, Some(s.last_active)),
            span(s.expires - at).into(),
        ]
    };
    let cells: Vec<Vec<Cell>> = rows[..shown].iter().map(row).collect();
    let gone = table::write(out, &SESSIONS, &cells, view.width)?;
    let mut footer = count(rows.len() as u64, "session", "sessions");
    if shown < rows.len() {
        footer = format!("{shown} of {footer} shown; --rows 0 shows all");
    }
    if !gone.is_empty() {
        footer += &format!("; no room for {}", gone.join(", ").to_lowercase());
    }
    writeln!(out, "{DIM}{footer}{DIM:#}")
}
