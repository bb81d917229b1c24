//! The table of a device against the predicted one: what counts as a difference, and its cause.

use std::convert::Infallible;

use zarnet_analysis::compare::{Comparison, compare};
use zarnet_core::net::{Endpoint, Instant, Protocol};
use zarnet_core::plan::DeviceId;
use zarnet_core::predict::{Moment, Options, Prediction, predict};
use zarnet_core::traffic::{Flow, Item, OneByOne, Party};
use zarnet_formats::observed::Observed;
use zarnet_formats::traffic::Begun;
use zarnet_testkit::edge::{OVERLOAD, plan, plan_text, pool};

fn endpoint(text: &str) -> Endpoint {
    let (address, port) = text.split_once(':').unwrap_or((text, "0"));
    Endpoint::new(address.parse::<std::net::IpAddr>().unwrap(), port.parse().unwrap())
}

/// UDP flows `SOURCE > DESTINATION @SECOND`, and the table at second 100.
fn predicted(behaviour: &str, rules: &str, flows: &[&str]) -> (Prediction, Begun) {
    let plan = plan(&plan_text(behaviour, "{}", rules));
    let mut begun = Begun::default();
    let flows: Vec<Flow> = flows
        .iter()
        .map(|text| {
            let (ends, at) = text.split_once(" @").unwrap();
            let (source, destination) = ends.split_once(" > ").unwrap();
            let (source, destination) = (endpoint(source), endpoint(destination));
            begun.insert((Protocol::UDP, source.address, source.port));
            Flow {
                start: Instant(at.parse::<u64>().unwrap() * 1_000_000_000),
                protocol: Protocol::UDP,
                source: Party::Address(source.address),
                source_port: Some(source.port),
                destination: Party::Address(destination.address),
                destination_port: Some(destination.port),
                lasts: 0,
                ending: None,
                round_trip: None,
            }
        })
        .collect();
    let items = flows.into_iter().map(|f| Ok::<_, Infallible>(Item::Flow(f)));
    let options = Options {
        moment: Moment::At(Instant(400_000_000_000)),
        sources: Some(Default::default()),
        ..Options::default()
    };
    (predict(plan, OneByOne(items), Vec::new(), options).unwrap(), begun)
}

/// Holds `INTERNAL EXTERNAL` lines against a prediction; tells the entries that agree, and
/// `KIND CAUSE` of the others.
fn held(behaviour: &str, rules: &str, flows: &[&str], table: &[&str]) -> (u64, Vec<String>) {
    let (prediction, begun) = predicted(behaviour, rules, flows);
    let observed: Vec<Observed> = table
        .iter()
        .zip(1..)
        .map(|(text, line)| {
            let (internal, external) = text.split_once(' ').unwrap();
            let (internal, external) = (endpoint(internal), endpoint(external));
            Observed {
                device: DeviceId(0),
                protocol: Some(Protocol::UDP),
                internal,
                external,
                peer: None,
                created: None,
                expires: None,
                line,
            }
        })
        .collect();
    let Comparison { same, differences, .. } = compare(&prediction, &observed, &begun);
    (same, differences.iter().map(|d| format!("{} {}", d.kind.name(), d.why.name())).collect())
}

