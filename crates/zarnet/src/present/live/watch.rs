//! A device's table at one look, as text.

use std::io::{self, Write};
use std::time::Duration;

use zarnet_analysis::answer::watch::WatchAnswer;
use zarnet_analysis::watch::{Usage, WatchedRow, Watching};

use crate::present::View;
use crate::present::escape::{Form, escaped};
use crate::present::table::{self, BAD, BOLD, CAUTION, Cell, Column, DIM, GOOD, count};

/// Writes what is seen at one look as text.
pub fn text(answer: &WatchAnswer<'_>, view: View, out: &mut dyn Write) -> io::Result<()> {
    let w = answer.watching;
    writeln!(out, "{BOLD}{}{BOLD:#}", answer.device)?;
    let mut columns = vec![
        Column::text("PROTOCOL"),
        Column::text("INTERNAL"),
        Column::text("EXTERNAL"),
        Column::text("PEER").expendable(2),
        Column::text("RULE").expendable(1),
        Column::text("STATE"),
        Column::number("IDLE").expendable(3),
        Column::number("EXPIRES"),
    ];
    if w.missing.is_some() {
        columns.push(Column::text("PREDICTION"));
    }
    let shown = if view.rows == 0 { usize::MAX } else { view.rows };
    let rows: Vec<Vec<Cell>> = w
        .rows
        .iter()
        .take(shown)
        .map(|r| {
            let mark = match r.predicted {
                Some(false) => Cell::styled("not predicted", BAD),
                Some(true) | None => Cell::default(),
            };
            let mut cells: Vec<Cell> = fields(r).into_iter().map(Cell::from).collect();
            if w.missing.is_some() {
                cells.push(mark);
            }
            cells
        })
        .collect();
    table::write(out, &columns, &rows, view.width)?;
    if w.rows.len() > shown {
        writeln!(out, "{DIM}{shown} of {} shown; --rows 0 shows all{DIM:#}", w.rows.len())?;
    }
    if !w.usage.is_empty() {
        writeln!(out, "\n{BOLD}Use{BOLD:#}")?;
        let longest = w.usage.iter().map(|u| u.name.len()).max().unwrap_or(0);
        for u in &w.usage {
            let style = match share(u) {
                s if s >= 0.95 => BAD,
                s if s >= 0.8 => CAUTION,
                _ => GOOD,
            };
            let (bar, told) = (bar(u, 24), of(u));
            writeln!(out, "  {:longest$}  {style}{bar}{style:#} {told}", u.name)?;
        }
    }
    let refused: Vec<String> = refusals(w);
    if !refused.is_empty() {
        writeln!(out, "\n{BOLD}Refused{BOLD:#}: {}", refused.join(", "))?;
    }
    if let Some(missing) = &w.missing {
        let (more, less) = (w.unpredicted() as u64, missing.len() as u64);
        let more = count(more, "row is not predicted", "rows are not predicted");
        let less = count(less, "predicted one is missing", "predicted ones are missing");
        writeln!(out, "\n{more}, {less}")?;
    }
    Ok(())
}

/// The fields of a row, in the order of the columns.
pub(super) fn fields(r: &WatchedRow) -> Vec<String> {
    let seconds =
        |s: Option<u32>| s.map(|s| table::span(Duration::from_secs(s.into()))).unwrap_or_default();
    vec![
        r.protocol.map_or("any".into(), |p| p.to_string()),
        r.internal.to_string(),
        r.external.to_string(),
        r.peer.map(|p| p.to_string()).unwrap_or_default(),
        r.rule.as_deref().map(plain).unwrap_or_default(),
        r.state.as_deref().map(plain).unwrap_or_default(),
        seconds(r.idle),
        if r.fixed { "never".into() } else { seconds(r.expires) },
    ]
}

/// What a device says is text of a stranger: a name of it, not longer than a column should be.
pub(super) fn plain(text: &str) -> String {
    escaped(text, Form::Plain).chars().take(40).collect()
}

pub(super) fn share(u: &Usage) -> f64 {
    u.used as f64 / u.usable.max(1) as f64
}

pub(super) fn of(u: &Usage) -> String {
    let percent = 100.0 * share(u);
    let percent = if u.used > 0 && percent < 0.1 { "<0.1".into() } else { format!("{percent:.1}") };
    format!("{} of {} ({percent} %)", u.used, u.usable)
}

pub(super) fn bar(u: &Usage, width: usize) -> String {
    let filled = (share(u) * width as f64).ceil().min(width as f64) as usize;
    format!("{}{}", "#".repeat(filled), ".".repeat(width - filled))
}

/// Counters of what was refused that are not zero; of all together, the whole last.
pub(super) fn refusals(w: &Watching) -> Vec<String> {
    let told = |(name, (all, new)): (&String, &(u64, u64))| {
        let what = plain(name).replace("dropped-", "").replace("-packets", "");
        let what = if what == "packets" { "all".to_owned() } else { what };
        let new = if *new > 0 { format!(" (+{new})") } else { String::new() };
        (*all > 0).then(|| format!("{what} {all}{new}"))
    };
    w.refused.iter().filter_map(told).collect()
}
