//! What a device sends itself: to whom it leaves, what judges it, and whether rules look at it.

use std::sync::Arc;

use zarnet_core::event::Action;
use zarnet_core::plan::{DeviceId, Plan};
use zarnet_testkit::played::{EDGE, HOSTS, edge, event, nothing, plan, play, written};

const TRANSLATES: &str = "behaviour = { translates-own = true }";

/// Own traffic from 10.20.0.1 (`floor`) to the internet needs a translation; that from `street`
/// does not.
#[test]
fn rules_look_at_own_traffic_only_where_the_device_is_told_so() {
    let rules = ["out overload as = \"203.0.113.8\""];
    let ask = ["0 udp edge/floor:700>198.51.100.80:53", "0 udp edge/street:700>198.51.100.80:53"];
    assert_eq!(
        play(&edge("", &rules), &ask, vec![], None).lost(),
        ["private-address-on-internet edge", "from-device edge"]
    );
    // as if it had come in by the interface that it is from: `street` is no internal one
    let played = play(&edge(TRANSLATES, &rules), &ask, vec![], Some(1.0));
    assert_eq!(played.lost(), ["from-device edge"]);
    assert_eq!(played.external("10.20.0.1:700")[0].to_string(), "203.0.113.8:700");
    // a name alone is the address that the route leads out by
    assert_eq!(
        play(&edge(TRANSLATES, &rules), &["0 udp edge>198.51.100.80:53"], vec![], None).lost(),
        ["from-device edge"]
    );
    let from_street = ["out overload from = \"street\"; as = \"203.0.113.8\""];
    let played =
        play(&edge(TRANSLATES, &from_street), &["0 udp edge>198.51.100.80:53"], vec![], Some(1.0));
    assert_eq!((played.lost(), played.dynamic().len()), (vec![], 1));
}

#[test]
fn own_traffic_is_translated_by_every_type_of_rule() {
    let ask = ["0 udp edge/floor:700>198.51.100.80:53 5"];
    let becomes = |rule: &str| {
        let played = play(&edge(TRANSLATES, &[rule]), &ask, vec![], Some(1.0));
        assert_eq!(played.lost(), nothing(), "{rule}");
        played.prediction.tables[0].sessions[0].translated.source.to_string()
    };
    assert_eq!(
        becomes("a static internal = \"10.20.0.1\"; external = \"203.0.113.9\""),
        "203.0.113.9:700"
    );
    assert_eq!(becomes("a pool as = \"203.0.113.10-203.0.113.12\""), "203.0.113.10:700");
    assert_eq!(
        becomes("a forward external = \"203.0.113.9:53/udp\"; internal = \"10.20.0.1:700\""),
        "203.0.113.9:53"
    );
    // what step 8 exempts or passes is from the device
    let spent = "a pool as = \"203.0.113.10\"; when-exhausted = \"pass\"; from = [\"internal\", \
                 \"street\"]";
    let played = play(
        &edge(TRANSLATES, &[spent]),
        &["0 udp h0:1>198.51.100.80:53 5", "1 udp edge/street:700>198.51.100.80:53"],
        vec![],
        None,
    );
    assert_eq!(played.lost(), ["from-device edge"]);
    let played = play(
        &edge(TRANSLATES, &["a exempt from = \"street\""]),
        &["0 udp edge>198.51.100.80:53"],
        vec![],
        None,
    );
    assert_eq!(played.lost(), ["from-device edge"]);
}

#[test]
fn own_traffic_is_refused_where_a_rule_has_nothing_left() {
    let rule = ["a pool as = \"203.0.113.10\""];
    let played = play(
        &edge(TRANSLATES, &rule),
        &["0 udp h0:1>198.51.100.80:53 5", "1 udp edge/floor:700>198.51.100.80:53"],
        vec![],
        None,
    );
    assert_eq!(played.lost(), ["pool-exhausted edge a"]);
    assert_eq!(
        (played.prediction.tables[0].totals.refused, played.prediction.tables[0].pools[0].refused),
        (1, 1)
    );
}

/// An address that it has besides counts as one of the interface; its own answers are never
/// translated.
#[test]
fn own_answers_are_never_translated() {
    let text = |keys: &str| {
        let edge = EDGE.replacen(
            "\"203.0.113.2/27\"",
            "\"203.0.113.2/27\"\n  also = [\"203.0.113.20\"]",
            1,
        );
        let rule = written("a overload from = \"street\"; as = \"203.0.113.8\"");
        plan(format!("{HOSTS}[[device]]\nname = \"edge\"\n{keys}\n{edge}{rule}"))
    };
    let ping = ["0 icmp 198.51.100.80>203.0.113.2"];
    assert_eq!(play(&text(TRANSLATES), &ping, vec![], None).lost(), ["to-device edge"]);
    let also = ["0 udp 203.0.113.20:1>198.51.100.80:53"];
    assert_eq!(play(&text(TRANSLATES), &also, vec![], None).lost(), nothing());
    assert_eq!(play(&text(""), &also, vec![], None).lost(), ["from-device edge"]);
}

