//! The answer of `send` as text.

use std::io::{self, Write};

use zarnet_analysis::answer::impact::ImpactAnswer;
use zarnet_analysis::answer::send::SendAnswer;

use crate::present::table::{BAD, BOLD, CAUTION, DIM, GOOD, count};
use crate::present::{View, change, expect, impact};

/// Writes the answer as text.
pub fn text(answer: &SendAnswer<'_>, view: View, out: &mut dyn Write) -> io::Result<()> {
    if answer.state == "unchanged" {
        writeln!(out, "{GOOD}nothing to send{GOOD:#}: {} is as planned", answer.device)?;
        if !answer.why.is_empty() {
            writeln!(out, "{}", answer.why)?;
        }
        return footer(answer, out);
    }
    if !answer.diff.is_empty() {
        writeln!(out, "{BOLD}What differs{BOLD:#} on {}, as plans:", answer.device)?;
        change::write(out, "  ", answer.diff)?;
        writeln!(out)?;
    }
    let weighty: Vec<String> = answer
        .losses
        .iter()
        .filter(|l| l.kind.changes_traffic())
        .map(ToString::to_string)
        .collect();
    if !weighty.is_empty() {
        writeln!(out, "{BOLD}What the device cannot hold{BOLD:#}:")?;
        for loss in weighty.iter().take(20) {
            writeln!(out, "  {BAD}{loss}{BAD:#}")?;
        }
        if weighty.len() > 20 {
            writeln!(out, "  {DIM}... and {} more{DIM:#}", weighty.len() - 20)?;
        }
        writeln!(out)?;
    }
    writeln!(out, "{BOLD}What that changes{BOLD:#}, for all possible traffic:")?;
    let shown = ImpactAnswer { found: answer.impact, live: None };
    impact::text(shown, out, View { rows: 6, ..view }, false)?;
    if let Some(expectations) = answer.expectations.filter(|e| !e.expectations.is_empty()) {
        let on = match answer.state {
            "kept" | "taken-back" => "on what the device has then",
            _ => "on the plan",
        };
        writeln!(out, "\n{BOLD}Expectations{BOLD:#} {on}:")?;
        if expectations.failed == 0 {
            let all = count(expectations.passed as u64, "holds", "hold");
            writeln!(out, "  {GOOD}{all}{GOOD:#}")?;
        } else {
            expect::text(expectations, out, view.verbose)?;
        }
        for told in answer.against {
            writeln!(out, "  {BAD}its own table{BAD:#}: {told}")?;
        }
    }
    if answer.expectations.is_some_and(|e| e.expectations.is_empty()) {
        let hint = "the plan expects nothing; what stands in it as [[expect]] is tested";
        writeln!(out, "\n{DIM}{hint}{DIM:#}")?;
    }
    writeln!(out)?;
    state(answer, out)?;
    footer(answer, out)
}

fn state(answer: &SendAnswer<'_>, out: &mut dyn Write) -> io::Result<()> {
    let why = match answer.why.is_empty() {
        true => String::new(),
        false => format!(": {}", answer.why),
    };
    match answer.state {
        "differs" => writeln!(
            out,
            "{CAUTION}nothing was written{CAUTION:#}; --yes sends it as one edit, tests the \
             expectations, and takes it back if one fails"
        ),
        "kept" => writeln!(out, "{GOOD}sent and kept{GOOD:#}{why}"),
        "taken-back" => {
            writeln!(out, "{BAD}taken back{BAD:#}{why}; the device is as it was before")
        }
        "refused" => writeln!(out, "{BAD}nothing was changed{BAD:#}{why}"),
        _ => writeln!(
            out,
            "{BAD}unknown{BAD:#}{why}\n`zarnet drift` tells what the device has; the next `send` \
             finds out before it writes"
        ),
    }
}

fn footer(answer: &SendAnswer<'_>, out: &mut dyn Write) -> io::Result<()> {
    match answer.saved {
        Some(true) => writeln!(out, "{GOOD}saved{GOOD:#}: a restart keeps it")?,
        Some(false) => {
            let hint = if answer.state == "unchanged" && answer.why.is_empty() {
                "; --yes saves it"
            } else {
                ""
            };
            writeln!(out, "{CAUTION}not saved{CAUTION:#}: a restart would lose it{hint}")?;
        }
        None => {}
    }
    if !answer.kept.is_empty() {
        let what = count(answer.kept.len() as u64, "thing", "things");
        writeln!(out, "{DIM}{what} on the device that no plan holds stay as they are{DIM:#}")?;
    }
    if let Some(version) = answer.version {
        writeln!(out, "{DIM}version {version}{DIM:#}")?;
    }
    Ok(())
}
