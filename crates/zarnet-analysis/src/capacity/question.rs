//! What runs out under some traffic, asked of a plan.

use std::cell::Cell;
use std::sync::Arc;

use zarnet_core::net::Instant;
use zarnet_core::predict::{Moment, Options, Prediction, predict};
use zarnet_core::traffic::{Batches, Item};
use zarnet_formats::observed::Observed;
use zarnet_formats::plan::Loaded;
use zarnet_formats::traffic::{Growth, Skipped};

use super::{
    CapacityAnalysis, MOST_UNITS, Outlook, Resource, demand, of_table, resources, supply_name,
};
use crate::play::{At, Opening, Watch, at_peak, device, play};
use crate::{AnalysisError, AskError};

/// Loads that a forecast is made of, against the busiest hour.
pub(super) const GROWTHS: [f64; 5] = [1.0, 1.25, 1.5, 2.0, 3.0];
/// No forecast is made from fewer.
const LEAST_REQUESTS: u64 = 10;

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
    /// Simulations of each load.
    pub runs: u64,
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

/// The supplies that a table of a device says something about.
///
/// # Errors
/// The supply or the device that is asked for is not there.
pub fn of_observed(
    loaded: &Loaded,
    observed: &[Observed],
    only: Option<&str>,
    supply: Option<&str>,
) -> Result<CapacityAnalysis, AskError> {
    let resources = chosen(loaded, of_table(&loaded.plan, observed), only, supply)?;
    Ok(CapacityAnalysis { resources, observed: true, ..CapacityAnalysis::default() })
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
        let (prediction, begun, skipped) = self.predicted(watch)?;
        let all = resources(&prediction, self.at.is_some());
        let elsewhere = prediction.recording.as_ref().map_or(0, |r| {
            r.shortages.iter().filter(|s| s.tried.iter().all(Option::is_none)).count()
        });
        let resources = chosen(self.loaded, all, self.device.as_deref(), self.supply.as_deref())?;
        let (from, until) = (begun, prediction.end);
        let mut analysis =
            CapacityAnalysis { resources, from, until, elsewhere, ..CapacityAnalysis::default() };
        analysis.outlooks =
            analysis.resources.iter().map(|r| self.outlook(r, from, until)).collect();
        if !self.brief {
            self.simulate(&mut analysis)?;
            self.try_remedies(&mut analysis)?;
        }
        if let Some(name) = &self.remedy {
            analysis.shown = Some(analysis.remedy(name)?.kind);
        }
        Ok((analysis, skipped))
    }

    /// The traffic, played with what was in use kept, and when it begins.
    fn predicted<W: Watch>(
        &self,
        watch: &W,
    ) -> Result<(Prediction, Instant, Skipped), AnalysisError> {
        let traffic = self.opening.open(self.loaded, Growth::default())?;
        let shared = Arc::new(self.loaded.plan.clone());
        let at = match self.at.as_deref() {
            Some(text) => At::parse(text, &traffic)?,
            None => At::Peak,
        };
        let moment = match at {
            At::Moment(moment) => moment,
            At::Peak => Moment::At(at_peak(&shared, &traffic, self.opening.seed, watch)?),
        };
        let options = Options {
            moment,
            seed: self.opening.seed,
            sessions: false,
            record: true,
            ..Options::default()
        };
        let begun = Cell::new(None);
        let (prediction, skipped) = play(&traffic, options, watch, |items, options| {
            predict(shared.clone(), Timed { items, begun: &begun }, traffic.events(), options)
        })?;
        Ok((prediction, begun.get().unwrap_or_default(), skipped))
    }

    fn outlook(&self, resource: &Resource, from: Instant, until: Instant) -> Option<Outlook> {
        let usable = resource.series.usable?;
        let demand = demand(resource, from, until);
        // of a handful of requests nothing can be said
        if resource.series.begun + resource.refused_flows < LEAST_REQUESTS || demand.offered <= 0.0
        {
            return None;
        }
        let forecasts = GROWTHS.iter().map(|g| demand.grown(usable, *g)).collect();
        let headroom = demand.headroom(usable, self.target);
        let months =
            self.growth.filter(|g| *g > 0.0).zip(headroom).map(|(g, h)| h.ln() / g.ln_1p());
        let needed = demand.needed(self.target, 1.0, MOST_UNITS);
        Some(Outlook { demand, forecasts, headroom, months, needed, simulated: Vec::new() })
    }
}

/// The resources that were asked for.
fn chosen(
    loaded: &Loaded,
    all: Vec<Resource>,
    only: Option<&str>,
    supply: Option<&str>,
) -> Result<Vec<Resource>, AskError> {
    let only = only.map(|name| device(&loaded.plan, name)).transpose()?;
    let named: Vec<Resource> =
        all.into_iter().filter(|r| only.is_none_or(|d| r.device == d)).collect();
    let Some(name) = supply else { return Ok(named) };
    let is = |r: &Resource| supply_name(&loaded.plan, r.device, r.supply).iter().any(|n| n == name);
    let found: Vec<Resource> = named.iter().filter(|r| is(r)).cloned().collect();
    if found.is_empty() {
        let mut names: Vec<String> =
            named.iter().flat_map(|r| supply_name(&loaded.plan, r.device, r.supply)).collect();
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

/// Traffic that tells when it begins.
struct Timed<'a, B> {
    items: B,
    begun: &'a Cell<Option<Instant>>,
}

impl<B: Batches> Batches for Timed<'_, B> {
    type Error = B::Error;

    fn fill(&mut self, batch: &mut Vec<Item>, most: usize) -> Option<B::Error> {
        let error = self.items.fill(batch, most);
        // what has to be sorted is read again, and then begins earlier
        let first = batch.first().map(Item::at).into_iter().chain(self.begun.get()).min();
        self.begun.set(first);
        error
    }
}
