//! Another plan takes over in the middle of a day: what stays, what is found again, and what is
//! given to nobody. The device is 192.0.2.1; its pool begins at 192.0.2.8.

use std::convert::Infallible;
use std::net::IpAddr;

use zarnet_core::device::{MappingRow, Outcome};
use zarnet_core::event::{Action, Event};
use zarnet_core::net::{Endpoint, Instant, Packet, Protocol};
use zarnet_core::network::Network;
use zarnet_core::plan::{DeviceId, InterfaceId};
use zarnet_core::predict::{Moment, Options, Prediction, predict};
use zarnet_core::traffic::{Item, OneByOne};
use zarnet_testkit::edge::{OVERLOAD, flow, plan, plan_text, pool};

const S: u64 = 1_000_000_000;
/// Ports of the outside interface that lead to a server.
const DOOR: &str = r#"
  [[device.rule]]
  name = "door"
  type = "forward"
  external = "uplink:8000-8001/udp"
  internal = "10.0.0.21:80"
"#;
const SHORT: &str = "{ udp-timeout = 5 }";

/// A day of flows that begins with the first plan; at each second named, the plan beside it takes
/// over.
fn day(plans: &[(u64, String)], flows: &[&str]) -> Prediction {
    let takes_over = |(at, text): &(u64, String)| Event {
        at: Instant(at * S),
        device: DeviceId(0),
        action: Action::Plan(plan(text), DeviceId(0)),
    };
    let events = plans[1..].iter().map(takes_over).collect();
    let items = flows.iter().map(|f| Ok::<_, Infallible>(Item::Flow(flow(f))));
    // a server outside is one because it sends
    let sources =
        Some(flows.iter().map(|f| f.split([' ', ':']).nth(1).unwrap().parse().unwrap()).collect());
    let options = Options { moment: Moment::End, sources, ..Options::default() };
    predict(plan(&plans[0].1), OneByOne(items), events, options).unwrap()
}

fn edge(timers: &str, rules: &str) -> String {
    plan_text("\"bcp\"", timers, rules)
}

/// External ends of the overload's mappings at the end of a day.
fn externals(p: &Prediction) -> Vec<String> {
    p.tables[0].mappings.iter().filter(|m| !m.fixed).map(|m| m.external.to_string()).collect()
}

/// Sessions stay, wherever their external end is: answers to an address that no rule names any more
/// are translated back.
#[test]
fn sessions_on_an_address_that_is_no_longer_named_are_answered() {
    let before = edge("{}", &pool(2, "").replace("type = \"pool\"", "type = \"overload\""));
    for after in [edge("{}", OVERLOAD), edge("{}", DOOR)] {
        let p = day(
            &[(0, before.clone()), (10, after)],
            &[
                "tcp 10.0.0.5:5000 > 198.51.100.10:80 @0",
                "tcp 10.0.0.5:5000 > 198.51.100.10:80 @20",
            ],
        );
        assert_eq!((p.tally.translated, p.tally.total()), (2, 2), "{:?}", p.not_translated);
        assert_eq!(externals(&p), ["192.0.2.8:5000"]);
    }
}

/// What is new after that goes by the new plan.
#[test]
fn new_flows_go_by_the_new_plan() {
    let before = edge("{}", &pool(2, "").replace("type = \"pool\"", "type = \"overload\""));
    let p = day(
        &[(0, before), (10, edge("{}", OVERLOAD))],
        &["tcp 10.0.0.5:5000 > 198.51.100.10:80 @0", "tcp 10.0.0.6:5000 > 198.51.100.10:80 @20"],
    );
    assert_eq!(p.tally.translated, 2);
    assert_eq!(externals(&p), ["192.0.2.8:5000", "192.0.2.1:5000"]);
}

