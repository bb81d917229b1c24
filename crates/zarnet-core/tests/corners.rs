//! Corners of the contract: each a small plan and its traffic, found by holding random estates against a second model, and
//! named after what it shows. One edge between 10.20.0.0/24 (`floor`: h0 is .11, h1 is .12) and the internet (`street`).

use std::convert::Infallible;
use std::net::IpAddr;
use std::path::Path;
use std::sync::Arc;

use zarnet_core::device::{Ending, MappingRow};
use zarnet_core::net::{Endpoint, IcmpError, Instant, Packet, Protocol};
use zarnet_core::plan::{DeviceId, InterfaceId, Plan, PoolId, RuleId};
use zarnet_core::predict::{Moment, Options, Prediction, predict};
use zarnet_core::traffic::{Action, Clearing, Event, Flow, Item, Party, Seen, SeenError};

const HOSTS: &str = r#"
[[segment]]
name = "world"
internet = true
[[host]]
name = "h0"
address = "10.20.0.11/24"
gateway = "10.20.0.1"
[[host]]
name = "h1"
address = "10.20.0.12/24"
gateway = "10.20.0.1"
"#;

const EDGE: &str = r#"
  [[device.interface]]
  name = "floor"
  realm = "internal"
  address = "10.20.0.1/24"
  [[device.interface]]
  name = "street"
  realm = "external"
  segment = "world"
  address = "203.0.113.2/27"
  [[device.route]]
  to = "0.0.0.0/0"
  via = "203.0.113.1"
"#;

/// A plan of hosts and an edge with these keys and rules, each `NAME TYPE KEY = VALUE; ...`.
fn edge(keys: &str, rules: &[&str]) -> Arc<Plan> {
    let mut text = format!("{HOSTS}[[device]]\nname = \"edge\"\n{keys}\n{EDGE}");
    for rule in rules {
        text += &written(rule);
    }
    plan(text)
}

fn written(rule: &str) -> String {
    let mut words = rule.splitn(3, ' ');
    let (name, kind) = (words.next().unwrap(), words.next().unwrap());
    let more = words.next().unwrap_or("").replace("; ", "\n  ");
    format!("  [[device.rule]]\n  name = \"{name}\"\n  type = \"{kind}\"\n  {more}\n")
}

fn plan(text: String) -> Arc<Plan> {
    match zarnet_formats::plan::from_text(Path::new("corner.toml"), text.clone()) {
        Ok(loaded) => Arc::new(loaded.plan),
        Err(error) => panic!("{error:?}\n{text}"),
    }
}

const OUT: &str = "out overload as = \"street\"";

fn seconds(text: &str) -> Instant {
    Instant((text.parse::<f64>().unwrap() * 1e9).round() as u64)
}

fn end(text: &str) -> (Party, Option<u16>) {
    let text = text.replace("h0", "10.20.0.11").replace("h1", "10.20.0.12");
    let (address, port) = text.split_once(':').unwrap_or((&text, ""));
    (Party::Address(address.parse().unwrap()), port.parse().ok())
}

/// `START PROTOCOL SOURCE>DESTINATION [LASTS [ENDING]]`.
fn flow(line: &str) -> Flow {
    let words: Vec<&str> = line.split_whitespace().collect();
    let protocol: Protocol = words[1].parse().unwrap();
    let (source, destination) = words[2].split_once('>').unwrap();
    let ((source, source_port), (destination, destination_port)) = (end(source), end(destination));
    let ending = words.get(4).map(|e| match *e {
        "close" => Ending::Close,
        "reset" => Ending::Reset,
        _ => Ending::Silent,
    });
    Flow {
        start: seconds(words[0]),
        protocol,
        source,
        source_port,
        destination,
        destination_port,
        lasts: words.get(3).map_or(0, |l| seconds(l).0),
        ending,
        round_trip: None,
    }
}

struct Played {
    plan: Arc<Plan>,
    prediction: Prediction,
}

