//! What runs out, when, for whom, and how much would be enough.

use std::sync::Arc;

use proptest::prelude::*;
use zarnet_analysis::capacity::{Assumption, Kind, Resource, demand, of_hour, remedies, resources};
use zarnet_core::Reason;
use zarnet_core::device::Supply;
use zarnet_core::net::{Instant, Protocol};
use zarnet_core::plan::Plan;
use zarnet_core::predict::{Moment, Options, Prediction, predict};
use zarnet_core::traffic::{Flow, Item, OneByOne, Party};

use zarnet_testkit::edge::{OVERLOAD, plan, plan_text, pool};

const S: u64 = 1_000_000_000;

fn at(seconds: u64) -> Instant {
    Instant(seconds * S)
}

/// A UDP flow of one packet and its answer: its session lasts `udp-timeout`, 300 s.
fn flow(start: u64, host: u8, port: u16) -> Flow {
    Flow {
        start: at(start),
        protocol: Protocol::UDP,
        source: Party::Address([10, 0, 0, host].into()),
        source_port: Some(port),
        destination: Party::Address([198, 51, 100, 10].into()),
        destination_port: Some(53),
        lasts: 0,
        ending: None,
        round_trip: None,
    }
}

fn played(plan: &Arc<Plan>, flows: impl IntoIterator<Item = Flow>, moment: Moment) -> Prediction {
    let items = flows.into_iter().map(|f| Ok::<_, std::convert::Infallible>(Item::Flow(f)));
    let options = Options { moment, record: true, ..Options::default() };
    predict(plan.clone(), OneByOne(items), Vec::new(), options).expect("flows in order")
}

fn of(list: &[Resource], is: impl Fn(Supply) -> bool) -> &Resource {
    list.iter().find(|r| is(r.supply)).expect("a supply that was drawn on")
}

fn hosts(of: impl IntoIterator<Item = std::net::IpAddr>) -> Vec<u8> {
    let last =
        |a: std::net::IpAddr| if let std::net::IpAddr::V4(a) = a { a.octets()[3] } else { 0 };
    of.into_iter().map(last).collect()
}

#[test]
fn a_pool_of_two_and_three_hosts() {
    let plan = plan(&plan_text("\"bcp\"", "{}", &pool(2, "")));
    let flows = [
        flow(10, 5, 1),
        flow(20, 6, 1),
        flow(30, 7, 1),
        flow(40, 8, 1),
        flow(50, 7, 2),
        flow(400, 7, 3),
    ];
    let list = resources(&mut played(&plan, flows, Moment::End), false);
    let lines = of(&list, |s| matches!(s, Supply::Pool(_)));
    assert_eq!(
        (lines.series.usable, lines.series.peak.count, lines.series.peak.at),
        (Some(2), 2, at(20))
    );
    assert_eq!((lines.series.first_full, lines.series.first_refusal), (Some(at(20)), Some(at(30))));
    assert_eq!((lines.refused_flows, lines.refused.len()), (3, 2));
    assert_eq!(hosts(lines.refused.iter().map(|r| r.host)), [7, 8]);
    assert_eq!(
        (lines.refused[0].flows, lines.refused[0].first, lines.refused[0].last),
        (2, at(30), at(50))
    );
    assert_eq!(lines.refused[0].reason, Reason::PoolExhausted);
    // told of the moment at which the third host was refused
    assert_eq!((lines.at, lines.in_use), (at(30), 2));
    assert_eq!(hosts(lines.holders.iter().map(|h| h.host)), [5, 6]);
    let millisecond = 1_000_000;
    assert_eq!(lines.next_release, Some(Instant(310 * S + millisecond)), "300 s after the answer");
    assert_eq!(lines.series.full_for(at(999)), 290 * S + millisecond);
}

#[test]
fn a_host_that_is_given_the_moment_sees_that_moment() {
    let plan = plan(&plan_text("\"bcp\"", "{}", &pool(2, "")));
    let flows = [flow(10, 5, 1), flow(20, 6, 1), flow(30, 7, 1), flow(400, 7, 3)];
    let list = resources(&mut played(&plan, flows, Moment::At(at(315))), true);
    let lines = of(&list, |s| matches!(s, Supply::Pool(_)));
    assert_eq!(
        (lines.at, lines.in_use, hosts(lines.holders.iter().map(|h| h.host))),
        (at(315), 1, vec![6])
    );
}

