//! The answer of `why` as text.

use std::io::{self, Write};

use zarnet_analysis::answer::why::{MissShape, RepairShape, WhyAnswer};
use zarnet_analysis::diagnose::{StepOutcome, steps};

use super::change;
use super::follow::label_of;
use super::table::{self, BAD, BOLD, CAUTION, Cell, Column, DIM, GOOD};

/// Near misses that are shown.
const MOST_MISSES: usize = 5;

/// Writes the answer for people.
pub fn text(answer: WhyAnswer<'_>, out: &mut dyn Write, verbose: bool) -> io::Result<()> {
    let (style, cause) = (if answer.diagnosis.works { GOOD } else { BAD }, answer.cause());
    writeln!(out, "{BOLD}{}{BOLD:#}", answer.naming().flow(&answer.scene.followed.flow))?;
    let place = answer
        .diagnosis
        .causes
        .first()
        .and_then(|c| c.place)
        .and_then(|p| answer.naming().position(p));
    let place = place.map(|p| format!("  {DIM}{p}{DIM:#}")).unwrap_or_default();
    writeln!(out, "{style}{cause}{style:#}: {}{place}", answer.verdict())?;
    if let Some(table) = answer.table() {
        writeln!(out, "{CAUTION}table{CAUTION:#}: {table}")?;
    }
    search(answer, out, verbose)?;
    near(answer, out)?;
    for (number, repair) in answer.repairs().iter().enumerate() {
        write_repair(out, number + 1, repair)?;
    }
    for advice in &answer.diagnosis.advice {
        writeln!(out, "\n{BOLD}DO{BOLD:#} {advice}")?;
    }
    if !answer.diagnosis.repairs.is_empty() {
        writeln!(out, "\n{DIM}--apply N writes repair N into the plan{DIM:#}")?;
    }
    Ok(())
}

fn search(answer: WhyAnswer<'_>, out: &mut dyn Write, verbose: bool) -> io::Result<()> {
    writeln!(out, "\n{BOLD}SEARCH{BOLD:#}")?;
    let list = steps(&answer.scene.followed);
    // behind the first that failed, only how far it is to the end matters
    let shown = list
        .iter()
        .filter(|s| verbose || s.outcome != StepOutcome::NotReached || s.device.is_none());
    let lines: Vec<_> = shown
        .map(|step| {
            let shape = answer.step(step);
            let device = shape.device.map(|d| format!("{d}: ")).unwrap_or_default();
            (
                step.outcome,
                format!("{device}{}", label_of(shape.step, step.back)),
                shape.evidence,
                shape.place,
            )
        })
        .collect();
    let longest = lines.iter().map(|l| l.1.chars().count()).max().unwrap_or(0);
    for (outcome, what, evidence, place) in lines {
        let (mark, style) = match outcome {
            StepOutcome::Passed => ("passed", GOOD),
            StepOutcome::Failed => ("FAILED", BAD),
            StepOutcome::NotReached => ("not reached", DIM),
        };
        let place = place.map(|p| format!("  {DIM}{p}{DIM:#}")).unwrap_or_default();
        let text = format!("{what:longest$}  {evidence}");
        writeln!(out, "  {style}{mark:11}{style:#}  {}{place}", text.trim_end())?;
    }
    Ok(())
}

fn near(answer: WhyAnswer<'_>, out: &mut dyn Write) -> io::Result<()> {
    let misses = answer.misses();
    if misses.is_empty() {
        return Ok(());
    }
    writeln!(out, "\n{BOLD}RULES THAT DO NOT MATCH{BOLD:#}, the nearest first")?;
    let columns = [
        Column::text("RULE"),
        Column::text("DEVICE"),
        Column::text("BECAUSE OF"),
        Column::text("HAS"),
        Column::text("NEEDS"),
    ];
    let row = |m: &MissShape<'_>| {
        let more = m.conditions.len() - 1;
        let condition = if more == 0 {
            m.condition.to_owned()
        } else {
            format!("{} and {more} more", m.condition)
        };
        vec![
            m.rule.into(),
            m.device.into(),
            Cell::styled(condition, CAUTION),
            m.has.into(),
            m.needs.into(),
        ]
    };
    let rows: Vec<Vec<Cell>> = misses.iter().take(MOST_MISSES).map(row).collect();
    table::write(out, &columns, &rows, usize::MAX)?;
    Ok(())
}

fn write_repair(out: &mut dyn Write, number: usize, repair: &RepairShape) -> io::Result<()> {
    writeln!(out, "\n{BOLD}REPAIR {number}{BOLD:#} {}", repair.title)?;
    let becomes = repair
        .becomes
        .as_deref()
        .map_or("it becomes as expected".to_owned(), |b| format!("tried: {b}"));
    writeln!(out, "  {GOOD}{becomes}{GOOD:#}")?;
    for change in &repair.changes {
        writeln!(out, "  {CAUTION}side effect{CAUTION:#}: {change}")?;
    }
    change::write(out, "  ", &repair.diff)
}
