//! Everything that is found out about the supplies of a plan under some traffic.

use std::net::IpAddr;
use std::sync::Arc;

use crate::AskError;
use zarnet_core::net::Instant;
use zarnet_formats::plan::Loaded;

use zarnet_core::plan::{DeviceId, Plan};

use super::growth::GrowthRate;
use super::hosts::{BlockUse, Percentiles};
use super::{Kind, Outlook, Resource};

/// Everything that was found out.
#[derive(Default)]
pub struct CapacityAnalysis {
    /// The plan as it is at the end of the traffic, where the traffic brings another one: what
    /// follows goes by it, and neither simulations nor remedies are tried.
    pub replaced: Option<Arc<Plan>>,
    /// What was in use.
    pub resources: Vec<Resource>,
    /// Whether a table of a device said so, and not a prediction.
    pub observed: bool,
    /// Of a table, rows that no enabled rule explains, that are on ports which are not handed out,
    /// and that say again what another one says.
    pub rows_apart: [u64; 3],
    /// When the traffic begins.
    pub from: Instant,
    /// When the window ends.
    pub until: Instant,
    /// Flows that found nothing left of a limit that is no supply: of a rule or a host.
    pub elsewhere: usize,
    /// Of each resource, the one of all addresses that it is an address of.
    pub part_of: Vec<Option<usize>>,
    /// Of each resource, what is to be expected, where something limits it.
    pub outlooks: Vec<Option<Outlook>>,
    /// What comes of the traffic without any remedy.
    pub as_it_is: Outcome,
    /// Remedies that were tried.
    pub trials: Vec<Trial>,
    /// Resources whose remedies are those of another one.
    pub alike: Vec<(usize, usize)>,
    /// The name of the remedy whose change is to be shown.
    pub shown: Option<String>,
    /// By device, how many ports its hosts had at most at a time.
    pub ports_of_hosts: Vec<(DeviceId, Percentiles)>,
    /// Of each resource, what blocks of ports come to on it.
    pub blocks: Vec<Option<BlockUse>>,
    /// How the load grew from day to day, by position of the resource.
    pub growth: Vec<Option<GrowthRate>>,
}

/// A remedy that was tried, or two together.
pub struct Trial {
    /// Position of the resource that it is for.
    pub of: usize,
    /// Which remedies they are.
    pub kinds: Vec<Kind>,
    /// The name under which it is asked for.
    pub name: String,
    /// What the remedy does, in a sentence.
    pub title: String,
    /// How many external addresses it uses up.
    pub addresses: u64,
    /// Why the remedy cannot be tried; `None` if it can.
    pub obstacle: Option<String>,
    /// The plan as it changes it.
    pub changed: Option<Box<Loaded>>,
    /// What came of it.
    pub outcome: Option<Outcome>,
}

/// What comes of the traffic on a plan: of all its flows, rules and devices.
#[derive(Debug, Clone, Default)]
pub struct Outcome {
    /// Flows refused because nothing was left, of whatever.
    pub refused: u64,
    /// Hosts that sent them.
    pub hosts: u64,
    /// Flows that were not translated, for any reason.
    pub untranslated: u64,
    /// The most in use of the supply that the remedy is for, and of how much.
    pub peak: Option<(u64, Option<u64>)>,
    /// Flows that are translated now and were not before.
    pub served: u64,
    /// Flows that are not translated any more.
    pub lost: u64,
    /// Who sent those, the most first.
    pub losers: Vec<Loser>,
}

/// A host that a remedy takes something from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Loser {
    /// Address of the host.
    pub host: IpAddr,
    /// Flows of it that are not translated any more.
    pub flows: u64,
}

impl CapacityAnalysis {
    /// Positions of the supplies that are looked at closely: those that refused somebody, else the
    /// fullest.
    pub fn focus(&self) -> Vec<usize> {
        let all = || 0..self.resources.len();
        let refused: Vec<usize> = all().filter(|i| self.resources[*i].refused_flows > 0).collect();
        if !refused.is_empty() {
            // an address of several is told of with them
            let part = |i: &usize| self.part_of.get(*i).copied().flatten();
            return refused
                .iter()
                .copied()
                .filter(|i| part(i).is_none_or(|whole| !refused.contains(&whole)))
                .collect();
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
        self.trials.iter().find(|t| t.name == name).ok_or_else(|| {
            let mut names: Vec<&str> = self.trials.iter().map(|t| t.name.as_str()).collect();
            names.dedup();
            let help = match names.is_empty() {
                true => "no remedy was tried, for nothing was refused; --supply NAME examines a \
                         supply anyway"
                    .to_owned(),
                false => format!("one of {}", names.join(", ")),
            };
            AskError::new("unknown-name", format!("there is no remedy `{name}`"), help)
        })
    }

    /// The remedy whose change is shown: the one asked for, or the one that leaves the fewest flows
    /// of the whole plan untranslated. `None` if nothing is better than to leave it as it is.
    pub fn best(&self, of: usize) -> Option<&Trial> {
        let own = self.trials.iter().filter(|t| t.of == of && t.changed.is_some());
        if let Some(name) = &self.shown {
            return own.into_iter().find(|t| t.name == *name);
        }
        let outcome = |t: &&Trial| t.outcome.as_ref().map_or(u64::MAX, |o| o.untranslated);
        let better = own.filter(|t| outcome(t) < self.as_it_is.untranslated);
        // of equals, the one that takes from nobody, then the one that asks the least of everybody
        better.min_by_key(|t| {
            let lost = t.outcome.as_ref().map_or(0, |o| o.lost);
            let burden = t.kinds.iter().map(|k| k.burden()).max();
            (outcome(t), t.kinds.len(), lost, burden, t.addresses)
        })
    }
}

/// The share of a resource that was in use at most.
pub fn fill(r: &Resource) -> f64 {
    r.series.peak.count as f64 / r.series.usable.unwrap_or(u64::MAX).max(1) as f64
}
