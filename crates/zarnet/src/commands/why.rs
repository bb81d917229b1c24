//! `zarnet why PLAN FLOW`

use std::cell::RefCell;
use std::collections::HashMap;
use std::sync::Arc;

use zarnet_analysis::answer::why::{SideEffect, Tried, WhyAnswer};
use zarnet_analysis::diagnose::{Diagnosis, Repair, RepairTrial, diagnose};
use zarnet_core::Reason;
use zarnet_core::event::{Action, Clearing, Event};
use zarnet_core::net::Instant;
use zarnet_core::plan::{Edit, Plan};
use zarnet_core::predict::{Moment, Options, Prediction, Rehearsal, Scene, follow_during, predict};
use zarnet_core::traffic::Flow;
use zarnet_formats::observed::Observed;
use zarnet_formats::plan::{Loaded, edited};
use zarnet_formats::source::Sources;
use zarnet_formats::traffic::{Given, Traffic};

use super::compare::table;
use super::follow::flow;
use super::plan;
use super::traffic::{attempts, given, moment, open, peak_or};
use crate::args::{Common, Why};
use crate::exit::{FINE, Failure, NEGATIVE};
use crate::files;
use crate::present::why::text;
use crate::present::{diagnostic, present};

pub fn run(args: &Why, common: &Common) -> Result<u8, Failure> {
    let loaded = plan(&args.plan, common)?;
    let flow = flow(&args.flow, &loaded.plan)?;
    let during = given(&args.day.during)?;
    let day = Setting { args, common, flow, during };
    let (scene, sources) = day.play(&loaded, None, &[])?;
    let at = scene.followed.at;
    let mut trial = PlanTrial { loaded: &loaded, day: &day, at, failure: RefCell::default() };
    let diagnosis = diagnose(&scene, &mut trial);
    if let Some(failure) = trial.failure.into_inner() {
        return Err(failure);
    }
    if let Some(number) = args.apply {
        return apply(number, &loaded, &diagnosis, args.force, common);
    }
    let tried = day.tried(&loaded, &diagnosis)?;
    let observed =
        args.observed.as_deref().map(|path| table(path, &args.table, &loaded.plan)).transpose()?;
    let observed = observed.map(|table| of_flow(&table, &scene));
    let (sources, scene, diagnosis, tried) = (&sources, &scene, &diagnosis, &tried[..]);
    let answer = WhyAnswer { sources, scene, diagnosis, tried, observed: observed.as_deref() };
    present(&answer, common, |out, _| text(answer, out, common.verbose))?;
    Ok(if diagnosis.works { FINE } else { NEGATIVE })
}

/// The entries of a table that are about a flow: those of the internal ends that it has on its way.
fn of_flow(table: &[Observed], scene: &Scene) -> Vec<Observed> {
    let observations = scene.followed.forth_observations();
    let ends: Vec<_> =
        observations.iter().flat_map(|s| [s.packet.source(), s.packet.destination()]).collect();
    let about = |o: &&Observed| {
        let protocol = o.protocol.is_none_or(|p| p == scene.followed.flow.protocol);
        protocol
            && ends.iter().any(|e| {
                e.address == o.internal.address
                    && (o.internal.port == 0 || o.internal.port == e.port)
            })
    };
    table.iter().filter(about).copied().collect()
}

/// Writes a repair into the files of the plan that it changes.
fn apply(
    number: usize,
    loaded: &Loaded,
    diagnosis: &Diagnosis,
    force: bool,
    common: &Common,
) -> Result<u8, Failure> {
    let Some(repair) = number.checked_sub(1).and_then(|n| diagnosis.repairs.get(n)) else {
        let count = diagnosis.repairs.len();
        let message = format!("there is no repair {number}; {count} were found");
        return Err(Failure::wrong(
            "no-such-repair",
            message,
            "run it without --apply to see them".to_owned(),
        ));
    };
    if repair.changes.iter().flatten().any(|e| matches!(e, Edit::Clear(..))) {
        let help = format!("what it needs is done on the device: {}", repair.title);
        return Err(Failure::wrong("no-such-repair", "this repair is no change of the plan", help));
    }
    let changed = edited(loaded, &repair.changes).map_err(|_| {
        Failure::wrong("no-such-repair", "the repair cannot be written into this plan", None)
    })?;
    let written = files::put_plan(&loaded.sources, &changed.sources, force)?;
    diagnostic::written(&written, &repair.title, common.quiet);
    Ok(FINE)
}

/// The flow and the day that it is on.
struct Setting<'a> {
    args: &'a Why,
    common: &'a Common,
    flow: Flow,
    /// The traffic of the day, as often as it is wanted.
    during: Vec<Given>,
}

