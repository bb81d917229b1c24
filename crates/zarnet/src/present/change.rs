//! A diff for people.

use std::io::{self, Write};

use super::table::{BAD, DIM, GOOD};

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
