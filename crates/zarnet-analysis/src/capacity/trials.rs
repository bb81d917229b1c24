//! Traffic played anew: on larger loads, and on plans with a remedy.

use std::convert::Infallible;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use zarnet_core::device::Supply;
use zarnet_core::net::Instant;
use zarnet_core::plan::{DeviceId, Edit};
use zarnet_core::predict::{Moment, Options, Prediction, predict};
use zarnet_core::traffic::{Flow, OneByOne};
use zarnet_formats::plan::{Loaded, edited};
use zarnet_formats::traffic::Growth;

use super::outcome::{Untranslated, outcome};
use super::outlook::GROWTHS;
use super::question::{CapacityQuestion, recording};
use super::resample::Hour;
use super::{
    CapacityAnalysis, Kind, Outcome, Remedy, Resource, SampleSpread, Simulated, Trial, Verdict,
    fill, of_hour, remedies, resources,
};
use crate::AnalysisError;
use crate::play::{Silent, play};

fn mean(samples: &[f64]) -> Option<f64> {
    (!samples.is_empty()).then(|| samples.iter().sum::<f64>() / samples.len() as f64)
}

/// What is simulated of each supply: its hour, and how it is drawn anew.
struct Sampled<'a> {
    device: DeviceId,
    supply: Supply,
    window: (Instant, Instant),
    /// Of a list, the hour that is drawn from.
    hour: Option<Hour<'a>>,
}

/// What a simulation shows of a supply.
#[derive(Clone, Copy)]
struct Shown {
    share: f64,
    requests: u64,
    first: Option<f64>,
}

/// So many flows are played for simulations of lists at most, unless runs are asked for.
const MOST_SIMULATED: f64 = 1.5e6;
/// Simulations of each load, if nothing else is asked for.
const RUNS: u64 = 5;

