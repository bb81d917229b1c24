//! Faults to plant into a working estate, each with a flow that shows it.

use std::collections::BTreeMap;

use super::estate::{Dice, Estate};

pub(crate) const OUT: &str = "till -> 198.51.100.80:443/tcp";
pub(crate) const PING: &str = "till -> 198.51.100.80/icmp";
pub(crate) const CLERK: &str = "clerk -> 192.0.2.9:443/tcp";
pub(crate) const IN: &str = "198.51.100.80 -> 203.0.113.2:443/tcp";
pub(crate) const CRANE: &str = "crane -> 198.51.100.80:443/tcp";
pub(crate) const LOCAL: &str = "till -> locker:8080/tcp";
pub(crate) const SAFE: &str = "198.51.100.80 -> 203.0.113.5:443/tcp";
pub(crate) const PARTNER: &str = "till -> partner:443/tcp";
pub(crate) const STRANGER: &str = "192.0.2.200 -> 203.0.113.2:443/tcp";
const HAIRPIN: &str = "clerk -> 203.0.113.2:443/tcp";

pub(crate) fn q(text: &str) -> String {
    format!("\"{text}\"")
}

/// A way to break an estate: the cause that is planted, and the flow that shows it. `None`: not
/// this estate.
pub(crate) type Mutation = (&'static str, fn(&mut Estate, &mut Dice) -> Option<&'static str>);

pub(crate) fn forward(e: &mut Estate) -> &mut BTreeMap<&'static str, String> {
    e.forward.get_or_insert_with(BTreeMap::new)
}

