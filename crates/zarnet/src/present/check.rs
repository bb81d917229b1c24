//! The answer of `check` as text.

use std::collections::BTreeMap;
use std::io::{self, Write};
use std::path::Path;

use zarnet_analysis::answer::check::{CheckAnswer, FindingList};
use zarnet_analysis::audit::Finding;
use zarnet_core::finding::Severity;
use zarnet_core::limits;
use zarnet_formats::plan::Loaded;

use super::change;
use super::diagnostic::finding;
use super::table::{BOLD, DIM, count};

/// Writes the answer: each finding with its piece of the plan, then what there is in numbers.
pub fn text(
    answer: &CheckAnswer,
    (findings, loaded, path): (&[Finding], &Loaded, &Path),
    verbose: bool,
    out: &mut dyn Write,
) -> io::Result<()> {
    let Loaded { plan, sources, .. } = loaded;
    let rules: usize = plan.devices.iter().map(|d| d.rules.len()).sum();
    let mut shown: BTreeMap<&str, usize> = BTreeMap::new();
    for (f, entry) in findings.iter().zip(&answer.findings) {
        let alike = shown.entry(f.name).or_default();
        *alike += 1;
        if *alike > limits::PROBLEMS_SHOWN {
            continue;
        }
        finding(out, f, sources)?;
        if let Some(repair) = entry.diff.as_ref().filter(|_| verbose) {
            change::write(out, "", repair)?;
        }
        writeln!(out)?;
    }
    for (name, all) in shown.into_iter().filter(|s| s.1 > limits::PROBLEMS_SHOWN) {
        let more = all - limits::PROBLEMS_SHOWN;
        writeln!(out, "... and {more} more `{name}`; --format json lists all\n")?;
    }
    let number = |s: Severity| findings.iter().filter(|f| f.severity == s).count() as u64;
    let summary = format!(
        "{}: {}, {}, {}, {}",
        path.display(),
        count(plan.devices.len() as u64, "device", "devices"),
        count(rules as u64, "rule", "rules"),
        count(plan.hosts.len() as u64, "host", "hosts"),
        count(plan.segments.len() as u64, "segment", "segments"),
    );
    match findings.len() {
        0 => writeln!(out, "{summary}; nothing to report"),
        _ => writeln!(
            out,
            "{summary}; {}, {}, {}",
            count(number(Severity::Error), "error", "errors"),
            count(number(Severity::Warning), "warning", "warnings"),
            count(number(Severity::Hint), "hint", "hints")
        ),
    }
}

/// Writes every finding that there is.
pub fn list(answer: &FindingList, out: &mut dyn Write) -> io::Result<()> {
    let longest = answer.findings.iter().map(|f| f.name.len()).max().unwrap_or(0);
    for f in &answer.findings {
        writeln!(out, "{:<7}  {BOLD}{:<longest$}{BOLD:#}  {}", f.severity, f.name, f.means)?;
    }
    writeln!(
        out,
        "{DIM}`zarnet explain NAME` explains one; `[check]` of a plan has `allow` and `deny`{DIM:#}"
    )
}
