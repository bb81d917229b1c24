//! Sentences of the contract about the world around a device, the traffic and the answers: each
//! with the smallest estate that shows it.

use std::fmt::Write;
use std::sync::Arc;

use zarnet_core::event::{Action, Clearing};
use zarnet_core::plan::Plan;
use zarnet_testkit::played::{
    EDGE, HOSTS, OUT, edge, event, nothing, plan, play, seconds, written,
};

/// Hosts and an edge, whose text is changed as each `(what, into)` says.
fn changed(changes: &[(&str, &str)], keys: &str, rules: &[&str]) -> Arc<Plan> {
    let mut text = format!("{HOSTS}[[device]]\nname = \"edge\"\n{keys}\n{EDGE}");
    for (what, into) in changes {
        assert!(text.contains(what), "{what}");
        text = text.replace(what, into);
    }
    rules.iter().for_each(|r| text += &written(r));
    plan(text)
}

/// What becomes of a packet to the internet from behind so many routers in a row.
fn behind(routers: usize) -> Vec<String> {
    let mut text = String::from(
        r#"
[[segment]]
name = "world"
internet = true
routed = [{ to = "198.18.0.0/24", via = "203.0.113.2" }]
"#,
    );
    for r in 0..routers {
        let near = format!("segment = \"s{r}\"\naddress = \"198.18.{r}.1/24\"");
        let (away, via) = match r + 1 < routers {
            true => (
                format!("segment = \"s{0}\"\naddress = \"198.18.{0}.2/24\"", r + 1),
                format!("198.18.{}.1", r + 1),
            ),
            false => {
                ("segment = \"world\"\naddress = \"203.0.113.2/27\"".into(), "203.0.113.1".into())
            }
        };
        write!(text, "[[segment]]\nname = \"s{r}\"\n[[device]]\nname = \"r{r}\"\n").unwrap();
        write!(
            text,
            "[[device.interface]]\nname = \"near\"\n{near}\n[[device.interface]]\nname = \
                      \"away\"\n{away}\n"
        )
        .unwrap();
        write!(text, "[[device.route]]\nto = \"0.0.0.0/0\"\nvia = \"{via}\"\n").unwrap();
        if r > 0 {
            write!(text, "[[device.route]]\nto = \"198.18.0.0/24\"\nvia = \"198.18.{r}.2\"\n")
                .unwrap();
        }
    }
    play(&plan(text), &["0 udp 198.18.0.9>198.51.100.80:53"], vec![], None).lost()
}

#[test]
fn a_packet_passes_32_devices_and_not_one_more() {
    assert_eq!(behind(32), ["no-rule r0"]);
    assert_eq!(behind(33), ["looped r32"]);
}

#[test]
fn of_an_interface_and_a_routed_block_the_longer_prefix_decides_and_the_interface_at_equal_length()
{
    let web = "web forward external = \"203.0.113.20:443/tcp\"; internal = \"10.20.0.11:443\"";
    let come = |routed: &str| {
        let internet =
            format!("internet = true\nrouted = [{{ to = \"{routed}\", via = \"192.0.2.77\" }}]");
        let plan = changed(&[("internet = true", &internet)], "", &[web]);
        play(&plan, &["0 tcp 198.51.100.80>203.0.113.20:443"], vec![], None).lost()
    };
    assert_eq!(come("203.0.113.0/26"), nothing());
    assert_eq!(come("203.0.113.0/27"), nothing());
    assert_eq!(
        come("203.0.113.16/28"),
        ["nobody-answers"],
        "the block leads to a next hop that is not there"
    );
}

