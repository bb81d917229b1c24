//! Mappings, sessions and pools in rare situations: each a small plan and its traffic, found by
//! holding random estates against a reference model, and named after what it shows.

use std::convert::Infallible;

use zarnet_core::event::{Action, Clearing};
use zarnet_core::net::Protocol;
use zarnet_core::plan::{PoolId, RuleId};
use zarnet_core::predict::{Moment, Options, predict};
use zarnet_core::traffic::{Item, OneByOne, Party};
use zarnet_testkit::played::{
    EDGE, HOSTS, OUT, Played, edge, event, flow, nothing, plan, play, seconds, written,
};

/// For mapping and port overloading, the peer of a session whose destination is translated is the
/// destination as forwarded.
#[test]
fn mappings_of_senders_from_outside_tell_peers_apart_as_forwarded() {
    let keys = |overloading| {
        format!(
            "behaviour = {{ mapping = \"address-and-port-dependent\", port-overloading = \
             {overloading} }}"
        )
    };
    let forward =
        "web forward external = \"street:443/tcp\"; internal = \"10.20.0.11:443\"; as = \"floor\"";
    let two = [
        "0 tcp 198.51.100.80:40000>203.0.113.2:443 30",
        "5 tcp 198.51.100.81:40000>203.0.113.2:443 30",
    ];
    let shared = play(&edge(&keys(true), &[forward]), &two, vec![], Some(10.0));
    assert_eq!(shared.lost(), nothing());
    let [a, b] = [shared.external("198.51.100.80"), shared.external("198.51.100.81")];
    assert!(
        a.len() == 1 && b.len() == 1 && a != b,
        "to one server they need two ports: {a:?} {b:?}"
    );
    let again = [
        "0 tcp 198.51.100.80:40000>203.0.113.2:443 1 reset",
        "2 tcp 198.51.100.80:40000>203.0.113.2:443 30",
    ];
    assert_eq!(
        play(&edge(&keys(false), &[forward]), &again, vec![], Some(10.0)).dynamic().len(),
        1,
        "it is reused"
    );
}

#[test]
fn an_overload_never_hands_out_the_address_of_a_static() {
    let rules = [
        "one static internal = \"10.20.0.12\"; external = \"203.0.113.5\"",
        "out overload as = \"203.0.113.5\"",
    ];
    let played = play(
        &edge("", &rules),
        &["0 gre h0>198.51.100.80 9", "1 gre h1>198.51.100.80 9"],
        vec![],
        Some(5.0),
    );
    assert_eq!(played.lost(), ["unsupported-protocol edge out"]);
}

#[test]
fn of_two_sessions_with_one_answer_the_older_counts_whatever_else_there_is() {
    let rules = [
        "a forward external = \"203.0.113.6:443/tcp\"; internal = \"10.20.0.11:443\"",
        "b forward external = \"203.0.113.7:8082/tcp\"; internal = \"10.20.0.11:443\"",
    ];
    let plan = edge("", &rules);
    let two = [
        "84 tcp 192.0.2.33:40000>203.0.113.7:8082 1 reset",
        "249 tcp 192.0.2.33:40000>203.0.113.6:443 1 reset",
    ];
    let alone = play(&plan, &two, vec![], None).lost();
    assert_eq!(alone, ["unexpected-source edge"], "its answer belongs to the older session");
    for n in 1..40 {
        let unrelated = format!("{n} gre h0>198.51.100.{n}");
        assert_eq!(
            play(&plan, &[&[unrelated.as_str()], &two[..]].concat(), vec![], None).lost().last(),
            alone.last()
        );
    }
}

/// The same behind a hairpin: one sender comes to one server by two doors, from one mapping.
#[test]
fn of_two_hairpins_with_one_answer_the_older_counts() {
    let door = |name: &str, external: &str| {
        format!(
            "{name} forward external = \"{external}/tcp\"; internal = \"10.20.0.11:443\"; \
             hairpin = \"internal\""
        )
    };
    let (a, b) = (door("a", "203.0.113.6:443"), door("b", "203.0.113.7:8082"));
    let plan = edge("", &[&a, &b, OUT]);
    let two = [
        "84 tcp h1:40000>203.0.113.7:8082 1 reset",
        "249 tcp h1:40000>203.0.113.6:443 1 reset",
        "9000 tcp h1:40000>203.0.113.6:443 1 reset",
    ];
    let played = play(&plan, &two, vec![], None);
    assert_eq!(played.lost(), ["unexpected-source edge"], "the older one is over by the third");
    assert_eq!(play(&plan, &two, vec![], Some(250.0)).prediction.tables[0].sessions.len(), 2);
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
    let hosts =
        HOSTS.replace("gateway = \"10.20.0.1\"", "gateway = \"10.20.0.1\"\nlistens = [\"53/udp\"]");
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
    assert_eq!(
        played.external("h1:6000").len(),
        1,
        "what h0 sends is outbound for its own mapping"
    );
}

