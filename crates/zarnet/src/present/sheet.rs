//! The answer of `sheet` as text.

use std::io::{self, Write};

use zarnet_analysis::answer::sheet::{SheetAnswer, SheetEntry};

use super::table::{self, BAD, BOLD, Cell, Column, DIM, count};

/// Writes the answer under the title of the plan.
pub fn text(
    answer: &SheetAnswer,
    title: &str,
    out: &mut dyn Write,
    width: usize,
) -> io::Result<()> {
    writeln!(out, "{BOLD}{title}{BOLD:#}: what can be reached from outside")?;
    let columns = [
        Column::text("CONNECT TO"),
        Column::text("ENDS UP AT"),
        Column::text("WHO MAY").expendable(1),
        Column::text("DEVICE").expendable(4),
        Column::text("RULE").expendable(2),
        Column::text("NOTE").expendable(3),
    ];
    let row = |l: &SheetEntry| -> Vec<Cell> {
        let texts = [&l.connect_to, &l.ends_up_at, &l.who_may, &l.device, &l.rule, &l.note];
        texts.into_iter().map(|t| t.as_str().into()).collect()
    };
    let rows: Vec<Vec<Cell>> = answer.forwards.iter().map(row).collect();
    table::write(out, &columns, &rows, width)?;
    let entries = count(answer.forwards.len() as u64, "entry", "entries");
    if !answer.unknown.is_empty() {
        let names = answer.unknown.join(", ");
        writeln!(out, "{BAD}not known{BAD:#}: {names} (docs/limits.md)")?;
    }
    writeln!(out, "{DIM}{entries}; what a filter or policy on the way refuses is left out{DIM:#}")
}