#[test]
fn the_providers_router_is_a_peer_and_addresses_of_the_plan_are_none() {
    let web = "web forward external = \"street:443/tcp\"; internal = \"10.20.0.11:443\"";
    let pool = "  [[device.pool]]\n  name = \"spare\"\n  addresses = \
                \"198.51.100.4-198.51.100.7\"\n  [[device.route]]";
    let plan = changed(
        &[("  [[device.route]]", pool)],
        "",
        &[web, OUT, "more pool source = \"10.20.0.12\"; as = \"spare\""],
    );
    let lost = |line: &str| play(&plan, &[line], vec![], None).lost();
    assert_eq!(lost("0 udp h0>203.0.113.1:53"), nothing(), "the router answers");
    assert_eq!(lost("0 tcp 203.0.113.1>203.0.113.2:443"), nothing(), "and sends");
    assert_eq!(
        lost("0 udp h0>203.0.113.9:53"),
        ["nobody-answers edge"],
        "in the prefix of an interface on the internet"
    );
    assert_eq!(
        lost("0 udp h0>198.51.100.5:53"),
        ["no-mapping edge"],
        "in a pool, of which no mapping has it"
    );
    assert_eq!(lost("0 udp 198.51.100.5>203.0.113.2:443"), ["unknown-source"]);
}

#[test]
fn a_host_that_listens_to_something_answers_echo_requests_all_the_same() {
    let listens =
        ("address = \"10.20.0.11/24\"", "address = \"10.20.0.11/24\"\nlistens = [\"443/tcp\"]");
    let plan = changed(
        &[listens],
        "",
        &["all static internal = \"10.20.0.11\"; external = \"203.0.113.5\""],
    );
    let lost = |line: &str| play(&plan, &[line], vec![], None).lost();
    assert_eq!(lost("0 icmp 198.51.100.80:7>203.0.113.5"), nothing());
    assert_eq!(lost("0 tcp 198.51.100.80>203.0.113.5:443"), nothing());
    assert_eq!(lost("0 tcp 198.51.100.80>203.0.113.5:80"), ["no-listener edge"]);
}

#[test]
fn a_policy_entry_without_from_holds_for_interfaces_without_a_realm_too() {
    let no_realm = ("  realm = \"internal\"\n", "");
    let with = |entry: &str| {
        let policy = format!("  [[device.policy]]\n  drop = \"53/udp\"\n{entry}  [[device.route]]");
        let plan = changed(&[no_realm, ("  [[device.route]]", &policy)], "", &[]);
        play(&plan, &["0 udp h0>203.0.113.1:53", "0 udp h0>203.0.113.1:54"], vec![], None).lost()
    };
    let private = "private-address-on-internet edge";
    assert_eq!(with(""), ["policy edge", private]);
    assert_eq!(with("  from = \"external\"\n"), [private, private]);
    assert_eq!(with("  from = \"floor\"\n"), ["policy edge", private], "which it names itself");
}

#[test]
fn of_a_static_with_more_than_256_pairs_those_with_sessions_are_listed() {
    let listed = |length: u8| {
        let rule = format!(
            "all static internal = \"10.20.0.0/{length}\"; external = \"198.18.4.0/{length}\""
        );
        let block = format!(
            "internet = true\nrouted = [{{ to = \"198.18.4.0/{length}\", via = \"203.0.113.2\" }}]"
        );
        let plan = changed(&[("internet = true", &block)], "", &[&rule]);
        let played = play(
            &plan,
            &["0 udp h0>198.51.100.80:53", "0 udp h1>198.51.100.80:53"],
            vec![],
            Some(5.0),
        );
        assert_eq!(played.lost(), nothing());
        played.prediction.tables[0].mappings.len()
    };
    assert_eq!((listed(24), listed(23)), (256, 2));
}

#[test]
fn a_flow_that_still_runs_was_last_active_at_the_instant_shown() {
    let played = play(
        &edge("", &[OUT]),
        &["0 udp h0>198.51.100.80:53 100", "0 udp h1>198.51.100.80:53 10"],
        vec![],
        Some(40.0),
    );
    let mut last: Vec<_> =
        played.prediction.tables[0].sessions.iter().map(|s| (s.last_active, s.expires)).collect();
    last.sort();
    assert_eq!(last, [(seconds("10"), seconds("310")), (seconds("40"), seconds("340"))]);
}

