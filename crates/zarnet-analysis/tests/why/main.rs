//! The search for what is wrong, on plans with a fault that is known: those of `demo/faults/`, and
//! healthy plans of all kinds that a seeded mutator breaks.
//! `MUTATIONS=2000 cargo test --release -p zarnet-formats --test why -- --nocapture` reports on as
//! many as wanted.

mod estate;
mod mutations;

use std::collections::BTreeMap;
use std::path::Path;
use std::sync::Arc;

use estate::{Dice, Estate};
use mutations::MUTATIONS;
use zarnet_analysis::diagnose::{Diagnosis, RepairTrial, Weight, diagnose, satisfied};
use zarnet_core::plan::Edit;
use zarnet_core::predict::{Rehearsal, Scene};
use zarnet_core::traffic::Flow;
use zarnet_formats::plan::{Loaded, edited, from_text};

/// Changes the text of a plan, and follows the flow on it at rest.
struct TextTrial<'a> {
    loaded: &'a Loaded,
    flow: Flow,
    /// Which expectations hold without a repair.
    held: Vec<bool>,
}

impl RepairTrial for TextTrial<'_> {
    fn attempt(&mut self, changes: &[Vec<Edit>]) -> Option<Scene> {
        let repaired = edited(self.loaded, changes).ok()?;
        Some(Scene::at_rest(Arc::new(repaired.plan), 0, &self.flow))
    }

    fn weigh(&mut self, changes: &[Vec<Edit>]) -> Weight {
        let Ok(repaired) = edited(self.loaded, changes) else { return Weight::default() };
        Weight::of(self.loaded, &self.held, &repaired, 0)
    }
}

fn searched(loaded: &Loaded, flow: Flow) -> Diagnosis {
    let scene = Scene::at_rest(Arc::new(loaded.plan.clone()), 0, &flow);
    diagnose(&scene, &mut TextTrial { loaded, flow, held: held(loaded) })
}

fn names(diagnosis: &Diagnosis) -> String {
    diagnosis.causes.iter().map(|c| c.cause.name()).collect::<Vec<_>>().join(" + ")
}

/// Which expectations of a plan hold.
fn held(loaded: &Loaded) -> Vec<bool> {
    let mut rehearsal = Rehearsal::new(Arc::new(loaded.plan.clone()), 0);
    loaded.plan.expectations.iter().map(|e| rehearsal.expect(e).failed.is_empty()).collect()
}

/// Plans with a fault that needs no traffic before: the cause is the one in the head, and a repair
/// works where there is one.
#[test]
fn every_fault_is_named_and_repaired() {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/faults");
    let mut seen = 0;
    for file in std::fs::read_dir(folder).unwrap() {
        let path = file.unwrap().path();
        let text = std::fs::read_to_string(&path).unwrap();
        let head = |key: &str| text.lines().find_map(|l| l.strip_prefix(key)).map(str::to_owned);
        let Some(wanted) = head("# Cause: ").filter(|_| head("# With: ").is_none()) else {
            continue;
        };
        seen += 1;
        let loaded = from_text(&path, text.clone()).unwrap_or_else(|e| panic!("{path:?}: {e:?}"));
        let diagnosis = searched(&loaded, loaded.plan.expectations[0].flow);
        assert_eq!(names(&diagnosis), wanted, "{path:?}");
        let hopeless = ["starts-at-device", "outside-fault"].contains(&wanted.as_str());
        assert_eq!(diagnosis.repairs.is_empty(), hopeless, "{path:?}");
        for repair in &diagnosis.repairs {
            assert!(satisfied(&repair.scene.followed), "{path:?}: {}", repair.title);
            // what is written can be read again, and does the same
            let again = edited(&loaded, &repair.changes).unwrap();
            let comments =
                |text: &str| text.lines().filter(|l| l.trim_start().starts_with('#')).count();
            assert_eq!(
                comments(again.sources.0[0].text()),
                comments(&text),
                "{path:?}: a comment was lost"
            );
        }
    }
    assert!(seen > 30);
}

/// `SEED=N` draws other estates.
fn seed(usual: u64) -> u64 {
    std::env::var("SEED").ok().and_then(|n| n.parse().ok()).unwrap_or(usual)
}