/// Plays lines of traffic, with events, and takes the table at a moment.
fn play(plan: &Arc<Plan>, lines: &[&str], events: Vec<Event>, at: Option<f64>) -> Played {
    let items = lines.iter().map(|l| Ok::<Item, Infallible>(Item::Flow(flow(l))));
    let moment = at.map_or(Moment::End, |at| Moment::At(Instant((at * 1e9) as u64)));
    // step by step, and the short way: both come to the same
    let options = |stepwise| Options { moment, stepwise, ..Options::default() };
    let events_again = events.clone();
    let items_again: Vec<_> = items.clone().collect();
    let slow = predict(plan.clone(), items, events, options(true)).unwrap();
    let quick = predict(plan.clone(), items_again.into_iter(), events_again, options(false)).unwrap();
    assert_eq!(slow.tally, quick.tally);
    Played { plan: plan.clone(), prediction: slow }
}

fn event(at: f64, action: Action) -> Event {
    Event { at: Instant((at * 1e9) as u64), device: DeviceId(0), action }
}

impl Played {
    /// What was not translated: `REASON [DEVICE] [RULE]`, in order.
    fn lost(&self) -> Vec<String> {
        let all = self.prediction.not_translated.iter();
        all.map(|n| {
            let device = n.device.map(|d| &self.plan.devices[d.index()]);
            let rule = device.zip(n.rule).map(|(d, r)| format!(" {}", d.rules[r.index()].name));
            let device = device.map(|d| format!(" {}", d.name));
            format!("{}{}{}", n.reason, device.unwrap_or_default(), rule.unwrap_or_default())
        })
        .collect()
    }

    fn dynamic(&self) -> Vec<&MappingRow> {
        self.prediction.tables.iter().flat_map(|t| &t.mappings).filter(|m| !m.fixed).collect()
    }

    /// External ends of dynamic mappings, by internal end.
    fn external(&self, internal: &str) -> Vec<Endpoint> {
        let (Party::Address(address), port) = end(internal) else { panic!() };
        let own = |m: &&&MappingRow| m.internal.address == address && port.is_none_or(|p| m.internal.port == p);
        self.dynamic().iter().filter(own).map(|m| m.external).collect()
    }
}

fn nothing() -> [String; 0] {
    []
}

/// The same file taking over changes nothing, also for segments that nobody named.
#[test]
fn a_plan_that_takes_over_finds_inferred_segments_by_their_prefix() {
    let west = EDGE.replace("10.20.0.1/24", "10.40.0.1/24").replace("203.0.113.2/27", "192.0.2.2/28");
    let west = west.replace("203.0.113.1", "192.0.2.1");
    let host = "[[host]]\nname = \"w0\"\naddress = \"10.40.0.11/24\"\ngateway = \"10.40.0.1\"\n";
    let out = written(OUT);
    let text = format!("{HOSTS}{host}[[device]]\nname = \"edge\"\n{EDGE}{out}[[device]]\nname = \"west\"\n{west}{out}");
    let plan = plan(text);
    let takeover = Event { device: DeviceId(1), ..event(10.0, Action::Plan(plan.clone(), DeviceId(1))) };
    let played =
        play(&plan, &["1 udp 10.40.0.11>198.51.100.80:53", "20 udp 10.40.0.11>198.51.100.80:53"], vec![takeover], None);
    assert_eq!(played.lost(), nothing());
}

/// For mapping and port overloading, the peer of a session whose destination is translated is the destination as forwarded.
#[test]
fn mappings_of_senders_from_outside_tell_peers_apart_as_forwarded() {
    let keys = |overloading| {
        format!("behaviour = {{ mapping = \"address-and-port-dependent\", port-overloading = {overloading} }}")
    };
    let forward = "web forward external = \"street:443/tcp\"; internal = \"10.20.0.11:443\"; as = \"floor\"";
    let two = ["0 tcp 198.51.100.80:40000>203.0.113.2:443 30", "5 tcp 198.51.100.81:40000>203.0.113.2:443 30"];
    let shared = play(&edge(&keys(true), &[forward]), &two, vec![], Some(10.0));
    assert_eq!(shared.lost(), nothing());
    let [a, b] = [shared.external("198.51.100.80"), shared.external("198.51.100.81")];
    assert!(a.len() == 1 && b.len() == 1 && a != b, "to one server they need two ports: {a:?} {b:?}");
    let again = ["0 tcp 198.51.100.80:40000>203.0.113.2:443 1 reset", "2 tcp 198.51.100.80:40000>203.0.113.2:443 30"];
    assert_eq!(play(&edge(&keys(false), &[forward]), &again, vec![], Some(10.0)).dynamic().len(), 1, "it is reused");
}

