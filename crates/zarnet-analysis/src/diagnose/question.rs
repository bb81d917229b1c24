//! Why a flow does not work, asked of a plan at rest or in the middle of a day.

use std::collections::HashMap;
use std::sync::Arc;

use zarnet_core::Reason;
use zarnet_core::event::{Action, Clearing, Event};
use zarnet_core::net::Instant;
use zarnet_core::plan::{Edit, Plan};
use zarnet_core::predict::{Moment, Options, Prediction, Scene, follow_during, predict};
use zarnet_core::traffic::Flow;
use zarnet_formats::observed::Observed;
use zarnet_formats::plan::{Loaded, edited};
use zarnet_formats::source::Sources;
use zarnet_formats::traffic::{Growth, Traffic};

use super::{Diagnosis, Repair, RepairTrial, Weight, diagnose, held};
use crate::AnalysisError;
use crate::play::{At, Opening, Watch, at_peak, play};

/// A question about a flow.
pub struct FlowQuestion {
    /// The flow that should work.
    pub flow: Flow,
    /// The traffic of the day; nothing for a network at rest.
    pub opening: Opening,
    /// The moment of the day at which the flow begins.
    pub at: String,
}

/// A repair, carried out.
pub struct TriedRepair {
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

impl FlowQuestion {
    /// Follows the flow, and looks for what is wrong. Repairs are tried on the plan's text, on the
    /// same day. Gives the files that places in the answer are of, too.
    ///
    /// # Errors
    /// The traffic is wrong.
    pub fn answer<W: Watch>(
        &self,
        loaded: &Loaded,
        watch: &W,
    ) -> Result<(Scene, Diagnosis, Sources), AnalysisError> {
        let (scene, sources) = self.scene(loaded, None, &[], watch)?;
        let at = scene.followed.at;
        let mut trial =
            PlanTrial { loaded, question: self, watch, at, held: None, made: None, failure: None };
        let diagnosis = diagnose(&scene, &mut trial);
        match trial.failure {
            Some(failure) => Err(failure),
            None => Ok((scene, diagnosis, sources)),
        }
    }

    /// The flow, on the day or on a network at rest, and the files that places in the answer are
    /// of. It begins `at` an instant, or when it was asked for; `more` is done besides what the day
    /// does.
    fn scene<W: Watch>(
        &self,
        loaded: &Loaded,
        at: Option<Instant>,
        more: &[Event],
        watch: &W,
    ) -> Result<(Scene, Sources), AnalysisError> {
        let shared = Arc::new(loaded.plan.clone());
        let Some(traffic) = self.traffic(loaded)? else {
            return Ok((
                Scene::at_rest(shared, self.opening.seed, &self.flow),
                loaded.sources.clone(),
            ));
        };
        let moment = match at {
            Some(at) => Moment::At(at),
            None => match At::parse(&self.at, &traffic)? {
                At::Moment(moment) => moment,
                At::Peak => Moment::At(at_peak(&shared, &traffic, self.opening.seed, watch)?),
            },
        };
        let options =
            Options { moment, seed: self.opening.seed, sessions: false, ..Options::default() };
        let (mut scene, _) = play(&traffic, options, watch, |items, options| {
            let events = traffic.events().into_iter().chain(more.iter().cloned());
            let mut events: Vec<Event> = events.collect();
            events.sort_by_key(|e| e.at);
            follow_during(shared.clone(), items, events, options, &self.flow)
        })?;
        let until = scene.followed.at;
        let past = traffic.placed_events().iter().filter(|e| e.0.at <= until);
        scene.events = past.cloned().collect();
        Ok((scene, traffic.plan_files().clone()))
    }

    fn traffic(&self, loaded: &Loaded) -> Result<Option<Traffic>, AnalysisError> {
        let is_named = !self.opening.given.is_empty();
        is_named.then(|| self.opening.open(loaded, Growth::default())).transpose()
    }

