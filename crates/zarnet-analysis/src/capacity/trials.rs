//! Traffic played anew: on larger loads, and on plans with a remedy.

use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use zarnet_core::device::Supply;
use zarnet_core::net::Instant;
use zarnet_core::plan::{DeviceId, Edit, RuleId};
use zarnet_core::predict::{Moment, Options, Prediction, predict};
use zarnet_formats::plan::{Loaded, edited};
use zarnet_formats::traffic::Growth;

use super::question::{CapacityQuestion, GROWTHS};
use super::{
    CapacityAnalysis, Outcome, Remedy, Resource, SampleSpread, Simulated, Trial, fill, of_hour,
    remedies, resources,
};
use crate::AnalysisError;
use crate::play::{Silent, play};

fn mean(samples: &[f64]) -> Option<f64> {
    (!samples.is_empty()).then(|| samples.iter().sum::<f64>() / samples.len() as f64)
}

/// Flows of some rules that a device refused for want of something, and the hosts that sent them.
fn refused_by(prediction: &Prediction, device: DeviceId, rules: &[RuleId]) -> (u64, u64) {
    let all = prediction.recording.iter().flat_map(|r| &r.shortages);
    let own = all.filter(|s| s.device == device && s.rule.is_none_or(|r| rules.contains(&r)));
    let mut hosts: Vec<_> = own.clone().filter_map(|s| s.host).collect();
    hosts.sort_unstable();
    hosts.dedup();
    (own.count() as u64, hosts.len() as u64)
}