/// RFC 4787 §5 REQ-8: a plan that filters by peers lets in whom the sessions from before it have
/// addressed through a whole address, and nobody else.
#[test]
fn rfc4787_req8_peers_from_before_a_plan_that_filters_are_known() {
    let filters = "{ preset = \"bcp\", filtering = \"address-dependent\" }";
    let plans = [(0, edge("{}", &pool(2, ""))), (10, plan_text(filters, "{}", &pool(2, "")))];
    let p = day(
        &plans,
        &[
            "udp 10.0.0.5:5000 > 198.51.100.10:53 @0",
            "udp 198.51.100.10:99 > 192.0.2.8:7000 @20",
            "udp 198.51.100.11:53 > 192.0.2.8:7000 @21",
        ],
    );
    let lost: Vec<String> =
        p.not_translated.iter().map(|n| format!("{:?}", n.flow.source_port)).collect();
    assert_eq!((p.tally.translated, lost), (2, vec!["Some(53)".to_owned()]));
}

/// A port that a mapping holds and the new plan takes out stays with the mapping, and goes to
/// nobody afterwards.
#[test]
fn a_port_that_is_taken_out_is_not_handed_out_again() {
    let (before, after) = (edge(SHORT, OVERLOAD), edge(SHORT, &format!("{OVERLOAD}{DOOR}")));
    let flows = [
        "udp 10.0.0.5:8000 > 198.51.100.10:53 @0",
        // while it is held, and after its end
        "udp 10.0.0.6:8000 > 198.51.100.10:53 @3",
        "udp 10.0.0.7:8000 > 198.51.100.10:53 @20",
    ];
    let until = |n: usize| externals(&day(&[(0, before.clone()), (2, after.clone())], &flows[..n]));
    assert_eq!(until(1), ["192.0.2.1:8000"]);
    assert_eq!(until(2), ["192.0.2.1:8000", "192.0.2.1:8002"]);
    assert_eq!(until(3), ["192.0.2.1:8002"]);
}

/// The same of a port that rests when the plan takes it out (RFC 6888 §3 REQ-8).
#[test]
fn rfc6888_req8_a_resting_port_that_is_taken_out_is_not_handed_out_again() {
    let resting = |rules: &str| plan_text("{ hold-down-timeout = 30 }", SHORT, rules);
    let plans = [(0, resting(OVERLOAD)), (10, resting(&format!("{OVERLOAD}{DOOR}")))];
    let p = day(
        &plans,
        &["udp 10.0.0.5:8000 > 198.51.100.10:53 @0", "udp 10.0.0.7:8000 > 198.51.100.10:53 @60"],
    );
    assert_eq!(externals(&p), ["192.0.2.1:8002"]);
}

/// A mapping on the fallback of the plan before is the host's as long as it lives (RFC 4787 §4.1
/// REQ-1).
#[test]
fn rfc4787_req1_a_mapping_on_a_fallback_that_is_no_more_is_reused() {
    let before = edge(
        SHORT,
        &pool(1, "").replace("as = \"lines\"", "as = \"lines\"\n  when-exhausted = \"uplink\""),
    );
    let flows = [
        "udp 10.0.0.5:5000 > 198.51.100.10:53 @0",
        "udp 10.0.0.6:5000 > 198.51.100.10:53 @1",
        "udp 10.0.0.6:5000 > 198.51.100.11:53 @3",
        "udp 10.0.0.6:5001 > 198.51.100.11:53 @3",
    ];
    let p = day(&[(0, before), (2, edge(SHORT, &pool(1, "")))], &flows);
    assert_eq!(p.tally.translated, 3);
    assert_eq!(
        p.not_translated.iter().map(|n| (n.order, n.reason.name())).collect::<Vec<_>>(),
        [(4, "pool-exhausted")]
    );
}

