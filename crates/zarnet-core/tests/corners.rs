//! Corners of the contract: each a small plan and its traffic, found by holding random estates against a reference model, and
//! named after what it shows.

mod played;

use std::convert::Infallible;
use std::net::IpAddr;

use played::{EDGE, HOSTS, OUT, Played, edge, event, flow, nothing, plan, play, seconds, written};
use zarnet_core::event::{Action, Clearing, Event};
use zarnet_core::net::{Endpoint, IcmpError, Packet, Protocol};
use zarnet_core::plan::{DeviceId, InterfaceId, PoolId, RuleId};
use zarnet_core::predict::{Moment, Options, predict};
use zarnet_core::traffic::{Item, OneByOne, Party, Seen, SeenError};

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
    let items = lines.iter().map(|l| Ok::<Item, Infallible>(Item::Flow(flow(&plan, l))));
    let options = Options { moment: Moment::At(seconds("5")), sessions: true, ..Options::default() };
    let prediction = predict(plan.clone(), OneByOne(items), vec![], options).unwrap();
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
    let mut flow = flow(&plan, "0 udp h0:1>198.51.100.80:53");
    (flow.source, flow.destination) =
        (Party::Address("fd00:20::9".parse().unwrap()), Party::Address("2001:db8:9::1".parse().unwrap()));
    let items = std::iter::once(Ok::<Item, Infallible>(Item::Flow(flow)));
    let prediction = predict(plan.clone(), OneByOne(items), vec![], Options::default()).unwrap();
    assert_eq!(Played { plan, prediction }.lost(), ["unsupported-family edge"]);
}

#[test]
fn a_device_counts_its_own_packets_that_it_drops() {
    let acl = "  [[device.acl]]\n  name = \"none\"\n  entries = [{ drop = \"any\" }]\n";
    let edge =
        EDGE.replacen("address = \"203.0.113.2/27\"", "address = \"203.0.113.2/27\"\n  egress-acl = \"none\"", 1);
    let plan = plan(format!("{HOSTS}[[device]]\nname = \"edge\"\n{edge}{acl}"));
    let mut own = flow(&plan, "0 udp h0:1>198.51.100.80:53");
    own.source = Party::Device(DeviceId(0));
    let items = std::iter::once(Ok::<Item, Infallible>(Item::Flow(own)));
    let prediction = predict(plan, OneByOne(items), vec![], Options::default()).unwrap();
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
        let prediction = predict(plan.clone(), OneByOne(items), vec![], options).unwrap();
        assert_eq!((prediction.link_only, prediction.tally.total(), prediction.unattributed), (5, 0, 0));
        assert!(prediction.tables.iter().all(|t| t.mappings.is_empty()));
    }
    // and so are ICMP errors
    let Seen { at, device, interface, packet } = seen("198.51.100.80");
    let (from, to) = ("169.254.7.7".parse().unwrap(), "10.20.0.11".parse().unwrap());
    let error = Item::Error(SeenError { at, device, interface, error: IcmpError { from, to, about: packet } });
    let items = std::iter::once(Ok::<Item, Infallible>(error));
    let prediction = predict(plan.clone(), OneByOne(items), vec![], Options::default()).unwrap();
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
        predict(plan.clone(), OneByOne(items), vec![], Options::default()).unwrap()
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

/// The answer passes at its time also where it is lost behind the first device that it passes.
#[test]
fn a_lost_answer_passes_a_round_trip_after_its_question() {
    // h0 behind edge and gate; edge's outer side is gate's inner one. Answers reach gate, and edge drops them.
    let acl = "  [[device.acl]]\n  name = \"none\"\n  entries = [{ drop = \"any\" }]\n";
    let inner = EDGE
        .replace(
            "segment = \"world\"\n  address = \"203.0.113.2/27\"",
            "segment = \"middle\"\n  address = \"10.30.0.2/24\"\n  ingress-acl = \"none\"",
        )
        .replace("203.0.113.1", "10.30.0.1");
    let outer = EDGE.replace("\"10.20.0.1/24\"", "\"10.30.0.1/24\"\n  segment = \"middle\"");
    let out = written(OUT);
    let text = format!(
        "{HOSTS}[[segment]]\nname = \"middle\"\n[[device]]\nname = \"edge\"\n{inner}{acl}{out}[[device]]\nname = \"gate\"\n{outer}{out}"
    );
    let plan = plan(text);
    let played = play(&plan, &["0 tcp h0:1>198.51.100.80:443 0 close 0.9"], vec![], Some(5.0));
    assert_eq!(played.lost(), ["ingress-acl edge"]);
    let sessions = &played.prediction.tables[1].sessions;
    assert_eq!((sessions[0].last_active, sessions[0].expires), (seconds("0.9"), seconds("7440.9")));
    // an answer that does not refresh leaves the expiry
    let played = play(&plan, &["0 udp h0:1>198.51.100.80:443 0 silent 0.9"], vec![], Some(5.0));
    let sessions = &played.prediction.tables[1].sessions;
    assert_eq!((sessions[0].last_active, sessions[0].expires), (seconds("0.9"), seconds("300")));
}

