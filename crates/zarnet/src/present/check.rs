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

/// Of places that have the same finding so many are named.
const MOST_NAMED: usize = 4;

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
    let everywhere = everywhere(findings, answer, verbose);
    for (i, (f, entry)) in findings.iter().zip(&answer.findings).enumerate() {
        let elsewhere = match everywhere.get(i).and_then(Option::as_ref) {
            Some((first, _)) if *first != i => continue,
            Some((_, elsewhere)) => elsewhere.as_slice(),
            None => &[],
        };
        let alike = shown.entry(f.name).or_default();
        *alike += 1;
        if *alike > limits::PROBLEMS_SHOWN {
            continue;
        }
        finding(out, f, sources)?;
        if let Some(repair) = entry.diff.as_ref().filter(|_| verbose) {
            change::write(out, "", repair)?;
        }
        if !elsewhere.is_empty() {
            let named = elsewhere[..elsewhere.len().min(MOST_NAMED)].join(", ");
            let more = match elsewhere.len().saturating_sub(MOST_NAMED) {
                0 => String::new(),
                more => format!(" and {more} more"),
            };
            writeln!(out, "  {DIM}likewise at {named}{more}; -v shows each{DIM:#}")?;
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

/// Of findings that are the same in several places, by position: which is shown for all, and where
/// the others are. Errors, and what a packet of its own shows, are told one by one.
type Alike = Option<(usize, Vec<String>)>;

fn everywhere(findings: &[Finding], answer: &CheckAnswer, verbose: bool) -> Vec<Alike> {
    let mut groups: BTreeMap<(&str, String), Vec<usize>> = BTreeMap::new();
    for (i, f) in findings.iter().enumerate().filter(|_| !verbose) {
        if f.severity != Severity::Error && f.witness.is_none() {
            groups.entry((f.name, without_names(&f.message))).or_default().push(i);
        }
    }
    let mut alike = vec![None; findings.len()];
    for group in groups.into_values().filter(|g| g.len() > 2) {
        let place = |i: &usize| answer.findings[*i].places.first().map(|p| p.to_string());
        let (first, rest) = (group[0], &group[1..]);
        alike[first] = Some((first, rest.iter().filter_map(place).collect()));
        rest.iter().for_each(|i| alike[*i] = Some((first, Vec::new())));
    }
    alike
}

/// A message without what it names: names stand between backquotes, addresses have digits.
fn without_names(message: &str) -> String {
    let unquoted = message.split('`').step_by(2);
    let words = unquoted.flat_map(str::split_whitespace);
    words.filter(|w| !w.contains(|c: char| c.is_ascii_digit())).collect::<Vec<_>>().join(" ")
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