pub(crate) const MUTATIONS: &[Mutation] = &[
    ("no-gateway", |e, _| e.gateway.take().map(|_| OUT)),
    ("wrong-gateway", |e, d| {
        e.gateway = Some(format!("10.{}.1.{}", e.net, 200 + d.roll(50)));
        Some(OUT)
    }),
    ("ingress-filter", |e, _| {
        e.ingress = Some(vec![
            "{ drop = \"23/tcp\" }".into(),
            format!("{{ accept = \"any\", source = \"10.{}.1.150\" }}", e.net),
        ]);
        Some(OUT)
    }),
    ("egress-filter", |e, _| {
        e.egress = Some(vec![format!("{{ accept = \"any\", source = \"10.{}.0.0/16\" }}", e.net)]);
        Some(OUT)
    }),
    ("not-forwarding", |e, _| {
        e.forwarding = false;
        Some(OUT)
    }),
    ("no-route-out", |e, _| e.default_route.take().map(|_| OUT)),
    ("no-route-back", |e, _| {
        e.inner_route = false;
        e.inner.then_some(CRANE)
    }),
    ("interface-without-realm", |e, d| {
        if d.flip() {
            e.realms.0 = None
        } else {
            e.realms.1 = None
        }
        Some(OUT)
    }),
    ("realms-swapped", |e, _| {
        e.realms = (Some("external".into()), Some("internal".into()));
        Some(OUT)
    }),
    ("source-not-in-list", |e, d| {
        let wrong = match d.roll(3) {
            0 => format!("10.{}.1.128/25", e.net),
            1 => format!("10.{}.1.0/24", e.net + 1),
            _ => format!("10.{}.11.0/24", e.net),
        };
        e.out.insert(
            "source",
            format!("[\"{wrong}\", \"10.{}.1.150\", \"10.{}.9.0/24\"]", e.net, e.net),
        );
        Some(OUT)
    }),
    ("service-not-in-list", |e, _| {
        e.out.insert("service", "[\"80/tcp\", \"8443/tcp\", \"icmp\"]".into());
        Some(OUT)
    }),
    ("protocol-not-covered", |e, _| {
        e.out.insert("service", "[\"1-65535/tcp\", \"1-65535/udp\"]".into());
        Some(PING)
    }),
    ("destination-not-in-list", |e, _| {
        e.out.insert("destination", "[\"198.18.7.0/24\", \"192.0.2.0/24\"]".into());
        Some(OUT)
    }),
    ("rule-disabled", |e, d| {
        if d.flip() {
            e.out.insert("enabled", "false".into());
            return Some(OUT);
        }
        forward(e).insert("enabled", "false".into());
        Some(IN)
    }),
    ("exempted", |e, _| {
        e.before.push(format!(
            "  name = \"site\"\n  type = \"exempt\"\n  source = \"10.{}.1.0/24\"\n  destination = \
             \"198.51.100.0/24\"",
            e.net
        ));
        // behind the box it is translated all the same
        (!e.chain).then_some(OUT)
    }),
    ("empty-group", |e, _| {
        e.groups = vec![format!("net-10-{}-1 = []", e.net)];
        e.out.insert(
            "source",
            format!("[\"net-10-{}-1\", \"10.{}.1.150\", \"10.{}.9.0/24\"]", e.net, e.net, e.net),
        );
        (!e.chain).then_some(OUT)
    }),
    ("name-contradicts-value", |e, _| {
        e.groups = vec![format!("net-10-{}-1 = \"10.{}.77.0/24\"", e.net, e.net)];
        e.out.insert(
            "source",
            format!("[\"net-10-{}-1\", \"10.{}.1.150\", \"10.{}.9.0/24\"]", e.net, e.net, e.net),
        );
        (!e.chain).then_some(OUT)
    }),
    ("policy-missing", |e, d| {
        let (out, inbound) = e.policy.as_mut()?;
        if d.flip() {
            out[0] = "from = \"internal\"\n  into = \"external\"\n  accept = \"any\"\n  source = \
                      \"clerk\""
                .into();
            return Some(OUT);
        }
        inbound.clear();
        Some(IN)
    }),
    ("policy-sees-other-address", |e, _| {
        e.policy.as_ref()?;
        e.behaviour.push("policy-sees = \"original\"".into());
        Some(IN)
    }),
    ("external-address-not-held", |e, _| {
        e.behaviour.push("answer-arp = \"listed\"".into());
        e.out.insert("as", q("203.0.113.9"));
        (!e.chain).then_some(OUT)
    }),
    ("upstream-does-not-route", |e, _| {
        e.out.insert("as", q("block"));
        (!e.chain).then_some(OUT)
    }),
    ("lease-changed", |e, _| {
        e.lease = true;
        e.out.insert("as", q("198.18.7.7"));
        (!e.chain).then_some(OUT)
    }),
    ("server-not-listening", |e, _| {
        forward(e).insert("internal", q("locker:8008"));
        if let Some(entry) = e.policy.as_mut().and_then(|p| p.1.first_mut()) {
            *entry = entry.replace("8080", "8000-8100");
        }
        Some(IN)
    }),
    ("server-without-gateway", |e, _| e.server_gateway.take().map(|_| IN)),
    ("forward-missing", |e, _| {
        e.forward = None;
        e.listens = "[\"443/tcp\", \"24443/tcp\"]";
        if let Some(entry) = e.policy.as_mut().and_then(|p| p.1.first_mut()) {
            *entry = entry.replace("8080/tcp", "any");
        }
        Some(IN)
    }),
    ("source-not-in-list", |e, _| {
        forward(e).insert("source", q("192.0.2.0/24"));
        Some(IN)
    }),
    ("chain-wrong-address", |e, _| {
        e.chain_to = "192.168.50.7:24443".into();
        e.chain.then_some(IN)
    }),
    ("chain-wrong-port", |e, _| {
        e.chain_to = "192.168.50.2:443".into();
        e.chain.then_some(IN)
    }),
    ("hairpin-off", |e, _| (!e.chain && !e.guarded).then_some(HAIRPIN)),
    ("host-mask", |e, d| {
        if d.flip() {
            e.lengths.0 = 28;
            return Some(OUT);
        }
        e.lengths.0 = 16;
        Some(LOCAL)
    }),
    ("interface-mask", |e, _| {
        e.lengths.1 = 29;
        Some(OUT)
    }),
    ("wrong-segment", |e, d| {
        match d.roll(2) {
            0 => e.segments.0 = Some("internet"),
            _ => {
                e.segments.1 = Some(if e.chain { "between" } else { "internet" });
                e.segments.2 = Some("floor");
            }
        }
        Some(OUT)
    }),
    ("next-hop-unanswered", |e, d| {
        if e.chain {
            e.default_route = Some(format!("192.168.50.{}", 30 + d.roll(100)));
            return Some(OUT);
        }
        e.inner_via = 77;
        e.inner.then_some(CRANE)
    }),
    ("arrives-elsewhere", |e, _| {
        forward(e).insert("internal", q("cabin:8080"));
        if let Some(entry) = e.policy.as_mut().and_then(|p| p.1.first_mut()) {
            *entry = entry.replace("\"locker\"", "[\"locker\", \"cabin\"]");
        }
        Some(IN)
    }),
    ("open-to-others", |e, _| {
        forward(e).remove("source");
        (e.guarded && !e.chain).then_some(STRANGER)
    }),
    ("rule-scope", |e, d| match d.roll(3) {
        0 => {
            e.out.insert("from", q("store"));
            Some(OUT)
        }
        1 => {
            e.out.insert("into", q("internal"));
            Some(OUT)
        }
        _ => {
            e.fixed.as_mut()?.insert("direction", q("outbound"));
            Some(SAFE)
        }
    }),
    ("realm-without-interface", |e, d| {
        let (key, name) = if d.flip() { ("from", "interal") } else { ("into", "outside") };
        e.out.insert(key, q(name));
        Some(OUT)
    }),
    ("interface-without-realm", |e, d| {
        match d.roll(3) {
            0 => e.realms = (None, None),
            1 => e.realms.0 = Some("interal".into()),
            _ => e.realms.1 = Some("extern".into()),
        }
        Some(OUT)
    }),
    ("answers-not-accepted", |e, _| {
        e.uplink_in.as_mut()?.remove(0);
        Some(OUT)
    }),
    ("protocol-not-covered", |e, d| {
        if d.flip() {
            let external = forward(e).get("external")?.replace("/tcp", "/udp");
            forward(e).insert("external", external);
            return Some(IN);
        }
        e.fixed.as_mut()?.insert("service", "[\"443/udp\", \"22/udp\"]".into());
        Some(SAFE)
    }),
    ("service-not-in-list", |e, _| {
        e.fixed.as_mut()?.insert("service", "[\"22/tcp\", \"8443/tcp\"]".into());
        Some(SAFE)
    }),
    ("rule-disabled", |e, _| {
        e.fixed.as_mut()?.insert("enabled", "false".into());
        Some(SAFE)
    }),
    ("untranslated-rule-missing", |e, d| {
        if d.flip() {
            e.exempt.as_mut()?.insert("destination", q("192.168.51.0/24"));
        } else {
            e.exempt = None;
        }
        e.partner.then_some(PARTNER)
    }),
];
