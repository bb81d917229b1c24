//! The answer of `send`: what differs, what would come of it, and what came of it.

use std::io::{self, Write};

use serde::Serialize;
use zarnet_formats::ietf_nat::Loss;

use super::drift::{DriftEntry, entries};
use super::exchange::{LossShape, losses};
use super::expect::{ExpectAnswer, ExpectEntry};
use super::impact::{ImpactAnswer, ImpactShape};
use super::{Answer, Row, SHAPE};
use crate::drift::Drift;
use crate::impact::Impact;

/// What was sent, or would be.
pub struct SendAnswer<'a> {
    /// How the device came out of it.
    pub state: &'static str,
    /// Why, in a sentence; empty where the state says it.
    pub why: &'a str,
    /// The device.
    pub device: &'a str,
    /// The version of its configuration.
    pub version: Option<&'a str>,
    /// Whether it is saved, where the device does not save with each edit.
    pub saved: Option<bool>,
    /// What differs between the plan and what runs.
    pub differences: &'a [Drift],
    /// The same as a diff of plans.
    pub diff: &'a str,
    /// What the edit changes for all possible traffic.
    pub impact: &'a Impact,
    /// What the device cannot hold of the plan.
    pub losses: &'a [Loss],
    /// What the device has that is in no plan, and stays.
    pub kept: &'a [zarnet_formats::ietf_nat::LeftOut],
    /// The expectations of the plan, on what the device has then.
    pub expectations: Option<&'a ExpectAnswer>,
    /// Rows of the device's own table that speak against an expectation.
    pub against: &'a [String],
}

/// The answer as a shape.
#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct SendShape<'a> {
    shape: u32,
    state: &'static str,
    why: &'a str,
    device: &'a str,
    version: Option<&'a str>,
    saved: Option<bool>,
    differences: Vec<DriftEntry<'a>>,
    diff: &'a str,
    impact: ImpactShape<'a>,
    losses: Vec<LossShape>,
    kept: Vec<&'a str>,
    expectations: &'a [ExpectEntry],
    against: &'a [String],
}

impl<'a> SendAnswer<'a> {
    fn whole(&self) -> SendShape<'a> {
        SendShape {
            shape: SHAPE,
            state: self.state,
            why: self.why,
            device: self.device,
            version: self.version,
            saved: self.saved,
            differences: entries(self.differences),
            diff: self.diff,
            impact: ImpactAnswer { found: self.impact, live: None }.whole(),
            losses: losses(self.losses),
            kept: self.kept.iter().map(|k| k.path.as_str()).collect(),
            expectations: self.expectations.map(|e| &e.expectations[..]).unwrap_or_default(),
            against: self.against,
        }
    }
}

impl Answer for SendAnswer<'_> {
    type Shape<'s>
        = SendShape<'s>
    where
        Self: 's;

    fn shape(&self) -> Self::Shape<'_> {
        self.whole()
    }

    fn columns(&self) -> &'static [&'static str] {
        &["state", "item", "planned", "running"]
    }

    fn rows(&self, out: &mut dyn Write) -> io::Result<()> {
        let mut row = Row::default();
        for d in self.differences {
            row.text(self.state);
            row.text(&d.item);
            for side in 0..2 {
                row.text(d.values.get(side).and_then(Option::as_deref).unwrap_or_default());
            }
            row.write(out)?;
        }
        if self.differences.is_empty() {
            row.text(self.state);
            (0..3).for_each(|_| row.text(""));
            row.write(out)?;
        }
        Ok(())
    }
}
