//! The search: suspects in order, each tried; where no single repair is enough, the one that gets
//! the flow furthest is kept and the search goes on from there.

use super::suspect::Suspect;
use super::suspects::suspects;
use super::weight::Weight;
use super::{Cause, NearMiss, near_misses};
use zarnet_core::Reason;
use zarnet_core::observe::Stage;
use zarnet_core::plan::{Edit, Plan, RuleId};
use zarnet_core::predict::{Followed, Scene, failures};

/// Somebody who can change the plan and follow the flow again.
pub trait RepairTrial {
    /// What becomes of the flow after some changes, each list of which speaks of the plan that the
    /// one before it leads to. `None`: the changes cannot be made, or do not make a plan.
    fn attempt(&mut self, changes: &[Vec<Edit>]) -> Option<Scene>;

    /// What changes that make the flow work do besides.
    fn weigh(&mut self, changes: &[Vec<Edit>]) -> Weight;
}

/// A repair that was tried.
#[derive(Debug, Clone)]
pub struct Repair {
    /// What the repair does, in a sentence.
    pub title: String,
    /// The changes of the plan, in the order in which they are made.
    pub changes: Vec<Vec<Edit>>,
    /// What becomes of the flow with it.
    pub scene: Scene,
}

/// The result of the search for what is wrong.
#[derive(Debug, Clone)]
pub struct Diagnosis {
    /// Whether the flow works.
    pub works: bool,
    /// What is wrong, the first to be met first; one if nothing is stacked.
    pub causes: Vec<Suspect>,
    /// Rules that nearly matched, the nearest first.
    pub near_misses: Vec<NearMiss>,
    /// Repairs that make the flow work, the narrowest first.
    pub repairs: Vec<Repair>,
    /// What to do where no change of the plan helps.
    pub advice: Vec<String>,
}

/// So many faults at most are looked for behind each other.
const MOST_STACKED: usize = 3;
/// So many repairs are proposed at most.
const MOST_REPAIRS: usize = 4;
/// So many that work are weighed at most.
const MOST_WEIGHED: usize = 12;
/// So many changes are tried at most, and of large plans, each of which is built anew, fewer: so
/// many rules are read for it.
const MOST_ATTEMPTS: usize = 500;
const MOST_RULES_READ: usize = 50_000;
/// So few are tried in any case.
const LEAST_ATTEMPTS: usize = 5;
/// So many of them at most are gone on from.
const MOST_BRANCHES: usize = 8;

/// Whether a flow does what is expected of it, or works where nothing is.
pub fn satisfied(followed: &Followed) -> bool {
    let own = followed.plan.expectations.iter().filter(|e| e.is_of(&followed.flow));
    let mut expected = own.peekable();
    match expected.peek() {
        Some(_) => expected.all(|e| failures(followed, e).is_empty()),
        None => !followed.negative && followed.loss.map(|l| l.reason) != Some(Reason::FromDevice),
    }
}

/// Looks for what is wrong with a flow.
pub fn diagnose(scene: &Scene, trial: &mut impl RepairTrial) -> Diagnosis {
    let works = satisfied(&scene.followed);
    let mut diagnosis = Diagnosis {
        works,
        causes: Vec::new(),
        near_misses: near_misses(scene),
        repairs: Vec::new(),
        advice: Vec::new(),
    };
    if works {
        return diagnosis;
    }
    let rules: usize = scene.followed.plan.devices.iter().map(|d| d.rules.len()).sum();
    let most = (MOST_RULES_READ / rules.max(1)).clamp(LEAST_ATTEMPTS, MOST_ATTEMPTS);
    let mut search = Search { trial, most, attempts: 0 };
    // the fewest faults that explain it; more, if that leaves more as it should be
    let mut found: Option<Found> = None;
    for depth in 1..=MOST_STACKED {
        let deeper = search.look(scene, &[], &[], depth);
        if let Some(deeper) = deeper
            && found.as_ref().is_none_or(|f| deeper.weight.harm() < f.weight.harm())
        {
            found = Some(deeper);
        }
        let is_enough = |f: &Found| f.weight.broken == 0 && (f.weight.left == 0 || depth > 1);
        if found.as_ref().is_some_and(is_enough) {
            break;
        }
    }
    let list = suspects(scene);
    if let Some(found) = found.filter(|f| !is_better_known(f, &list, scene)) {
        diagnosis.causes = told(found.causes, &scene.followed.plan);
        diagnosis.repairs = found.repairs;
        return diagnosis;
    }
    diagnosis.advice =
        list.iter().filter(|s| s.edits.is_empty()).map(|s| s.title.clone()).collect();
    let nobody = Suspect {
        cause: Cause::OutsideFault,
        besides: None,
        device: None,
        rule: None,
        rule_name: None,
        place: None,
        verdict: Cause::OutsideFault.sentence().to_owned(),
        title: "look outside of what the plan knows".to_owned(),
        edits: Vec::new(),
    };
    // what nobody can repair in the plan is likelier than what was tried and did not help
    let advised = list.iter().find(|s| s.edits.is_empty()).or(list.first()).cloned();
    diagnosis.causes.push(advised.unwrap_or(nobody));
    diagnosis
}

