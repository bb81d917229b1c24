//! The answer of `check`: findings on a plan, or what is wrong with it.

use std::io::{self, Write};

use serde::Serialize;
use zarnet_core::finding::FINDINGS;
use zarnet_core::plan::{Problem, Problems};
use zarnet_formats::plan::{Loaded, edited};
use zarnet_formats::source::Sources;

use super::packets::flow;
use super::{Answer, Position, Row, SHAPE, diff};
use crate::audit::Finding;

/// Findings of a plan, or its errors.
#[derive(Serialize)]
pub struct CheckAnswer {
    shape: u32,
    /// Each finding or error, the worst first.
    pub findings: Vec<CheckEntry>,
    /// Errors of the plan that were found and are not listed.
    #[serde(skip_serializing_if = "is_zero")]
    pub further: usize,
}

fn is_zero(number: &usize) -> bool {
    *number == 0
}

/// A finding, or an error of the plan.
#[derive(Serialize)]
pub struct CheckEntry {
    /// Stable name, under which the documentation explains it.
    pub name: &'static str,
    /// `error`, `warning` or `hint`.
    pub severity: &'static str,
    /// What it is, in a sentence.
    pub message: String,
    /// Where: the place to look at first, then others that have to do with it.
    pub places: Vec<Position>,
    /// A packet that shows it.
    pub witness: Option<String>,
    /// A way out, in one line.
    pub repair: Option<String>,
    /// The change of the plan that repairs it.
    pub diff: Option<String>,
}

impl CheckAnswer {
    /// Findings on a plan that can be built. For the first `repairs` of those that know a repair
    /// the plan is changed and built anew, to show it as a diff.
    pub fn of_findings(loaded: &Loaded, findings: &[Finding], repairs: usize) -> Self {
        let mut left = repairs;
        let mut one = |f: &Finding| {
            let is_tried = !f.edits.is_empty() && left > 0;
            left -= usize::from(is_tried);
            CheckEntry {
                name: f.name,
                severity: f.severity.name(),
                message: f.message.clone(),
                places: positions(f.places.iter().copied(), &loaded.sources),
                witness: f.witness.map(flow),
                repair: f.help.clone(),
                diff: is_tried.then(|| repair(loaded, f)).flatten(),
            }
        };
        Self { shape: SHAPE, findings: findings.iter().map(&mut one).collect(), further: 0 }
    }

    /// What is wrong with a plan that cannot be built.
    pub fn of_problems(problems: &Problems, sources: &Sources) -> Self {
        let entry = |p: &Problem| CheckEntry {
            name: p.error.name(),
            severity: "error",
            message: p.error.to_string(),
            places: positions(std::iter::once(p.place).chain(p.other.map(|o| o.0)), sources),
            witness: None,
            repair: p.error.help(),
            diff: None,
        };
        let findings = problems.kept().iter().map(entry).collect();
        Self { shape: SHAPE, findings, further: problems.count() - problems.kept().len() }
    }
}

fn positions(
    places: impl Iterator<Item = zarnet_core::plan::Place>,
    sources: &Sources,
) -> Vec<Position> {
    places.filter_map(|p| Position::of(p, sources)).collect()
}

/// A repair as a diff, if it leads to a plan that can be built.
fn repair(loaded: &Loaded, finding: &Finding) -> Option<String> {
    let changed = edited(loaded, std::slice::from_ref(&finding.edits)).ok()?;
    Some(diff(&loaded.sources, &changed.sources))
}

impl Answer for CheckAnswer {
    type Shape<'s> = &'s Self;

    fn shape(&self) -> &Self {
        self
    }

    fn columns(&self) -> &'static [&'static str] {
        &["severity", "name", "file", "line", "column", "message"]
    }

    fn rows(&self, out: &mut dyn Write) -> io::Result<()> {
        let mut row = Row::default();
        for f in &self.findings {
            row.text(f.severity);
            row.text(f.name);
            row.place(f.places.first());
            row.text(&f.places.first().map(|p| p.column.to_string()).unwrap_or_default());
            row.text(&f.message);
            row.write(out)?;
        }
        Ok(())
    }
}

/// Every finding that there is.
#[derive(Serialize)]
pub struct FindingList {
    shape: u32,
    /// The findings, the worst first.
    pub findings: Vec<FindingEntry>,
}

/// A finding by its name.
#[derive(Serialize)]
pub struct FindingEntry {
    /// Stable name of the finding.
    pub name: &'static str,
    /// `error`, `warning` or `hint`.
    pub severity: &'static str,
    /// What it means, in a sentence.
    pub means: &'static str,
}

impl FindingList {
    /// All findings that there can be.
    pub fn all() -> Self {
        let entry = |f: &zarnet_core::finding::FindingKind| FindingEntry {
            name: f.name,
            severity: f.severity.name(),
            means: f.means,
        };
        Self { shape: SHAPE, findings: FINDINGS.iter().map(entry).collect() }
    }
}

impl Answer for FindingList {
    type Shape<'s> = &'s Self;

    fn shape(&self) -> &Self {
        self
    }

    fn columns(&self) -> &'static [&'static str] {
        &["name", "severity", "means"]
    }

    fn rows(&self, out: &mut dyn Write) -> io::Result<()> {
        let mut row = Row::default();
        for f in &self.findings {
            [f.name, f.severity, f.means].into_iter().for_each(|text| row.text(text));
            row.write(out)?;
        }
        Ok(())
    }
}
