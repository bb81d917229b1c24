//! Links, hosts, servers and whole flows in rare situations: each a small plan and its traffic,
//! found by holding random estates against a reference model, and named after what it shows.

use std::convert::Infallible;
use std::net::IpAddr;

use zarnet_core::event::{Action, Clearing, Event};
use zarnet_core::net::{Endpoint, IcmpError, Packet, Protocol};
use zarnet_core::plan::{DeviceId, InterfaceId};
use zarnet_core::predict::{Options, predict};
use zarnet_core::traffic::{Item, OneByOne, Party, Seen, SeenError};
use zarnet_testkit::played::{
    EDGE, HOSTS, OUT, edge, event, flow, nothing, plan, play, seconds, written,
};

/// The same file taking over changes nothing, also for segments that nobody named.
#[test]
fn a_plan_that_takes_over_finds_inferred_segments_by_their_prefix() {
    let west =
        EDGE.replace("10.20.0.1/24", "10.40.0.1/24").replace("203.0.113.2/27", "192.0.2.2/28");
    let west = west.replace("203.0.113.1", "192.0.2.1");
    let host = "[[host]]\nname = \"w0\"\naddress = \"10.40.0.11/24\"\ngateway = \"10.40.0.1\"\n";
    let out = written(OUT);
    let text = format!(
        "{HOSTS}{host}[[device]]\nname = \"edge\"\n{EDGE}{out}[[device]]\nname = \"west\"\n\
         {west}{out}"
    );
    let plan = plan(text);
    let takeover =
        Event { device: DeviceId(1), ..event(10.0, Action::Plan(plan.clone(), DeviceId(1))) };
    let played = play(
        &plan,
        &["1 udp 10.40.0.11>198.51.100.80:53", "20 udp 10.40.0.11>198.51.100.80:53"],
        vec![takeover],
        None,
    );
    assert_eq!(played.lost(), nothing());
}

#[test]
fn a_flow_whose_session_an_event_ends_is_over_on_every_device() {
    let gate = "[[device]]\nname = \"gate\"\n  [[device.interface]]\n  name = \"yard\"\n  realm = \
                \"internal\"\n  segment = \"link\"\n  \
                address = \"10.30.0.1/24\"\n  [[device.interface]]\n  name = \"street\"\n  realm \
                = \"external\"\n  segment = \"world\"\n  \
                address = \"203.0.113.2/27\"\n  [[device.route]]\n  to = \"0.0.0.0/0\"\n  via = \
                \"203.0.113.1\"\n";
    let inner = EDGE
        .replace("203.0.113.2/27", "10.30.0.2/24")
        .replace("\"world\"", "\"link\"")
        .replace("203.0.113.1", "10.30.0.1");
    let out = written(OUT);
    let link = "[[segment]]\nname = \"link\"\n";
    let plan = plan(format!("{link}{HOSTS}[[device]]\nname = \"edge\"\n{inner}{out}{gate}{out}"));
    let cleared = vec![event(100.0, Action::Clear(Clearing::default()))];
    let line = ["0 udp h0:1>198.51.100.80:53 1000"];
    assert_eq!(
        play(&plan, &line, cleared.clone(), Some(350.0)).dynamic().len(),
        1,
        "it is idle at the gate"
    );
    assert_eq!(play(&plan, &line, cleared, Some(500.0)).dynamic().len(), 0, "and has timed out");
    assert_eq!(play(&plan, &line, vec![], Some(500.0)).dynamic().len(), 2);
}

/// The answer of a neighbour comes without a device in between: no device is to blame.
#[test]
fn who_put_a_refused_answer_onto_the_link_is_to_blame() {
    let plan = edge(
        "behaviour = { hairpin-source = \"keep\" }",
        &["web static internal = \"10.20.0.12\"; external = \"203.0.113.5\"; hairpin = \
             [\"internal\"]"],
    );
    assert_eq!(
        play(&plan, &["0 udp h0:1>203.0.113.5:53"], vec![], None).lost(),
        ["unexpected-source"]
    );
}

