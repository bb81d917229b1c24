//! The answer of `why`: verdict, search, near misses, repairs with their diffs; a shape for
//! scripts, and the same for people.

use std::io::{self, Write};

use serde::Serialize;
use zarnet_analysis::diagnose::{Cause, Diagnosis, SearchStep, StepOutcome, Suspect, steps};
use zarnet_core::predict::Scene;
use zarnet_core::{Class, Reason};
use zarnet_formats::observed::Observed;
use zarnet_formats::source::Sources;

use super::change::{self, diff};
use super::csv::Row;
use super::follow::{Story, class_name, label_of};
use super::naming::{Naming, Position};
use super::table::{self, BAD, BOLD, CAUTION, Cell, Column, DIM, GOOD, count};

/// Near misses that are shown to people.
const MOST_MISSES: usize = 5;

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
    pub tried: &'a [Tried],
    /// What the device's own table has of the flow, if it was given.
    pub observed: Option<&'a [Observed]>,
}

/// A repair, carried out.
pub struct Tried {
    /// The files of the repaired plan.
    pub sources: Sources,
    /// Expectations that hold otherwise than before.
    pub changed: Vec<SideEffect>,
}

/// Something else that a repair changes.
#[derive(Clone, Copy)]
pub enum SideEffect {
    /// An expectation holds now, or does not any more.
    Expectation(usize, bool),
    /// Flows of the day that are translated now.
    Better(usize),
    /// Flows of the day that are not any more.
    Worse(usize),
    /// Flows of the day that are not translated, for another reason.
    Other(usize),
}

impl SideEffect {
    /// Of how many flows, or expectations.
    pub fn count(self) -> usize {
        match self {
            Self::Expectation(..) => 1,
            Self::Better(n) | Self::Worse(n) | Self::Other(n) => n,
        }
    }
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

#[derive(Serialize)]
struct StepShape<'a> {
    step: &'static str,
    way: &'static str,
    device: Option<&'a str>,
    result: &'static str,
    evidence: String,
    place: Option<Position>,
}

#[derive(Serialize)]
struct MissShape<'a> {
    device: &'a str,
    rule: &'a str,
    condition: &'static str,
    conditions: Vec<&'static str>,
    has: &'a str,
    needs: &'a str,
    place: Option<Position>,
}

#[derive(Serialize)]
struct RepairShape {
    title: String,
    diff: String,
    works: bool,
    becomes: Option<String>,
    changes: Vec<String>,
}

