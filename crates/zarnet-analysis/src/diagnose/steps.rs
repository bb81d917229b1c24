//! The search as a list: what was looked at in travelling order, and where it stopped.

use zarnet_core::Reason;
use zarnet_core::network::{Handover, Hop, Trace};
use zarnet_core::observe::{Stage, StageResult, Step};
use zarnet_core::plan::{DeviceId, Place};
use zarnet_core::predict::Followed;

/// What a step of the search came to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum StepOutcome {
    /// As it should be.
    Passed,
    /// The flow stops at this step.
    Failed,
    /// The packet did not come that far.
    NotReached,
}

impl StepOutcome {
    /// The stable name, as JSON and CSV have it.
    pub fn name(self) -> &'static str {
        match self {
            Self::Passed => "passed",
            Self::Failed => "failed",
            Self::NotReached => "not-reached",
        }
    }
}

/// A step of the search.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SearchStep {
    /// Whether it is on the way of the answer.
    pub back: bool,
    /// The device, if it is at one.
    pub device: Option<DeviceId>,
    /// What was looked at: a stage of a device, or `handover`, `delivery`, `answer`.
    pub what: &'static str,
    /// What came of it.
    pub outcome: StepOutcome,
    /// The step of the trace, where there is one.
    pub evidence: Option<Step>,
    /// Of handing over: who was asked last.
    pub asked: Option<Handover>,
    /// Where the deciding piece stands in the plan's files.
    pub place: Option<Place>,
}

/// What a device is asked, in its order.
const STAGES: [Stage; 8] = [
    Stage::IngressAcl,
    Stage::Session,
    Stage::Destination,
    Stage::Own,
    Stage::Route,
    Stage::Policy,
    Stage::Source,
    Stage::EgressAcl,
];

/// Everything that was looked at, there and back.
pub fn steps(followed: &Followed) -> Vec<SearchStep> {
    if followed.loss.is_some_and(|l| l.reason == Reason::LinkOnly) {
        return vec![plain(false, "departure", StepOutcome::Passed)];
    }
    let mut list = Vec::new();
    way(&mut list, &followed.forth, false, followed.delivered());
    let delivered =
        if followed.delivered() { StepOutcome::Passed } else { StepOutcome::NotReached };
    list.push(plain(false, "delivery", delivered));
    if followed.delivered() {
        way(&mut list, &followed.back, true, followed.answered());
    }
    let answered = match (followed.answered(), followed.returned.is_some()) {
        (true, _) => StepOutcome::Passed,
        (false, true) => StepOutcome::Failed,
        (false, false) => StepOutcome::NotReached,
    };
    list.push(plain(true, "answer", answered));
    list
}

fn plain(back: bool, what: &'static str, outcome: StepOutcome) -> SearchStep {
    SearchStep { back, device: None, what, outcome, evidence: None, asked: None, place: None }
}

fn way(list: &mut Vec<SearchStep>, trace: &Trace, back: bool, arrives: bool) {
    let lost_at_once = trace.hops.is_empty() && !arrives;
    let unanswered = trace.departure.iter().any(|h| h.to.is_none());
    let outcome =
        if lost_at_once || unanswered { StepOutcome::Failed } else { StepOutcome::Passed };
    list.push(SearchStep {
        asked: trace.departure.last().copied(),
        ..plain(back, "departure", outcome)
    });
    // what goes round in circles is not told again and again
    for hop in trace.hops.iter().take(8) {
        device(list, hop, back);
        if hop.exit.is_some() {
            let last = trace.hops.last() == Some(hop);
            let outcome = if last && !arrives { StepOutcome::Failed } else { StepOutcome::Passed };
            let step = SearchStep {
                device: Some(hop.device),
                asked: hop.handed.last().copied(),
                ..plain(back, "handover", outcome)
            };
            list.push(step);
        }
    }
}

fn device(list: &mut Vec<SearchStep>, hop: &Hop, back: bool) {
    let known = hop.steps.iter().any(|s| matches!(s.result, StageResult::Known { .. }));
    let failed =
        hop.steps.iter().find(|s| matches!(s.result, StageResult::Dropped(_))).map(|s| s.stage);
    for stage in STAGES {
        let found = hop.steps.iter().find(|s| s.stage == stage);
        let outcome = match (found.map(|s| s.result), failed) {
            (Some(StageResult::Dropped(_)), _) => StepOutcome::Failed,
            (Some(_), _) => StepOutcome::Passed,
            (None, Some(f)) if stage > f => StepOutcome::NotReached,
            _ => continue,
        };
        // what says nothing but that there was nothing to say is left out
        let silent = matches!(
            found.map(|s| s.result),
            Some(StageResult::NotAttached | StageResult::NotOwn | StageResult::New)
        );
        if silent
            || known
                && outcome == StepOutcome::NotReached
                && matches!(stage, Stage::Policy | Stage::Source)
        {
            continue;
        }
        let (evidence, place) = (found.copied(), found.and_then(|s| s.place));
        list.push(SearchStep {
            back,
            device: Some(hop.device),
            what: stage.name(),
            outcome,
            evidence,
            asked: None,
            place,
        });
    }
}
