//! The answer of `drift` as text.

use std::io::{self, Write};

use zarnet_analysis::answer::drift::DriftAnswer;
use zarnet_analysis::drift::Drift;

use crate::present::table::{BAD, BOLD, CAUTION, DIM, GOOD, count};

/// Writes the answer as text.
pub fn text(
    answer: &DriftAnswer,
    rows: usize,
    out: &mut dyn Write,
    width: usize,
) -> io::Result<()> {
    let sides = if answer.has_saved { 3 } else { 2 };
    if let Some(until) = &answer.unconfirmed_until {
        writeln!(
            out,
            "{CAUTION}an edit waits to be confirmed until {until}{CAUTION:#}: the device takes it \
             back then"
        )?;
    }
    if answer.differences.is_empty() {
        let what =
            if answer.has_saved { "planned, running and saved" } else { "planned and running" };
        writeln!(out, "{GOOD}{what} are the same{GOOD:#} on {}", answer.device)?;
        if !answer.has_saved {
            writeln!(out, "{DIM}the device does not tell what is saved{DIM:#}")?;
        }
        return Ok(());
    }
    writeln!(out, "{BOLD}{}{BOLD:#}: what is not everywhere the same", answer.device)?;
    let shown = if rows == 0 { usize::MAX } else { rows };
    for d in answer.differences.iter().take(shown) {
        writeln!(out, "\n{BOLD}{}{BOLD:#}", d.item)?;
        entry(d, sides, out, width)?;
    }
    if answer.differences.len() > shown {
        let all = answer.differences.len();
        writeln!(out, "{DIM}{shown} of {all} shown; --rows 0 shows all{DIM:#}")?;
    }
    writeln!(out)?;
    summary(answer, out)
}

/// One thing, a line for each side; what is the same on several sides is said once.
fn entry(d: &Drift, sides: usize, out: &mut dyn Write, width: usize) -> io::Result<()> {
    let names = ["planned", "running", "saved"];
    let mut groups: Vec<(Vec<&str>, Option<&str>)> = Vec::new();
    for (name, value) in names.iter().zip(&d.values).take(sides) {
        let value = value.as_deref();
        match groups.iter_mut().find(|g| g.1 == value) {
            Some(group) => group.0.push(name),
            None => groups.push((vec![name], value)),
        }
    }
    let longest = groups.iter().map(|g| g.0.join(", ").len()).max().unwrap_or(0);
    for (sides, value) in &groups {
        let style = match (sides.contains(&"planned"), value) {
            (true, _) => GOOD,
            (false, None) => BAD,
            (false, Some(_)) => CAUTION,
        };
        let mut name = sides.join(", ");
        for line in wrapped(value.unwrap_or("not there"), width.saturating_sub(longest + 4)) {
            writeln!(out, "  {name:longest$}  {style}{line}{style:#}")?;
            name.clear();
        }
    }
    Ok(())
}

/// A value in lines that fit, broken where a key begins.
fn wrapped(value: &str, width: usize) -> Vec<String> {
    let mut lines: Vec<String> = vec![String::new()];
    for part in value.split_inclusive(", ") {
        let last = lines.last().map_or(0, |l| l.chars().count());
        if last > 0 && last + part.trim_end().chars().count() > width.max(20) {
            lines.push(String::new());
        }
        if let Some(line) = lines.last_mut() {
            line.push_str(part);
        }
    }
    lines.iter().map(|l| l.trim_end().to_owned()).collect()
}

/// What the differences come to: what a restart would lose, and what nobody planned.
fn summary(answer: &DriftAnswer, out: &mut dyn Write) -> io::Result<()> {
    let differ = |a: usize, b: usize| {
        answer
            .differences
            .iter()
            .filter(|d| d.values.get(a).is_some() && d.values.get(a) != d.values.get(b))
            .count() as u64
    };
    let planned = differ(0, 1);
    if planned > 0 {
        let told = count(planned, "thing runs", "things run");
        writeln!(out, "{told} otherwise than planned; `zarnet send` shows what would change that")?;
    } else {
        writeln!(out, "{GOOD}what runs is what is planned{GOOD:#}")?;
    }
    if answer.has_saved {
        let saved = differ(1, 2);
        if saved > 0 {
            let told = count(saved, "thing", "things");
            writeln!(out, "{CAUTION}a restart would lose {told}{CAUTION:#}: running is not saved")?;
        } else {
            writeln!(out, "what runs is saved")?;
        }
    }
    Ok(())
}