/// `in-turn` goes on behind the address that it handed out last itself: what another pick did
/// before is of no account.
#[test]
fn in_turn_begins_at_the_low_end_where_another_pick_was_before() {
    let by_source = edge(
        SHORT,
        &pool(2, "pick = \"by-source\"").replace("type = \"pool\"", "type = \"overload\""),
    );
    let in_turn = edge(SHORT, &pool(2, "pick = \"in-turn\""));
    let out = |host: u8, at: u64| format!("udp 10.0.0.{host}:5000 > 198.51.100.10:53 @{at}");
    for hosts in [[5, 6], [6, 5]] {
        let flows = [out(hosts[0], 0), out(hosts[1], 1), out(7, 20), out(8, 21)];
        let flows: Vec<&str> = flows.iter().map(String::as_str).collect();
        let p = day(&[(0, by_source.clone()), (10, in_turn.clone())], &flows);
        let ends =
            |m: &MappingRow| (m.internal.address.to_string(), m.external.address.to_string());
        let pairs = [("10.0.0.7", "192.0.2.8"), ("10.0.0.8", "192.0.2.9")]
            .map(|(a, b)| (a.into(), b.into()));
        assert_eq!(p.tables[0].mappings.iter().map(ends).collect::<Vec<_>>(), pairs);
    }
}

/// A host that had 192.0.2.8 for itself.
const CAMERA: &str = r#"
  [[device.rule]]
  name = "camera"
  type = "static"
  internal = "10.0.0.20"
  external = "192.0.2.8"
"#;

/// An address of a rule that the new plan does not have is to be had at once, or when the last
/// session on it has ended.
#[test]
fn an_address_of_a_rule_that_is_gone_is_handed_out_when_no_session_holds_it() {
    let (before, after) = (edge(SHORT, CAMERA), edge(SHORT, &pool(1, "")));
    let wanted = |at: u64| format!("udp 10.0.0.5:5000 > 198.51.100.10:53 @{at}");
    let classes = |plans: &[(u64, String)], flows: &[&str]| {
        let p = day(plans, flows);
        (p.tally.translated, p.not_translated.iter().map(|n| n.reason.name()).collect::<Vec<_>>())
    };
    let plans = [(0, before), (1, after.clone())];
    assert_eq!(classes(&plans, &[&wanted(2)]), (1, vec![]));
    let camera = "udp 10.0.0.20:5000 > 198.51.100.10:53 @0";
    assert_eq!(classes(&plans, &[camera, &wanted(2)]), (1, vec!["pool-exhausted"]));
    assert_eq!(classes(&plans, &[camera, &wanted(10)]), (2, vec![]));
    // nor does a third plan give it away
    let again = [&plans[..], &[(2, after)]].concat();
    assert_eq!(classes(&again, &[camera, &wanted(3)]), (1, vec!["pool-exhausted"]));
    assert_eq!(classes(&again, &[camera, &wanted(10)]), (2, vec![]));
}

/// The same of a port, here of two sessions that hold it together.
#[test]
fn a_port_of_a_rule_that_is_gone_is_handed_out_when_no_session_holds_it() {
    let server = "[[host]]\nname = \"server\"\naddress = \"10.0.0.21/24\"\ngateway = \
                  \"10.0.0.1\"\nlistens = [\"80/udp\"]\n";
    let plans = [
        (0, edge(SHORT, &format!("{OVERLOAD}{DOOR}{server}"))),
        (2, edge(SHORT, &format!("{OVERLOAD}{server}"))),
    ];
    let into =
        ["udp 198.51.100.10:53 > 192.0.2.1:8000 @0", "udp 198.51.100.11:53 > 192.0.2.1:8000 @1"];
    let until = |at: f64, more: &[&str]| {
        let out = format!("udp 10.0.0.5:8000 > 198.51.100.10:53 @{at}");
        let p = day(&plans, &[more, &[&out]].concat());
        assert_eq!(p.not_translated, []);
        externals(&p)
    };
    assert_eq!(until(3.0, &[]), ["192.0.2.1:8000"]);
    assert_eq!(until(3.0, &into[..1]), ["192.0.2.1:8001"]);
    assert_eq!(until(5.5, &into[..1]), ["192.0.2.1:8000"]);
    assert_eq!(until(5.5, &into), ["192.0.2.1:8001"]);
    assert_eq!(until(7.0, &into), ["192.0.2.1:8000"]);
}

