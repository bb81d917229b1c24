//! The answer of `expect` as text.

use std::io::{self, Write};

use zarnet_analysis::answer::expect::ExpectAnswer;

use super::table::{BAD, BOLD, DIM, GOOD, count};

/// More than this many that hold are only counted.
const MOST_SHOWN: usize = 40;

/// Writes the answer for people.
pub fn text(answer: &ExpectAnswer, out: &mut dyn Write, verbose: bool) -> io::Result<()> {
    let list_all = verbose || answer.expectations.len() <= MOST_SHOWN;
    let longest = answer.expectations.iter().map(|e| e.flow.chars().count()).max().unwrap_or(0);
    let places: Vec<String> = answer
        .expectations
        .iter()
        .map(|e| e.place.as_ref().map(ToString::to_string).unwrap_or_default())
        .collect();
    let widest = places.iter().map(|p| p.chars().count()).max().unwrap_or(0);
    for (e, place) in answer.expectations.iter().zip(&places).filter(|(e, _)| list_all || !e.holds)
    {
        let place = format!("{DIM}{place:widest$}{DIM:#}");
        let flow = format!("{:longest$}", e.flow);
        if e.holds {
            writeln!(out, "{GOOD}holds{GOOD:#}  {flow}  {place}  {}", e.wanted)?;
            continue;
        }
        writeln!(out, "{BAD}FAILS{BAD:#}  {BOLD}{flow}{BOLD:#}  {place}")?;
        if let Some(note) = &e.note {
            writeln!(out, "       {DIM}{note}{DIM:#}")?;
        }
        writeln!(out, "       wanted  {}", e.wanted)?;
        writeln!(out, "       got     {BAD}{}{BAD:#}", e.got)?;
        for line in &e.trace {
            writeln!(out, "         {DIM}{line}{DIM:#}")?;
        }
    }
    if answer.expectations.is_empty() {
        return writeln!(
            out,
            "the plan expects nothing: write [[expect]] with a flow and what becomes of it"
        );
    }
    let (passed, failed) = (answer.passed as u64, answer.failed as u64);
    let total = count(passed + failed, "expectation", "expectations");
    match failed {
        0 => writeln!(out, "{total}: {GOOD}all hold{GOOD:#}"),
        n => writeln!(out, "{total}: {passed} hold, {BAD}{}{BAD:#}", count(n, "fails", "fail")),
    }
}
