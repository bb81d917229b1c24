//! One flow watched: what is told of its way, and what a plan expects of it.

use std::convert::Infallible;
use std::sync::Arc;

use proptest::prelude::*;
use zarnet_core::Class;
use zarnet_core::event::{Action, Event};
use zarnet_core::network::Trace;
use zarnet_core::observe::NextHopOwner;
use zarnet_core::plan::{DeviceId, InterfaceId, Plan, RuleId};
use zarnet_core::predict::{
    Followed, Moment, ObservationPoint, Options, Rehearsal, follow_during, predict,
};
use zarnet_core::traffic::{Flow, Item, OneByOne};
use zarnet_testkit::edge::plan;

/// A wharf behind an edge, a shed behind the wharf's own box, and a server next to the wharf.
const WHARF: &str = r#"
[[segment]]
name = "world"
internet = true
[[segment]]
name = "quay"

[[host]]
name = "desk"
address = "10.0.0.5/24"
gateway = "10.0.0.1"
[[host]]
name = "shop"
address = "10.0.0.6/24"
gateway = "10.0.0.1"
listens = ["80/tcp"]
[[host]]
name = "lamp"
address = "10.0.0.7/24"
[[host]]
name = "shed"
address = "10.8.0.5/24"
gateway = "10.8.0.1"

[[device]]
name = "edge"
default-policy = "drop"
  [[device.interface]]
  name = "hall"
  realm = "internal"
  segment = "quay"
  address = "10.0.0.1/24"
  ingress-acl = "no-telnet"
  [[device.interface]]
  name = "street"
  realm = "external"
  segment = "world"
  address = "192.0.2.1/28"
  [[device.route]]
  to = "0.0.0.0/0"
  via = "192.0.2.14"
  [[device.acl]]
  name = "no-telnet"
  entries = [{ drop = "23/tcp" }, { accept = "any" }]
  [[device.policy]]
  from = "internal"
  accept = "any"
  [[device.policy]]
  from = "external"
  accept = ["80/tcp", "8022/tcp", "7/tcp"]
  [[device.rule]]
  name = "shop-in"
  type = "forward"
  external = "street:8080/tcp"
  internal = "shop:80"
  hairpin = "internal"
  [[device.rule]]
  name = "lamp-in"
  type = "forward"
  external = "street:7/tcp"
  internal = "lamp:7"
  as = "hall"
  [[device.rule]]
  name = "shed-in"
  type = "forward"
  external = "street:22/tcp"
  internal = "10.0.0.9:8022"
  [[device.rule]]
  name = "hall-out"
  type = "overload"
  source = "10.0.0.0/24"
  as = "street"

[[device]]
name = "box"
  [[device.interface]]
  name = "front"
  realm = "external"
  segment = "quay"
  address = "10.0.0.9/24"
  [[device.interface]]
  name = "back"
  realm = "internal"
  address = "10.8.0.1/24"
  [[device.route]]
  to = "0.0.0.0/0"
  via = "10.0.0.1"
  [[device.rule]]
  name = "shed-in"
  type = "forward"
  external = "front:8022/tcp"
  internal = "shed:22"
  [[device.rule]]
  name = "shed-out"
  type = "overload"
  as = "front"
"#;

/// The flow of the first expectation of a plan.
fn parsed(flow: &str) -> (Arc<Plan>, Flow) {
    let plan = plan(&format!("{WHARF}\n[[expect]]\nflow = \"{flow}\"\n"));
    let flow = plan.expectations[0].flow;
    (plan, flow)
}

fn followed(flow: &str) -> Followed {
    let (plan, flow) = parsed(flow);
    Rehearsal::new(plan, 0).follow(&flow)
}

/// `DEVICE STAGE=RESULT ...` for each device, leaving out what did nothing.
fn steps(plan: &Plan, trace: &Trace) -> Vec<String> {
    let boring = ["not-attached", "new", "not-own", "unchanged", "routed"];
    let hop = |h: &zarnet_core::network::Hop| {
        let steps = h.steps.iter().filter(|s| !boring.contains(&s.result.name()));
        let steps: Vec<String> =
            steps.map(|s| format!("{}={}", s.stage.name(), s.result.name())).collect();
        format!("{} {}", plan.devices[h.device.index()].name, steps.join(" "))
    };
    trace.hops.iter().map(hop).collect()
}