/// Whether the day tells what happened, so that a change of rules which would help is no answer:
/// the mapping that the packet is for was there, and nothing of the plan asks for another way in.
fn is_better_known(found: &Found, list: &[Suspect], scene: &Scene) -> bool {
    let expected = scene.followed.plan.expectations.iter().any(|e| e.is_of(&scene.followed.flow));
    let ended = |s: &Suspect| s.cause == Cause::MappingEnded;
    !expected && list.iter().any(ended) && !found.causes.first().is_some_and(ended)
}

/// Causes one by one, with the places that they have in the plan as it is: what is suspected after
/// a repair has the place that it has in the repaired plan.
fn told(causes: Vec<Suspect>, plan: &Plan) -> Vec<Suspect> {
    let mut all = Vec::new();
    for (n, mut suspect) in causes.into_iter().enumerate() {
        if n > 0 {
            let device = suspect.device.map(|d| &plan.devices[d.index()]);
            let rules = device.map(|d| d.rules.as_slice()).unwrap_or_default();
            let named = rules.iter().position(|r| Some(&r.name) == suspect.rule_name.as_ref());
            suspect.rule = named.map(|i| RuleId(i as u16));
            suspect.place = named.map(|i| rules[i].place).or(device.map(|d| d.place));
        }
        let besides = suspect.besides.map(|cause| Suspect { cause, ..suspect.clone() });
        all.extend([Some(suspect), besides].into_iter().flatten());
    }
    all
}

/// Faults that explain it, and repairs, the best first.
struct Found {
    causes: Vec<Suspect>,
    repairs: Vec<Repair>,
    /// That of the best.
    weight: Weight,
}

/// A change that makes the flow work.
struct Working {
    /// Position of the suspect.
    suspect: usize,
    repair: Repair,
    weight: Weight,
}

struct Search<'a, W> {
    trial: &'a mut W,
    most: usize,
    attempts: usize,
}

impl<W: RepairTrial> Search<'_, W> {
    /// Tries every suspect alone, or, for a depth above 1, those that get the flow further with
    /// what is suspected then. `base` are the changes that led to the scene, `titles` what they do.
    fn look(
        &mut self,
        scene: &Scene,
        base: &[Vec<Edit>],
        titles: &[String],
        depth: usize,
    ) -> Option<Found> {
        let list = suspects(scene);
        let mut working: Vec<Working> = Vec::new();
        let mut branches: Vec<(Branch, usize, Scene)> = Vec::new();
        for (i, suspect) in list.iter().enumerate().filter(|(_, s)| !s.edits.is_empty()) {
            if self.attempts == self.most || working.len() == MOST_WEIGHED {
                break;
            }
            self.attempts += 1;
            let changes = [base, std::slice::from_ref(&suspect.edits)].concat();
            let Some(tried) = self.trial.attempt(&changes) else { continue };
            if satisfied(&tried.followed) {
                if depth > 1 {
                    continue;
                }
                let title =
                    titles.iter().chain([&suspect.title]).cloned().collect::<Vec<_>>().join("; ");
                let weight = self.trial.weigh(&changes);
                let repair = Repair { title, changes, scene: tried };
                working.push(Working { suspect: i, repair, weight });
            } else if depth > 1
                && let Some(branch) = Branch::of(suspect, &tried.followed, &scene.followed)
            {
                branches.push((branch, i, tried));
            }
        }
        if !working.is_empty() {
            return Some(best(&list, working));
        }
        branches.sort_by_key(|b| (b.0, b.1));
        let mut found: Option<Found> = None;
        for (_, i, tried) in branches.into_iter().take(MOST_BRANCHES) {
            let changes = [base, std::slice::from_ref(&list[i].edits)].concat();
            let titles = [titles, std::slice::from_ref(&list[i].title)].concat();
            let Some(mut deeper) = self.look(&tried, &changes, &titles, depth - 1) else {
                continue;
            };
            deeper.causes.insert(0, list[i].clone());
            if found.as_ref().is_none_or(|f| deeper.weight.harm() < f.weight.harm()) {
                found = Some(deeper);
            }
        }
        found
    }
}