/// What no plan names any more is somebody else's: packets to it are forwarded, not held back.
#[test]
fn an_address_that_is_no_longer_named_is_somebody_elses() {
    let plans = [(0, edge(SHORT, CAMERA)), (1, edge(SHORT, OVERLOAD))];
    let p = day(&plans, &["udp 10.0.0.5:5000 > 192.0.2.8:53 @2"]);
    assert_eq!(
        p.not_translated.iter().map(|n| n.reason.name()).collect::<Vec<_>>(),
        ["nobody-answers"]
    );
}

/// Flows that are not translated are told in the order of the traffic, although an answer that is
/// lost tells of its flow late.
#[test]
fn what_is_not_translated_is_told_in_the_order_of_the_traffic() {
    // an answer to 10.0.0.9 is filtered on its way in; the other flow is refused at once
    let rules = format!(
        "{OVERLOAD}
  [[device.acl]]
  name = \"no-web-answers\"
  entries = [{{ drop = \"any\", source-service = \"80/tcp\" }}, {{ accept = \"any\" }}]
"
    );
    let text = edge("{}", &rules).replace(
        "  segment = \"world\"\n",
        "  segment = \"world\"\n  ingress-acl = \"no-web-answers\"\n",
    );
    let flows = [
        "tcp 10.0.0.9:5000 > 198.51.100.10:80 @1",
        "47 10.0.0.5 > 192.0.2.1 @1",
        "tcp 10.0.0.8:1 > 198.51.100.10:80 @1",
    ];
    let p = day(&[(0, text.clone())], &flows);
    let told = |p: &Prediction| {
        p.not_translated.iter().map(|n| (n.order, n.reason.name())).collect::<Vec<_>>()
    };
    let wanted = [(1, "ingress-acl"), (2, "no-listener"), (3, "ingress-acl")];
    assert_eq!(told(&p), wanted);
    // after a change of plan answers wait for their turn
    let later: Vec<String> = flows.iter().map(|f| f.replace("@1", "@9")).collect();
    let later: Vec<&str> = later.iter().map(String::as_str).collect();
    assert_eq!(told(&day(&[(0, text.clone()), (5, text)], &later)), wanted);
}

/// An end that a new plan gives to a forward is shared with nobody, though a mapping from before
/// still has it.
#[test]
fn a_port_that_a_new_plan_forwards_is_not_overloaded_any_more() {
    let keys =
        "{ mapping = \"address-dependent\", port-overloading = true, pooling = \"arbitrary\" }";
    let before = zarnet_testkit::edge::plan(&zarnet_testkit::edge::plan_text(
        keys,
        "{}",
        zarnet_testkit::edge::OVERLOAD,
    ));
    let door = "  [[device.rule]]\n  name = \"door\"\n  type = \"forward\"\n  external = \
                \"uplink:3001/tcp\"\n  internal = \"10.0.0.7:700\"\n";
    let after = zarnet_testkit::edge::plan(&zarnet_testkit::edge::plan_text(
        keys,
        "{}",
        &format!("{door}{}", zarnet_testkit::edge::OVERLOAD),
    ));
    let mut network = Network::new(before, 7, None);
    let end = |a: [u8; 4], port| Endpoint::new(IpAddr::from(a), port);
    let send = |network: &mut Network, to: [u8; 4]| {
        let packet = Packet::first(Protocol::TCP, end([10, 0, 0, 5], 3001), end(to, 80));
        match network.device_mut(DeviceId(0)).receive(Instant(0), InterfaceId(0), packet) {
            Outcome::Forwarded(out) => out.packet.source().port,
            other => panic!("{other:?}"),
        }
    };
    assert_eq!(send(&mut network, [198, 51, 100, 10]), 3001);
    network.act(&Event {
        at: Instant(0),
        device: DeviceId(0),
        action: Action::Plan(after, DeviceId(0)),
    });
    assert_eq!(send(&mut network, [203, 0, 113, 20]), 3002);
}