impl CapacityQuestion<'_> {
    /// Plays the load profiles anew, with other draws and larger: how much is refused really.
    pub(super) fn simulate(&self, analysis: &mut CapacityAnalysis) -> Result<(), AnalysisError> {
        let traffic = self.opening.open(self.loaded, Growth::default())?;
        let focus: Vec<usize> = analysis.focus();
        if !traffic.has_loads() || self.runs < 2 || focus.is_empty() {
            return Ok(());
        }
        let hours: Vec<(DeviceId, Supply, (Instant, Instant))> = focus
            .iter()
            .filter_map(|i| {
                let d = &analysis.outlooks[*i].as_ref()?.demand;
                Some((
                    analysis.resources[*i].device,
                    analysis.resources[*i].supply,
                    (d.from, d.until),
                ))
            })
            .collect();
        let work: Vec<Growth> = GROWTHS
            .iter()
            .flat_map(|g| (1..=self.runs).map(move |draw| Growth { times: *g, draw }))
            .collect();
        let samples =
            self.in_parallel(&work, "simulations", |growth| self.sample(*growth, &hours))?;
        for (n, i) in focus.iter().enumerate() {
            let Some(outlook) = &mut analysis.outlooks[*i] else { continue };
            for growth in GROWTHS {
                let own =
                    work.iter().zip(&samples).filter(|(g, _)| g.times == growth).map(|(_, s)| s[n]);
                let (refused, first): (Vec<f64>, Vec<Option<f64>>) = own.unzip();
                let Some(refused) = SampleSpread::of(&refused) else { continue };
                let ran_out: Vec<f64> = first.iter().flatten().copied().collect();
                outlook.simulated.push(Simulated {
                    growth,
                    refused,
                    ran_out: ran_out.len(),
                    first: mean(&ran_out),
                });
            }
        }
        Ok(())
    }

    /// Of each supply, the share that is refused in its hour, and the first refusal of all.
    fn sample(
        &self,
        growth: Growth,
        hours: &[(DeviceId, Supply, (Instant, Instant))],
    ) -> Result<Vec<(f64, Option<f64>)>, AnalysisError> {
        let prediction = self.played(self.loaded, growth)?;
        let all = resources(&prediction, true);
        let one = |(device, supply, hour): &(DeviceId, Supply, (Instant, Instant))| {
            let found = all.iter().find(|r| r.device == *device && r.supply == *supply);
            found.map_or((0.0, None), |r| {
                (of_hour(r, *hour).refused, r.series.first_refusal.map(Instant::seconds))
            })
        };
        Ok(hours.iter().map(one).collect())
    }

    /// All of the traffic on a plan, without a word.
    pub(super) fn played(
        &self,
        loaded: &Loaded,
        growth: Growth,
    ) -> Result<Prediction, AnalysisError> {
        let traffic = self.opening.open(loaded, growth)?;
        let shared = Arc::new(loaded.plan.clone());
        let (moment, seed) = (Moment::End, self.opening.seed);
        let options = Options { moment, seed, sessions: false, record: true, ..Options::default() };
        let played = play(&traffic, options, &Silent, |items, options| {
            predict(shared.clone(), items, traffic.events(), options)
        })?;
        Ok(played.0)
    }

    /// Tries remedies for every supply that refused somebody, or that was asked for.
    pub(super) fn try_remedies(
        &self,
        analysis: &mut CapacityAnalysis,
    ) -> Result<(), AnalysisError> {
        let mut tasks: Vec<(usize, Remedy)> = Vec::new();
        for i in analysis.focus() {
            let resource = &analysis.resources[i];
            if resource.refused_flows == 0 && self.supply.is_none() {
                continue;
            }
            let needed = analysis.outlooks[i].as_ref().and_then(|o| o.needed);
            let made = remedies(&self.loaded.plan, resource, needed);
            // an address and the target that it belongs to would be remedied the same
            let ports = |s: Supply| {
                matches!(s, Supply::Ports(..) | Supply::PortsOfAll(..) | Supply::Blocks(..))
            };
            let alike = |n: usize| ports(analysis.resources[n].supply) && ports(resource.supply);
            let known = |m: &Remedy| {
                tasks.iter().any(|(n, t)| t.edits == m.edits && t.kind == m.kind && alike(*n))
            };
            let new: Vec<_> = made.into_iter().filter(|m| !known(m)).collect();
            tasks.extend(new.into_iter().map(|m| (i, m)));
        }
        let resources = &analysis.resources;
        let trials = self.in_parallel(&tasks, "remedies", |(i, remedy)| {
            self.trial(*i, &resources[*i], remedy)
        })?;
        analysis.trials = trials;
        Ok(())
    }

    fn trial(
        &self,
        of: usize,
        resource: &Resource,
        remedy: &Remedy,
    ) -> Result<Trial, AnalysisError> {
        let (device, supply) = (resource.device, resource.supply);
        let (kind, title) = (remedy.kind, remedy.title.clone());
        let mut trial = Trial {
            of,
            kind,
            title,
            obstacle: remedy.obstacle.clone(),
            changed: None,
            outcome: None,
        };
        if remedy.edits.is_empty() {
            return Ok(trial);
        }
        let edits: &[Vec<Edit>] = std::slice::from_ref(&remedy.edits);
        let Ok(changed) = edited(self.loaded, edits) else {
            trial.obstacle = Some("the plan as it is written cannot be changed so".to_owned());
            return Ok(trial);
        };
        let prediction = self.played(&changed, Growth::default())?;
        let after = resources(&prediction, true);
        let same =
            after.iter().find(|r| r.device == device && r.supply == supply && r.series.begun > 0);
        // where addresses are others now, the fullest of their kind counts
        let alike = |r: &&Resource| {
            r.device == device
                && r.series.usable.is_some()
                && match (r.supply, supply) {
                    (Supply::Ports(_, p, _), Supply::Ports(_, q, _) | Supply::Blocks(_, q, _)) => {
                        p == q
                    }
                    (Supply::Ports(address, ..), Supply::Pool(pool)) => {
                        let pools = &changed.plan.devices[device.index()].pools;
                        pools.get(pool.index()).is_some_and(|p| p.listed().contains(address))
                    }
                    _ => false,
                }
        };
        let fullest = after.iter().filter(alike).max_by(|a, b| fill(a).total_cmp(&fill(b)));
        let now = same.or(fullest).map(|r| (r.series.peak.count, r.series.usable));
        let (refused, hosts) = refused_by(&prediction, device, &rules_of(resource));
        trial.outcome = Some(Outcome { refused, hosts, peak: now });
        trial.changed = Some(Box::new(changed));
        Ok(trial)
    }

    /// Does a thing for each of a list, on every core.
    fn in_parallel<T: Sync, R: Send>(
        &self,
        list: &[T],
        what: &'static str,
        work: impl Fn(&T) -> Result<R, AnalysisError> + Sync,
    ) -> Result<Vec<R>, AnalysisError> {
        let threads =
            std::thread::available_parallelism().map_or(1, usize::from).min(list.len().max(1));
        self.trials.begin(what, list.len());
        let next = AtomicUsize::new(0);
        let outcomes = std::thread::scope(|scope| {
            let worker = || {
                let mut done = Vec::new();
                loop {
                    let i = next.fetch_add(1, Ordering::Relaxed);
                    let Some(item) = list.get(i) else { return done };
                    let outcome = work(item);
                    let failed = outcome.is_err();
                    done.push((i, outcome));
                    self.trials.step();
                    if failed {
                        next.store(list.len(), Ordering::Relaxed);
                    }
                }
            };
            let handles: Vec<_> = (0..threads).map(|_| scope.spawn(worker)).collect();
            handles.into_iter().flat_map(|h| h.join().unwrap_or_default()).collect::<Vec<_>>()
        });
        self.trials.end();
        let mut outcomes = outcomes;
        outcomes.sort_by_key(|o| o.0);
        outcomes.into_iter().map(|(_, outcome)| outcome).collect()
    }
}

/// The rules that draw on a resource, or tried to.
fn rules_of(resource: &Resource) -> Vec<RuleId> {
    let held = resource.holders.iter().flat_map(|h| h.rules.iter().copied());
    held.chain(resource.refused.iter().filter_map(|r| r.rule)).collect()
}
