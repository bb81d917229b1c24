//! Traffic on a network that is looked at while it runs: the same as played at once.

use std::convert::Infallible;

use proptest::prelude::*;
use zarnet_core::event::{Action, Event};
use zarnet_core::net::Instant;
use zarnet_core::plan::{DeviceId, RuleId};
use zarnet_core::predict::{Live, Moment, Options, predict};
use zarnet_core::traffic::{Batches, Flow, Item};
use zarnet_testkit::edge;

/// Flows as a source of traffic.
#[derive(Clone)]
struct Flows(std::vec::IntoIter<Flow>);

impl Batches for Flows {
    type Error = Infallible;

    fn fill(&mut self, batch: &mut Vec<Item>, most: usize) -> Option<Infallible> {
        batch.extend(self.0.by_ref().take(most).map(Item::Flow));
        None
    }
}

const RULES: &str = "[[device.rule]]\nname = \"out\"\ntype = \"overload\"\nas = \"uplink\"\n";

fn flows(starts: &[(u32, u8)]) -> Flows {
    let mut starts = starts.to_vec();
    starts.sort_unstable();
    let flow = |(ms, host): &(u32, u8)| {
        let mut flow =
            edge::flow(&format!("tcp 10.0.0.{}:40000 > 198.51.100.80:443 @0", host % 20 + 20));
        flow.start = Instant(u64::from(*ms) * 1_000_000);
        flow.lasts = u64::from(*host) * 1_000_000_000;
        flow
    };
    Flows(starts.iter().map(flow).collect::<Vec<_>>().into_iter())
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn time_that_comes_bit_by_bit_is_the_same_time(
        starts in proptest::collection::vec((0u32..60_000, any::<u8>()), 0..150),
        stops in proptest::collection::vec(0u32..70_000, 1..6),
        disabled in proptest::option::of(0usize..5),
    ) {
        let plan = edge::plan(&edge::plan_text("{}", "{}", RULES));
        let mut stops = stops;
        stops.sort_unstable();
        let mut live = Live::new(plan.clone(), Vec::new(), Options::default());
        let mut items = flows(&starts);
        let mut events = Vec::new();
        for (i, stop) in stops.iter().enumerate() {
            let at = Instant(u64::from(*stop) * 1_000_000 + 500);
            live.play(&mut items, at).unwrap();
            if disabled == Some(i) {
                let event = Event { at, device: DeviceId(0), action: Action::Disable(RuleId(0)) };
                live.act(event.clone());
                events.push(event);
            }
            let options = Options { moment: Moment::At(at), ..Options::default() };
            let whole = predict(plan.clone(), flows(&starts), events.clone(), options).unwrap();
            prop_assert_eq!(&live.tables()[0].mappings, &whole.tables[0].mappings);
            prop_assert_eq!(&live.tables()[0].sessions, &whole.tables[0].sessions);
        }
    }
}