#[test]
fn every_step_that_decides_is_told() {
    let cases: &[(&str, &[&str])] = &[
        (
            "desk -> 198.51.100.1:80/tcp",
            &["edge ingress-acl=accepted policy=accepted source=translated commit=new-mapping"],
        ),
        ("desk -> 198.51.100.1:23/tcp", &["edge ingress-acl=dropped"]),
        (
            "198.51.100.1 -> 192.0.2.1:8080/tcp",
            &["edge destination=translated policy=accepted commit=new-session"],
        ),
        ("198.51.100.1 -> 192.0.2.1:8081/tcp", &["edge own-address=dropped"]),
        ("198.51.100.1 -> 192.0.2.1/icmp", &["edge own-address=answered"]),
        ("edge -> 198.51.100.1:53/udp", &["edge commit=new-session"]),
        (
            "198.51.100.1 -> 192.0.2.1:22/tcp",
            &[
                "edge destination=translated policy=accepted commit=new-session",
                "box destination=translated policy=accepted commit=new-session",
            ],
        ),
        (
            "shed -> 198.51.100.1:80/tcp",
            &[
                "box policy=accepted source=translated commit=new-mapping",
                "edge ingress-acl=accepted policy=accepted source=translated commit=new-mapping",
            ],
        ),
        ("desk -> shop:80/tcp", &[]),
    ];
    for (flow, wanted) in cases {
        let f = followed(flow);
        assert_eq!(steps(&f.plan, &f.forth), *wanted, "{flow}");
    }
}

/// What every place sees, as `SOURCE > DESTINATION`, first packet and answer.
fn seen(f: &Followed) -> Vec<String> {
    let ends = |e: Option<zarnet_core::net::Tuple>| {
        e.map_or("nothing".into(), |e| format!("{} > {}", e.source, e.destination))
    };
    f.views().iter().map(|v| format!("{} | {}", ends(v.forth), ends(v.back))).collect()
}

#[test]
fn every_place_has_its_view() {
    assert_eq!(
        seen(&followed("198.51.100.1:5000 -> 192.0.2.1:22/tcp")),
        [
            "198.51.100.1:5000 > 192.0.2.1:22 | 192.0.2.1:22 > 198.51.100.1:5000",
            "198.51.100.1:5000 > 192.0.2.1:22 | 192.0.2.1:22 > 198.51.100.1:5000",
            "198.51.100.1:5000 > 10.0.0.9:8022 | 10.0.0.9:8022 > 198.51.100.1:5000",
            "198.51.100.1:5000 > 10.0.0.9:8022 | 10.0.0.9:8022 > 198.51.100.1:5000",
            "198.51.100.1:5000 > 10.8.0.5:22 | 10.8.0.5:22 > 198.51.100.1:5000",
            "198.51.100.1:5000 > 10.8.0.5:22 | 10.8.0.5:22 > 198.51.100.1:5000",
        ]
    );
    // RFC 4787 REQ-9: the server sees the external end of whoever hairpins, here on the way in and
    // out of one interface
    assert_eq!(
        seen(&followed("desk:5000 -> 192.0.2.1:8080/tcp")),
        [
            "10.0.0.5:5000 > 192.0.2.1:8080 | 192.0.2.1:8080 > 10.0.0.5:5000",
            "10.0.0.5:5000 > 192.0.2.1:8080 | 10.0.0.6:80 > 192.0.2.1:5000",
            "192.0.2.1:5000 > 10.0.0.6:80 | 192.0.2.1:8080 > 10.0.0.5:5000",
            "192.0.2.1:5000 > 10.0.0.6:80 | 10.0.0.6:80 > 192.0.2.1:5000",
        ]
    );
    // a machine without a gateway answers its own neighbour
    let lamp = seen(&followed("198.51.100.1:5000 -> 192.0.2.1:7/tcp"));
    assert_eq!(lamp[3], "10.0.0.1:5000 > 10.0.0.7:7 | 10.0.0.7:7 > 10.0.0.1:5000");
}

#[test]
fn whoever_answers_for_the_next_address_is_named() {
    let f = followed("desk -> 198.51.100.1:80/tcp");
    let takers =
        |list: &[zarnet_core::network::Handover]| list.iter().map(|h| h.to).collect::<Vec<_>>();
    assert_eq!(
        takers(&f.forth.departure),
        [Some(NextHopOwner::Interface(DeviceId(0), InterfaceId(0)))]
    );
    assert_eq!(
        takers(&f.forth.hops[0].handed),
        [Some(NextHopOwner::Provider), Some(NextHopOwner::Peer)]
    );
    assert!(matches!(takers(&f.back.hops[0].handed)[..], [Some(NextHopOwner::Host(_))]));
    let f = followed("desk -> 10.0.0.78:9/udp");
    assert_eq!((takers(&f.forth.departure), f.delivered()), (vec![None], false));
}

