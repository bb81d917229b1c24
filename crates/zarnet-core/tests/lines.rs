//! Several lines to the internet: routes for some packets only, answers that leave as they came,
//! and providers that look at sources. The edge has `street` (203.0.113.2/27) and `lane`
//! (192.0.2.2/28).

use std::convert::Infallible;
use std::sync::Arc;

use zarnet_core::net::{Endpoint, Packet, Protocol};
use zarnet_core::plan::{DeviceId, InterfaceId, Plan, Routed};
use zarnet_core::predict::{Options, Scene, predict};
use zarnet_core::traffic::{Flow, Item, OneByOne, Seen};
use zarnet_testkit::played::{HOSTS, nothing, plan, play, written};

/// An edge with two lines; `routes` are those besides the default one by `street`.
fn two_lines(checks: bool, keys: &str, routes: &str, rules: &[&str]) -> Arc<Plan> {
    plan(two_lines_text(checks, keys, routes, rules))
}

fn two_lines_text(checks: bool, keys: &str, routes: &str, rules: &[&str]) -> String {
    let checked =
        HOSTS.replace("internet = true", &format!("internet = true\nchecks-source = {checks}"));
    let mut text = format!(
        r#"{checked}[[device]]
name = "edge"
{keys}
  [[device.interface]]
  name = "floor"
  realm = "internal"
  address = "10.20.0.1/24"
  [[device.interface]]
  name = "street"
  realm = "external"
  segment = "world"
  address = "203.0.113.2/27"
  [[device.interface]]
  name = "lane"
  realm = "external"
  segment = "world"
  address = "192.0.2.2/28"
  also = ["198.18.7.1"]
  [[device.route]]
  to = "0.0.0.0/0"
  via = "203.0.113.1"
{routes}"#
    );
    rules.iter().for_each(|r| text += &written(r));
    text
}

const BY_LANE: &str = "  [[device.route]]\n  to = \"0.0.0.0/0\"\n  via = \"192.0.2.1\"\n";

const EACH: [&str; 2] = [
    "street-out overload into = \"street\"; as = \"street\"",
    "lane-out overload into = \"lane\"; as = \"lane\"",
];

/// Where the first packet and the answer of a flow left the edge, by interface.
fn ways(plan: &Arc<Plan>, line: &str) -> (String, Option<String>) {
    let flow: Flow = zarnet_testkit::played::flow(plan, line);
    let followed = Scene::at_rest(plan.clone(), 0, &flow).followed;
    let by = |trace: &zarnet_core::network::Trace| {
        let exit = trace.hops.first().and_then(|h| h.exit);
        exit.map(|e| plan.devices[0].interfaces[e.interface.index()].name.clone())
    };
    (by(&followed.forth).unwrap_or_default(), by(&followed.back))
}

#[test]
fn a_route_may_be_for_some_senders_only() {
    let lane = format!("{BY_LANE}  source = \"h1\"\n");
    let plan = two_lines(false, "", &lane, &EACH);
    assert_eq!(ways(&plan, "0 udp h0>198.51.100.80:53").0, "street");
    assert_eq!(ways(&plan, "0 udp h1>198.51.100.80:53").0, "lane");
    // its source is the one before translation, and the mapping is of the line that it leaves by
    let played = play(
        &plan,
        &["0 udp h0:1>198.51.100.80:53", "0 udp h1:2>198.51.100.80:53"],
        vec![],
        Some(1.0),
    );
    assert_eq!(played.external("h0")[0].address.to_string(), "203.0.113.2");
    assert_eq!(played.external("h1")[0].address.to_string(), "192.0.2.2");
}

#[test]
fn a_route_may_be_for_what_comes_in_by_some_realms_only() {
    let from = |names: &str| two_lines(false, "", &format!("{BY_LANE}  from = {names}\n"), &EACH);
    assert_eq!(ways(&from("\"internal\""), "0 udp h0>198.51.100.80:53").0, "lane");
    assert_eq!(ways(&from("[\"floor\"]"), "0 udp h0>198.51.100.80:53").0, "lane");
    assert_eq!(ways(&from("\"external\""), "0 udp h0>198.51.100.80:53").0, "street");
    // what the device itself sends comes in nowhere
    assert_eq!(
        ways(&from("[\"floor\", \"street\", \"lane\"]"), "0 udp edge>198.51.100.80:53").0,
        "street"
    );
}

