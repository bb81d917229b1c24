//! What runs out under some traffic, asked of a plan.

use std::cell::{Cell, RefCell};
use std::collections::HashSet;
use std::sync::Arc;

use zarnet_core::device::Supply;
use zarnet_core::event::Action;
use zarnet_core::net::Instant;
use zarnet_core::plan::{DeviceId, Plan};
use zarnet_core::predict::{Moment, Options, Prediction, network_at, predict};
use zarnet_core::traffic::{Batches, Flow, Item};
use zarnet_formats::observed::Observed;
use zarnet_formats::plan::Loaded;
use zarnet_formats::traffic::{Growth, Skipped};

use super::hosts::ports_of_hosts;
use super::outcome::{outcome, untranslated};
use super::outlook::{outlook, whole_of};
use super::resource::{lacks_holders, take_holders};

use super::{
    BlockUse, CapacityAnalysis, GrowthRate, Observation, Resource, of_table, resources, supply_name,
};
use crate::play::{At, Opening, Watch, at_peak, device, play};
use crate::{AnalysisError, AskError};

/// A question about the supplies of a plan.
pub struct CapacityQuestion<'a> {
    /// The plan with its files.
    pub loaded: &'a Loaded,
    /// The traffic that is played.
    pub opening: Opening,
    /// The moment at which holders are listed; if left out, when each supply first refused a flow.
    pub at: Option<String>,
    /// The device to look at; all if left out.
    pub device: Option<String>,
    /// The supply to look at, by its name; all that ran out if left out.
    pub supply: Option<String>,
    /// The share of flows that may be refused in the busiest hour.
    pub target: f64,
    /// Growth of the load a month.
    pub growth: Option<f64>,
    /// Simulations of each load; as many as are soon played if left out.
    pub runs: Option<u64>,
    /// Whether nothing is simulated and no remedy tried.
    pub brief: bool,
    /// The remedy whose change is to be shown.
    pub remedy: Option<String>,
    /// Who wants to know how many of the trials are done.
    pub trials: &'a dyn WatchTrials,
}