#[test]
fn an_overload_never_hands_out_the_address_of_a_static() {
    let rules =
        ["one static internal = \"10.20.0.12\"; external = \"203.0.113.5\"", "out overload as = \"203.0.113.5\""];
    let played = play(&edge("", &rules), &["0 gre h0>198.51.100.80 9", "1 gre h1>198.51.100.80 9"], vec![], Some(5.0));
    assert_eq!(played.lost(), ["unsupported-protocol edge out"]);
}

#[test]
fn of_two_sessions_with_one_answer_the_older_counts_whatever_else_there_is() {
    let rules = [
        "a forward external = \"203.0.113.6:443/tcp\"; internal = \"10.20.0.11:443\"",
        "b forward external = \"203.0.113.7:8082/tcp\"; internal = \"10.20.0.11:443\"",
    ];
    let plan = edge("", &rules);
    let two = ["84 tcp 192.0.2.33:40000>203.0.113.7:8082 1 reset", "249 tcp 192.0.2.33:40000>203.0.113.6:443 1 reset"];
    let alone = play(&plan, &two, vec![], None).lost();
    assert_eq!(alone, ["unexpected-source edge"], "its answer belongs to the older session");
    for n in 1..40 {
        let unrelated = format!("{n} gre h0>198.51.100.{n}");
        assert_eq!(play(&plan, &[&[unrelated.as_str()], &two[..]].concat(), vec![], None).lost().last(), alone.last());
    }
}

#[test]
fn the_peak_counts_mappings_whose_packets_are_lost_later() {
    let lines = [
        "0 udp h0:1000>198.51.100.80:53",
        "10 udp h0:1001>203.0.113.9:53",
        "11 udp h0:1002>203.0.113.9:53",
        "12 udp h0:1003>203.0.113.9:53",
    ];
    let played = play(&edge("", &[OUT]), &lines, vec![], None);
    assert_eq!((played.prediction.peak_mappings, played.prediction.peak_at), (4, seconds("12")));
}

/// RFC 4787 §4.3 REQ-6: each of two hosts behind a hairpin sends outbound for its own mapping.
#[test]
fn a_packet_that_is_outbound_for_one_mapping_of_its_session_refreshes_it() {
    // what they do not listen to they do not answer: only one side sends
    let hosts = HOSTS.replace("gateway = \"10.20.0.1\"", "gateway = \"10.20.0.1\"\nlistens = [\"53/udp\"]");
    let out = written("out overload as = \"street\"; hairpin = [\"internal\"]");
    let plan = plan(format!("{hosts}[[device]]\nname = \"edge\"\n{EDGE}{out}"));
    let lines = [
        "0 udp h0:5000>198.51.100.80:53",
        "1 udp h1:6000>198.51.100.80:53",
        "2 udp h1:6000>203.0.113.2:5000",
        "200 udp h0:5000>203.0.113.2:6000",
        "290 udp h0:5000>203.0.113.2:6000",
    ];
    let played = play(&plan, &lines, vec![], Some(400.0));
    assert_eq!(played.external("h1:6000").len(), 1, "what h0 sends is outbound for its own mapping");
}

/// RFC 4787 §5 REQ-8: a peer that came in from outside and was answered, though its source was translated.
#[test]
fn an_answered_session_from_outside_makes_its_peer_addressed() {
    let rules = [OUT, "inward overload from = \"external\"; into = \"internal\"; as = \"floor\""];
    let plan = edge("behaviour = { filtering = \"address-dependent\" }", &rules);
    let lines = [
        "0 udp h0:5000>192.0.2.33:53",
        "5 udp 192.0.2.33:54>203.0.113.2:5000 600",
        "400 udp 192.0.2.33:55>203.0.113.2:5000",
    ];
    assert_eq!(play(&plan, &lines, vec![], None).lost(), nothing());
}

#[test]
fn what_is_due_has_expired_before_somebody_asks_who_answers_for_an_address() {
    let plan = edge("", &["web static internal = \"10.20.0.11\"; external = \"203.0.113.5\""]);
    let lines = [
        "0 udp h0:1>198.51.100.80:53 100",
        "400 udp 198.51.100.80:53>203.0.113.5:1",
        "401 udp 198.51.100.80:53>203.0.113.5:1",
    ];
    let played = play(&plan, &lines, vec![event(100.0, Action::Disable(RuleId(0)))], None);
    assert_eq!(played.lost(), ["nobody-answers", "nobody-answers"]);
}

