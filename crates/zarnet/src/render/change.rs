//! What a change changes in the files of a plan, as a diff.

use std::io::{self, Write};

use similar::TextDiff;
use zarnet_formats::source::Sources;

use super::table::{BAD, DIM, GOOD};

/// What a change changes in the files of a plan.
pub fn diff(old: &Sources, new: &Sources) -> String {
    let mut text = String::new();
    for (a, b) in old.0.iter().zip(&new.0).filter(|(a, b)| a.text() != b.text()) {
        let name = a.path.display().to_string();
        let diff = TextDiff::from_lines(a.text(), b.text());
        text += &diff.unified_diff().context_radius(2).header(&name, &name).to_string();
    }
    text
}

/// Writes a diff for people, each line behind `indent`.
pub fn write(out: &mut dyn Write, indent: &str, diff: &str) -> io::Result<()> {
    for line in diff.lines() {
        let style = match line.as_bytes() {
            [b'+', b'+', ..] | [b'-', b'-', ..] | [b'@', ..] => DIM,
            [b'+', ..] => GOOD,
            [b'-', ..] => BAD,
            _ => anstyle::Style::new(),
        };
        writeln!(out, "{indent}{style}{line}{style:#}")?;
    }
    Ok(())
}
