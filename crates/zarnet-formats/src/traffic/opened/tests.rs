//! No source is read more than twice, whatever its order and however often its items are wanted.

use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::Ordering;

use zarnet_core::predict::{Halt, Moment, Options, Prediction, predict};

use super::{Attempt, Part, Reading, Traffic};
use crate::plan::{Loaded, from_text};
use crate::traffic::{Given, TrafficError};

const PLAN: &str = r#"
[[segment]]
name = "world"
internet = true

[[device]]
name = "edge"

  [[device.interface]]
  name = "inner"
  realm = "internal"
  address = "10.0.0.1/24"

  [[device.interface]]
  name = "outer"
  realm = "external"
  segment = "world"
  address = "203.0.113.2/30"

  [[device.route]]
  to = "0.0.0.0/0"
  via = "203.0.113.1"

  [[device.rule]]
  name = "hosts"
  type = "overload"
  from = "internal"
  into = "external"
  as = "outer"
"#;

const HEAD: &str = "start,protocol,source,source-port,destination,destination-port\n";

fn plan() -> Loaded {
    from_text(Path::new("edge.toml"), PLAN.to_owned())
        .unwrap_or_else(|_| panic!("the edge is a plan"))
}

/// Traffic of one list with these starts.
fn traffic(loaded: &Loaded, starts: &[&str]) -> Traffic {
    let line = |(n, start): (usize, &&str)| {
        format!("{start},udp,10.0.0.{},{},198.51.100.1,53\n", 10 + n % 9, 4000 + n)
    };
    let list = format!("{HEAD}{}", starts.iter().enumerate().map(line).collect::<String>());
    let given = [Given::Octets(list.into_bytes().into())];
    Traffic::open(&given, loaded, Reading::default()).unwrap_or_else(|errors| panic!("{errors:?}"))
}

/// How often each list was read.
fn times_read(traffic: &Traffic) -> Vec<usize> {
    let lists = traffic
        .parts
        .iter()
        .filter_map(|part| if let Part::List(input, _) = part { Some(input) } else { None });
    lists.map(|input| input.times_read.load(Ordering::Relaxed)).collect()
}

/// Plays traffic as commands do: as it comes, then sorted if it has to be.
fn play(loaded: &Loaded, traffic: &Traffic, moment: Moment) -> Prediction {
    let plan = Arc::new(loaded.plan.clone());
    let mut options = Options { moment, sources: traffic.known_sources(), ..Options::default() };
    let mut attempt = Attempt::Streaming;
    loop {
        let items = traffic.items(attempt);
        let outcome: Result<_, Halt<TrafficError>> =
            predict(plan.clone(), items, traffic.events(), options.clone());
        match outcome {
            Ok(prediction) => return prediction,
            Err(Halt::SourcesNeeded) => options.sources = Some(traffic.sources()),
            Err(Halt::OutOfOrder { .. } | Halt::Traffic(_)) if attempt == Attempt::Streaming => {
                traffic.learn(traffic.items(Attempt::Streaming));
                attempt = Attempt::Sorted;
            }
            Err(other) => panic!("{other:?}"),
        }
    }
}

const SHUFFLED: [&str; 5] = ["5", "3", "9", "1", "4"];
const DAY: [&str; 3] = ["2026-08-01T06:00:02Z", "2026-08-01T06:00:01Z", "2026-08-01T06:00:09Z"];

#[test]
fn what_is_in_order_is_read_once_for_each_run() {
    let loaded = plan();
    let traffic = traffic(&loaded, &["1", "2", "3"]);
    assert_eq!(play(&loaded, &traffic, Moment::End).tally.total(), 3);
    assert_eq!(times_read(&traffic), [1]);
    play(&loaded, &traffic, Moment::End);
    assert_eq!(times_read(&traffic), [2]);
}

#[test]
fn a_shuffled_list_is_surveyed_kept_and_played_as_often_as_wanted() {
    let loaded = plan();
    let traffic = traffic(&loaded, &SHUFFLED);
    let mut items = traffic.items(Attempt::Streaming);
    assert!(items.next().is_some_and(|item| item.is_ok()));
    traffic.learn(items);
    assert_eq!(times_read(&traffic), [1]);
    for _ in 0..4 {
        // known not to be in order: sorted though it is asked for as it comes
        let starts: Vec<u64> =
            traffic.items(Attempt::Streaming).map(|i| i.unwrap().at().0 / 1_000_000_000).collect();
        assert_eq!(starts, [1, 3, 4, 5, 9]);
        assert_eq!(play(&loaded, &traffic, Moment::End).tally.total(), 5);
    }
    assert_eq!((traffic.sources().len(), traffic.errors().1), (5, 0));
    assert_eq!(times_read(&traffic), [2]);
}

#[test]
fn a_time_of_day_is_asked_for_before_anything_is_played() {
    let loaded = plan();
    for (starts, sorted) in [(&DAY[..], true), (&DAY[1..], false)] {
        let traffic = traffic(&loaded, starts);
        let at = traffic.time("2026-08-01T06:00:05Z").unwrap();
        assert_eq!(at.0, 4_000_000_000, "from the earliest, wherever that stands");
        for _ in 0..2 {
            play(&loaded, &traffic, Moment::At(at));
        }
        // a survey, then once kept, or twice as it comes
        assert_eq!(times_read(&traffic), [if sorted { 2 } else { 3 }]);
    }
}

#[test]
fn a_list_that_has_seconds_and_times_of_day_is_put_in_order() {
    let loaded = plan();
    let traffic = traffic(&loaded, &["0", DAY[1], "3", DAY[0]]);
    traffic.time(DAY[0]).unwrap();
    let starts: Vec<u64> =
        traffic.items(Attempt::Streaming).map(|i| i.unwrap().at().0 / 1_000_000_000).collect();
    assert_eq!(starts, [0, 0, 1, 3]);
}

/// What is opened may be read beside the engine.
#[test]
fn traffic_can_be_shared_and_items_sent() {
    fn shared<T: Send + Sync>() {}
    fn sent<T: Send>() {}
    shared::<Traffic>();
    sent::<crate::traffic::Items<'_>>();
}