    /// What each repair changes besides: expectations of the plan, and the other flows of the day.
    pub fn tried<W: Watch>(
        &self,
        loaded: &Loaded,
        diagnosis: &Diagnosis,
        watch: &W,
    ) -> Result<Vec<TriedRepair>, AnalysisError> {
        if diagnosis.repairs.is_empty() {
            return Ok(Vec::new());
        }
        let held = |l: &Loaded| held(l, self.opening.seed);
        let (held_before, day_before) = (held(loaded), self.whole_day(loaded, watch)?);
        let one = |repair: &Repair| {
            let repaired = edited(loaded, &repair.changes)
                .map_err(|_| AnalysisError::Internal("a repair that was tried cannot be made"))?;
            let expectations = held_before.iter().zip(held(&repaired)).enumerate();
            let differ = expectations.filter(|(_, (was, is))| **was != *is);
            let mut changed: Vec<SideEffect> =
                differ.map(|(i, (_, is))| SideEffect::Expectation(i, is)).collect();
            if let (Some(before), Some(after)) = (&day_before, self.whole_day(&repaired, watch)?) {
                changed.extend(difference(before, &after));
            }
            Ok(TriedRepair { sources: repaired.sources, changed })
        };
        diagnosis.repairs.iter().map(one).collect()
    }

    fn whole_day<W: Watch>(
        &self,
        loaded: &Loaded,
        watch: &W,
    ) -> Result<Option<Prediction>, AnalysisError> {
        let Some(traffic) = self.traffic(loaded)? else { return Ok(None) };
        let shared: Arc<Plan> = Arc::new(loaded.plan.clone());
        let options = Options {
            moment: Moment::End,
            seed: self.opening.seed,
            sessions: false,
            ..Options::default()
        };
        let played = play(&traffic, options, watch, |items, options| {
            predict(shared.clone(), items, traffic.events(), options)
        })?;
        Ok(Some(played.0))
    }
}

/// The entries of an observed table that are about a flow: those of the internal ends that it has
/// on its way.
pub fn of_flow(table: &[Observed], scene: &Scene) -> Vec<Observed> {
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
struct PlanTrial<'a, W> {
    loaded: &'a Loaded,
    question: &'a FlowQuestion,
    watch: &'a W,
    /// When the flow begins.
    at: Instant,
    /// Which expectations hold without a repair, once somebody asks.
    held: Option<Vec<bool>>,
    /// The plan that was made last, with the changes that led to it.
    made: Option<(Vec<Vec<Edit>>, Arc<Loaded>)>,
    failure: Option<AnalysisError>,
}

impl<W> PlanTrial<'_, W> {
    /// The plan with some changes; `None` if they make none.
    fn repaired(&mut self, changes: &[Vec<Edit>]) -> Option<Arc<Loaded>> {
        if let Some((known, made)) = &self.made
            && known == changes
        {
            return Some(made.clone());
        }
        let made = Arc::new(edited(self.loaded, changes).ok()?);
        self.made = Some((changes.to_vec(), made.clone()));
        Some(made)
    }
}

impl<W: Watch> RepairTrial for PlanTrial<'_, W> {
    fn attempt(&mut self, changes: &[Vec<Edit>]) -> Option<Scene> {
        let repaired = self.repaired(changes)?;
        let done = |edit: &Edit| match edit {
            Edit::Clear(device, host) => {
                let action = Action::Clear(Clearing { host: Some(*host), ..Clearing::default() });
                Some(Event { at: self.at, device: *device, action })
            }
            Edit::Enable(device, rule) => {
                let action = Action::Enable(*rule);
                Some(Event { at: self.at, device: *device, action })
            }
            Edit::Set(..)
            | Edit::Unset(..)
            | Edit::Append(..)
            | Edit::Replace(..)
            | Edit::Insert(..)
            | Edit::InsertEntry(..)
            | Edit::MoveRule(..)
            | Edit::RemoveRule(..)
            | Edit::CloneRule(..)
            | Edit::Group(..)
            | Edit::Drop(..) => None,
        };
        let done: Vec<Event> = changes.iter().flatten().filter_map(done).collect();
        match self.question.scene(&repaired, Some(self.at), &done, self.watch) {
            Ok((scene, _)) => Some(scene),
            // traffic that a changed plan cannot be given says nothing of the repair
            Err(AnalysisError::Traffic(..) | AnalysisError::Ask(_)) => None,
            Err(failure) => {
                self.failure = Some(failure);
                None
            }
        }
    }

    fn weigh(&mut self, changes: &[Vec<Edit>]) -> Weight {
        let seed = self.question.opening.seed;
        let Some(repaired) = self.repaired(changes) else { return Weight::default() };
        let before = self.held.get_or_insert_with(|| held(self.loaded, seed));
        let weight = Weight::of(self.loaded, before, &repaired, seed);
        // what holds at rest says little of what is wrong in the middle of a day
        match self.question.opening.given.is_empty() {
            true => weight,
            false => Weight { mended: 0, left: 0, ..weight },
        }
    }
}