/// Of two flows on one session the first closes it; the other's packets go on.
#[test]
fn a_flow_goes_on_behind_the_end_of_another_on_its_session() {
    let plan = edge("", &[OUT]);
    let both = ["0 tcp h0:1000>198.51.100.80:80 20", "1 tcp h0:1000>198.51.100.80:80 20"];
    let at = |at: f64| {
        let played = play(&plan, &both, vec![], Some(at));
        let session = &played.prediction.tables[0].sessions[0];
        (session.state.name(), session.last_active, session.expires)
    };
    assert_eq!(at(20.5), ("closing", seconds("20.5"), seconds("260")));
    assert_eq!(at(30.0), ("closing", seconds("21"), seconds("260")));
}

#[test]
fn a_machine_that_a_rule_leads_to_is_there() {
    let ask = |server: &str, more: &str| {
        let rule = format!("web forward external = \"street:443/tcp\"; internal = \"{server}:443\"{more}");
        play(&edge("", &[&rule]), &["0 tcp 198.51.100.9:4000>203.0.113.2:443"], vec![], None).lost()
    };
    assert_eq!(ask("10.20.0.77", ""), nothing());
    // two interfaces could have it, or none
    assert_eq!(ask("10.99.0.7", ""), ["private-address-on-internet edge"]);
    let one = edge("", &["one static internal = \"10.20.0.77\"; external = \"203.0.113.9\""]);
    assert_eq!(play(&one, &["0 udp 198.51.100.9:4000>203.0.113.9:53"], vec![], None).lost(), nothing());
    let range = edge("", &["many static internal = \"10.20.0.76-10.20.0.77\"; external = \"203.0.113.8-203.0.113.9\""]);
    assert_eq!(
        play(&range, &["0 udp 198.51.100.9:4000>203.0.113.9:53"], vec![], None).lost(),
        ["nobody-answers edge"],
        "of a range nobody says who is there"
    );
    // whether the rule takes part is not looked at
    let off =
        edge("", &["web forward external = \"street:443/tcp\"; internal = \"10.20.0.77:443\"; enabled = false", OUT]);
    assert_eq!(play(&off, &["0 udp h0:1>10.20.0.77:53"], vec![], None).lost(), ["on-link"]);
    assert_eq!(play(&edge("", &[OUT]), &["0 udp h0:1>10.20.0.77:53"], vec![], None).lost(), ["nobody-answers"]);
}

/// A device that answers for the address on that segment is asked first: the next device of a chain.
#[test]
fn a_rule_may_lead_to_an_external_address_of_the_next_device() {
    let inner = EDGE
        .replace(
            "segment = \"world\"\n  address = \"203.0.113.2/27\"",
            "segment = \"middle\"\n  address = \"10.30.0.2/24\"",
        )
        .replace("203.0.113.1", "10.30.0.1");
    let outer = EDGE.replace("\"10.20.0.1/24\"", "\"10.30.0.1/24\"\n  segment = \"middle\"");
    let on = written("web forward external = \"10.30.0.9:443/tcp\"; internal = \"h0:443\"");
    let first = written("web forward external = \"street:443/tcp\"; internal = \"10.30.0.9:443\"");
    let plan = plan(format!(
        "{HOSTS}[[segment]]\nname = \"middle\"\n[[device]]\nname = \"edge\"\n{inner}{on}[[device]]\nname = \"gate\"\n{outer}{first}"
    ));
    let ask = ["0 tcp 198.51.100.9:4000>203.0.113.2:443"];
    let played = play(&plan, &ask, vec![], Some(0.5));
    assert_eq!(played.lost(), nothing());
    assert_eq!(played.prediction.tables[0].sessions[0].translated.destination.to_string(), "10.20.0.11:443");
}

