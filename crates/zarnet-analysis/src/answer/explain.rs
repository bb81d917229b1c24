//! The answer of `explain`: what a stable name means, and what to do.

use std::io::{self, Write};

use serde::Serialize;
use serde::ser::{SerializeMap, Serializer};
use zarnet_core::Reason;
use zarnet_core::finding::FINDINGS;
use zarnet_core::plan::{ErrorKind, PLAN_ERRORS};
use zarnet_formats::device_errors::DEVICE_ERRORS;
use zarnet_formats::ietf_nat::LossKind;
use zarnet_formats::log_errors::LOG_ERRORS;
use zarnet_formats::traffic::TRAFFIC_ERRORS;

use super::{Answer, Row, SHAPE};
use crate::capacity::model::Formula;
use crate::capacity::{Assumption, Kind, Verdict};
use crate::compare::Why;
use crate::diagnose::Cause;

/// Everything that is known of a name.
#[derive(Serialize)]
pub struct ExplainAnswer {
    shape: u32,
    /// An entry for each thing that has the name.
    pub entries: Vec<ExplainEntry>,
}

/// A name, and what it stands for.
#[derive(Debug, Clone, Serialize)]
pub struct ExplainEntry {
    /// Stable name of the thing explained.
    pub name: &'static str,
    /// What has the name, in words.
    pub kind: &'static str,
    /// The page of the documentation that has more.
    pub page: &'static str,
    /// Headings, and what stands under each.
    #[serde(serialize_with = "texts")]
    pub text: Vec<(&'static str, &'static str)>,
}

fn texts<S: Serializer>(list: &[(&str, &str)], s: S) -> Result<S::Ok, S::Error> {
    let mut map = s.serialize_map(Some(list.len()))?;
    for (heading, text) in list {
        map.serialize_entry(&heading.replace(' ', "-"), text)?;
    }
    map.end()
}

/// The pages of the documentation that explain names, and what has the names.
pub const PAGES: [(&str, &str); 6] = [
    ("a finding of `check`", "docs/findings.md"),
    ("why a flow is not translated", "docs/reasons.md"),
    ("a cause that `why` or `compare` names", "docs/why.md"),
    ("what `capacity` says", "docs/capacity.md"),
    ("what is wrong with an input", "docs/errors.md"),
    ("what the standard data models cannot hold", "docs/devices.md"),
];

const MEANS: &str = "what it means";
const TO_DO: &str = "what to do";
const WEIGHT: &str = "would other packets pass";

/// What the supplies of a device are called.
const SUPPLIES: [(&str, &str, &str); 4] = [
    (
        "pool",
        "whole addresses of a pool that a pool rule hands out",
        "what it lists, less network and broadcast of its prefixes, less addresses in use",
    ),
    (
        "blocks",
        "blocks of ports that belong to one host each (`block-size`)",
        "the class in blocks",
    ),
    (
        "mappings",
        "places in the device's table",
        "`max-mappings`, `max-sessions`; else nothing limits them",
    ),
    (
        "sessions",
        "places in the device's table",
        "`max-mappings`, `max-sessions`; else nothing limits them",
    ),
];

impl ExplainAnswer {
    /// What has a name; nothing if it is unknown.
    pub fn of(name: &str) -> Self {
        let entries = all().into_iter().filter(|e| e.name == name).collect();
        Self { shape: SHAPE, entries }
    }

    /// Everything that has a name.
    pub fn all() -> Self {
        Self { shape: SHAPE, entries: all() }
    }
}

/// Every name, page by page.
fn all() -> Vec<ExplainEntry> {
    let mut list = Vec::new();
    let mut add = |page: usize, name, text: Vec<(&'static str, &'static str)>| {
        let (kind, page) = PAGES[page];
        let text = text.into_iter().filter(|t| !t.1.is_empty()).collect();
        list.push(ExplainEntry { name, kind, page, text });
    };
    for f in FINDINGS {
        let severity = f.severity.name();
        add(0, f.name, vec![("severity", severity), (MEANS, f.means), (TO_DO, f.advice)]);
    }
    for r in Reason::ALL {
        add(1, r.name(), vec![(MEANS, r.means()), (TO_DO, r.advice())]);
    }
    for c in Cause::ALL {
        let tried = ("repairs that are tried", c.advice());
        add(2, c.name(), vec![(MEANS, c.means()), tried]);
    }
    for w in Why::ALL {
        add(2, w.name(), vec![(MEANS, w.means())]);
    }
    for (name, is, usable) in SUPPLIES {
        add(3, name, vec![("what it is", is), ("usable", usable)]);
    }
    for f in Formula::ALL {
        add(3, f.name(), vec![("for", f.means()), ("rests on", f.advice())]);
    }
    for v in Verdict::ALL {
        add(3, v.name(), vec![("when", v.means())]);
    }
    for a in Assumption::ALL {
        add(3, a.name(), vec![(MEANS, a.means()), (TO_DO, a.advice())]);
    }
    for k in Kind::ALL {
        add(3, k.name(), vec![("what it does", k.means()), ("what it costs", k.advice())]);
    }
    let errors = PLAN_ERRORS.iter().chain(TRAFFIC_ERRORS).chain(DEVICE_ERRORS).chain(LOG_ERRORS);
    for ErrorKind { name, means, advice } in errors {
        add(4, name, vec![(MEANS, means), (TO_DO, advice)]);
    }
    for l in LossKind::ALL {
        let weight = if l.changes_traffic() { "yes" } else { "no" };
        let text = vec![("what is lost", l.sentence()), (MEANS, l.means()), (WEIGHT, weight)];
        add(5, l.name(), text.into_iter().chain([(TO_DO, l.advice())]).collect());
    }
    list
}

impl Answer for ExplainAnswer {
    type Shape<'s> = &'s Self;

    fn shape(&self) -> &Self {
        self
    }

    fn columns(&self) -> &'static [&'static str] {
        &["name", "kind", "page", "heading", "text"]
    }

    fn rows(&self, out: &mut dyn Write) -> io::Result<()> {
        let mut row = Row::default();
        for e in &self.entries {
            for (heading, text) in &e.text {
                [e.name, e.kind, e.page, heading, text].into_iter().for_each(|t| row.text(t));
                row.write(out)?;
            }
        }
        Ok(())
    }
}