#[test]
fn a_device_that_sends_to_itself_is_judged_by_step_5() {
    let rules = [
        "web forward external = \"street:443/tcp\"; internal = \"h0:443\"",
        "one static internal = \"h1\"; external = \"203.0.113.9\"",
        "out overload as = \"203.0.113.8\"",
    ];
    let served =
        EDGE.replacen("\"203.0.113.2/27\"", "\"203.0.113.2/27\"\n  services = [\"22/tcp\"]", 1);
    let mut text = format!("{HOSTS}[[device]]\nname = \"edge\"\n{served}");
    rules.iter().for_each(|r| text += &written(r));
    let plan = plan(text);
    let lost = |line: &str| play(&plan, &[line], vec![], None).lost().join(" ");
    assert_eq!(lost("0 icmp edge/floor>203.0.113.2"), "from-device edge");
    assert_eq!(lost("0 tcp edge/floor>203.0.113.2:22"), "from-device edge");
    assert_eq!(lost("0 tcp edge/floor>203.0.113.2:80"), "no-listener edge");
    // something is mapped there, and lets nobody in that came in nowhere
    assert_eq!(lost("0 tcp edge/floor>203.0.113.2:443"), "filtered edge");
    assert_eq!(lost("0 udp edge>203.0.113.9:53"), "filtered edge");
    assert_eq!(lost("0 udp edge>203.0.113.8:53"), "no-mapping edge");
    let played = play(&plan, &["0 tcp edge/floor>203.0.113.2:22 9"], vec![], Some(1.0));
    assert_eq!(
        played.prediction.tables[0].session_count, 0,
        "nothing leaves, and nothing is left behind"
    );
}

/// The device answers a packet of its own session, which both flows keep running.
#[test]
fn an_inbound_flow_on_its_own_session_keeps_it_running() {
    let plan = edge("", &[]);
    let own = "0 udp edge:700>198.51.100.80:53 1";
    let played = |lines: &[&str], at: f64| {
        play(&plan, lines, vec![], Some(at)).prediction.tables[0].session_count
    };
    assert_eq!(played(&[own], 400.0), 0);
    let both = [own, "10 udp 198.51.100.80:53>203.0.113.2:700 500"];
    assert_eq!(played(&both, 400.0), 1);
    assert_eq!(played(&both, 809.0), 1, "300 s behind its last packet");
    assert_eq!(played(&both, 811.0), 0);
    assert_eq!(play(&plan, &both, vec![], None).lost(), ["from-device edge", "to-device edge"]);
}

/// What the device answers on its own session passes its filter on the way out like anything else
/// that it sends.
#[test]
fn its_answers_on_its_own_session_can_be_lost() {
    let acl = "  [[device.acl]]\n  name = \"questions\"\n  entries = [{ accept = \"53/udp\", \
               source-service = \"1-700/udp\" }]\n";
    let edge = EDGE.replacen(
        "address = \"203.0.113.2/27\"",
        "address = \"203.0.113.2/27\"\n  egress-acl = \"questions\"",
        1,
    );
    let plan = plan(format!("{HOSTS}[[device]]\nname = \"edge\"\n{edge}{acl}"));
    let both = ["0 udp edge:700>198.51.100.80:53 1", "2 udp 198.51.100.80:53>203.0.113.2:700"];
    assert_eq!(play(&plan, &both, vec![], None).lost(), ["from-device edge", "to-device edge"]);
    // a plan without routes takes over: the answer has no way
    let bare: Arc<Plan> = {
        let mut bare = (*plan).clone();
        Arc::make_mut(&mut bare.devices[0]).routes.clear();
        Arc::new(bare)
    };
    let takeover = vec![event(1.5, Action::Plan(bare, DeviceId(0)))];
    assert_eq!(play(&plan, &both, takeover, None).lost(), ["from-device edge", "no-route edge"]);
}

/// An interface that a new plan does not have sends nothing more; one that has another number there
/// does.
#[test]
fn interfaces_that_traffic_names_are_found_again_after_another_plan() {
    let hall = "  [[device.interface]]\n  name = \"hall\"\n  realm = \"internal\"\n  address = \
                \"10.20.1.1/24\"\n";
    let text = |first: &str| format!("{HOSTS}[[device]]\nname = \"edge\"\n{first}{EDGE}");
    let (with, without) = (plan(text(hall)), plan(text("")));
    let takeover = vec![event(5.0, Action::Plan(without, DeviceId(0)))];
    let lines = [
        "0 udp edge/hall:7>198.51.100.80:53",
        "1 udp edge/street:8>198.51.100.80:53",
        "6 udp edge/street:9>198.51.100.80:53",
        "7 udp edge/hall:7>198.51.100.80:53",
        "8 udp h0:1>edge/hall:53",
        "9 icmp h0>edge/street",
    ];
    assert_eq!(
        play(&with, &lines, takeover, None).lost(),
        [
            "private-address-on-internet edge",
            "from-device edge",
            "from-device edge",
            "no-route edge",
            "no-route edge",
            "to-device edge"
        ]
    );
}
