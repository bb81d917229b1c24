//! Any text as a plan: it loads or is refused; what loads can be audited and used, its flows
//! followed and searched.
#![no_main]

use std::path::Path;
use std::sync::Arc;

use libfuzzer_sys::fuzz_target;
use zarnet_analysis::audit::audit;
use zarnet_analysis::diagnose::{RepairTrial, Weight, diagnose, held, near_misses, steps};
use zarnet_core::plan::Edit;
use zarnet_core::predict::{Options, Scene, predict};
use zarnet_core::traffic::Flow;
use zarnet_formats::capture_of;
use zarnet_formats::plan::{Loaded, edited, from_text};
use zarnet_formats::traffic::{Attempt, Given, Reading, Traffic};

/// Tries a few repairs: the time is better spent on other plans.
struct TextTrial<'a> {
    loaded: &'a Loaded,
    flow: Flow,
    attempts: u32,
}

impl RepairTrial for TextTrial<'_> {
    fn attempt(&mut self, changes: &[Vec<Edit>]) -> Option<Scene> {
        self.attempts += 1;
        let repaired = edited(self.loaded, changes).ok().filter(|_| self.attempts < 12)?;
        Some(Scene::at_rest(Arc::new(repaired.plan), 0, &self.flow))
    }

    fn weigh(&mut self, changes: &[Vec<Edit>]) -> Weight {
        let Ok(repaired) = edited(self.loaded, changes) else { return Weight::default() };
        Weight::of(self.loaded, &held(self.loaded, 0), &repaired, 0)
    }
}

fuzz_target!(|data: &[u8]| {
    let Ok(text) = std::str::from_utf8(data) else { return };
    let Ok(loaded) = from_text(Path::new("fuzz.toml"), text.to_owned()) else { return };
    audit(&loaded.plan);
    let flows = ["10.0.0.5 -> 198.51.100.1:80/tcp", "198.51.100.1:9 -> 192.0.2.1:80/tcp"];
    let Ok(traffic) =
        Traffic::open(&flows.map(|f| Given::Flow(f.into())), &loaded, Reading::default())
    else {
        return;
    };
    let items = traffic.items(Attempt::Streaming);
    let shared = Arc::new(loaded.plan.clone());
    let _ = predict(shared.clone(), items, Vec::new(), Options::default());
    for expectation in loaded.plan.expectations.iter().take(2) {
        let scene = Scene::at_rest(shared.clone(), 0, &expectation.flow);
        capture_of(&scene.followed, |_| String::new());
        let diagnosis = diagnose(
            &scene,
            &mut TextTrial { loaded: &loaded, flow: expectation.flow, attempts: 0 },
        );
        steps(&scene.followed);
        near_misses(&scene);
        // what repairs a plan makes a plan
        assert!(diagnosis.repairs.iter().all(|r| edited(&loaded, &r.changes).is_ok()));
    }
});