#[test]
fn every_difference_has_its_cause() {
    let flow = "10.0.0.5:1000 > 198.51.100.1:53 @390";
    let idle = "10.0.0.6:2000 > 198.51.100.1:53 @200";
    let gone = "10.0.0.7:3000 > 198.51.100.1:53 @0";
    let one = |table: &[&str]| held("\"bcp\"", OVERLOAD, &[gone, idle, flow], table);
    let both = ["10.0.0.5:1000 192.0.2.1:1000", "10.0.0.6:2000 192.0.2.1:2000"];
    assert_eq!(one(&both), (2, vec![]));
    assert_eq!(one(&both[..1]), (1, vec!["missing expired-there".into()]));
    assert_eq!(one(&[]), (0, vec!["missing rule-missing-on-device".to_owned(); 2]));
    let with = |more: &str| one(&[both[0], both[1], more]).1;
    assert_eq!(with("10.0.0.7:3000 192.0.2.1:3000"), ["extra expired-here"]);
    assert_eq!(with("10.0.0.9:9 192.0.2.1:9"), ["extra not-in-traffic"]);
    assert_eq!(with("10.0.0.9:9 192.0.2.9:9"), ["extra no-rule-explains"]);
    assert_eq!(one(&["10.0.0.5:1000 192.0.2.1:4000", both[1]]).1, ["different other-port-chosen"]);
    let elsewhere = ["10.0.0.5:1000 192.0.2.9:1000", both[1]];
    assert_eq!(one(&elsewhere).1, ["different no-rule-explains"]);
    let other = |enabled: bool| {
        let second = OVERLOAD.replace("\"all\"", "\"other\"");
        let second = second.replace("as = \"uplink\"", "as = \"192.0.2.9\"");
        let rules = format!("{OVERLOAD}{second}  enabled = {enabled}\n");
        held("\"bcp\"", &rules, &[gone, idle, flow], &elsewhere).1
    };
    assert_eq!(other(true), ["different other-rule"]);
    assert_eq!(other(false), ["different old-rule-alive"]);
    let off = format!("{OVERLOAD}  enabled = false\n");
    assert_eq!(held("\"bcp\"", &off, &[flow], &both[..1]).1, ["extra old-rule-alive"]);
}

/// A device that chooses ports at random, or addresses of a pool as it likes, differs from nothing
/// by that.
#[test]
fn what_is_chosen_freely_is_no_difference() {
    let flow = "10.0.0.5:1000 > 198.51.100.1:53 @390";
    let random = "{ port-assignment = \"random\" }";
    assert_eq!(held(random, OVERLOAD, &[flow], &["10.0.0.5:1000 192.0.2.1:40000"]), (1, vec![]));
    let any = pool(3, "pick = \"random\"");
    assert_eq!(held("\"bcp\"", &any, &[flow], &["10.0.0.5 192.0.2.10"]).0, 1);
    let lowest = pool(3, "pick = \"lowest\"");
    assert_eq!(
        held("\"bcp\"", &lowest, &[flow], &["10.0.0.5 192.0.2.10"]).1,
        ["different other-address-chosen"]
    );
}

/// Of two hosts for one address, the device served the other one.
#[test]
fn who_was_refused_here_may_have_been_served_there() {
    let flows = ["10.0.0.5:1000 > 198.51.100.1:53 @390", "10.0.0.6:1000 > 198.51.100.1:53 @391"];
    let differences = held("\"bcp\"", &pool(1, ""), &flows, &["10.0.0.6 192.0.2.8"]).1;
    assert_eq!(differences, ["missing rule-missing-on-device", "extra refused-here"]);
}

/// An overload onto an interface has its first address, not those that it has besides: comparing a
/// table and reckoning what is in use by it say the same of a row there.
#[test]
fn a_row_on_a_further_address_of_an_interface_is_of_no_overload() {
    let text = plan_text("\"bcp\"", "{}", OVERLOAD)
        .replace("segment = \"world\"\n", "segment = \"world\"\n  also = \"192.0.2.3\"\n");
    let plan = plan(&text);
    let row = |external: &str| Observed {
        device: DeviceId(0),
        protocol: Some(Protocol::UDP),
        internal: endpoint("10.0.0.9:9"),
        external: endpoint(external),
        peer: None,
        created: None,
        expires: None,
        line: 1,
    };
    let nothing = || std::iter::empty::<Result<Item, Infallible>>();
    let prediction =
        predict(plan.clone(), OneByOne(nothing()), Vec::new(), Options::default()).unwrap();
    let told = |external: &str| {
        let compared = compare(&prediction, &[row(external)], &Begun::default());
        let why = compared.differences[0].why.name();
        (why, zarnet_analysis::capacity::of_table(&plan, &[row(external)]).resources.len())
    };
    assert_eq!(told("192.0.2.1:9"), ("not-in-traffic", 1));
    assert_eq!(told("192.0.2.3:9"), ("no-rule-explains", 0));
}