#[test]
fn ports_of_a_class_run_out_less_what_a_forward_holds() {
    let narrow = "{ port-classes = [\"1-65535 -> 3000-3003\"] }";
    let forward = r#"
  [[device.rule]]
  name = "door"
  type = "forward"
  external = "uplink:3001/udp"
  internal = "10.0.0.21:80"
"#;
    let plan = plan(&plan_text(narrow, "{}", &format!("{forward}{OVERLOAD}")));
    let flows = (0..5).map(|n| flow(10 + u64::from(n), 5 + n as u8 % 2, 4000 + n));
    let list = resources(&mut played(&plan, flows, Moment::End), false);
    let ports = of(&list, |s| matches!(s, Supply::Ports(_, Protocol::UDP, (3000, 3003))));
    assert_eq!(
        (ports.series.usable, ports.series.peak.count, ports.refused_flows),
        (Some(3), 3, 2)
    );
    assert_eq!(ports.holders.iter().map(|h| h.held).collect::<Vec<_>>(), [2, 1]);
    assert_eq!(
        of(&list, |s| s == Supply::Mappings).series.usable,
        None,
        "nothing limits the table"
    );
}

#[test]
fn a_paired_host_is_refused_by_its_own_address_and_by_the_target() {
    let narrow = "{ port-classes = [\"1-65535 -> 3000-3001\"] }";
    let overload = pool(2, "").replace("type = \"pool\"", "type = \"overload\"");
    let plan = plan(&plan_text(narrow, "{}", &overload));
    // .5 fills the first address; .6 gets the second; .5 may not go there
    let flows = [flow(1, 5, 1), flow(2, 5, 2), flow(3, 6, 1), flow(4, 5, 3)];
    let list = resources(&mut played(&plan, flows, Moment::End), false);
    let refused = |s: &dyn Fn(Supply) -> bool| of(&list, s).refused_flows;
    let on = |last: u8| {
        let address = std::net::IpAddr::from([192, 0, 2, last]);
        move |s: Supply| matches!(s, Supply::Ports(a, ..) if a == address)
    };
    assert_eq!((refused(&on(8)), refused(&on(9))), (1, 0));
    let all = of(&list, |s| matches!(s, Supply::PortsOfAll(..)));
    assert_eq!((all.series.usable, all.series.peak.count, all.refused_flows), (Some(4), 3, 1));
}

#[test]
fn a_limit_of_the_device_is_a_supply() {
    let plan = plan(&plan_text("{ max-mappings = 2 }", "{}", OVERLOAD));
    let flows = (0..3).map(|n| flow(10 + n, 5 + n as u8, 4000));
    let list = resources(&mut played(&plan, flows, Moment::End), false);
    let table = of(&list, |s| s == Supply::Mappings);
    assert_eq!(
        (table.series.usable, table.series.peak.count, table.refused_flows),
        (Some(2), 2, 1)
    );
    assert_eq!(table.refused[0].reason, Reason::DeviceFull);
}

#[test]
fn a_flow_that_passes_untranslated_has_found_nothing_left_either() {
    let rules =
        pool(1, "").replace("as = \"lines\"", "as = \"lines\"\n  when-exhausted = \"pass\"");
    let plan = plan(&plan_text("\"bcp\"", "{}", &rules));
    let mut prediction = played(&plan, [flow(1, 5, 1), flow(2, 6, 1)], Moment::End);
    let list = resources(&mut prediction, false);
    assert_eq!(of(&list, |s| matches!(s, Supply::Pool(_))).refused_flows, 1);
}