/// Somebody who wants to know how many of several trials are done.
pub trait WatchTrials: Sync {
    /// So many trials begin.
    fn begin(&self, what: &'static str, count: usize);
    /// One more is done.
    fn step(&self);
    /// All are done.
    fn end(&self);
}

/// A table of a device, and when it was taken, in days from anywhere.
pub struct TakenTable {
    /// Its rows.
    pub rows: Vec<Observed>,
    /// When it was taken; where there are several, how use grows is found by it.
    pub day: f64,
}

/// The supplies that tables of a device say something about: what the last one shows, and how that
/// has grown.
///
/// # Errors
/// The supply or the device that is asked for is not there.
pub fn of_observed(
    loaded: &Loaded,
    tables: &[TakenTable],
    only: Option<&str>,
    supply: Option<&str>,
    growth: Option<f64>,
) -> Result<CapacityAnalysis, AskError> {
    let seen: Vec<Observation> = tables.iter().map(|t| of_table(&loaded.plan, &t.rows)).collect();
    let Some(last) = seen.last() else { return Ok(CapacityAnalysis::default()) };
    let chosen = chosen(&loaded.plan, &last.resources, only, supply)?;
    let resources: Vec<Resource> = chosen.iter().map(|n| last.resources[*n].clone()).collect();
    let grown = |r: &Resource| {
        let in_use = |(taken, seen): (&TakenTable, &Observation)| {
            let same = |s: &&Resource| (s.device, s.supply) == (r.device, r.supply);
            Some((taken.day, seen.resources.iter().find(same)?.in_use as f64))
        };
        let points: Vec<(f64, f64)> = tables.iter().zip(&seen).filter_map(in_use).collect();
        growth.map(GrowthRate::given).or_else(|| GrowthRate::through(&points))
    };
    Ok(CapacityAnalysis {
        observed: true,
        growth: resources.iter().map(grown).collect(),
        blocks: resources.iter().map(|r| BlockUse::of(&loaded.plan, &last.resources, r)).collect(),
        rows_apart: [last.unexplained, last.outside, last.repeated],
        resources,
        ..CapacityAnalysis::default()
    })
}

impl CapacityQuestion<'_> {
    /// Plays the traffic, and looks at every supply that it uses. `watch` is told how far the
    /// first run is.
    ///
    /// # Errors
    /// The traffic is wrong, or names are asked for that there are not.
    pub fn answer<W: Watch>(
        &self,
        watch: &W,
    ) -> Result<(CapacityAnalysis, Skipped), AnalysisError> {
        let Played { mut prediction, begun, flows, brings_plan, skipped } =
            self.predicted(watch)?;
        let mut all = resources(&mut prediction, self.at.is_some());
        let prediction = &prediction;
        self.holders_at_peak(prediction, brings_plan, &mut all, watch)?;
        let before = untranslated(prediction);
        let elsewhere = prediction.recording.as_ref().map_or(0, |r| {
            r.shortages.iter().filter(|s| s.tried.iter().all(Option::is_none)).count()
        });
        let plan = &*prediction.plan;
        let (from, until) = (begun, prediction.end);
        let chosen = chosen(plan, &all, self.device.as_deref(), self.supply.as_deref())?;
        let growth = |n: &usize| match self.growth {
            Some(a_month) => Some(GrowthRate::given(a_month)),
            None => GrowthRate::of(&all[*n], from, until),
        };
        let block_use = |n: &usize| BlockUse::of(plan, &all, &all[*n]);
        // an address is judged with those beside it, whether or not these are asked for
        let outlook = |n: &usize| outlook(plan, &all, *n, (from, until), self.target);
        let mut analysis = CapacityAnalysis {
            replaced: brings_plan.then(|| prediction.plan.clone()),
            from,
            until,
            elsewhere,
            as_it_is: outcome(prediction, &before),
            growth: chosen.iter().map(growth).collect(),
            blocks: chosen.iter().map(block_use).collect(),
            part_of: chosen
                .iter()
                .map(|n| whole_of(plan, chosen.iter().map(|m| &all[*m]), &all[*n]))
                .collect(),
            outlooks: chosen.iter().map(outlook).collect(),
            ports_of_hosts: prediction
                .tables
                .iter()
                .filter_map(|t| Some((t.device, ports_of_hosts(t)?)))
                .collect(),
            ..CapacityAnalysis::default()
        };
        let mut left: Vec<Option<Resource>> = all.into_iter().map(Some).collect();
        analysis.resources = chosen.iter().filter_map(|n| left[*n].take()).collect();
        if !self.brief && !brings_plan {
            // tries that follow on a refusal would not be made without it
            let tries: HashSet<Flow> =
                analysis.resources.iter().flat_map(Resource::tries).collect();
            let flows: Vec<Flow> = flows.into_iter().filter(|f| !tries.contains(f)).collect();
            self.simulate(&mut analysis, &flows)?;
            self.try_remedies(&mut analysis, &before)?;
        }
        if let Some(name) = &self.remedy {
            analysis.shown = Some(analysis.remedy(name)?.name.clone());
        }
        Ok((analysis, skipped))
    }

    /// The traffic, played with what was in use kept, and when it begins.
    fn predicted<W: Watch>(&self, watch: &W) -> Result<Played, AnalysisError> {
        let traffic = self.opening.open(self.loaded, Growth::default())?;
        let shared = Arc::new(self.loaded.plan.clone());
        let moment = match self.at.as_deref() {
            Some(text) => match At::parse(text, &traffic)? {
                At::Moment(moment) => moment,
                At::Peak => Moment::At(at_peak(&shared, &traffic, self.opening.seed, watch)?),
            },
            None => Moment::End,
        };
        // who holds what is told of another moment if none is given
        let options =
            Options { mappings: self.at.is_some(), ..recording(moment, self.opening.seed) };
        let seen = Seen::default();
        let wants_flows = !self.brief && !traffic.has_loads();
        let (prediction, skipped) = play(&traffic, options, watch, |items, options| {
            // what has to be sorted is read again
            *seen.flows.borrow_mut() = wants_flows.then(Vec::new);
            predict(shared.clone(), Timed { items, seen: &seen }, traffic.events(), options)
        })?;
        let begun = seen.begun.get().unwrap_or_default();
        let flows = seen.flows.into_inner().unwrap_or_default();
        let brings_plan = traffic.events().iter().any(|e| matches!(e.action, Action::Plan(..)));
        Ok(Played { prediction, begun, flows, brings_plan, skipped })
    }

