//! The answer of `expect`: what the plan wants, and what came of it.

use std::io::{self, Write};

use serde::Serialize;
use zarnet_core::Reason;
use zarnet_core::net::Endpoint;
use zarnet_core::plan::{Expectation, Plan};
use zarnet_core::predict::{Failed, Tried};
use zarnet_formats::source::Sources;

use super::follow::FollowAnswer;
use super::naming::{Naming, Position};
use super::{Answer, Row, SHAPE};

/// The answer as a shape.
#[derive(Serialize)]
pub struct ExpectAnswer {
    shape: u32,
    /// Number of expectations that hold.
    pub passed: usize,
    /// How many do not.
    pub failed: usize,
    /// Each expectation of the plan, in their order.
    pub expectations: Vec<ExpectEntry>,
}

/// One expectation of the plan.
#[derive(Serialize)]
pub struct ExpectEntry {
    /// The flow as the plan has it.
    pub flow: String,
    /// Whether everything that is wanted is so.
    pub holds: bool,
    /// What the plan wants, in words.
    pub wanted: String,
    /// What came of it, in words.
    pub got: String,
    /// Stable name of the reason why it was lost or refused.
    pub reason: Option<&'static str>,
    /// The note of the plan.
    pub note: Option<String>,
    /// Where the expectation stands.
    pub place: Option<Position>,
    /// Of one that fails: its way in short.
    pub trace: Vec<String>,
}

impl ExpectAnswer {
    /// What was tried, with the names of its plan.
    pub fn new(plan: &Plan, sources: &Sources, tried: &[Tried]) -> Self {
        let naming = Naming { plan, sources };
        let entries: Vec<ExpectEntry> =
            plan.expectations.iter().zip(tried).map(|(e, t)| entry(naming, e, t)).collect();
        let failed = entries.iter().filter(|e| !e.holds).count();
        Self { shape: SHAPE, passed: entries.len() - failed, failed, expectations: entries }
    }
}

fn entry(naming: Naming<'_>, expectation: &Expectation, tried: &Tried) -> ExpectEntry {
    let holds = tried.failed.is_empty();
    let story = FollowAnswer { naming, followed: &tried.followed, network: None };
    ExpectEntry {
        flow: naming.flow(&expectation.flow),
        holds,
        wanted: wanted(expectation),
        got: got(expectation, tried),
        reason: tried.followed.loss.map(|l| l.reason.name()),
        note: expectation.note.clone(),
        place: naming.position(expectation.place),
        trace: if holds { Vec::new() } else { story.brief() },
    }
}

fn wanted(e: &Expectation) -> String {
    let mut parts = Vec::new();
    let flag = |value: Option<bool>, yes: &str, no: &str| {
        value.map(|v| if v { yes.to_owned() } else { no.to_owned() })
    };
    parts.extend(flag(e.refused, "refused", "not refused"));
    parts.extend(flag(e.unreachable, "unreachable", "reachable"));
    parts.extend(e.reason.map(|r| format!("reason {r}")));
    parts.extend(e.becomes.as_ref().map(|b| format!("becomes {}", b.text)));
    parts.extend(e.reaches.as_ref().map(|r| format!("reaches {}", r.text)));
    for view in &e.seen_by {
        let side = |word: &str, set: &Option<zarnet_core::plan::EndSet>| {
            set.as_ref().map(|s| format!(" {word} {}", s.text)).unwrap_or_default()
        };
        parts.push(format!(
            "seen by {}{}{}",
            view.name,
            side("from", &view.source),
            side("to", &view.destination)
        ));
    }
    if parts.is_empty() { "answered".to_owned() } else { parts.join(", ") }
}

/// What came of it; where everything holds, in a word.
fn got(e: &Expectation, tried: &Tried) -> String {
    let f = &tried.followed;
    let fate = || {
        let reason = f.loss.map(|l| l.reason);
        let why = reason.map(|r: Reason| format!(" ({r})")).unwrap_or_default();
        let class = f.class.name();
        if f.delivered() && !f.answered() {
            format!("answer {class}{why}")
        } else {
            format!("{class}{why}")
        }
    };
    let end = |end: &Option<Endpoint>| end.map_or_else(fate, |e| e.to_string());
    let mut parts: Vec<String> = Vec::new();
    for failed in &tried.failed {
        parts.push(match failed {
            Failed::NotAnswered
            | Failed::Refused(_)
            | Failed::Unreachable(_)
            | Failed::Reason(_) => fate(),
            Failed::Becomes(None) | Failed::Reaches(None) => fate(),
            Failed::Becomes(source) => format!("becomes {}", end(source)),
            Failed::Reaches(destination) => format!("reaches {}", end(destination)),
            Failed::SeenBy(i, None) => format!("not seen by {}", e.seen_by[*i].name),
            Failed::SeenBy(i, Some((from, to))) => {
                format!("seen by {} from {from} to {to}", e.seen_by[*i].name)
            }
        });
    }
    parts.dedup();
    if parts.is_empty() { fate() } else { parts.join(", ") }
}

impl Answer for ExpectAnswer {
    type Shape<'s>
        = &'s Self
    where
        Self: 's;

    fn shape(&self) -> Self::Shape<'_> {
        self
    }

    fn columns(&self) -> &'static [&'static str] {
        &["holds", "flow", "wanted", "got", "reason", "file", "line"]
    }

    fn rows(&self, out: &mut dyn Write) -> io::Result<()> {
        let mut row = Row::default();
        for e in &self.expectations {
            row.text(if e.holds { "true" } else { "false" });
            row.text(&e.flow);
            row.text(&e.wanted);
            row.text(&e.got);
            row.text(e.reason.unwrap_or(""));
            row.place(e.place.as_ref());
            row.write(out)?;
        }
        Ok(())
    }
}