/// RFC 4787 §5 REQ-8: a peer that came in from outside and was answered, though its source was
/// translated.
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
fn a_host_shares_the_ports_of_its_own_blocks_with_itself() {
    let keys = "behaviour = { mapping = \"address-dependent\", port-overloading = true, \
                block-size = 2, \
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
        format!(
            "{HOSTS}[[device]]\nname = \"edge\"\n{timers}\n{EDGE}{pool}{}",
            written("lend pool as = \"lines\"")
        )
    };
    let plan = plan(text("timers = { udp-timeout = 30, binding = 3600 }"));
    let clear = |what| vec![event(100.0, Action::Clear(what))];
    let lines = ["0 udp h0:1>198.51.100.80:53", "200 udp h1:1>198.51.100.80:53"];
    let pool = Clearing { pool: Some(PoolId(0)), ..Clearing::default() };
    assert_eq!(play(&plan, &lines, clear(pool), None).lost(), nothing());
    let other = Clearing { host: Some("10.20.0.12".parse().unwrap()), ..pool };
    assert_eq!(
        play(&plan, &lines, clear(other), None).lost(),
        ["pool-exhausted edge lend"],
        "all filters must fit"
    );
    assert_eq!(play(&plan, &lines, vec![], None).lost(), ["pool-exhausted edge lend"]);
}

#[test]
fn a_session_names_the_rule_of_each_step() {
    let plan = edge("", &["out overload as = \"street\"; hairpin = [\"internal\"]"]);
    let lines = ["0 udp h0:5000>198.51.100.80:53 9", "1 udp h1:6000>203.0.113.2:5000 9"];
    let items = lines.iter().map(|l| Ok::<Item, Infallible>(Item::Flow(flow(&plan, l))));
    let options =
        Options { moment: Moment::At(seconds("5")), sessions: true, ..Options::default() };
    let prediction = predict(plan.clone(), OneByOne(items), vec![], options).unwrap();
    let rules: Vec<_> = prediction.tables[0].sessions.iter().map(|s| s.rules).collect();
    assert!(rules.contains(&[Some(RuleId(0)), Some(RuleId(0))]), "{rules:?}");
}

#[test]
fn a_pool_that_no_rule_uses_has_usable_addresses_too() {
    let pool =
        "  [[device.pool]]\n  name = \"spare\"\n  addresses = \"203.0.113.8-203.0.113.11\"\n";
    let plan = plan(format!(
        "{HOSTS}[[device]]\nname = \"edge\"\n{EDGE}{pool}{}",
        written("web forward external = \"203.0.113.9:80/tcp\"; internal = \"10.20.0.11:80\"")
    ));
    let played = play(&plan, &["0 udp h0:1>h1:2"], vec![], None);
    assert_eq!(
        played.prediction.tables[0].pools[0].usable, 4,
        "an address with a forward counts, for any use"
    );
}

#[test]
fn no_filter_takes_the_devices_own_answer_for_one_in_a_session() {
    let keys = "  [[device.acl]]\n  name = \"answers\"\n  entries = [{ accept = \"any\", answers \
                = true }]\n";
    let edge = EDGE.replacen(
        "address = \"10.20.0.1/24\"",
        "address = \"10.20.0.1/24\"\n  egress-acl = \"answers\"",
        1,
    );
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
    (flow.source, flow.destination) = (
        Party::Address("fd00:20::9".parse().unwrap()),
        Party::Address("2001:db8:9::1".parse().unwrap()),
    );
    let items = std::iter::once(Ok::<Item, Infallible>(Item::Flow(flow)));
    let prediction = predict(plan.clone(), OneByOne(items), vec![], Options::default()).unwrap();
    assert_eq!(Played { plan, prediction }.lost(), ["unsupported-family edge"]);
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
    assert_eq!(
        lost(&cannot, "0 udp h1>198.51.100.80:53"),
        "",
        "of other protocols nothing is changed"
    );
    assert_eq!(lost(&cannot, "0 gre h0>198.51.100.80"), "");
}

/// A pool that a host did not ask, because it stays on the fallback, counts no refusal.
#[test]
fn a_pool_that_was_not_asked_counts_no_refusal() {
    let pools = "  [[device.pool]]\n  name = \"p\"\n  addresses = \"203.0.113.10\"\n  \
                 [[device.pool]]\n  name = \"q\"\n  addresses = \"203.0.113.12\"\n";
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

/// A host that talks to itself by its own external address, from and to one port: the reverse of
/// its session is the session, so that nobody else ever answers on it.
#[test]
fn what_passes_an_unanswered_connection_neither_keeps_nor_closes_it() {
    let plan = edge(
        "",
        &["one static internal = \"h0\"; external = \"203.0.113.9\"; hairpin = \"internal\"", OUT],
    );
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
    let keys = "timers = { udp-timeout = 30, binding = 3600 }\nbehaviour = { filtering = \
                \"endpoint-independent\" }";
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

/// At one instant, too, the session that was made first has the answers.
#[test]
fn of_two_sessions_of_one_instant_the_first_one_has_the_answers() {
    let plan = edge("", &[OUT]);
    let lines = ["4 icmp edge:3000>198.51.100.80", "4 icmp h0:3000>198.51.100.80"];
    assert_eq!(
        play(&plan, &lines, vec![], None).lost(),
        ["from-device edge", "unexpected-source edge"]
    );
    let lines = ["4 icmp h0:3000>198.51.100.80", "4 icmp edge:3000>198.51.100.80"];
    assert_eq!(play(&plan, &lines, vec![], None).lost().len(), 1);
}