/// Nothing of a flow that is followed stays behind: the next one finds the port free, and the
/// counter where it was.
#[test]
fn following_leaves_the_network_as_it_is() {
    let (plan, flow) = parsed("desk:5000 -> 198.51.100.1:80/tcp");
    let (_, other) = parsed("shop:5000 -> 198.51.100.1:80/tcp");
    let mut rehearsal = Rehearsal::new(plan, 0);
    let first = rehearsal.follow(&flow);
    for flow in [other, flow, other] {
        let again = rehearsal.follow(&flow);
        assert_eq!(again.arrived.map(|a| a.1), first.arrived.map(|a| a.1));
    }
    assert_eq!(rehearsal.follow(&flow).forth, first.forth);
}

#[test]
fn a_flow_can_be_followed_in_the_middle_of_a_day() {
    let (plan, flow) = parsed("desk:5000 -> 198.51.100.1:80/udp");
    let (_, other) = parsed("shop:5000 -> 198.51.100.1:80/udp");
    let second = |n: u64| zarnet_core::net::Instant(n * 1_000_000_000);
    let items = || {
        let late = Flow { start: second(500), source_port: Some(5001), ..other };
        [Flow { start: second(1), ..other }, late]
            .into_iter()
            .map(|f| Ok::<_, Infallible>(Item::Flow(f)))
    };
    let disable =
        Event { at: second(600), device: DeviceId(0), action: Action::Disable(RuleId(3)) };
    let at = |moment| {
        let options = Options { moment, ..Options::default() };
        let f =
            follow_during(plan.clone(), OneByOne(items()), vec![disable.clone()], options, &flow)
                .unwrap()
                .followed;
        (f.at, f.arrived.map(|a| a.1.source().to_string()), f.loss.map(|l| l.reason.name()))
    };
    let then = |n, source: &str| (second(n), Some(source.to_owned()), None);
    assert_eq!(at(Moment::At(second(0))), then(0, "192.0.2.1:5000"), "before anybody else");
    assert_eq!(at(Moment::At(second(2))), then(2, "192.0.2.1:5001"), "the port is taken");
    assert_eq!(at(Moment::At(second(400))), then(400, "192.0.2.1:5000"), "and free again");
    let (end, arrived, loss) = at(Moment::End);
    assert_eq!(
        (end, arrived, loss),
        (second(600), None, Some("private-address-on-internet")),
        "the rule is off"
    );
}

/// The parts of an expectation that fail, by name.
fn failed(expectation: &str) -> Vec<String> {
    let plan = plan(&format!("{WHARF}\n[[expect]]\n{expectation}\n"));
    let tried = Rehearsal::new(plan.clone(), 0).expect(&plan.expectations[0]);
    let name = |f: &zarnet_core::predict::Failed| {
        format!("{f:?}").split(['(', ' ']).next().unwrap().to_owned()
    };
    tried.failed.iter().map(name).collect()
}

