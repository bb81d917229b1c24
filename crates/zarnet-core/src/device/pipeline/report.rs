//! What the steps tell an observer.

use crate::device::bindings::Context;
use crate::device::outcome::Refusal;
use crate::observe::{By, Observer, Stage, StageResult, Step};
use crate::plan::{Place, RuleId};

/// A step that something in the plan decided.
pub(super) fn step_by(stage: Stage, result: StageResult, by: By, place: Option<Place>) -> Step {
    Step { stage, result, by, place }
}

/// A step that nothing in the plan decided.
pub(super) fn step(stage: Stage, result: StageResult) -> Step {
    step_by(stage, result, By::Nothing, None)
}

/// A step at which a packet is dropped.
pub(super) fn drop_step(stage: Stage, refusal: Refusal) -> Step {
    let by = refusal.rule.map_or(By::Nothing, By::Rule);
    step_by(stage, StageResult::Dropped(refusal.reason), by, refusal.place)
}

/// Tells an observer that a packet is dropped.
pub(super) fn report_refusal<O: Observer>(observer: &mut O, stage: Stage, refusal: Refusal) {
    observer.step(|| drop_step(stage, refusal));
}

impl Context<'_> {
    /// A step that a rule decided, if one did.
    pub(super) fn step_by_rule(
        &self,
        stage: Stage,
        result: StageResult,
        rule: Option<RuleId>,
    ) -> Step {
        let by = rule.map_or(By::Nothing, By::Rule);
        step_by(stage, result, by, rule.map(|r| self.rule(r.0).place))
    }
}