#[test]
fn planted_faults_are_found() {
    let count: u64 = std::env::var("MUTATIONS").ok().and_then(|n| n.parse().ok()).unwrap_or(150);
    let (mut named, mut repaired, mut total) = (0, 0, 0);
    let mut by_cause: BTreeMap<&str, (u64, u64, u64)> = BTreeMap::new();
    let mut dice = Dice(seed(1846));
    while total < count {
        let healthy = Estate::healthy(&mut dice);
        let (cause, mutate) = MUTATIONS[dice.roll(MUTATIONS.len() as u64) as usize];
        let mut broken = healthy.clone();
        let Some(flow) = mutate(&mut broken, &mut dice) else { continue };
        let load = |estate: &Estate| {
            let wanted = healthy.wanted(flow);
            let text = format!("{}\n[[expect]]\nflow = \"{flow}\"\n{wanted}\n", estate.text());
            from_text(Path::new("estate.toml"), text)
        };
        let before = load(&healthy).unwrap_or_else(|e| panic!("{e:?}\n{}", healthy.text()));
        // what is no plan any more needs no search
        let Ok(loaded) = load(&broken) else { continue };
        // nothing but what is planted is wrong; a hairpin that is off is no fault until somebody
        // needs it
        let well = held(&before);
        assert!(well[..well.len() - 1].iter().all(|h| *h), "{}", healthy.text());
        let subject = loaded.plan.expectations.last().unwrap().flow;
        let diagnosis = searched(&loaded, subject);
        if diagnosis.works {
            continue; // it does no harm in this estate
        }
        total += 1;
        let entry = by_cause.entry(cause).or_default();
        entry.0 += 1;
        let found = names(&diagnosis);
        if found == cause {
            named += 1;
            entry.1 += 1;
        }
        let was = held(&loaded);
        let harmless = diagnosis.repairs.first().is_some_and(|r| {
            let after = held(&edited(&loaded, &r.changes).unwrap());
            after.last() == Some(&true) && was.iter().zip(&after).all(|(a, b)| b >= a)
        });
        if harmless {
            repaired += 1;
            entry.2 += 1;
        }
        if (found != cause || !harmless) && std::env::var("SHOW").is_ok() {
            let titles: Vec<&str> = diagnosis.repairs.iter().map(|r| r.title.as_str()).collect();
            println!("planted {cause}, found {found}; {titles:?}; {flow}, chain {}", broken.chain);
        }
    }
    println!("cause                        planted   named  repaired");
    for (cause, (planted, named, repaired)) in &by_cause {
        println!("{cause:28} {planted:7} {named:7} {repaired:9}");
    }
    let percent = |n: u64| n as f64 * 100.0 / total as f64;
    println!(
        "all                          {total:7} {:6.1}% {:8.1}%",
        percent(named),
        percent(repaired)
    );
    assert!(percent(named) >= 95.0 && percent(repaired) >= 90.0);
}

/// Two faults at once that one flow meets: both have to go before it works.
#[test]
fn faults_behind_each_other_are_found_too() {
    let count: u64 =
        std::env::var("MUTATIONS").ok().and_then(|n| n.parse().ok()).unwrap_or(150) / 3;
    let (mut repaired, mut both, mut total) = (0, 0, 0);
    let mut dice = Dice(seed(1912));
    while total < count {
        let healthy = Estate::healthy(&mut dice);
        let mut broken = healthy.clone();
        let picks = [0, 0].map(|_| MUTATIONS[dice.roll(MUTATIONS.len() as u64) as usize]);
        let flows = picks.map(|(_, mutate)| mutate(&mut broken, &mut dice));
        // each of them alone stops the flow
        let stops = |(_, mutate): mutations::Mutation, dice: &mut Dice| {
            let mut one = healthy.clone();
            let flow = mutate(&mut one, dice)?;
            let wanted = healthy.wanted(flow);
            let text = format!("{}\n[[expect]]\nflow = \"{flow}\"\n{wanted}\n", one.text());
            let loaded = from_text(Path::new("estate.toml"), text).ok()?;
            (held(&loaded).last() == Some(&false)).then_some(())
        };
        if picks.iter().any(|p| stops(*p, &mut dice.clone()).is_none()) {
            continue;
        }
        let (Some(flow), true, true) = (flows[0], flows[0] == flows[1], picks[0].0 != picks[1].0)
        else {
            continue;
        };
        let wanted = healthy.wanted(flow);
        let text = format!("{}\n[[expect]]\nflow = \"{flow}\"\n{wanted}\n", broken.text());
        // two faults may contradict each other
        let Ok(loaded) = from_text(Path::new("estate.toml"), text) else { continue };
        let diagnosis = searched(&loaded, loaded.plan.expectations.last().unwrap().flow);
        if diagnosis.works {
            continue;
        }
        total += 1;
        repaired += u64::from(!diagnosis.repairs.is_empty());
        let found: Vec<&str> = diagnosis.causes.iter().map(|c| c.cause.name()).collect();
        both += u64::from(picks.iter().all(|p| found.contains(&p.0)));
        if !picks.iter().all(|p| found.contains(&p.0)) && std::env::var("SHOW").is_ok() {
            println!(
                "planted {} and {}, found {found:?}; {flow}, chain {}",
                picks[0].0, picks[1].0, broken.chain
            );
        }
    }
    println!("two at once: {total} planted, {repaired} repaired, both named in {both}");
    assert!(repaired * 100 >= total * 85);
}
