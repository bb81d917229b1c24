//! The answer of `define`: the change of the plan, new findings on it, and what it changes.

use std::io::{self, Write};

use serde::Serialize;

use super::impact::{ImpactAnswer, ImpactShape};
use super::packets::flow;
use super::{Answer, Row, SHAPE};
use crate::audit::Finding;
use crate::impact::Impact;

/// A change of a plan.
#[derive(Clone, Copy)]
pub struct DefineAnswer<'a> {
    /// Whether the change is written into the files of the plan.
    pub written: bool,
    /// The change as a diff.
    pub diff: &'a str,
    /// Findings that the plan did not have before.
    pub findings: &'a [Finding],
    /// What the change changes for packets and settings.
    pub impact: &'a Impact,
}

/// The answer as JSON has it.
#[derive(Serialize)]
pub struct DefineShape<'a> {
    shape: u32,
    written: bool,
    diff: &'a str,
    findings: Vec<NewFinding<'a>>,
    impact: ImpactShape<'a>,
}

#[derive(Serialize)]
struct NewFinding<'a> {
    name: &'static str,
    severity: &'static str,
    message: &'a str,
    witness: Option<String>,
}

impl<'a> DefineAnswer<'a> {
    fn impact(self) -> ImpactAnswer<'a> {
        ImpactAnswer { found: self.impact, live: None }
    }
}

impl Answer for DefineAnswer<'_> {
    type Shape<'s>
        = DefineShape<'s>
    where
        Self: 's;

    fn shape(&self) -> DefineShape<'_> {
        let finding = |f: &'_ Finding| NewFinding {
            name: f.name,
            severity: f.severity.name(),
            message: "",
            witness: f.witness.map(flow),
        };
        let findings =
            self.findings.iter().map(|f| NewFinding { message: &f.message, ..finding(f) });
        DefineShape {
            shape: SHAPE,
            written: self.written,
            diff: self.diff,
            findings: findings.collect(),
            impact: self.impact().whole(),
        }
    }

    fn columns(&self) -> &'static [&'static str] {
        &["what", "name", "text"]
    }

    /// A row for each line of the diff that changes something, each new finding and each class of
    /// packets.
    fn rows(&self, out: &mut dyn Write) -> io::Result<()> {
        let mut row = Row::default();
        let mut line = |what: &str, name: &str, text: &str| {
            [what, name, text].into_iter().for_each(|t| row.text(t));
            row.write(out)
        };
        for text in self.diff.lines() {
            match text.as_bytes() {
                [b'+', b'+', ..] | [b'-', b'-', ..] => {}
                [b'+', ..] => line("added", "", &text[1..])?,
                [b'-', ..] => line("removed", "", &text[1..])?,
                _ => {}
            }
        }
        for f in self.findings {
            line("finding", f.name, &f.message)?;
        }
        self.impact().classes().iter().try_for_each(|c| line("class", &c.0, &c.1))
    }
}