#[test]
fn blocks_go_with_small_limits_and_with_parity() {
    edge("behaviour = { preset = \"carrier\", ports-per-host = 2 }", &[OUT]);
    edge("behaviour = { port-parity = true, block-size = 2 }", &[OUT]);
}

#[test]
fn a_flow_whose_session_an_event_ends_is_over_on_every_device() {
    let gate = "[[device]]\nname = \"gate\"\n  [[device.interface]]\n  name = \"yard\"\n  realm = \"internal\"\n  segment = \"link\"\n  \
                address = \"10.30.0.1/24\"\n  [[device.interface]]\n  name = \"street\"\n  realm = \"external\"\n  segment = \"world\"\n  \
                address = \"203.0.113.2/27\"\n  [[device.route]]\n  to = \"0.0.0.0/0\"\n  via = \"203.0.113.1\"\n";
    let inner = EDGE
        .replace("203.0.113.2/27", "10.30.0.2/24")
        .replace("\"world\"", "\"link\"")
        .replace("203.0.113.1", "10.30.0.1");
    let out = written(OUT);
    let link = "[[segment]]\nname = \"link\"\n";
    let plan = plan(format!("{link}{HOSTS}[[device]]\nname = \"edge\"\n{inner}{out}{gate}{out}"));
    let cleared = vec![event(100.0, Action::Clear(Clearing::default()))];
    let line = ["0 udp h0:1>198.51.100.80:53 1000"];
    assert_eq!(play(&plan, &line, cleared.clone(), Some(350.0)).dynamic().len(), 1, "it is idle at the gate");
    assert_eq!(play(&plan, &line, cleared, Some(500.0)).dynamic().len(), 0, "and has timed out");
    assert_eq!(play(&plan, &line, vec![], Some(500.0)).dynamic().len(), 2);
}

#[test]
fn a_host_shares_the_ports_of_its_own_blocks_with_itself() {
    let keys = "behaviour = { mapping = \"address-dependent\", port-overloading = true, block-size = 2, \
                port-classes = [\"1-65535 -> 50000-50001\"] }";
    let lines = [
        "0 udp h0:1000>198.51.100.80:53",
        "1 udp h0:1001>198.51.100.80:53",
        "2 udp h0:1002>198.51.100.81:53",
        "3 udp h1:1000>198.51.100.82:53",
    ];
    let played = play(&edge(keys, &[OUT]), &lines, vec![], None);
    assert_eq!(played.lost(), ["ports-exhausted edge out"], "of another host's block nothing");
    assert_eq!(played.external("h0").len(), 3);
}

/// RFC 5508 §3.1: the mapping of a query lets answers in only.
#[test]
fn a_strangers_query_with_the_identifier_of_a_mapping_is_filtered() {
    let plan = edge("", &["out overload as = \"203.0.113.8\""]);
    let played = play(
        &plan,
        &[
            "0 icmp h0:700>198.51.100.80",
            "5 icmp 198.51.100.99:700>203.0.113.8",
            "6 icmp 198.51.100.99:701>203.0.113.8",
        ],
        vec![],
        None,
    );
    assert_eq!(played.lost(), ["filtered edge", "no-mapping edge"]);
}

#[test]
fn clearing_a_pool_ends_what_lingers_on_it() {
    let pool = "  [[device.pool]]\n  name = \"lines\"\n  addresses = \"203.0.113.8\"\n";
    let text = |timers: &str| {
        format!("{HOSTS}[[device]]\nname = \"edge\"\n{timers}\n{EDGE}{pool}{}", written("lend pool as = \"lines\""))
    };
    let plan = plan(text("timers = { udp-timeout = 30, binding = 3600 }"));
    let clear = |what| vec![event(100.0, Action::Clear(what))];
    let lines = ["0 udp h0:1>198.51.100.80:53", "200 udp h1:1>198.51.100.80:53"];
    let pool = Clearing { pool: Some(PoolId(0)), ..Clearing::default() };
    assert_eq!(play(&plan, &lines, clear(pool), None).lost(), nothing());
    let other = Clearing { host: Some("10.20.0.12".parse().unwrap()), ..pool };
    assert_eq!(play(&plan, &lines, clear(other), None).lost(), ["pool-exhausted edge lend"], "all filters must fit");
    assert_eq!(play(&plan, &lines, vec![], None).lost(), ["pool-exhausted edge lend"]);
}