#[test]
fn rfc7422_blocks_run_out_before_their_ports_do() {
    let blocks = "{ block-size = 2, port-classes = [\"1-65535 -> 3000-3003\"] }";
    let plan = plan(&plan_text(blocks, "{}", OVERLOAD));
    let flows = [flow(1, 5, 1), flow(2, 6, 1), flow(3, 7, 1)];
    let list = resources(&mut played(&plan, flows, Moment::End), false);
    let blocks = of(&list, |s| matches!(s, Supply::Blocks(..)));
    assert_eq!(
        (blocks.series.usable, blocks.series.peak.count, blocks.refused_flows),
        (Some(2), 2, 1)
    );
    assert_eq!(blocks.holders.iter().map(|h| h.held).collect::<Vec<_>>(), [1, 1], "in blocks");
    let ports = of(&list, |s| matches!(s, Supply::Ports(..)));
    assert_eq!(
        (ports.series.usable, ports.series.peak.count, ports.refused_flows),
        (Some(4), 2, 0),
        "of ports there were enough"
    );
}

#[test]
fn what_the_formula_has_to_reckon_with_is_seen() {
    let plan = plan(&plan_text("\"bcp\"", "{}", &pool(3, "")));
    // all at once, then all again: three hosts more than there are addresses
    let burst = |start| (0..6u8).map(move |n| flow(start, 5 + n, 1));
    let flows: Vec<Flow> = burst(100).chain(burst(101)).chain(burst(3000)).collect();
    let mut prediction = played(&plan, flows, Moment::End);
    let list = resources(&mut prediction, false);
    let d = demand(of(&list, |s| matches!(s, Supply::Pool(_))), Instant::ZERO, at(3600));
    assert!(d.contradicted.contains(&Assumption::Retries), "{d:?}");
    // three were served at once, three tried twice, and three at the end had nothing
    assert_eq!((d.measured.requests, d.measured.refused, d.hosts), (12, 6, 6));
    let overload = zarnet_testkit::edge::plan(&plan_text("\"bcp\"", "{}", OVERLOAD));
    let heavy = (0..200u16).map(|n| flow(10, if n < 10 { 20 + n as u8 } else { 5 }, 4000 + n));
    let mut prediction = played(&overload, heavy, Moment::At(at(11)));
    let list = resources(&mut prediction, true);
    let d = demand(of(&list, |s| matches!(s, Supply::Ports(..))), Instant::ZERO, at(600));
    assert!(d.contradicted.contains(&Assumption::HeavyHolders), "{d:?}");
}

/// How long something holds is known to its end, which may lie behind the traffic; and a port that
/// rests is held for that.
#[test]
fn holding_time_is_followed_to_its_end_with_the_rest() {
    let held = |behaviour: &str| {
        let plan = plan(&plan_text(behaviour, "{ udp-timeout = 120 }", OVERLOAD));
        let flows = (0..60u16).map(|n| flow(u64::from(n), 5 + (n % 20) as u8, 4000 + n));
        let mut prediction = played(&plan, flows, Moment::End);
        let list = resources(&mut prediction, false);
        let ports = of(&list, |s| matches!(s, Supply::Ports(..)));
        let rest = ports.series.with_rest.as_ref().map(|r| r.peak.count);
        (of_hour(ports, (at(0), at(60))).holds, ports.series.peak.count, rest)
    };
    let (holds, most, rest) = held("\"bcp\"");
    assert!((holds - 120.001).abs() < 0.01, "the record is a minute, and it holds two: {holds}");
    assert_eq!((most, rest), (60, None));
    let (holds, most, _) = held("{ hold-down-timeout = 90 }");
    assert!((holds - 210.001).abs() < 0.01, "{holds}");
    assert_eq!(most, 60);
}