#[test]
fn a_device_that_cannot_translate_icmp_queries_has_no_rule_for_them() {
    let rules = ["one static internal = \"h0\"; external = \"203.0.113.9\"", OUT];
    let (can, cannot) = (edge("", &rules), edge("behaviour = { cannot = [\"icmp\"] }", &rules));
    let lost = |plan, line: &str| play(plan, &[line], vec![], None).lost().join(" ");
    for line in ["0 icmp h0>198.51.100.80", "0 icmp h1>198.51.100.80"] {
        assert_eq!(lost(&can, line), "");
        assert_eq!(lost(&cannot, line), "private-address-on-internet edge");
    }
    assert_eq!(lost(&can, "0 icmp 198.51.100.80>203.0.113.9"), "");
    assert_eq!(lost(&cannot, "0 icmp 198.51.100.80>203.0.113.9"), "no-mapping edge");
    assert_eq!(lost(&cannot, "0 icmp 198.51.100.80>203.0.113.2"), "to-device edge");
    assert_eq!(lost(&cannot, "0 udp h1>198.51.100.80:53"), "", "of other protocols nothing is changed");
    assert_eq!(lost(&cannot, "0 gre h0>198.51.100.80"), "");
}

#[test]
fn a_range_may_name_the_prefix_whose_network_and_broadcast_it_leaves_out() {
    let sizes = |addresses: &str| {
        let pool = format!("  [[device.pool]]\n  name = \"p\"\n  addresses = {addresses}\n");
        let text = format!("{HOSTS}[[device]]\nname = \"edge\"\n{EDGE}{pool}{}", written("a pool as = \"p\""));
        let played = play(&plan(text), &["0 udp h0:1>198.51.100.80:53 9"], vec![], Some(1.0));
        (played.prediction.tables[0].pools[0].usable, played.external("h0")[0].address.to_string())
    };
    assert_eq!(sizes("\"192.0.2.196-192.0.2.199\""), (4, "192.0.2.196".into()));
    assert_eq!(sizes("\"192.0.2.196-192.0.2.199/30\""), (2, "192.0.2.197".into()));
    assert_eq!(sizes("\"192.0.2.196-192.0.2.199/29\""), (3, "192.0.2.196".into()));
    assert_eq!(sizes("\"192.0.2.196-192.0.2.199/31.0.0.0\"".replace("31.0.0.0", "255.255.255.252").as_str()).0, 2);
    assert_eq!(sizes("\"192.0.2.196-192.0.2.199\"\n  usable = \"all\"").0, 4);
}

/// A pool that a host did not ask, because it stays on the fallback, counts no refusal.
#[test]
fn a_pool_that_was_not_asked_counts_no_refusal() {
    let pools = "  [[device.pool]]\n  name = \"p\"\n  addresses = \"203.0.113.10\"\n  [[device.pool]]\n  name = \"q\"\n  addresses = \"203.0.113.12\"\n";
    let keys = "behaviour = { port-classes = [\"1-65535 -> 50000-50000\"] }";
    let rule = written("a pool as = \"p\"; when-exhausted = \"q\"");
    let plan = plan(format!("{HOSTS}[[device]]\nname = \"edge\"\n{keys}\n{EDGE}{pools}{rule}"));
    let lines = [
        "0 udp h0:1>198.51.100.80:53 100",
        "1 udp h1:1>198.51.100.80:53 100",
        "2 udp h1:2>198.51.100.80:53",
        "3 udp 10.20.0.13:2>198.51.100.80:53",
    ];
    let played = play(&plan, &lines, vec![], Some(50.0));
    assert_eq!(played.lost(), ["ports-exhausted edge a", "ports-exhausted edge a"]);
    let refused: Vec<u64> = played.prediction.tables[0].pools.iter().map(|p| p.refused).collect();
    assert_eq!(refused, [1, 2], "h1 stays on q, the other one asked both");
}

/// A host that talks to itself by its own external address, from and to one port: the reverse of its session is the session, so
/// that nobody else ever answers on it.
#[test]
fn what_passes_an_unanswered_connection_neither_keeps_nor_closes_it() {
    let plan = edge("", &["one static internal = \"h0\"; external = \"203.0.113.9\"; hairpin = \"internal\"", OUT]);
    let played = play(&plan, &["0 tcp h0:3001>203.0.113.9:3001 30"], vec![], Some(10.0));
    let session = &played.prediction.tables[0].sessions[0];
    assert_eq!(
        (session.state.name(), session.last_active, session.expires),
        ("opening", seconds("10"), seconds("240"))
    );
}