impl Setting<'_> {
    /// The flow, on the day or on a network at rest, and the files that places in the answer are
    /// of. It begins `at` an instant, or when it was asked for; `more` is done besides what the day
    /// does.
    fn play(
        &self,
        loaded: &Loaded,
        at: Option<Instant>,
        more: &[Event],
    ) -> Result<(Scene, Sources), Failure> {
        let shared = Arc::new(loaded.plan.clone());
        let Some(traffic) = self.traffic(loaded)? else {
            return Ok((
                Scene::at_rest(shared, self.common.seed, &self.flow),
                loaded.sources.clone(),
            ));
        };
        let moment = match at {
            Some(at) => Moment::At(at),
            None => peak_or(moment(&self.args.day.at, &traffic)?, &shared, &traffic, self.common)?,
        };
        let options =
            Options { moment, seed: self.common.seed, sessions: false, ..Options::default() };
        let (scene, _) = attempts(&traffic, options, self.common.quiet, |items, options| {
            let events = traffic.events().into_iter().chain(more.iter().cloned());
            let mut events: Vec<Event> = events.collect();
            events.sort_by_key(|e| e.at);
            follow_during(shared.clone(), items, events, options, &self.flow)
        })?;
        Ok((scene, traffic.plan_files().clone()))
    }

    fn traffic(&self, loaded: &Loaded) -> Result<Option<Traffic>, Failure> {
        let named = !self.during.is_empty();
        named.then(|| open(&self.during, loaded, &self.args.day.reader, self.common)).transpose()
    }

    /// What each repair changes besides: expectations of the plan, and the other flows of the day.
    fn tried(&self, loaded: &Loaded, diagnosis: &Diagnosis) -> Result<Vec<Tried>, Failure> {
        if diagnosis.repairs.is_empty() {
            return Ok(Vec::new());
        }
        let held = |l: &Loaded| {
            let mut rehearsal = Rehearsal::new(Arc::new(l.plan.clone()), self.common.seed);
            l.plan
                .expectations
                .iter()
                .map(|e| rehearsal.expect(e).failed.is_empty())
                .collect::<Vec<bool>>()
        };
        let (held_before, day_before) = (held(loaded), self.whole_day(loaded)?);
        let one = |repair: &Repair| {
            let repaired = edited(loaded, &repair.changes).map_err(|_| Failure::Told)?;
            let expectations = held_before.iter().zip(held(&repaired)).enumerate();
            let differ = expectations.filter(|(_, (was, is))| **was != *is);
            let mut changed: Vec<SideEffect> =
                differ.map(|(i, (_, is))| SideEffect::Expectation(i, is)).collect();
            if let (Some(before), Some(after)) = (&day_before, self.whole_day(&repaired)?) {
                changed.extend(difference(before, &after));
            }
            Ok(Tried { sources: repaired.sources, changed })
        };
        diagnosis.repairs.iter().map(one).collect()
    }

    fn whole_day(&self, loaded: &Loaded) -> Result<Option<Prediction>, Failure> {
        let Some(traffic) = self.traffic(loaded)? else { return Ok(None) };
        let shared: Arc<Plan> = Arc::new(loaded.plan.clone());
        let options = Options {
            moment: Moment::End,
            seed: self.common.seed,
            sessions: false,
            ..Options::default()
        };
        let played = attempts(&traffic, options, self.common.quiet, |items, options| {
            predict(shared.clone(), items, traffic.events(), options)
        })?;
        Ok(Some(played.0))
    }
}

/// Flows of the day that end otherwise.
fn difference(before: &Prediction, after: &Prediction) -> Vec<SideEffect> {
    let lost = |p: &Prediction| -> HashMap<Flow, Reason> {
        p.not_translated.iter().map(|n| (n.flow, n.reason)).collect()
    };
    let (old, new) = (lost(before), lost(after));
    let better = old.iter().filter(|(flow, _)| !new.contains_key(*flow)).count();
    let worse = new.iter().filter(|(flow, _)| !old.contains_key(*flow)).count();
    let other =
        old.iter().filter(|(flow, reason)| new.get(*flow).is_some_and(|r| r != *reason)).count();
    [SideEffect::Better(better), SideEffect::Worse(worse), SideEffect::Other(other)]
        .into_iter()
        .filter(|c| c.count() > 0)
        .collect()
}

/// Changes the text of the plan, and follows the flow again.
struct PlanTrial<'a> {
    loaded: &'a Loaded,
    day: &'a Setting<'a>,
    /// When the flow begins.
    at: Instant,
    failure: RefCell<Option<Failure>>,
}

impl RepairTrial for PlanTrial<'_> {
    fn attempt(&mut self, changes: &[Vec<Edit>]) -> Option<Scene> {
        let repaired = edited(self.loaded, changes).ok()?;
        let clear = |edit: &Edit| match edit {
            Edit::Clear(device, host) => {
                let action = Action::Clear(Clearing { host: Some(*host), ..Clearing::default() });
                Some(Event { at: self.at, device: *device, action })
            }
            _ => None,
        };
        let cleared: Vec<Event> = changes.iter().flatten().filter_map(clear).collect();
        match self.day.play(&repaired, Some(self.at), &cleared) {
            Ok((scene, _)) => Some(scene),
            // traffic that a changed plan cannot be given says nothing of the repair
            Err(Failure::Told) => None,
            Err(failure) => {
                *self.failure.borrow_mut() = Some(failure);
                None
            }
        }
    }
}
