//! What is counted over many devices, of which a flow changes one.

use std::convert::Infallible;
use std::fmt::Write as _;
use std::sync::Arc;

use proptest::prop_assert_eq;
use zarnet_core::net::Instant;
use zarnet_core::plan::Plan;
use zarnet_core::predict::{Moment, Options, Prediction, predict};
use zarnet_core::traffic::{Flow, Item, OneByOne};
use zarnet_testkit::edge::{cases, flow};
use zarnet_testkit::played;

/// Edges beside each other, each with hosts of its own; what they hold ends soon, at times that
/// differ.
fn edges(count: usize) -> Arc<Plan> {
    let mut text = String::from("[[segment]]\nname = \"internet\"\ninternet = true\n");
    for n in 0..count {
        let _ = write!(
            text,
            r#"
[[device]]
name = "edge-{n}"
timers = {{ udp-timeout = {timeout} }}
  [[device.interface]]
  name = "in"
  realm = "internal"
  address = "10.0.{n}.1/24"
  [[device.interface]]
  name = "out"
  realm = "external"
  segment = "internet"
  address = "192.0.2.{own}/30"
  [[device.route]]
  to = "0.0.0.0/0"
  via = "192.0.2.{hop}"
  [[device.rule]]
  name = "all"
  type = "overload"
  as = "out"
"#,
            timeout = 1 + n * 2,
            own = n * 4 + 2,
            hop = n * 4 + 1,
        );
    }
    played::plan(text)
}

fn run(plan: &Arc<Plan>, flows: &[Flow], moment: Moment) -> Prediction {
    let items = flows.iter().map(|flow| Ok::<_, Infallible>(Item::Flow(*flow)));
    let options = Options { moment, ..Options::default() };
    predict(plan.clone(), OneByOne(items), Vec::new(), options).unwrap()
}

/// The most mappings that all devices had at once, and when first: as told by a look at each
/// instant at which a flow begins.
#[test]
fn the_peak_is_the_most_that_is_there_at_any_flow() {
    let plan = edges(5);
    let steps = proptest::collection::vec((0u64..4, 0usize..5, 2u8..6, 0u64..3), 1..25);
    cases(file!(), 64, steps, |steps| {
        let mut at = 0;
        let mut flows: Vec<Flow> = Vec::new();
        for (i, (later, edge, host, lasts)) in (2000..).zip(steps) {
            at += later;
            let text = format!("udp 10.0.{edge}.{host}:{i} > 198.51.100.7:53 @{at}");
            flows.push(Flow { lasts: lasts * 1_000_000_000, ..flow(&text) });
        }
        let counted = |at: Instant| {
            // what begins later is not there yet
            let until = flows.partition_point(|flow| flow.start <= at);
            let seen = run(&plan, &flows[..until], Moment::At(at));
            (seen.tables.iter().map(|table| table.mappings.len() as u64).sum::<u64>(), at)
        };
        let most = flows.iter().map(|flow| counted(flow.start)).rev().max_by_key(|seen| seen.0);
        let peak = run(&plan, &flows, Moment::End);
        prop_assert_eq!(Some((peak.peak_mappings, peak.peak_at)), most);
        Ok(())
    });
}