#[test]
fn a_session_names_the_rule_of_each_step() {
    let plan = edge("", &["out overload as = \"street\"; hairpin = [\"internal\"]"]);
    let lines = ["0 udp h0:5000>198.51.100.80:53 9", "1 udp h1:6000>203.0.113.2:5000 9"];
    let items = lines.iter().map(|l| Ok::<Item, Infallible>(Item::Flow(flow(l))));
    let options = Options { moment: Moment::At(seconds("5")), sessions: true, ..Options::default() };
    let prediction = predict(plan, items, vec![], options).unwrap();
    let rules: Vec<_> = prediction.tables[0].sessions.iter().map(|s| s.rules).collect();
    assert!(rules.contains(&[Some(RuleId(0)), Some(RuleId(0))]), "{rules:?}");
}

#[test]
fn a_pool_that_no_rule_uses_has_usable_addresses_too() {
    let pool = "  [[device.pool]]\n  name = \"spare\"\n  addresses = \"203.0.113.8-203.0.113.11\"\n";
    let plan = plan(format!(
        "{HOSTS}[[device]]\nname = \"edge\"\n{EDGE}{pool}{}",
        written("web forward external = \"203.0.113.9:80/tcp\"; internal = \"10.20.0.11:80\"")
    ));
    let played = play(&plan, &["0 udp h0:1>h1:2"], vec![], None);
    assert_eq!(played.prediction.tables[0].pools[0].usable, 4, "an address with a forward counts, for any use");
}

/// The answer of a neighbour comes without a device in between: no device is to blame.
#[test]
fn who_put_a_refused_answer_onto_the_link_is_to_blame() {
    let plan = edge(
        "behaviour = { hairpin-source = \"keep\" }",
        &["web static internal = \"10.20.0.12\"; external = \"203.0.113.5\"; hairpin = [\"internal\"]"],
    );
    assert_eq!(play(&plan, &["0 udp h0:1>203.0.113.5:53"], vec![], None).lost(), ["unexpected-source"]);
}

#[test]
fn no_filter_takes_the_devices_own_answer_for_one_in_a_session() {
    let keys = "  [[device.acl]]\n  name = \"answers\"\n  entries = [{ accept = \"any\", answers = true }]\n";
    let edge = EDGE.replacen("address = \"10.20.0.1/24\"", "address = \"10.20.0.1/24\"\n  egress-acl = \"answers\"", 1);
    let plan = plan(format!("{HOSTS}[[device]]\nname = \"edge\"\n{edge}{keys}"));
    assert_eq!(play(&plan, &["0 icmp h0>10.20.0.1"], vec![], None).lost(), ["egress-acl edge"]);
}

#[test]
fn no_rule_is_to_blame_for_a_family_that_none_translates() {
    let edge = EDGE
        .replace("\"10.20.0.1/24\"", "[\"10.20.0.1/24\", \"fd00:20::1/64\"]")
        .replace("\"203.0.113.2/27\"", "[\"203.0.113.2/27\", \"2001:db8:1::2/64\"]");
    let route = "  [[device.route]]\n  to = \"::/0\"\n  via = \"2001:db8:1::1\"\n";
    let plan = plan(format!("{HOSTS}[[device]]\nname = \"edge\"\n{edge}{route}{}", written(OUT)));
    let mut flow = flow("0 udp h0:1>198.51.100.80:53");
    (flow.source, flow.destination) =
        (Party::Address("fd00:20::9".parse().unwrap()), Party::Address("2001:db8:9::1".parse().unwrap()));
    let items = std::iter::once(Ok::<Item, Infallible>(Item::Flow(flow)));
    let prediction = predict(plan.clone(), items, vec![], Options::default()).unwrap();
    assert_eq!(Played { plan, prediction }.lost(), ["unsupported-family edge"]);
}