#[test]
fn remedies_suit_what_ran_out() {
    let kinds =
        |behaviour: &str, timers: &str, rules: &str, flows: Vec<Flow>| -> Vec<(Kind, bool)> {
            let plan = plan(&plan_text(behaviour, timers, rules));
            let list = resources(&mut played(&plan, flows, Moment::End), false);
            let out = list.iter().find(|r| r.refused_flows > 0).expect("something ran out");
            remedies(&plan, out, None).into_iter().map(|r| (r.kind, r.obstacle.is_none())).collect()
        };
    let three = || (0..3).map(|n| flow(10 + n, 5 + n as u8, 1)).collect::<Vec<_>>();
    let got = kinds("\"bcp\"", "{ binding = 60 }", &pool(2, ""), three());
    let wanted = [
        (Kind::ShorterBinding, true),
        (Kind::LargerPool, true),
        (Kind::ShorterTimers, true),
        (Kind::Fallback, true),
        (Kind::OverloadInstead, true),
        (Kind::PickBySource, true),
    ];
    assert_eq!(got, wanted);
    let got = kinds("\"bcp\"", "{ udp-timeout = 120 }", &pool(2, "pick = \"by-source\""), three());
    assert!(got.contains(&(Kind::ShorterTimers, false)), "they are the shortest already: {got:?}");
    let narrow = "{ port-classes = [\"1-65535 -> 3000-3001\"] }";
    let got = kinds(narrow, "{}", OVERLOAD, three());
    let wanted = [
        (Kind::MoreAddresses, true),
        (Kind::PerPortTimer, true),
        (Kind::ShorterTimers, true),
        (Kind::LimitPerHost, false),
        (Kind::PortOverloading, true),
    ];
    assert_eq!(got, wanted);
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]
    #[test]
    fn what_is_in_use_over_time_is_what_the_table_shows_at_every_moment(
        steps in proptest::collection::vec((0u64..90, 5u8..12, 4000u16..4004, 0u64..200), 1..60),
        binding in prop_oneof![Just(0u64), Just(45)],
        overload in any::<bool>(),
        moments in proptest::collection::vec(0u64..4000, 6),
    ) {
        let rules = if overload {
            pool(2, "").replace("type = \"pool\"", "type = \"overload\"")
        } else {
            pool(3, "")
        };
        let behaviour = if overload {
            "{ port-classes = [\"1-65535 -> 3000-3004\"] \
                                           }"
        } else {
            "\"bcp\""
        };
        let plan = plan(&plan_text(
            behaviour,
            &format!(
                "{{ binding = {binding}, udp-timeout = 120 \
                }}"
            ),
            &rules,
        ));
        let mut now = 0;
        let flows: Vec<Flow> = steps
            .into_iter()
            .map(|(gap, host, port, lasts)| {
                now += gap;
                Flow { lasts: lasts * S, ..flow(now, host, port) }
            })
            .collect();
        let mut whole = played(&plan, flows.clone(), Moment::End);
        let list = resources(&mut whole, true);
        let plain = {
            let items = flows.iter().map(|f| Ok::<_, std::convert::Infallible>(Item::Flow(*f)));
            predict(plan.clone(), OneByOne(items), Vec::new(), Options::default())
                .expect("flows in order")
        };
        prop_assert_eq!(plain.tally, whole.tally, "recording changes nothing");
        prop_assert_eq!(&plain.tables[0].mappings, &whole.tables[0].mappings);
        for moment in moments.into_iter().map(|m| at(m.min(whole.end.0 / S))) {
            let then = played(&plan, flows.clone(), Moment::At(moment));
            let rows = &then.tables[0].mappings;
            let dynamic = rows.iter().filter(|r| !r.fixed);
            for r in &list {
                let count = match r.supply {
                    Supply::Pool(_) => then.tables[0].pools[0].in_use,
                    Supply::Ports(a, p, _) => dynamic
                        .clone()
                        .filter(|m| m.external.address == a && m.protocol == Some(p))
                        .count() as u64,
                    Supply::PortsOfAll(..) | Supply::Mappings => dynamic.clone().count() as u64,
                    Supply::Sessions => then.tables[0].session_count,
                    Supply::Blocks(..) | Supply::BlocksOfAll(..) => continue,
                };
                prop_assert_eq!(
                    u64::from(r.series.at(moment)),
                    count,
                    "{:?} at {}",
                    r.supply,
                    moment
                );
            }
        }
        let refused: u64 = list
            .iter()
            .filter(|r| matches!(r.supply, Supply::Pool(_) | Supply::PortsOfAll(..)))
            .map(|r| r.refused_flows)
            .sum();
        prop_assert_eq!(refused, whole.tally.refused, "every refused flow is accounted for");
    }
}