#[test]
fn expectations_hold_or_say_what_does_not() {
    let cases: &[(&str, &[&str])] = &[
        ("flow = 'desk -> 198.51.100.1:80/tcp'", &[]),
        ("flow = 'desk -> 198.51.100.1:23/tcp'", &["NotAnswered"]),
        ("flow = 'desk -> 198.51.100.1:80/tcp'\nbecomes = '192.0.2.1'", &[]),
        ("flow = 'desk -> 198.51.100.1:80/tcp'\nbecomes = 'edge/street'", &[]),
        ("flow = 'desk -> 198.51.100.1:80/tcp'\nbecomes = '192.0.2.2-192.0.2.9'", &["Becomes"]),
        ("flow = 'desk:7000 -> 198.51.100.1:80/tcp'\nbecomes = '192.0.2.1:7000'", &[]),
        ("flow = 'desk:7000 -> 198.51.100.1:80/tcp'\nbecomes = '192.0.2.1:7001'", &["Becomes"]),
        ("flow = '198.51.100.1 -> 192.0.2.1:22/tcp'\nreaches = 'shed:22'", &[]),
        ("flow = '198.51.100.1 -> 192.0.2.1:22/tcp'\nreaches = 'shop'", &["Reaches"]),
        (
            "flow = '198.51.100.1 -> 192.0.2.1:23/tcp'\nreaches = 'shop'",
            &["NotAnswered", "Reaches"],
        ),
        ("flow = 'desk -> 198.51.100.1:23/tcp'\nrefused = true", &[]),
        ("flow = 'desk -> 198.51.100.1:80/tcp'\nrefused = true", &["Refused"]),
        ("flow = 'desk -> 198.51.100.1:80/tcp'\nrefused = false", &[]),
        ("flow = '198.51.100.1 -> 10.0.0.6:80/tcp'\nunreachable = true", &[]),
        ("flow = '198.51.100.1 -> 10.0.0.6:80/tcp'\nrefused = true", &["Refused"]),
        ("flow = 'desk -> shop:80/tcp'\nunreachable = true", &["Unreachable"]),
        ("flow = 'desk -> 198.51.100.1:23/tcp'\nreason = 'ingress-acl'", &[]),
        ("flow = 'desk -> 198.51.100.1:23/tcp'\nreason = 'policy'", &["Reason"]),
        ("flow = 'desk -> shop:80/tcp'\nreason = 'on-link'", &[]),
        (
            "flow = 'shed -> 198.51.100.1:9/udp'\nseen-by = { at = 'box/front', source = \
             '10.0.0.9' }",
            &[],
        ),
        (
            "flow = 'shed -> 198.51.100.1:9/udp'\nseen-by = { at = 'edge/hall', source = 'shed' }",
            &["SeenBy"],
        ),
        (
            "flow = 'shed -> 198.51.100.1:9/udp'\nseen-by = { at = '198.51.100.1', source = \
             'edge/street' }",
            &[],
        ),
        ("flow = 'desk -> 198.51.100.1:9/udp'\nseen-by = { at = 'shed' }", &["SeenBy"]),
    ];
    for (expectation, wanted) in cases {
        assert_eq!(failed(expectation), *wanted, "{expectation}");
    }
}

proptest! {
    /// What is told of a way hangs together, and ends as a prediction of the same flow ends.
    #[test]
    fn a_followed_flow_ends_as_it_is_predicted(
        source in prop::sample::select(vec![
            "desk", "shop", "lamp", "shed", "edge", "box", "198.51.100.1", "10.0.0.80",
        ]),
        destination in prop::sample::select(vec![
            "desk", "shop", "lamp", "shed", "198.51.100.1", "192.0.2.1", "192.0.2.3", "10.0.0.9",
            "10.8.0.1", "10.77.0.1",
        ]),
        port in prop::sample::select(vec![7, 22, 23, 80, 8022, 8080]),
        protocol in prop::sample::select(vec!["tcp", "udp", "icmp", "gre"]),
    ) {
        let port =
            if matches!(protocol, "tcp" | "udp") { format!(":{port}") } else { String::new() };
        let (plan, flow) = parsed(&format!("{source} -> {destination}{port}/{protocol}"));
        let followed = Rehearsal::new(plan.clone(), 0).follow(&flow);
        let items = std::iter::once(Ok::<_, Infallible>(Item::Flow(flow)));
        let predicted = predict(
            plan.clone(),
            OneByOne(items),
            Vec::new(),
            Options { sources: Some(Default::default()), ..Options::default() },
        )
        .unwrap();
        let told = predicted.not_translated.first();
        prop_assert_eq!(
            followed.loss.map(|l| (l.reason, l.device, l.rule, l.place)),
            told.map(|n| (n.reason, n.device, n.rule, n.place))
        );
        prop_assert_eq!(
            followed.answered(),
            matches!(followed.class, Class::Translated | Class::Untranslated)
        );
        prop_assert_eq!(followed.negative, predicted.negative);
        for trace in [&followed.forth, &followed.back] {
            for pair in trace.hops.windows(2) {
                prop_assert_eq!(pair[0].exit.map(|o| o.packet), Some(pair[1].packet));
            }
        }
        let views = followed.views();
        let placed = |v: &zarnet_core::predict::SeenEnds| {
            matches!(v.at, ObservationPoint::Interface(..)) || v.forth.is_some() || v.back.is_some()
        };
        prop_assert!(views.iter().all(placed));
    }
}