#[test]
fn a_device_counts_its_own_packets_that_it_drops() {
    let acl = "  [[device.acl]]\n  name = \"none\"\n  entries = [{ drop = \"any\" }]\n";
    let edge =
        EDGE.replacen("address = \"203.0.113.2/27\"", "address = \"203.0.113.2/27\"\n  egress-acl = \"none\"", 1);
    let plan = plan(format!("{HOSTS}[[device]]\nname = \"edge\"\n{edge}{acl}"));
    let mut own = flow("0 udp h0:1>198.51.100.80:53");
    own.source = Party::Device(DeviceId(0));
    let items = std::iter::once(Ok::<Item, Infallible>(Item::Flow(own)));
    let prediction = predict(plan, items, vec![], Options::default()).unwrap();
    assert_eq!(prediction.tables[0].totals.refused, 1);
}

#[test]
fn multicast_broadcast_and_link_local_packets_stay_on_their_link() {
    let plan = edge("", &[OUT]);
    let others = ["224.0.0.18", "239.1.2.3", "255.255.255.255", "10.20.0.255", "169.254.7.7"];
    for to in others {
        let played = play(&plan, &[&format!("1 udp h0:5353>{to}:5353")], vec![], None);
        assert_eq!(played.lost(), ["link-only"], "{to}");
        assert!(!played.prediction.negative, "{to}");
    }
    // nobody needs to know where a link-local address is
    assert_eq!(play(&plan, &["1 udp 169.254.7.7:68>198.51.100.9:67"], vec![], None).lost(), ["link-only"]);
    // in a capture they are counted apart, though the rule takes everything
    let seen = |to: &str| Seen {
        at: seconds("1"),
        device: DeviceId(0),
        interface: InterfaceId(0),
        packet: Packet::first(
            Protocol::UDP,
            Endpoint::new("10.20.0.11".parse::<IpAddr>().unwrap(), 5353),
            Endpoint::new(to.parse::<IpAddr>().unwrap(), 5353),
        ),
    };
    for stepwise in [false, true] {
        let items = others.iter().map(|to| Ok::<Item, Infallible>(Item::Seen(seen(to))));
        let options = Options { stepwise, ..Options::default() };
        let prediction = predict(plan.clone(), items, vec![], options).unwrap();
        assert_eq!((prediction.link_only, prediction.tally.total(), prediction.unattributed), (5, 0, 0));
        assert!(prediction.tables.iter().all(|t| t.mappings.is_empty()));
    }
    // and so are ICMP errors
    let Seen { at, device, interface, packet } = seen("198.51.100.80");
    let (from, to) = ("169.254.7.7".parse().unwrap(), "10.20.0.11".parse().unwrap());
    let error = Item::Error(SeenError { at, device, interface, error: IcmpError { from, to, about: packet } });
    let items = std::iter::once(Ok::<Item, Infallible>(error));
    let prediction = predict(plan.clone(), items, vec![], Options::default()).unwrap();
    assert_eq!((prediction.link_only, prediction.icmp_errors.dropped), (1, 0));
}

#[test]
fn a_capture_from_elsewhere_is_told_and_not_judged() {
    let plan = edge("", &[OUT]);
    let seen = |from: &str| Seen {
        at: seconds("1"),
        device: DeviceId(0),
        interface: InterfaceId(1),
        packet: Packet::first(
            Protocol::UDP,
            Endpoint::new(from.parse::<IpAddr>().unwrap(), 5353),
            Endpoint::new("10.20.0.12".parse::<IpAddr>().unwrap(), 53),
        ),
    };
    let play = |senders: &[&str]| {
        let items = senders.iter().map(|from| Ok::<Item, Infallible>(Item::Seen(seen(from))));
        predict(plan.clone(), items, vec![], Options::default()).unwrap()
    };
    let prediction = play(&["10.20.0.11", "10.20.0.13", "198.51.100.9"]);
    let elsewhere = prediction.elsewhere.unwrap();
    assert_eq!((elsewhere.seen_on, elsewhere.fits, elsewhere.packets), (InterfaceId(1), Some(InterfaceId(0)), 2));
    assert_eq!(
        elsewhere.prefixes.iter().map(|p| (p.0.to_string(), p.1)).collect::<Vec<_>>(),
        [("10.20.0.0/24".into(), 2)]
    );
    assert_eq!(prediction.unattributed, 2);
    // fewer than half may be anything
    assert_eq!(play(&["10.20.0.11", "198.51.100.7", "198.51.100.9"]).elsewhere, None);
}
