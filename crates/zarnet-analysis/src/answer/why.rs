//! The answer of `why`: verdict, search, near misses, repairs with their diffs.

use std::io::{self, Write};

use crate::diagnose::{
    Cause, Diagnosis, SearchStep, SideEffect, StepOutcome, Suspect, TriedRepair, steps,
};
use serde::Serialize;
use zarnet_core::predict::Scene;
use zarnet_core::{Class, Reason};
use zarnet_formats::observed::Observed;
use zarnet_formats::source::Sources;

use super::change::diff;
use super::follow::FollowAnswer;
use super::naming::{Naming, Position};
use super::{Answer, Row, SHAPE, count};

/// What was found, with the names of the plan.
#[derive(Clone, Copy)]
pub struct WhyAnswer<'a> {
    /// The files of the plan.
    pub sources: &'a Sources,
    /// The flow as it is.
    pub scene: &'a Scene,
    /// The result of the search.
    pub diagnosis: &'a Diagnosis,
    /// What each repair changes besides.
    pub tried: &'a [TriedRepair],
    /// What the device's own table has of the flow, if it was given.
    pub observed: Option<&'a [Observed]>,
}

/// The answer as a shape.
#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct WhyShape<'a> {
    shape: u32,
    flow: String,
    works: bool,
    verdict: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    table: Option<String>,
    cause: &'static str,
    device: Option<&'a str>,
    rule: Option<&'a str>,
    place: Option<Position>,
    causes: Vec<&'static str>,
    faults: Vec<FaultShape<'a>>,
    steps: Vec<StepShape<'a>>,
    near_misses: Vec<MissShape<'a>>,
    repairs: Vec<RepairShape>,
    advice: &'a [String],
}

#[derive(Serialize)]
struct FaultShape<'a> {
    cause: &'static str,
    verdict: &'a str,
    device: Option<&'a str>,
    rule: Option<&'a str>,
    place: Option<Position>,
}

/// A step of the search.
#[derive(Serialize)]
pub struct StepShape<'a> {
    /// Stable name of the step.
    pub step: &'static str,
    /// `forth`, or `back` for the answer.
    pub way: &'static str,
    /// The device where the step is.
    pub device: Option<&'a str>,
    /// `passed`, `failed` or `not-reached`.
    pub result: &'static str,
    /// What was seen there, in words.
    pub evidence: String,
    /// What in the plan decided it.
    pub place: Option<Position>,
}

/// A rule that nearly takes the flow.
#[derive(Serialize)]
pub struct MissShape<'a> {
    /// The device that has the rule.
    pub device: &'a str,
    /// Name of the rule.
    pub rule: &'a str,
    /// The first condition that is not met.
    pub condition: &'static str,
    /// All conditions that are not met.
    pub conditions: Vec<&'static str>,
    /// What the flow has there.
    pub has: &'a str,
    /// What the rule needs there.
    pub needs: &'a str,
    /// Where the rule stands.
    pub place: Option<Position>,
}

/// A repair that was tried and helps.
#[derive(Serialize)]
pub struct RepairShape {
    /// What the repair does, in a sentence.
    pub title: String,
    /// The change of the plan's files.
    pub diff: String,
    /// Whether the flow comes to what it should.
    pub works: bool,
    /// What the flow becomes with it.
    pub becomes: Option<String>,
    /// What else the repair changes.
    pub changes: Vec<String>,
}

