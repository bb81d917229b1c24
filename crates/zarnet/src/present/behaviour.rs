//! The answer of `behaviour` as text.

use std::io::{self, Write};

use zarnet_analysis::answer::behaviour::{BehaviourAnswer, Subject};
use zarnet_core::plan::{Described, Preset, Timers};

use super::table::{self, BOLD, CAUTION, Cell, Column, DIM};

/// Writes the answer: keys that differ from the defaults stand out.
pub fn text(answer: &BehaviourAnswer, out: &mut dyn Write, width: usize) -> io::Result<()> {
    let subjects = &answer.subjects;
    let default = Subject::new("bcp", &Preset::Bcp.behaviour(), &Timers::default());
    {
        for (n, subject) in subjects.iter().enumerate() {
            if n > 0 {
                writeln!(out)?;
            }
            writeln!(out, "{BOLD}Behaviour of {}{BOLD:#}", subject.name)?;
            let usual =
                |d: &Described| default.settings().any(|u| u.key == d.key && u.value == d.value);
            // several at once: what they differ in is enough
            let shown: Vec<&Described> =
                subject.settings().filter(|d| subjects.len() == 1 || n == 0 || !usual(d)).collect();
            let columns = [
                Column::text("KEY"),
                Column::text("VALUE"),
                Column::text("MEANING").expendable(1),
                Column::text("SOURCE").expendable(2),
            ];
            let row = |d: &&Described| {
                let style = if usual(d) { anstyle::Style::new() } else { CAUTION };
                vec![
                    Cell::from(d.key.as_str()),
                    Cell::styled(d.value.as_str(), style),
                    Cell::from(d.meaning),
                    Cell::styled(d.source, DIM),
                ]
            };
            let rows: Vec<Vec<Cell>> = shown.iter().map(row).collect();
            table::write(out, &columns, &rows, width)?;
            let differs = subject.settings().filter(|d| !usual(d)).count();
            match (shown.len() < subject.settings().count(), differs) {
                (true, _) => writeln!(out, "{DIM}everything else as bcp has it{DIM:#}")?,
                (false, 0) => writeln!(
                    out,
                    "{DIM}these are the defaults: what the best current practices ask for{DIM:#}"
                )?,
                (false, n) => writeln!(
                    out,
                    "{DIM}{} from bcp, the defaults{DIM:#}",
                    table::count(n as u64, "key differs", "keys differ")
                )?,
            }
        }
        if subjects.len() > 1 {
            writeln!(
                out,
                "\n{DIM}zarnet behaviour NAME shows one in full; a plan's path, its devices{DIM:#}"
            )?;
        }
        Ok(())
    }
}