#[test]
fn a_source_counts_its_ephemeral_ports_over_all_protocols_and_from_49152_again_after_65535() {
    let mut lines: Vec<String> =
        (0..16_384).map(|i| format!("{} udp h0>198.51.100.80:53", i as f64 / 1000.0)).collect();
    lines[100] = "0.1 tcp h0>198.51.100.80:443".into();
    lines.insert(200, "0.1995 udp h0:700>198.51.100.80:53".into()); // its own port moves nothing
    lines.push("20 icmp h0>198.51.100.80".into());
    lines.push("20 udp h0>198.51.100.80:99".into());
    lines.push("20 udp h1>198.51.100.80:99".into());
    let lines: Vec<&str> = lines.iter().map(String::as_str).collect();
    let played = play(&edge("", &[OUT]), &lines, vec![], Some(20.5));
    assert_eq!(played.lost(), nothing());
    let of =
        |port: u16| move |s: &&zarnet_core::device::SessionRow| s.original.destination.port == port;
    let sessions = &played.prediction.tables[0].sessions;
    let ports = |port| {
        sessions.iter().filter(of(port)).map(|s| s.original.source.to_string()).collect::<Vec<_>>()
    };
    assert_eq!(ports(443), ["10.20.0.11:49252"]);
    let mut at_99 = ports(99);
    at_99.sort();
    assert_eq!(at_99, ["10.20.0.11:49153", "10.20.0.12:49152"]);
    assert_eq!(ports(53).iter().filter(|e| e.ends_with(":65535")).count(), 1);
}

/// What is remembered of earlier choices goes with a restart, and only with it; a packet that is
/// dropped moves nothing.
#[test]
fn a_restart_forgets_whose_turn_it_is_and_a_dropped_packet_takes_none() {
    let pool = "  [[device.pool]]\n  name = \"lines\"\n  addresses = \
                \"203.0.113.10-203.0.113.19\"\n  pick = \"in-turn\"\n\
                  [[device.acl]]\n  name = \"leaving\"\n  entries = [{ drop = \"99/udp\" }, { \
                  accept = \"any\" }]\n  [[device.route]]";
    let filter = ("segment = \"world\"\n", "segment = \"world\"\n  egress-acl = \"leaving\"\n");
    let plan = changed(&[("  [[device.route]]", pool), filter], "", &["out pool as = \"lines\""]);
    let lines =
        ["0 udp h0>198.51.100.80:53", "1 udp h1>198.51.100.80:99", "20 udp h1>198.51.100.80:53"];
    let second =
        |events| play(&plan, &lines, events, Some(25.0)).external("h1")[0].address.to_string();
    assert_eq!(second(vec![]), "203.0.113.11");
    let all = Clearing::default();
    assert_eq!(second(vec![event(10.0, Action::Clear(all))]), "203.0.113.11");
    assert_eq!(second(vec![event(10.0, Action::Restart)]), "203.0.113.10");
}

/// What `predict` says by its exit code: also of flows that pass untranslated past a rule for their
/// realms.
#[test]
fn a_flow_that_passes_beside_the_rules_of_its_realms_is_a_failure() {
    let negative = |rules: &[&str], line: &str| {
        let block =
            "internet = true\nrouted = [{ to = \"198.18.20.0/24\", via = \"203.0.113.2\" }]";
        let plan = changed(&[("10.20.0", "198.18.20"), ("internet = true", block)], "", rules);
        let played = play(&plan, &[line], vec![], None);
        assert_eq!(played.lost(), ["no-rule edge"]);
        played.prediction.negative
    };
    let line = "0 udp 198.18.20.11>198.51.100.80:53";
    assert!(!negative(&[], line), "nobody meant to translate");
    assert!(
        negative(&["out overload source = \"198.18.20.12\"; as = \"street\""], line),
        "another host is"
    );
    assert!(negative(&["out overload enabled = false; as = \"street\""], line), "enabled or not");
    assert!(
        !negative(&["out overload into = \"floor\"; as = \"street\""], line),
        "not into where it went"
    );
    assert!(
        !negative(&["out exempt source = \"198.18.20.12\""], line),
        "exempt rules translate nothing"
    );
}