/// Why a change that does not make the flow work is gone on from, the most promising first.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Branch {
    /// The flow gets further.
    Further(std::cmp::Reverse<Progress>),
    /// Another fault, before or beside where the first one stopped it.
    Sideways,
    /// Nothing changes for the flow, and something was wrong for all that is known.
    Evident,
}

impl Branch {
    fn of(suspect: &Suspect, now: &Followed, before: &Followed) -> Option<Self> {
        if progress(now) > progress(before) {
            return Some(Self::Further(std::cmp::Reverse(progress(now))));
        }
        if differs(now, before) {
            return Some(Self::Sideways);
        }
        let evident = [
            Cause::HostMask,
            Cause::InterfaceMask,
            Cause::WrongSegment,
            Cause::RealmWithoutInterface,
            Cause::InterfaceWithoutRealm,
            Cause::RuleDisabled,
            Cause::EmptyGroup,
            Cause::NameContradictsValue,
        ];
        evident.contains(&suspect.cause).then_some(Self::Evident)
    }
}

/// The likeliest cause is the one whose repair breaks nothing and mends the most; its repairs come
/// first, those that open the least before others.
fn best(list: &[Suspect], mut working: Vec<Working>) -> Found {
    working.sort_by_key(|w| (w.weight.harm(), w.suspect));
    let cause = list[working[0].suspect].clone();
    let weight = working[0].weight;
    working.sort_by_key(|w| {
        let is_other = list[w.suspect].cause != cause.cause;
        (w.weight.broken, is_other, w.weight.opened, w.weight.touched, w.suspect)
    });
    working.truncate(MOST_REPAIRS);
    let repairs = working.into_iter().map(|w| w.repair).collect();
    Found { causes: vec![cause], repairs, weight }
}

/// Whether a flow fails otherwise than before.
fn differs(now: &Followed, before: &Followed) -> bool {
    let steps = |f: &Followed| -> Vec<_> {
        let hops = f.forth.hops.iter().chain(&f.back.hops);
        hops.map(|h| (h.device, h.steps.iter().map(|s| (s.stage, s.result)).collect::<Vec<_>>()))
            .collect()
    };
    now.loss.map(|l| (l.reason, l.device)) != before.loss.map(|l| (l.reason, l.device))
        || steps(now) != steps(before)
}

/// How far a flow gets: whether it arrives, over how many devices, to which part of the last one's
/// work.
type Progress = (bool, bool, usize, Option<Stage>, usize);

fn progress(followed: &Followed) -> Progress {
    let trace = if followed.delivered() { &followed.back } else { &followed.forth };
    let stage = trace.hops.last().and_then(|h| h.steps.last()).map(|s| s.stage);
    let handed = trace
        .hops
        .last()
        .map_or(trace.departure.len(), |h| h.handed.iter().filter(|h| h.to.is_some()).count());
    let rounds = followed.loss.is_some_and(|l| l.reason == Reason::Looped);
    let hops = if rounds { 0 } else { trace.hops.len() };
    (followed.delivered(), followed.answered(), hops, stage, handed)
}