#[test]
fn routes_with_conditions_come_first_even_before_longer_ones_and_among_themselves_the_longest() {
    let narrow = "  [[device.route]]\n  to = \"198.51.100.0/24\"\n  via = \"203.0.113.1\"\n";
    let by_lane = format!("{BY_LANE}  source = \"h0\"\n");
    assert_eq!(
        ways(
            &two_lines(false, "", &format!("{narrow}{by_lane}"), &EACH),
            "0 udp h0>198.51.100.80:53"
        )
        .0,
        "lane"
    );
    let both = format!("{by_lane}{narrow}  source = \"h0\"\n");
    assert_eq!(ways(&two_lines(false, "", &both, &EACH), "0 udp h0>198.51.100.80:53").0, "street");
    let listed = format!(
        "{by_lane}  [[device.route]]\n  to = \"0.0.0.0/0\"\n  via = \"203.0.113.1\"\n  from = \
         \"floor\"\n"
    );
    assert_eq!(ways(&two_lines(false, "", &listed, &EACH), "0 udp h0>198.51.100.80:53").0, "lane");
}

#[test]
fn a_connected_prefix_stands_unless_a_route_for_all_is_longer() {
    let away =
        "  [[device.route]]\n  to = \"0.0.0.0/0\"\n  via = \"192.0.2.1\"\n  from = \"external\"\n";
    let plan = two_lines(
        false,
        "",
        away,
        &["web forward external = \"street:443/tcp\"; internal = \"h0\""],
    );
    assert_eq!(ways(&plan, "0 tcp 198.51.100.80>203.0.113.2:443").0, "floor", "h0 is on the link");
    let longer = "  [[device.route]]\n  to = \"10.20.0.11/32\"\n  via = \"10.20.0.12\"\n";
    let plan = two_lines(
        false,
        "",
        &format!("{away}{longer}"),
        &["web forward external = \"street:443/tcp\"; internal = \"h0\""],
    );
    assert_eq!(ways(&plan, "0 tcp 198.51.100.80>203.0.113.2:443").0, "lane");
}

/// A device named alone is from the address of the interface that the route for all leads out by,
/// and the route stands; an interface named with it gives the source, for which routes are looked
/// at.
#[test]
fn the_source_of_its_own_traffic_follows_from_the_route_or_is_given() {
    let plan = two_lines(
        false,
        "",
        &format!("{BY_LANE}  source = [\"203.0.113.2\", \"192.0.2.2\"]\n"),
        &EACH,
    );
    let sent = |line: &str| {
        let followed =
            Scene::at_rest(plan.clone(), 0, &zarnet_testkit::played::flow(&plan, line)).followed;
        (followed.sent.unwrap().1.source().address.to_string(), ways(&plan, line).0)
    };
    assert_eq!(sent("0 udp edge>198.51.100.80:53"), ("203.0.113.2".into(), "street".into()));
    assert_eq!(sent("0 udp edge/lane>198.51.100.80:53"), ("192.0.2.2".into(), "lane".into()));
    assert_eq!(sent("0 udp edge/street>198.51.100.80:53"), ("203.0.113.2".into(), "lane".into()));
    assert_eq!(sent("0 udp 203.0.113.2>198.51.100.80:53"), ("203.0.113.2".into(), "lane".into()));
}

const WEB: &str = "web forward external = \"192.0.2.2:443/tcp\"; internal = \"h0:443\"";
const AS_CAME: &str = "behaviour = { answers-leave = \"as-came\" }";

#[test]
fn answers_leave_by_route_or_as_their_session_came() {
    let ask = "0 tcp 198.51.100.80:4000>192.0.2.2:443 5";
    assert_eq!(ways(&two_lines(false, "", BY_LANE, &[WEB]), ask).1.unwrap(), "street");
    let as_came = two_lines(false, AS_CAME, BY_LANE, &[WEB]);
    assert_eq!(ways(&as_came, ask).1.unwrap(), "lane");
    assert_eq!(play(&as_came, &[ask], vec![], Some(1.0)).lost(), nothing());
    // the next hop is that of the longest route over that interface, also of one whose conditions
    // hold for the answer
    let next_hop = |routes: &str| {
        let plan = two_lines(false, AS_CAME, routes, &[WEB]);
        let followed =
            Scene::at_rest(plan.clone(), 0, &zarnet_testkit::played::flow(&plan, ask)).followed;
        followed.back.hops[0].exit.map(|e| (e.interface.0, e.next_hop.to_string()))
    };
    let longer = "  [[device.route]]\n  to = \"198.51.100.0/24\"\n  via = \"192.0.2.9\"\n";
    assert_eq!(next_hop(&format!("{BY_LANE}{longer}")), Some((2, "192.0.2.9".into())));
    assert_eq!(
        next_hop(&format!("{BY_LANE}{longer}  source = \"h0\"\n")),
        Some((2, "192.0.2.9".into()))
    );
    assert_eq!(
        next_hop(&format!("{BY_LANE}{longer}  source = \"h1\"\n")),
        Some((2, "192.0.2.1".into()))
    );
    assert_eq!(
        next_hop(&format!("{BY_LANE}{longer}  from = \"external\"\n")),
        Some((2, "192.0.2.1".into()))
    );
    assert_eq!(next_hop(""), None, "no route leads over the lane");
    // somebody on its link is answered there
    let neighbour = "[[host]]\nname = \"n\"\naddress = \"192.0.2.7/28\"\nsegment = \"world\"\n";
    let text = two_lines_text(false, AS_CAME, "", &[WEB]) + neighbour;
    assert_eq!(ways(&plan(text), "0 tcp 192.0.2.7:4000>192.0.2.2:443").1.unwrap(), "lane");
}