    /// Of supplies of which it was not kept who held them at the first refusal, for there was none,
    /// holders are told of the moment with the most mappings.
    fn holders_at_peak<W: Watch>(
        &self,
        prediction: &Prediction,
        brings_plan: bool,
        all: &mut [Resource],
        watch: &W,
    ) -> Result<(), AnalysisError> {
        if self.at.is_some() || !all.iter().any(lacks_holders) {
            return Ok(());
        }
        let traffic = self.opening.open(self.loaded, Growth::default())?;
        let shared = Arc::new(self.loaded.plan.clone());
        let at = prediction.peak_at;
        let options = Options { seed: self.opening.seed, ..Options::default() };
        if brings_plan {
            // a table is told by the numbers that rules and pools have at the end
            let options = Options { moment: Moment::At(at), sessions: false, ..options };
            let (then, _) = play(&traffic, options, watch, |items, options| {
                predict(shared.clone(), items, traffic.events(), options)
            })?;
            for table in &then.tables {
                let rows = table.mappings.iter().filter(|m| !m.fixed).copied();
                take_holders(&then.plan, (table.device, rows), at, all);
            }
            return Ok(());
        }
        let (then, _) = play(&traffic, options, watch, |items, options| {
            network_at(shared.clone(), items, traffic.events(), options, at)
        })?;
        for (n, device) in then.devices().iter().enumerate() {
            let rows = device.mappings_on(Supply::Mappings, at);
            take_holders(then.plan(), (DeviceId(n as u16), rows), at, all);
        }
        Ok(())
    }
}

/// What is recorded where it is only told what was in use over time, and what ran out.
pub(super) fn recording(moment: Moment, seed: u64) -> Options {
    let (mappings, sessions, record) = (false, false, true);
    Options { moment, seed, mappings, sessions, record, ..Options::default() }
}

/// The traffic, played.
struct Played {
    prediction: Prediction,
    begun: Instant,
    /// Its flows, where they are a list that is not too long.
    flows: Vec<Flow>,
    /// Whether another plan takes over in it.
    brings_plan: bool,
    skipped: Skipped,
}

/// The resources that were asked for, by position.
fn chosen(
    plan: &Plan,
    all: &[Resource],
    only: Option<&str>,
    supply: Option<&str>,
) -> Result<Vec<usize>, AskError> {
    let only = only.map(|name| device(plan, name)).transpose()?;
    let named: Vec<usize> =
        (0..all.len()).filter(|n| only.is_none_or(|d| all[*n].device == d)).collect();
    let Some(name) = supply else { return Ok(named) };
    let names = |n: &usize| supply_name(plan, all[*n].device, all[*n].supply);
    let found: Vec<usize> =
        named.iter().copied().filter(|n| names(n).iter().any(|s| s == name)).collect();
    if found.is_empty() {
        let mut names: Vec<String> = named.iter().flat_map(names).collect();
        names.sort();
        names.dedup();
        let help = format!("used were {}", names.join(", "));
        return Err(AskError::new(
            "unknown-name",
            format!("there is no supply `{name}` in use"),
            help,
        ));
    }
    Ok(found)
}

/// What is seen of traffic while it is played.
#[derive(Default)]
struct Seen {
    begun: Cell<Option<Instant>>,
    flows: RefCell<Option<Vec<Flow>>>,
}

/// So many flows are kept to be drawn from.
const MOST_FLOWS: usize = 200_000;

/// Traffic that tells when it begins, and what it has.
struct Timed<'a, B> {
    items: B,
    seen: &'a Seen,
}

impl<B: Batches> Batches for Timed<'_, B> {
    type Error = B::Error;

    fn fill(&mut self, batch: &mut Vec<Item>, most: usize) -> Option<B::Error> {
        let error = self.items.fill(batch, most);
        // what has to be sorted is read again, and then begins earlier
        let begun = batch.first().map(Item::at).into_iter().chain(self.seen.begun.get()).min();
        self.seen.begun.set(begun);
        let mut kept = self.seen.flows.borrow_mut();
        if let Some(flows) = kept.as_mut() {
            let own = batch.iter().filter_map(|item| match item {
                Item::Flow(flow) => Some(*flow),
                Item::Seen(_) | Item::Error(_) => None,
            });
            flows.extend(own);
            if flows.len() > MOST_FLOWS || batch.iter().any(|i| !matches!(i, Item::Flow(_))) {
                *kept = None;
            }
        }
        error
    }
}