impl CapacityQuestion<'_> {
    /// Plays the load profiles anew with other draws and larger, or the busiest hour of a list in
    /// other orders and several times: how much is refused really.
    pub(super) fn simulate(
        &self,
        analysis: &mut CapacityAnalysis,
        flows: &[Flow],
    ) -> Result<(), AnalysisError> {
        let traffic = self.opening.on_one_thread().open(self.loaded, Growth::default())?;
        let focus: Vec<usize> = analysis.focus();
        let has_loads = traffic.has_loads();
        let sampled: Vec<(usize, Sampled<'_>)> = focus
            .iter()
            .filter_map(|i| {
                let outlook = analysis.outlooks[*i].as_ref()?;
                let d = &outlook.demand;
                // an hour in which use has not settled says nothing of one in which it has
                if outlook.verdict == Verdict::Unknown && !has_loads {
                    return None;
                }
                let (device, supply) =
                    (analysis.resources[*i].device, analysis.resources[*i].supply);
                let window = (d.from, d.until);
                let holds = (d.holds.clamp(0.0, 1e9) * 1e9) as u64;
                let hour = match has_loads {
                    true => None,
                    false => Some(Hour::of(&self.loaded.plan, flows, window, holds)?),
                };
                Some((*i, Sampled { device, supply, window, hour }))
            })
            .collect();
        let runs = self.runs.unwrap_or_else(|| affordable(&sampled));
        // of two runs the interval says nothing
        if runs < 2 || sampled.is_empty() || self.runs.is_none() && runs < 3 {
            return Ok(());
        }
        let work: Vec<Growth> = GROWTHS
            .iter()
            .flat_map(|g| (1..=runs).map(move |draw| Growth { times: *g, draw }))
            .collect();
        let own: Vec<&Sampled<'_>> = sampled.iter().map(|(_, s)| s).collect();
        let samples =
            self.in_parallel(&work, "simulations", |growth| self.sample(*growth, &own))?;
        for (n, (i, _)) in sampled.iter().enumerate() {
            let Some(outlook) = &mut analysis.outlooks[*i] else { continue };
            for growth in GROWTHS {
                let of = work.iter().zip(&samples).filter(|(g, _)| g.times == growth);
                let shown: Vec<Shown> = of.map(|(_, s)| s[n]).collect();
                let shares: Vec<f64> = shown.iter().map(|s| s.share).collect();
                let Some(refused) = SampleSpread::of(&shares) else { continue };
                let first: Vec<f64> = shown.iter().filter_map(|s| s.first).collect();
                let requests = shown.iter().map(|s| s.requests).sum();
                let (ran_out, first) = (first.len(), mean(&first));
                outlook.simulated.push(Simulated { growth, refused, requests, ran_out, first });
            }
        }
        Ok(())
    }

    /// Of each supply, the share that is refused in its hour, and the first refusal of all.
    fn sample(
        &self,
        growth: Growth,
        sampled: &[&Sampled<'_>],
    ) -> Result<Vec<Shown>, AnalysisError> {
        let whole = match sampled.iter().any(|s| s.hour.is_none()) {
            true => Some(resources(&mut self.played(self.loaded, growth)?, true)),
            false => None,
        };
        let mut list = Vec::with_capacity(sampled.len());
        for s in sampled {
            let (all, window) = match (&s.hour, &whole) {
                (Some(hour), _) => (self.drawn(hour, growth), hour.window()),
                (None, Some(all)) => (all.clone(), s.window),
                (None, None) => (Vec::new(), s.window),
            };
            let found = all.iter().find(|r| r.device == s.device && r.supply == s.supply);
            list.push(found.map_or(Shown { share: 0.0, requests: 0, first: None }, |r| {
                let measured = of_hour(r, window).measured;
                let first = r.series.first_refusal.map(Instant::seconds);
                Shown { share: measured.share, requests: measured.requests, first }
            }));
        }
        Ok(list)
    }

    /// An hour of a list, drawn anew and played on a device at rest.
    fn drawn(&self, hour: &Hour<'_>, growth: Growth) -> Vec<Resource> {
        let seed =
            self.opening.seed ^ growth.draw.wrapping_mul(0x9e37_79b9) ^ growth.times.to_bits();
        let items = hour.draw(growth.times, seed).into_iter().map(Ok::<_, Infallible>);
        let sources = Some(hour.senders().collect());
        let options = Options { sources, ..recording(Moment::End, self.opening.seed) };
        let plan = Arc::new(self.loaded.plan.clone());
        // drawn in order, and with its senders known: nothing can stop it
        let played = predict(plan, OneByOne(items), Vec::new(), options);
        played.map(|mut p| resources(&mut p, true)).unwrap_or_default()
    }

    /// All of the traffic on a plan, without a word.
    pub(super) fn played(
        &self,
        loaded: &Loaded,
        growth: Growth,
    ) -> Result<Prediction, AnalysisError> {
        let traffic = self.opening.on_one_thread().open(loaded, growth)?;
        let shared = Arc::new(loaded.plan.clone());
        let options = recording(Moment::End, self.opening.seed);
        let played = play(&traffic, options, &Silent, |items, options| {
            predict(shared.clone(), items, traffic.events(), options)
        })?;
        Ok(played.0)
    }

    /// Tries remedies for every supply that refused somebody, or that was asked for; and where none
    /// serves everybody, the best of them two at a time.
    pub(super) fn try_remedies(
        &self,
        analysis: &mut CapacityAnalysis,
        before: &Untranslated,
    ) -> Result<(), AnalysisError> {
        let mut tasks: Vec<Task> = Vec::new();
        for i in analysis.focus() {
            let resource = &analysis.resources[i];
            if resource.refused_flows == 0 && self.supply.is_none() {
                continue;
            }
            let needed = analysis.outlooks[i].as_ref().and_then(|o| o.needed);
            let made = remedies(&self.loaded.plan, resource, needed);
            // an address and the target that it belongs to would be remedied the same
            let same = |t: &Task, m: &Remedy| {
                t.edits.first() == Some(&m.edits) && t.name == m.name && !m.edits.is_empty()
            };
            let known = |m: &Remedy| tasks.iter().find(|t| same(t, m)).map(|t| t.of);
            let (old, new): (Vec<Remedy>, Vec<Remedy>) =
                made.into_iter().partition(|m| known(m).is_some());
            analysis.alike.extend(old.first().and_then(|m| Some((i, known(m)?))));
            tasks.extend(new.into_iter().map(|m| Task::of(i, m)));
        }
        let trials = |analysis: &CapacityAnalysis, tasks: &[Task]| {
            let resources = &analysis.resources;
            self.in_parallel(tasks, "remedies", |t| self.trial(&resources[t.of], t, before))
        };
        analysis.trials = trials(analysis, &tasks)?;
        let pairs = pairs(analysis, &tasks);
        if !pairs.is_empty() {
            let more = trials(analysis, &pairs)?;
            analysis.trials.extend(more);
        }
        Ok(())
    }

    fn trial(
        &self,
        resource: &Resource,
        task: &Task,
        before: &Untranslated,
    ) -> Result<Trial, AnalysisError> {
        let mut trial = Trial {
            of: task.of,
            kinds: task.kinds.clone(),
            name: task.name.clone(),
            title: task.title.clone(),
            addresses: task.addresses,
            obstacle: task.obstacle.clone(),
            changed: None,
            outcome: None,
        };
        if task.edits.iter().all(Vec::is_empty) {
            return Ok(trial);
        }
        let Ok(changed) = edited(self.loaded, &task.edits) else {
            trial.obstacle = Some("the plan as it is written cannot be changed so".to_owned());
            return Ok(trial);
        };
        let mut prediction = self.played(&changed, Growth::default())?;
        let peak = peak_now(resource, &resources(&mut prediction, true), &changed);
        trial.outcome = Some(Outcome { peak, ..outcome(&prediction, before) });
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
        let threads = self.opening.threads.clamp(1, list.len().max(1));
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

/// Runs that do not play more flows than one waits for.
fn affordable(sampled: &[(usize, Sampled<'_>)]) -> u64 {
    let flows: f64 = sampled
        .iter()
        .filter_map(|(_, s)| s.hour.as_ref())
        .map(|hour| GROWTHS.iter().map(|g| hour.flows(*g)).sum::<f64>())
        .sum();
    if flows <= 0.0 { RUNS } else { RUNS.min((MOST_SIMULATED / flows) as u64) }
}

/// A change that is to be tried.
struct Task {
    of: usize,
    kinds: Vec<Kind>,
    name: String,
    title: String,
    addresses: u64,
    edits: Vec<Vec<Edit>>,
    obstacle: Option<String>,
}

impl Task {
    fn of(of: usize, remedy: Remedy) -> Self {
        let Remedy { kind, name, addresses, title, edits, obstacle } = remedy;
        Self { of, kinds: vec![kind], name, title, addresses, edits: vec![edits], obstacle }
    }
}

/// Of each supply that no remedy alone serves everybody of, the best ones two at a time.
fn pairs(analysis: &CapacityAnalysis, tasks: &[Task]) -> Vec<Task> {
    const BEST: usize = 3;
    let mut list = Vec::new();
    for of in analysis.focus() {
        let untranslated = |n: usize| analysis.trials[n].outcome.as_ref().map(|o| o.untranslated);
        let mut own: Vec<usize> = (0..tasks.len())
            .filter(|n| tasks[*n].of == of)
            .filter(|n| untranslated(*n).is_some_and(|u| u < analysis.as_it_is.untranslated))
            .collect();
        own.sort_by_key(|n| untranslated(*n));
        let served =
            |n: &usize| analysis.trials[*n].outcome.as_ref().is_some_and(|o| o.refused == 0);
        if own.iter().any(served) {
            continue;
        }
        own.truncate(BEST);
        for (i, a) in own.iter().enumerate() {
            for b in &own[i + 1..] {
                let (a, b) = (&tasks[*a], &tasks[*b]);
                // two sizes of one thing are no two remedies
                if a.kinds == b.kinds {
                    continue;
                }
                list.push(Task {
                    of,
                    kinds: [a.kinds.clone(), b.kinds.clone()].concat(),
                    name: format!("{}+{}", a.name, b.name),
                    title: format!("{}; {}", a.title, b.title),
                    addresses: a.addresses + b.addresses,
                    edits: [a.edits.clone(), b.edits.clone()].concat(),
                    obstacle: None,
                });
            }
        }
    }
    list
}

/// The most in use of a supply under a remedy, and of how much. Where addresses are others then, the
/// fullest of its kind counts.
fn peak_now(
    resource: &Resource,
    after: &[Resource],
    changed: &Loaded,
) -> Option<(u64, Option<u64>)> {
    let (device, supply) = (resource.device, resource.supply);
    let same =
        after.iter().find(|r| r.device == device && r.supply == supply && r.series.begun > 0);
    let pools = &changed.plan.devices[device.index()].pools;
    let alike = |r: &&Resource| {
        r.device == device
            && r.series.usable.is_some()
            && match (r.supply, supply) {
                (Supply::Ports(_, p, _), Supply::Ports(_, q, _))
                | (
                    Supply::Blocks(_, p, _),
                    Supply::Blocks(_, q, _) | Supply::BlocksOfAll(_, q, _),
                ) => p == q,
                (Supply::Ports(address, ..), Supply::Pool(pool)) => {
                    pools.get(pool.index()).is_some_and(|p| p.listed().contains(address))
                }
                _ => false,
            }
    };
    let fullest = after.iter().filter(alike).max_by(|a, b| fill(a).total_cmp(&fill(b)));
    same.or(fullest).map(|r| (r.series.peak.count, r.series.usable))
}
