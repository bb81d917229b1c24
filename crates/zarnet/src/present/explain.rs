//! The answer of `explain` as text.

use std::io::{self, Write};

use zarnet_analysis::answer::explain::{ExplainAnswer, PAGES};

use super::table::{BOLD, DIM};

/// Writes what is known of one name.
pub fn text(answer: &ExplainAnswer, out: &mut dyn Write) -> io::Result<()> {
    for e in &answer.entries {
        writeln!(out, "{BOLD}{}{BOLD:#} {DIM}{}{DIM:#}", e.name, e.kind)?;
        for (heading, text) in &e.text {
            writeln!(out, "  {heading:<14}  {text}")?;
        }
        writeln!(out, "  {DIM}{}{DIM:#}", e.page)?;
    }
    Ok(())
}

/// Writes all names, page by page.
pub fn list(answer: &ExplainAnswer, out: &mut dyn Write) -> io::Result<()> {
    for (kind, page) in PAGES {
        let own = answer.entries.iter().filter(|e| e.page == page);
        let names: Vec<&str> = own.map(|e| e.name).collect();
        writeln!(out, "{BOLD}{kind}{BOLD:#} {DIM}({page}){DIM:#}\n  {}\n", names.join(", "))?;
    }
    Ok(())
}
