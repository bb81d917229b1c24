//! Flows through hosts, segments and devices: what becomes of each, and who is to blame.

use std::convert::Infallible;
use std::sync::Arc;

use zarnet_core::event::{Action, Clearing, Event};
use zarnet_core::net::{FlowNotation, Instant};
use zarnet_core::plan::{DeviceId, Plan, RuleId};
use zarnet_core::predict::{Moment, Options, Prediction, Sources, predict};
use zarnet_core::traffic::{Flow, Item, OneByOne, Party};
use zarnet_testkit::edge::plan;
use zarnet_testkit::town::TOWN;

fn flow(plan: &Plan, text: &str, start: u64) -> Flow {
    let n: FlowNotation = text.parse().unwrap();
    let party = |who: &str| match (who.parse(), plan.host(who), plan.device(who)) {
        (Ok(address), ..) => Party::Address(address),
        (_, Some(host), _) => Party::Host(host),
        (_, _, device) => Party::Device(device.unwrap()),
    };
    Flow {
        start: Instant(start * 1_000_000_000),
        protocol: n.protocol,
        source: party(&n.source.who),
        source_port: n.source.port,
        destination: party(&n.destination.who),
        destination_port: n.destination.port,
        lasts: 0,
        ending: None,
        round_trip: None,
    }
}

fn run(plan: &Arc<Plan>, flows: &[Flow], events: Vec<Event>, moment: Moment) -> Prediction {
    let sources: Sources = flows
        .iter()
        .filter_map(|f| if let Party::Address(a) = f.source { Some(a) } else { None })
        .collect();
    let items = flows.iter().map(|f| Ok::<_, Infallible>(Item::Flow(*f)));
    predict(
        plan.clone(),
        OneByOne(items),
        events,
        Options { moment, sources: Some(sources), ..Options::default() },
    )
    .unwrap()
}

/// The reason of a single flow, or `translated`.
fn fate(text: &str, flow_text: &str) -> String {
    let plan = plan(text);
    let p = run(&plan, &[flow(&plan, flow_text, 0)], Vec::new(), Moment::End);
    assert_eq!(p.tally.total(), 1);
    p.not_translated.first().map_or("translated".into(), |n| n.reason.name().into())
}

#[test]
fn every_way_in_which_a_flow_can_end() {
    let cases = [
        ("desk -> 198.51.100.1:80/tcp", "translated"),
        ("desk -> 192.0.2.1:8080/tcp", "translated"),
        ("198.51.100.1 -> 192.0.2.1:8080/tcp", "translated"),
        ("10.0.0.77 -> 198.51.100.1:80/tcp", "translated"),
        ("desk -> shop:80/tcp", "on-link"),
        ("desk -> shop:81/tcp", "no-listener"),
        ("desk -> shop/icmp", "on-link"),
        ("desk -> annex:9/udp", "no-rule"),
        ("annex -> 198.51.100.1:80/tcp", "private-address-on-internet"),
        ("desk -> 10.9.9.9:80/tcp", "private-address-on-internet"),
        ("stray -> 198.51.100.1:80/tcp", "no-gateway"),
        ("astray -> 198.51.100.1:80/tcp", "gateway-unanswered"),
        ("sent-on -> 198.51.100.1:80/tcp", "not-for-this-host"),
        ("desk -> 10.0.0.200:80/tcp", "nobody-answers"),
        ("desk -> 192.0.2.3:80/tcp", "nobody-answers"),
        ("198.51.100.1 -> 198.51.100.73:80/tcp", "nobody-answers"),
        ("198.51.100.1 -> 192.0.2.1:23/tcp", "no-listener"),
        ("198.51.100.1 -> 192.0.2.1:22/tcp", "to-device"),
        ("198.51.100.1 -> 192.0.2.1/icmp", "to-device"),
        ("desk -> 10.0.0.1/icmp", "to-device"),
        ("edge -> 198.51.100.1:53/udp", "from-device"),
        ("192.0.2.1 -> 198.51.100.1:53/udp", "from-device"),
        ("172.16.0.1 -> 198.51.100.1:53/udp", "unknown-source"),
        ("198.51.100.1 -> 10.0.0.5:80/tcp", "private-address-on-internet"),
        ("desk -> 192.0.2.14:80/tcp", "translated"),
        ("desk -> [2001:db8::1]:80/tcp", "unsupported-family"),
    ];
    for (text, wanted) in cases {
        assert_eq!(fate(TOWN, text), wanted, "{text}");
    }
    let changed = |from: &str, to: &str| {
        assert!(TOWN.contains(from));
        TOWN.replace(from, to)
    };
    let out = "desk -> 198.51.100.1:80/tcp";
    assert_eq!(
        fate(&changed("name = \"edge\"", "name = \"edge\"\nforwarding = false"), out),
        "not-forwarding"
    );
    assert_eq!(
        fate(&changed("name = \"edge\"", "name = \"edge\"\ndefault-policy = \"drop\""), out),
        "policy"
    );
    assert_eq!(fate(&changed("to = \"0.0.0.0/0\"", "to = \"203.0.113.0/24\""), out), "no-route");
    assert_eq!(
        fate(&changed("type = \"overload\"\n", "type = \"overload\"\nlimit = 0\n"), out),
        "rule-limit"
    );
    assert_eq!(
        fate(
            &changed(
                "name = \"edge\"",
                "name = \"edge\"\nbehaviour = { max-mappings = 1, max-sessions = 1 }"
            ),
            out
        ),
        "translated"
    );
    let exempt = changed(
        "  [[device.rule]]\n  name = \"hall-out\"",
        "  [[device.rule]]\n  name = \"quiet\"\n  type = \"exempt\"\n  into = \"annex\"\n  \
         [[device.rule]]\n  name = \"hall-out\"",
    );
    assert_eq!(fate(&exempt, "desk -> annex:9/udp"), "exempt");
    // what is routed to the device and used by nobody goes round in circles
    assert_eq!(fate(TOWN, "198.51.100.1 -> 198.51.100.65:80/tcp"), "looped");
    // RFC 4787 REQ-9a: without its external source, a hairpinned client is answered directly and
    // drops the answer
    let keep =
        changed("name = \"edge\"", "name = \"edge\"\nbehaviour = { hairpin-source = \"keep\" }");
    assert_eq!(fate(&keep, "desk -> 192.0.2.1:8080/tcp"), "unexpected-source");
    assert_eq!(
        fate(
            &changed("hairpin = \"internal\"", "hairpin = \"annex\""),
            "desk -> 192.0.2.1:8080/tcp"
        ),
        "filtered"
    );
}

