//! What became of each flow, one line a flow or a run of equal ones.

use std::io::{self, Write};

use zarnet_analysis::answer::predict::PredictAnswer;
use zarnet_core::Class;
use zarnet_core::net::{Endpoint, Tuple};
use zarnet_core::predict::TimelineRow;

use super::super::View;
use super::super::table::{self, BAD, BOLD, CAUTION, Cell, Column, DIM, GOOD, count};

const COLUMNS: [Column; 7] = [
    Column::number("FROM"),
    Column::number("TO"),
    Column::number("FLOWS"),
    Column::text("FLOW"),
    Column::text("BECOMES"),
    Column::text("RULE"),
    Column::text("DEVICE").expendable(1),
];

pub(super) fn timeline(
    out: &mut dyn Write,
    answer: PredictAnswer<'_>,
    rows: &[TimelineRow],
    view: View,
) -> io::Result<()> {
    writeln!(out, "{BOLD}Timeline{BOLD:#}, in the order in which flows begin")?;
    let shown = if view.rows == 0 { rows.len() } else { rows.len().min(view.rows) };
    let cells: Vec<Vec<Cell>> = rows[..shown].iter().map(|r| cells(answer, r)).collect();
    let gone = table::write(out, &COLUMNS, &cells, view.width)?;
    let flows = rows.iter().map(|r| r.count).sum();
    let mut footer = format!(
        "{} for {}",
        count(rows.len() as u64, "line", "lines"),
        count(flows, "flow", "flows")
    );
    if shown < rows.len() {
        footer = format!("{shown} of {footer} shown; --rows 0 shows all");
    }
    if !gone.is_empty() {
        footer += &format!("; no room for {}", gone.join(", ").to_lowercase());
    }
    if rows[..shown].iter().any(|r| r.translated.is_some() && has_several_ports(r)) {
        footer += "; of several flows, `:*` stands for a port of each";
    }
    writeln!(out, "{DIM}{footer}{DIM:#}\n")
}

/// Whether it stands for flows that were translated to several ports.
fn has_several_ports(row: &TimelineRow) -> bool {
    row.count > 1
        && row.flow.protocol.is_multiplexed()
        && row.translated.is_some_and(|t| t.source.port == 0)
}

fn cells(answer: PredictAnswer<'_>, row: &TimelineRow) -> Vec<Cell> {
    let fared = answer.fared(row);
    let outcome = match (row.translated, fared.reason) {
        (Some(arrived), _) => Cell::styled(ends(arrived, has_several_ports(row)), GOOD),
        (None, reason) => {
            let style = if row.class == Class::Untranslated { CAUTION } else { BAD };
            Cell::styled(reason.unwrap_or(fared.class), style)
        }
    };
    let until = if row.count > 1 { row.until.to_string() } else { String::new() };
    vec![
        row.flow.start.to_string().into(),
        until.into(),
        row.count.to_string().into(),
        fared.flow.into(),
        outcome,
        fared.rule.unwrap_or_default().into(),
        fared.device.unwrap_or_default().into(),
    ]
}

/// Both ends; `any_port`: each flow has a source port of its own.
fn ends(arrived: Tuple, any_port: bool) -> String {
    let Tuple { source, destination } = arrived;
    match any_port {
        true => format!("{}* -> {destination}", with_colon(source)),
        false => format!("{source} -> {destination}"),
    }
}

fn with_colon(end: Endpoint) -> String {
    match end.address {
        std::net::IpAddr::V4(a) => format!("{a}:"),
        std::net::IpAddr::V6(a) => format!("[{a}]:"),
    }
}