impl<'a> WhyAnswer<'a> {
    fn naming(self) -> Naming<'a> {
        Naming { plan: &self.scene.followed.plan, sources: self.sources }
    }

    fn story(self) -> Story<'a> {
        Story { naming: self.naming(), followed: &self.scene.followed }
    }

    /// The sentence that everything comes down to.
    fn verdict(self) -> String {
        let f = &self.scene.followed;
        match self.diagnosis.causes.as_slice() {
            [] => match (f.loss.filter(|_| !f.answered()), f.class) {
                (Some(loss), _) => {
                    let reason = loss.reason;
                    format!(
                        "as the plan expects, it comes to no answer ({reason}): \
                             {}",
                        reason.sentence()
                    )
                }
                (None, Class::Translated) => {
                    let arrived = f.arrived.map(|a| a.1.source().to_string()).unwrap_or_default();
                    format!(
                        "it works: it arrives as {arrived}, and the answer comes back; \
                         if it does not in reality, look outside of the plan"
                    )
                }
                _ if f.loss.is_some_and(|l| l.reason == Reason::LinkOnly) => {
                    "it stays on the link of its sender: no device forwards it, and no rule \
                     concerns it"
                        .to_owned()
                }
                _ => "it works, untranslated; if it does not in reality, look outside of the \
                      plan"
                    .to_owned(),
            },
            [one] => one.verdict.clone(),
            several => {
                let all: Vec<&str> = several.iter().map(|s| s.verdict.as_str()).collect();
                format!("{} faults, one behind the other: {}", several.len(), all.join("; then "))
            }
        }
    }

    fn cause(self) -> &'static str {
        // what is translated in the plan and on the device fails elsewhere
        let there = self.observed.is_some_and(|o| !o.is_empty());
        let none = if there { Cause::OutsideFault } else { Cause::Works };
        self.diagnosis.causes.first().map_or(none, |c| c.cause).name()
    }

    /// What the device's own table says of it.
    fn table(self) -> Option<String> {
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
        let rule = suspect.device.zip(suspect.rule).map(|(d, r)| self.naming().rule(d, r));
        let place = suspect.place.and_then(|p| self.naming().position(p));
        FaultShape { cause: suspect.cause.name(), verdict: &suspect.verdict, device, rule, place }
    }

    fn step(self, step: &SearchStep) -> StepShape<'a> {
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

    fn misses(self) -> Vec<MissShape<'a>> {
        let shape = |n: &'a zarnet_analysis::diagnose::NearMiss| {
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

    fn repairs(self) -> Vec<RepairShape> {
        let all = self.diagnosis.repairs.iter().zip(self.tried);
        all.map(|(repair, tried)| {
            let f = &repair.scene.followed;
            let becomes = f.arrived.map(|a| format!("{} as {}", class_name(f.class), a.1.ends));
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
                format!("{flow}: {}", if holds { "now holds" } else { "no longer holds" })
            }
            SideEffect::Better(n) => format!("{} translated that were not", flows(n)),
            SideEffect::Worse(n) => format!("{} no longer translated", flows(n)),
            SideEffect::Other(n) => format!("{} not translated for another reason", flows(n)),
        }
    }

    /// The whole answer as JSON has it.
    pub fn shape(self) -> WhyShape<'a> {
        let first = self.diagnosis.causes.first().map(|c| self.fault(c));
        WhyShape {
            shape: 1,
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

    /// The steps of the search, a row each.
    pub fn csv(self, out: &mut dyn Write) -> io::Result<()> {
        out.write_all(b"way,device,step,result,evidence,file,line\n")?;
        let mut row = Row::default();
        for step in steps(&self.scene.followed).iter().map(|s| self.step(s)) {
            row.text(step.way);
            row.text(step.device.unwrap_or(""));
            row.text(step.step);
            row.text(step.result);
            row.text(&step.evidence);
            row.text(step.place.as_ref().map_or("", |p| p.file.as_str()));
            row.text(&step.place.as_ref().map(|p| p.line.to_string()).unwrap_or_default());
            row.write(out)?;
        }
        Ok(())
    }

    /// Writes the answer as text.
    pub fn text(self, out: &mut dyn Write, verbose: bool) -> io::Result<()> {
        let (style, cause) = (if self.diagnosis.works { GOOD } else { BAD }, self.cause());
        writeln!(out, "{BOLD}{}{BOLD:#}", self.naming().flow(&self.scene.followed.flow))?;
        let place = self
            .diagnosis
            .causes
            .first()
            .and_then(|c| c.place)
            .and_then(|p| self.naming().position(p));
        let place = place.map(|p| format!("  {DIM}{p}{DIM:#}")).unwrap_or_default();
        writeln!(out, "{style}{cause}{style:#}: {}{place}", self.verdict())?;
        if let Some(table) = self.table() {
            writeln!(out, "{CAUTION}table{CAUTION:#}: {table}")?;
        }
        self.search(out, verbose)?;
        self.near(out)?;
        for (number, repair) in self.repairs().iter().enumerate() {
            self.repair(out, number + 1, repair)?;
        }
        for advice in &self.diagnosis.advice {
            writeln!(out, "\n{BOLD}DO{BOLD:#} {advice}")?;
        }
        if !self.diagnosis.repairs.is_empty() {
            writeln!(out, "\n{DIM}--apply N writes repair N into the plan{DIM:#}")?;
        }
        Ok(())
    }

    fn search(self, out: &mut dyn Write, verbose: bool) -> io::Result<()> {
        writeln!(out, "\n{BOLD}SEARCH{BOLD:#}")?;
        let list = steps(&self.scene.followed);
        // behind the first that failed, only how far it is to the end matters
        let shown = list
            .iter()
            .filter(|s| verbose || s.outcome != StepOutcome::NotReached || s.device.is_none());
        let lines: Vec<_> = shown
            .map(|step| {
                let shape = self.step(step);
                let device = shape.device.map(|d| format!("{d}: ")).unwrap_or_default();
                (
                    step.outcome,
                    format!("{device}{}", label_of(shape.step, step.back)),
                    shape.evidence,
                    shape.place,
                )
            })
            .collect();
        let longest = lines.iter().map(|l| l.1.chars().count()).max().unwrap_or(0);
        for (outcome, what, evidence, place) in lines {
            let (mark, style) = match outcome {
                StepOutcome::Passed => ("passed", GOOD),
                StepOutcome::Failed => ("FAILED", BAD),
                StepOutcome::NotReached => ("not reached", DIM),
            };
            let place = place.map(|p| format!("  {DIM}{p}{DIM:#}")).unwrap_or_default();
            let text = format!("{what:longest$}  {evidence}");
            writeln!(out, "  {style}{mark:11}{style:#}  {}{place}", text.trim_end())?;
        }
        Ok(())
    }

    fn near(self, out: &mut dyn Write) -> io::Result<()> {
        let misses = self.misses();
        if misses.is_empty() {
            return Ok(());
        }
        writeln!(out, "\n{BOLD}RULES THAT DO NOT MATCH{BOLD:#}, the nearest first")?;
        let columns = [
            Column::text("RULE"),
            Column::text("DEVICE"),
            Column::text("BECAUSE OF"),
            Column::text("HAS"),
            Column::text("NEEDS"),
        ];
        let row = |m: &MissShape<'_>| {
            let more = m.conditions.len() - 1;
            let condition = if more == 0 {
                m.condition.to_owned()
            } else {
                format!("{} and {more} more", m.condition)
            };
            vec![
                m.rule.into(),
                m.device.into(),
                Cell::styled(condition, CAUTION),
                m.has.into(),
                m.needs.into(),
            ]
        };
        let rows: Vec<Vec<Cell>> = misses.iter().take(MOST_MISSES).map(row).collect();
        table::write(out, &columns, &rows, usize::MAX)?;
        Ok(())
    }

    fn repair(self, out: &mut dyn Write, number: usize, repair: &RepairShape) -> io::Result<()> {
        writeln!(out, "\n{BOLD}REPAIR {number}{BOLD:#} {}", repair.title)?;
        let becomes = repair
            .becomes
            .as_deref()
            .map_or("it becomes as expected".to_owned(), |b| format!("tried: {b}"));
        writeln!(out, "  {GOOD}{becomes}{GOOD:#}")?;
        for change in &repair.changes {
            writeln!(out, "  {CAUTION}besides{CAUTION:#} {change}")?;
        }
        change::write(out, "  ", &repair.diff)
    }
}
