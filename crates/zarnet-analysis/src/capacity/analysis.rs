//! Everything that is found out about the supplies of a plan under some traffic.

use crate::AskError;
use zarnet_core::net::Instant;
use zarnet_formats::plan::Loaded;

use super::{Demand, Forecast, Kind, Resource, SampleSpread};

/// Everything that was found out.
#[derive(Default)]
pub struct CapacityAnalysis {
    /// What was in use.
    pub resources: Vec<Resource>,
    /// Whether a table of a device said so, and not a prediction.
    pub observed: bool,
    /// When the traffic begins.
    pub from: Instant,
    /// When the window ends.
    pub until: Instant,
    /// Flows that found nothing left of a limit that is no supply: of a rule or a host.
    pub elsewhere: usize,
    /// Of each resource, what is to be expected, where something limits it.
    pub outlooks: Vec<Option<Outlook>>,
    /// Remedies that were tried.
    pub trials: Vec<Trial>,
    /// The remedy whose change is to be shown.
    pub shown: Option<Kind>,
}

/// What is to be expected of a resource.
pub struct Outlook {
    /// What was asked of it.
    pub demand: Demand,
    /// Erlang's formula, for loads that have grown.
    pub forecasts: Vec<Forecast>,
    /// How many times the load may grow until the target is missed.
    pub headroom: Option<f64>,
    /// In how many months that is.
    pub months: Option<f64>,
    /// The size that meets the target.
    pub needed: Option<u64>,
    /// The same loads, simulated.
    pub simulated: Vec<Simulated>,
}

/// Simulations of a load.
pub struct Simulated {
    /// How many times the load.
    pub growth: f64,
    /// Share refused in the busiest hour.
    pub refused: SampleSpread,
    /// In how many of them somebody was refused.
    pub ran_out: usize,
    /// When for the first time, in seconds, on the average of these.
    pub first: Option<f64>,
}

/// A remedy that was tried.
pub struct Trial {
    /// Position of the resource that it is for.
    pub of: usize,
    /// Which remedy it is.
    pub kind: Kind,
    /// What the remedy does, in a sentence.
    pub title: String,
    /// Why the remedy cannot be tried; `None` if it can.
    pub obstacle: Option<String>,
    /// The plan as it changes it.
    pub changed: Option<Box<Loaded>>,
    /// What came of it.
    pub outcome: Option<Outcome>,
}

/// What came of a remedy on the same traffic.
pub struct Outcome {
    /// Number of flows refused.
    pub refused: u64,
    /// Hosts that sent them.
    pub hosts: u64,
    /// The most in use, and of how much.
    pub peak: Option<(u64, Option<u64>)>,
}

impl CapacityAnalysis {
    /// Positions of the supplies that are looked at closely: those that refused somebody, else the
    /// fullest.
    pub fn focus(&self) -> Vec<usize> {
        let refused: Vec<usize> =
            (0..self.resources.len()).filter(|i| self.resources[*i].refused_flows > 0).collect();
        if !refused.is_empty() {
            return refused;
        }
        let limited =
            (0..self.resources.len()).filter(|i| self.resources[*i].series.usable.is_some());
        let used = limited.filter(|i| self.resources[*i].series.peak.count > 0);
        used.max_by(|a, b| fill(&self.resources[*a]).total_cmp(&fill(&self.resources[*b])))
            .into_iter()
            .collect()
    }

    /// A remedy by its name; of several supplies, the first that has one.
    ///
    /// # Errors
    /// None of that name was looked for.
    pub fn remedy(&self, name: &str) -> Result<&Trial, AskError> {
        self.trials.iter().find(|t| t.kind.name() == name).ok_or_else(|| {
            let names: Vec<&str> = self.trials.iter().map(|t| t.kind.name()).collect();
            let help = match names.is_empty() {
                true => "nothing was refused, so no remedy was tried; --supply NAME examines a \
                         supply anyway"
                    .to_owned(),
                false => format!("one of {}", names.join(", ")),
            };
            AskError::new("unknown-name", format!("there is no remedy `{name}`"), help)
        })
    }

    /// The remedy whose change is shown: the one asked for, or of each supply that with the fewest
    /// refusals.
    pub fn best(&self, of: usize) -> Option<&Trial> {
        let own = self.trials.iter().filter(|t| t.of == of && t.changed.is_some());
        if let Some(kind) = self.shown {
            return own.into_iter().find(|t| t.kind == kind);
        }
        // of equals, the one that is first named, for remedies are listed by what they cost
        own.min_by_key(|t| t.outcome.as_ref().map_or(u64::MAX, |o| o.refused))
    }
}

/// The share of a resource that was in use at most.
pub fn fill(r: &Resource) -> f64 {
    r.series.peak.count as f64 / r.series.usable.unwrap_or(u64::MAX).max(1) as f64
}
