//! The answer of `compare` as text.

use std::collections::BTreeMap;
use std::io::{self, Write};

use zarnet_analysis::answer::compare::{CompareAnswer, Parts};
use zarnet_analysis::compare::{Difference, Kind, Why};
use zarnet_core::net::Endpoint;

use super::table::{self, BAD, BOLD, CAUTION, Cell, Column, DIM, GOOD, count};

/// Writes the answer as text.
pub fn text(
    answer: CompareAnswer<'_>,
    out: &mut dyn Write,
    width: usize,
    rows: usize,
) -> io::Result<()> {
    let c = answer.comparison;
    let entries = count(c.same, "entry is", "entries are");
    if c.differences.is_empty() {
        writeln!(
            out,
            "{GOOD}the tables agree{GOOD:#}: {entries} as predicted at {}",
            answer.prediction.at
        )?;
        return footer(answer, out);
    }
    writeln!(out, "{BOLD}Differences{BOLD:#} of the tables at {}", answer.prediction.at)?;
    let columns = [
        Column::text("KIND"),
        Column::text("CAUSE"),
        Column::text("DEVICE").expendable(2),
        Column::text("PROTOCOL"),
        Column::text("INTERNAL"),
        Column::text("PREDICTED"),
        Column::text("OBSERVED"),
        Column::text("RULE").expendable(1),
        Column::number("LINE").expendable(3),
    ];
    let shown = if rows == 0 { usize::MAX } else { rows };
    let cells: Vec<Vec<Cell>> = c.differences.iter().take(shown).map(|d| row(answer, d)).collect();
    table::write(out, &columns, &cells, width)?;
    if c.differences.len() > shown {
        writeln!(out, "{DIM}{shown} of {} shown; --rows 0 shows all{DIM:#}", c.differences.len())?;
    }
    writeln!(out)?;
    let mut by_cause: BTreeMap<Why, u64> = BTreeMap::new();
    c.differences.iter().for_each(|d| *by_cause.entry(d.why).or_default() += 1);
    let longest = by_cause.keys().map(|w| w.name().len()).max().unwrap_or(0);
    for (why, n) in by_cause {
        writeln!(out, "{n:5}  {CAUTION}{:longest$}{CAUTION:#}  {}", why.name(), why.sentence())?;
    }
    writeln!(
        out,
        "\n{entries} as predicted, {BAD}{}{BAD:#}",
        count(c.differences.len() as u64, "differs", "differ")
    )?;
    footer(answer, out)
}

fn footer(answer: CompareAnswer<'_>, out: &mut dyn Write) -> io::Result<()> {
    match answer.comparison.fixed_not_listed {
        0 => Ok(()),
        n => {
            let what =
                count(n, "fixed entry without a session is", "fixed entries without a session are");
            writeln!(out, "{DIM}{what} not compared: the table lists none of that kind{DIM:#}")
        }
    }
}

fn row(answer: CompareAnswer<'_>, d: &Difference) -> Vec<Cell> {
    let parts = Parts::of(d);
    let end = |e: Option<Endpoint>| e.map(|e| e.to_string()).unwrap_or_default();
    let style = if d.kind == Kind::Different { CAUTION } else { BAD };
    let rule = d.predicted.map(|(device, row)| {
        answer.prediction.plan.devices[device.index()].rules[row.rule.index()].name.clone()
    });
    vec![
        Cell::styled(d.kind.name(), style),
        d.why.name().into(),
        parts.device.map_or("", |d| answer.device(d)).into(),
        parts.protocol.to_string().into(),
        end(parts.internal).into(),
        end(parts.predicted).into(),
        end(parts.observed).into(),
        rule.unwrap_or_default().into(),
        d.observed.map(|o| o.line.to_string()).unwrap_or_default().into(),
    ]
}