#[test]
fn a_device_counts_its_own_packets_that_it_drops() {
    let acl = "  [[device.acl]]\n  name = \"none\"\n  entries = [{ drop = \"any\" }]\n";
    let edge = EDGE.replacen(
        "address = \"203.0.113.2/27\"",
        "address = \"203.0.113.2/27\"\n  egress-acl = \"none\"",
        1,
    );
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
    assert_eq!(
        play(&plan, &["1 udp 169.254.7.7:68>198.51.100.9:67"], vec![], None).lost(),
        ["link-only"]
    );
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
        assert_eq!(
            (prediction.link_only, prediction.tally.total(), prediction.unattributed),
            (5, 0, 0)
        );
        assert!(prediction.tables.iter().all(|t| t.mappings.is_empty()));
    }
    // and so are ICMP errors
    let Seen { at, device, interface, packet } = seen("198.51.100.80");
    let (from, to) = ("169.254.7.7".parse().unwrap(), "10.20.0.11".parse().unwrap());
    let error = Item::Error(SeenError {
        at,
        device,
        interface,
        error: IcmpError { from, to, about: packet },
    });
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
    assert_eq!(
        (elsewhere.seen_on, elsewhere.fits, elsewhere.packets),
        (InterfaceId(1), Some(InterfaceId(0)), 2)
    );
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
    // h0 behind edge and gate; edge's outer side is gate's inner one. Answers reach gate, and edge
    // drops them.
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
        "{HOSTS}[[segment]]\nname = \"middle\"\n[[device]]\nname = \"edge\"\n\
         {inner}{acl}{out}[[device]]\nname = \"gate\"\n{outer}{out}"
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
        let rule =
            format!("web forward external = \"street:443/tcp\"; internal = \"{server}:443\"{more}");
        play(&edge("", &[&rule]), &["0 tcp 198.51.100.9:4000>203.0.113.2:443"], vec![], None).lost()
    };
    assert_eq!(ask("10.20.0.77", ""), nothing());
    // two interfaces could have it, or none
    assert_eq!(ask("10.99.0.7", ""), ["private-address-on-internet edge"]);
    let one = edge("", &["one static internal = \"10.20.0.77\"; external = \"203.0.113.9\""]);
    assert_eq!(
        play(&one, &["0 udp 198.51.100.9:4000>203.0.113.9:53"], vec![], None).lost(),
        nothing()
    );
    let range = edge(
        "",
        &["many static internal = \"10.20.0.76-10.20.0.77\"; external = \
             \"203.0.113.8-203.0.113.9\""],
    );
    assert_eq!(
        play(&range, &["0 udp 198.51.100.9:4000>203.0.113.9:53"], vec![], None).lost(),
        ["nobody-answers edge"],
        "of a range nobody says who is there"
    );
    // whether the rule takes part is not looked at
    let off = edge(
        "",
        &[
            "web forward external = \"street:443/tcp\"; internal = \"10.20.0.77:443\"; enabled = \
             false",
            OUT,
        ],
    );
    assert_eq!(play(&off, &["0 udp h0:1>10.20.0.77:53"], vec![], None).lost(), ["on-link"]);
    assert_eq!(
        play(&edge("", &[OUT]), &["0 udp h0:1>10.20.0.77:53"], vec![], None).lost(),
        ["nobody-answers"]
    );
}

/// A device that answers for the address on that segment is asked first: the next device of a
/// chain.
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
        "{HOSTS}[[segment]]\nname = \"middle\"\n[[device]]\nname = \"edge\"\n\
         {inner}{on}[[device]]\nname = \"gate\"\n{outer}{first}"
    ));
    let ask = ["0 tcp 198.51.100.9:4000>203.0.113.2:443"];
    let played = play(&plan, &ask, vec![], Some(0.5));
    assert_eq!(played.lost(), nothing());
    assert_eq!(
        played.prediction.tables[0].sessions[0].translated.destination.to_string(),
        "10.20.0.11:443"
    );
}

#[test]
fn a_range_may_name_the_prefix_whose_network_and_broadcast_it_leaves_out() {
    let sizes = |addresses: &str| {
        let pool = format!("  [[device.pool]]\n  name = \"p\"\n  addresses = {addresses}\n");
        let text = format!(
            "{HOSTS}[[device]]\nname = \"edge\"\n{EDGE}{pool}{}",
            written("a pool as = \"p\"")
        );
        let played = play(&plan(text), &["0 udp h0:1>198.51.100.80:53 9"], vec![], Some(1.0));
        (played.prediction.tables[0].pools[0].usable, played.external("h0")[0].address.to_string())
    };
    assert_eq!(sizes("\"192.0.2.196-192.0.2.199\""), (4, "192.0.2.196".into()));
    assert_eq!(sizes("\"192.0.2.196-192.0.2.199/30\""), (2, "192.0.2.197".into()));
    assert_eq!(sizes("\"192.0.2.196-192.0.2.199/29\""), (3, "192.0.2.196".into()));
    assert_eq!(
        sizes(
            "\"192.0.2.196-192.0.2.199/31.0.0.0\"".replace("31.0.0.0", "255.255.255.252").as_str()
        )
        .0,
        2
    );
    assert_eq!(sizes("\"192.0.2.196-192.0.2.199\"\n  usable = \"all\"").0, 4);
}

#[test]
fn an_interface_without_a_realm_takes_part_where_it_is_named_itself() {
    let text = |more: &str| {
        let bare = EDGE.replacen("  realm = \"internal\"\n", "", 1);
        let rule = written(&format!("out overload as = \"street\"{more}"));
        let policy =
            "  [[device.policy]]\n  from = \"floor\"\n  into = \"external\"\n  accept = \"any\"\n";
        plan(format!(
            "{HOSTS}[[device]]\nname = \"edge\"\ndefault-policy = \"drop\"\n{bare}{policy}{rule}"
        ))
    };
    let ask = ["0 udp h0:1>198.51.100.80:53"];
    assert_eq!(play(&text("; from = \"floor\""), &ask, vec![], None).lost(), nothing());
    assert_eq!(play(&text(""), &ask, vec![], None).lost(), ["private-address-on-internet edge"]);
}

/// A machine that two interfaces could be the gateway of is not there, whatever a rule says.
#[test]
fn a_server_that_may_be_in_two_places_is_in_neither() {
    let second = "  [[device.interface]]\n  name = \"hall\"\n  realm = \"internal\"\n  address = \
                  \"10.20.0.129/25\"\n";
    let text = |server: &str| {
        let rule = written(&format!(
            "web forward external = \"street:443/tcp\"; internal = \"{server}:443\""
        ));
        plan(format!("{HOSTS}[[device]]\nname = \"edge\"\n{EDGE}{second}{rule}"))
    };
    let ask = ["0 tcp 198.51.100.9:4000>203.0.113.2:443"];
    assert_eq!(play(&text("10.20.0.77"), &ask, vec![], None).lost(), nothing());
    assert_eq!(play(&text("10.20.0.177"), &ask, vec![], None).lost(), ["nobody-answers edge"]);
}

/// A flow that meets a session which another one of the same instant has closed sends on: it does
/// not keep the session.
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