/// Clearing a session ends both mappings that it leaves without one, whatever their `binding` time.
#[test]
fn clear_ends_both_mappings_of_a_hairpin() {
    let keys = "timers = { udp-timeout = 30, binding = 3600 }\nbehaviour = { filtering = \"endpoint-independent\" }";
    let plan = edge(keys, &["out pool as = \"203.0.113.10-203.0.113.12\"; hairpin = \"internal\""]);
    let lines = ["0 tcp h0:1>198.51.100.80:80 1", "1 udp h1:5000>203.0.113.10:6000 90"];
    let clear = |protocol| {
        let clearing = Clearing { protocol, ..Clearing::default() };
        play(&plan, &lines, vec![event(50.0, Action::Clear(clearing))], Some(60.0)).dynamic().len()
    };
    assert_eq!(play(&plan, &lines, vec![], Some(60.0)).dynamic().len(), 2);
    assert_eq!(clear(Some(Protocol::UDP)), 1, "h0 has a connection");
    assert_eq!(clear(None), 0);
    let hairpin = ["0 udp h0:1>198.51.100.80:80", "1 udp h1:5000>203.0.113.10:6000 90"];
    let clearing = Clearing { protocol: Some(Protocol::UDP), ..Clearing::default() };
    let played = play(&plan, &hairpin, vec![event(50.0, Action::Clear(clearing))], Some(60.0));
    assert_eq!(played.dynamic().len(), 0, "neither of them is left");
}

#[test]
fn an_interface_without_a_realm_takes_part_where_it_is_named_itself() {
    let text = |more: &str| {
        let bare = EDGE.replacen("  realm = \"internal\"\n", "", 1);
        let rule = written(&format!("out overload as = \"street\"{more}"));
        let policy = "  [[device.policy]]\n  from = \"floor\"\n  into = \"external\"\n  accept = \"any\"\n";
        plan(format!("{HOSTS}[[device]]\nname = \"edge\"\ndefault-policy = \"drop\"\n{bare}{policy}{rule}"))
    };
    let ask = ["0 udp h0:1>198.51.100.80:53"];
    assert_eq!(play(&text("; from = \"floor\""), &ask, vec![], None).lost(), nothing());
    assert_eq!(play(&text(""), &ask, vec![], None).lost(), ["private-address-on-internet edge"]);
}

/// A machine that two interfaces could be the gateway of is not there, whatever a rule says.
#[test]
fn a_server_that_may_be_in_two_places_is_in_neither() {
    let second = "  [[device.interface]]\n  name = \"hall\"\n  realm = \"internal\"\n  address = \"10.20.0.129/25\"\n";
    let text = |server: &str| {
        let rule = written(&format!("web forward external = \"street:443/tcp\"; internal = \"{server}:443\""));
        plan(format!("{HOSTS}[[device]]\nname = \"edge\"\n{EDGE}{second}{rule}"))
    };
    let ask = ["0 tcp 198.51.100.9:4000>203.0.113.2:443"];
    assert_eq!(play(&text("10.20.0.77"), &ask, vec![], None).lost(), nothing());
    assert_eq!(play(&text("10.20.0.177"), &ask, vec![], None).lost(), ["nobody-answers edge"]);
}

/// At one instant, too, the session that was made first has the answers.
#[test]
fn of_two_sessions_of_one_instant_the_first_one_has_the_answers() {
    let plan = edge("", &[OUT]);
    let lines = ["4 icmp edge:3000>198.51.100.80", "4 icmp h0:3000>198.51.100.80"];
    assert_eq!(play(&plan, &lines, vec![], None).lost(), ["from-device edge", "unexpected-source edge"]);
    let lines = ["4 icmp h0:3000>198.51.100.80", "4 icmp edge:3000>198.51.100.80"];
    assert_eq!(play(&plan, &lines, vec![], None).lost().len(), 1);
}

/// A flow that meets a session which another one of the same instant has closed sends on: it does not keep the session.
#[test]
fn a_flow_on_a_closed_session_sends_on() {
    let plan = edge("", &[OUT]);
    let both = ["65 tcp h0:3000>198.51.100.80:80", "65 tcp h0:3000>198.51.100.80:80 1"];
    let at = |at: f64| {
        let played = play(&plan, &both, vec![], Some(at));
        let session = &played.prediction.tables[0].sessions[0];
        (session.state.name(), session.last_active, session.expires)
    };
    assert_eq!(at(65.5), ("closing", seconds("65.5"), seconds("305.001")));
    assert_eq!(at(70.0), ("closing", seconds("66"), seconds("305.001")));
}