impl<'a> WhyAnswer<'a> {
    /// The names of the plan.
    pub fn naming(self) -> Naming<'a> {
        Naming { plan: &self.scene.followed.plan, sources: self.sources }
    }

    fn story(self) -> FollowAnswer<'a> {
        FollowAnswer { naming: self.naming(), followed: &self.scene.followed, network: None }
    }

    /// The sentence that everything comes down to.
    pub fn verdict(self) -> String {
        let f = &self.scene.followed;
        match self.diagnosis.causes.as_slice() {
            [] => match (f.loss.filter(|_| !f.answered()), f.class) {
                (Some(loss), _) => {
                    let reason = loss.reason;
                    format!(
                        "as the plan expects, it gets no answer ({reason}): {}",
                        reason.sentence()
                    )
                }
                (None, Class::Translated) => {
                    let arrived = f.arrived.map(|a| a.1.source().to_string()).unwrap_or_default();
                    format!(
                        "it arrives as {arrived}, and the answer comes back; if it does not \
                         in reality, look outside of the plan"
                    )
                }
                _ if f.loss.is_some_and(|l| l.reason == Reason::LinkOnly) => {
                    "it stays on the link of its sender: no device forwards it, and no rule \
                     concerns it"
                        .to_owned()
                }
                _ => "nothing translates it on its way; if it does not work in reality, look \
                      outside of the plan"
                    .to_owned(),
            },
            [one] => one.verdict.clone(),
            several => {
                // two faults of one rule have one sentence
                let mut all: Vec<&str> = several.iter().map(|s| s.verdict.as_str()).collect();
                all.dedup();
                format!("{} faults, one after the other: {}", several.len(), all.join("; then "))
            }
        }
    }

    /// Stable name of the first cause.
    pub fn cause(self) -> &'static str {
        // what is translated in the plan and on the device fails elsewhere
        let there = self.observed.is_some_and(|o| !o.is_empty());
        let none = if there { Cause::OutsideFault } else { Cause::Works };
        self.diagnosis.causes.first().map_or(none, |c| c.cause).name()
    }

    /// What the device's own table says of it.
    pub fn table(self) -> Option<String> {
        let entries = self.observed?;
        let entry = |o: &Observed| format!("{} as {} (line {})", o.internal, o.external, o.line);
        Some(match (entries, self.diagnosis.works) {
            ([], true) => {
                "it has nothing of this flow, which the plan would translate: the packets do not \
                 reach the device, \
                           or it runs something else than the plan"
                    .to_owned()
            }
            ([], false) => "it has nothing of this flow either".to_owned(),
            (some, true) => {
                let list: Vec<String> = some.iter().map(entry).collect();
                format!(
                    "it has {}: the translation is right, and the fault lies \
                         outside",
                    list.join(", ")
                )
            }
            (some, false) => {
                let list: Vec<String> = some.iter().map(entry).collect();
                format!("it has {}, which the plan does not explain", list.join(", "))
            }
        })
    }

    fn fault(self, suspect: &'a Suspect) -> FaultShape<'a> {
        let device = suspect.device.map(|d| self.naming().device(d));
        let rule = suspect.rule_name.as_deref();
        let place = suspect.place.and_then(|p| self.naming().position(p));
        FaultShape { cause: suspect.cause.name(), verdict: &suspect.verdict, device, rule, place }
    }

    /// A step of the search.
    pub fn step(self, step: &SearchStep) -> StepShape<'a> {
        let device = step.device.map(|d| self.naming().device(d));
        let evidence = match (step.device, &step.evidence) {
            (Some(d), Some(evidence)) => self.story().evidence(d, evidence),
            _ => self.handed(step),
        };
        StepShape {
            step: step.what,
            way: if step.back { "back" } else { "forth" },
            device,
            result: step.outcome.name(),
            evidence,
            place: step.place.and_then(|p| self.naming().position(p)),
        }
    }

    /// Who took it on, or why nobody did.
    fn handed(self, step: &SearchStep) -> String {
        let f = &self.scene.followed;
        match (step.asked, step.outcome, f.loss) {
            (Some(asked), StepOutcome::Failed, Some(loss)) if asked.to.is_some() => {
                loss.reason.sentence().to_owned()
            }
            (Some(asked), ..) => self.story().handover(&asked),
            (None, StepOutcome::Failed, Some(loss)) => loss.reason.sentence().to_owned(),
            (None, StepOutcome::Passed, Some(loss)) if loss.reason == Reason::LinkOnly => {
                "and stays on its link".to_owned()
            }
            (None, ..) => String::new(),
        }
    }

    /// Rules that nearly take the flow, the nearest first.
    pub fn misses(self) -> Vec<MissShape<'a>> {
        let shape = |n: &'a crate::diagnose::NearMiss| {
            let conditions: Vec<&str> = n.unmet.iter().map(|c| c.name()).collect();
            let place = self.naming().plan.devices[n.device.index()].rules[n.rule.index()].place;
            MissShape {
                device: self.naming().device(n.device),
                rule: self.naming().rule(n.device, n.rule),
                condition: conditions.first().copied().unwrap_or(""),
                conditions,
                has: &n.has,
                needs: &n.needs,
                place: self.naming().position(place),
            }
        };
        self.diagnosis.near_misses.iter().map(shape).collect()
    }

    /// Repairs that were tried and help.
    pub fn repairs(self) -> Vec<RepairShape> {
        let all = self.diagnosis.repairs.iter().zip(self.tried);
        all.map(|(repair, tried)| {
            let f = &repair.scene.followed;
            let becomes = f.arrived.map(|a| format!("{} as {}", f.class.name(), a.1.ends));
            let changes = tried.changed.iter().map(|c| self.change(*c)).collect();
            let diff = diff(self.sources, &tried.sources);
            RepairShape { title: repair.title.clone(), diff, works: true, becomes, changes }
        })
        .collect()
    }

    fn change(self, change: SideEffect) -> String {
        let flows = |n: usize| count(n as u64, "other flow of the day", "other flows of the day");
        match change {
            SideEffect::Expectation(i, holds) => {
                let flow = self.naming().flow(&self.naming().plan.expectations[i].flow);
                let now = if holds { "now" } else { "no longer" };
                format!("the expectation for {flow} {now} holds")
            }
            SideEffect::Better(n) => format!("{} translated that were not", flows(n)),
            SideEffect::Worse(n) => format!("{} no longer translated", flows(n)),
            SideEffect::Other(n) => format!("{} not translated for another reason", flows(n)),
        }
    }

    fn whole(self) -> WhyShape<'a> {
        let first = self.diagnosis.causes.first().map(|c| self.fault(c));
        WhyShape {
            shape: SHAPE,
            flow: self.naming().flow(&self.scene.followed.flow),
            works: self.diagnosis.works,
            verdict: self.verdict(),
            table: self.table(),
            cause: self.cause(),
            device: first.as_ref().and_then(|c| c.device),
            rule: first.as_ref().and_then(|c| c.rule),
            place: first.and_then(|c| c.place),
            causes: self.diagnosis.causes.iter().map(|c| c.cause.name()).collect(),
            faults: self.diagnosis.causes.iter().map(|c| self.fault(c)).collect(),
            steps: steps(&self.scene.followed).iter().map(|s| self.step(s)).collect(),
            near_misses: self.misses(),
            repairs: self.repairs(),
            advice: &self.diagnosis.advice,
        }
    }
}

impl Answer for WhyAnswer<'_> {
    type Shape<'s>
        = WhyShape<'s>
    where
        Self: 's;

    fn shape(&self) -> Self::Shape<'_> {
        self.whole()
    }

    fn columns(&self) -> &'static [&'static str] {
        &["way", "device", "step", "result", "evidence", "file", "line"]
    }

    fn rows(&self, out: &mut dyn Write) -> io::Result<()> {
        let mut row = Row::default();
        for step in steps(&self.scene.followed).iter().map(|s| self.step(s)) {
            row.text(step.way);
            row.text(step.device.unwrap_or(""));
            row.text(step.step);
            row.text(step.result);
            row.text(&step.evidence);
            row.place(step.place.as_ref());
            row.write(out)?;
        }
        Ok(())
    }
}
