//! The answer of `define` as text: the change, what it changes, and what is found on it.

use std::io::{self, Write};

use zarnet_analysis::answer::define::DefineAnswer;
use zarnet_analysis::answer::impact::ImpactAnswer;
use zarnet_formats::source::Sources;

use super::impact;
use super::table::{BOLD, GOOD, count};
use super::{View, change, diagnostic};

/// Writes the answer; `sources` are the files of the plan as it becomes.
pub fn text(
    answer: DefineAnswer<'_>,
    sources: &Sources,
    view: View,
    out: &mut dyn Write,
) -> io::Result<()> {
    change::write(out, "", answer.diff)?;
    writeln!(out, "\n{BOLD}What it changes{BOLD:#}")?;
    impact::text(ImpactAnswer { found: answer.impact, live: None }, out, view, false)?;
    for f in answer.findings {
        writeln!(out)?;
        diagnostic::finding(out, f, sources)?;
    }
    let number = count(answer.findings.len() as u64, "new finding", "new findings");
    if answer.findings.is_empty() {
        writeln!(out, "{GOOD}no new finding{GOOD:#}")
    } else {
        writeln!(out, "\n{number}")
    }
}