#[test]
fn its_own_answers_leave_as_their_question_came() {
    let ping = "0 icmp 198.51.100.80>192.0.2.2";
    let ways_of = |keys: &str| ways(&two_lines(true, keys, BY_LANE, &[]), ping);
    let lost =
        |keys: &str| play(&two_lines(true, keys, BY_LANE, &[]), &[ping], vec![], None).lost();
    assert_eq!(lost(""), ["source-of-other-line edge"]);
    assert_eq!(ways_of(AS_CAME).1.unwrap_or_default(), "lane");
    assert_eq!(lost(AS_CAME), ["to-device edge"]);
}

/// RFC 2827: a provider drops what has a source of another line.
#[test]
fn rfc2827_a_provider_that_checks_sources_drops_those_of_other_lines() {
    let ask = "0 tcp 198.51.100.80:4000>192.0.2.2:443 5";
    let by_route = two_lines(true, "", BY_LANE, &[WEB]);
    assert_eq!(play(&by_route, &[ask], vec![], None).lost(), ["source-of-other-line edge"]);
    assert_eq!(
        play(&two_lines(true, AS_CAME, BY_LANE, &[WEB]), &[ask], vec![], None).lost(),
        nothing()
    );
    assert_eq!(
        play(&two_lines(false, "", BY_LANE, &[WEB]), &[ask], vec![], None).lost(),
        nothing(),
        "nobody looks"
    );
    // whatever the destination is
    let wrong = ["out overload as = \"192.0.2.2\""];
    for to in ["198.51.100.80", "203.0.113.9", "10.99.0.1", "192.0.2.9"] {
        let lost =
            play(&two_lines(true, "", "", &wrong), &[&format!("0 udp h0>{to}:53")], vec![], None)
                .lost();
        let wanted =
            if to == "192.0.2.9" { "nobody-answers edge" } else { "source-of-other-line edge" };
        assert_eq!(lost, [wanted], "{to}");
    }
    // a private source is told as what it is
    let plain = two_lines(true, "", "", &[]);
    assert_eq!(
        play(&plain, &["0 udp h0>198.51.100.80:53"], vec![], None).lost(),
        ["private-address-on-internet edge"]
    );
    // what hosts and peers there send is not looked at
    assert_eq!(
        play(&plain, &["0 icmp 198.51.100.80>203.0.113.2"], vec![], None).lost(),
        ["to-device edge"]
    );
}

#[test]
fn blocks_that_are_routed_to_an_interface_are_of_its_line() {
    let block = |via: &str| {
        let lane = format!("{BY_LANE}  source = \"h0\"\n");
        let mut plan = (*two_lines(true, "", &lane, &["out overload as = \"198.18.9.1\""])).clone();
        let (to, via, place) =
            ("198.18.9.0/29".parse().unwrap(), via.parse().unwrap(), Default::default());
        plan.segments[0].routed.push(Routed { to, via, place });
        play(&Arc::new(plan), &["0 udp h0>198.51.100.80:53"], vec![], None).lost()
    };
    assert_eq!(block("192.0.2.2"), nothing());
    assert_eq!(block("198.18.7.1"), nothing(), "by one of its further addresses");
    assert_eq!(block("203.0.113.2"), ["source-of-other-line edge"]);
}

/// With two lines, who is on the internet may come in by either: captures of both are read.
#[test]
fn a_capture_of_the_second_line_is_judged() {
    let plan = two_lines(false, "", &format!("{BY_LANE}  source = \"h1\"\n"), &[WEB]);
    let end = |text: &str, port| Endpoint::new(text.parse::<std::net::IpAddr>().unwrap(), port);
    let packet = Packet::first(Protocol::TCP, end("198.51.100.80", 4000), end("192.0.2.2", 443));
    let seen = Seen {
        at: zarnet_testkit::played::seconds("1"),
        device: DeviceId(0),
        interface: InterfaceId(2),
        packet,
    };
    let items = std::iter::once(Ok::<Item, Infallible>(Item::Seen(seen)));
    let prediction = predict(plan, OneByOne(items), vec![], Options::default()).unwrap();
    assert_eq!((prediction.tally.translated, prediction.unattributed), (1, 0));
}