#[test]
fn events_take_effect_between_flows() {
    let plan = plan(TOWN);
    let out = |at| flow(&plan, "desk:5000 -> 198.51.100.1:53/udp", at);
    let (edge, rule) = (DeviceId(0), RuleId(1));
    let event = |at: u64, action| Event { at: Instant(at * 1_000_000_000), device: edge, action };
    let table = |events: Vec<Event>, flows: &[Flow], at: u64| {
        let p = run(&plan, flows, events, Moment::At(Instant(at * 1_000_000_000)));
        let reasons: Vec<&str> = p.not_translated.iter().map(|n| n.reason.name()).collect();
        (p.tables[0].mapping_count, reasons.join(" "))
    };
    // a disabled rule makes nothing new, but what it made goes on
    let disabled = || vec![event(10, Action::Disable(rule)), event(50, Action::Enable(rule))];
    assert_eq!(table(disabled(), &[out(0)], 20), (1, String::new()));
    assert_eq!(table(disabled(), &[out(20)], 30), (0, "private-address-on-internet".into()));
    assert_eq!(table(disabled(), &[out(60)], 61), (1, String::new()));
    // clearing ends what it names and nothing else
    let clear = |clearing| vec![event(10, Action::Clear(clearing))];
    let host = |last| Clearing { host: Some([10, 0, 0, last].into()), ..Clearing::default() };
    assert_eq!(table(clear(host(5)), &[out(0)], 20).0, 0);
    assert_eq!(table(clear(host(6)), &[out(0)], 20).0, 1);
    assert_eq!(table(vec![event(10, Action::Restart)], &[out(0)], 20).0, 0);
    // at one instant: events, then first packets
    assert_eq!(table(vec![event(10, Action::Restart)], &[out(10)], 10).0, 1);
}

#[test]
fn an_answer_that_is_late_still_counts_as_it_arrives() {
    let plan =
        plan(&TOWN.replace("name = \"edge\"", "name = \"edge\"\ntimers = { udp-timeout = 5 }"));
    let late = |seconds: u64| Flow {
        round_trip: Some(seconds * 1_000_000_000),
        ..flow(&plan, "desk:5000 -> 198.51.100.1:53/udp", 0)
    };
    assert_eq!(run(&plan, &[late(4)], Vec::new(), Moment::End).tally.translated, 1);
    let p = run(&plan, &[late(6)], Vec::new(), Moment::End);
    assert_eq!(p.not_translated[0].reason.name(), "no-listener");
}

#[test]
fn two_families_are_refused_at_the_first_device() {
    let plan = plan(TOWN);
    let p = run(&plan, &[flow(&plan, "desk -> [2001:db8::1]:80/tcp", 0)], Vec::new(), Moment::End);
    assert_eq!(
        (p.not_translated[0].reason.name(), p.not_translated[0].device),
        ("unsupported-family", Some(DeviceId(0)))
    );
}
