//! The search for what is wrong, on plans with a fault that is known: those of `demo/faults/`, and healthy plans of all
//! kinds that a seeded mutator breaks. `MUTATIONS=2000 cargo test --release -p zarnet-formats --test why -- --nocapture`
//! reports on as many as wanted.

use std::collections::BTreeMap;
use std::path::Path;
use std::sync::Arc;

use zarnet_core::diagnose::{Diagnosis, RepairTrial, diagnose, satisfied};
use zarnet_core::plan::Edit;
use zarnet_core::predict::{Rehearsal, Scene};
use zarnet_core::traffic::Flow;
use zarnet_formats::plan::{Loaded, edited, from_text};

/// Changes the text of a plan, and follows the flow on it at rest.
struct Shop<'a> {
    loaded: &'a Loaded,
    flow: Flow,
}

impl RepairTrial for Shop<'_> {
    fn attempt(&mut self, changes: &[Vec<Edit>]) -> Option<Scene> {
        let repaired = edited(self.loaded, changes).ok()?;
        Some(Scene::at_rest(Arc::new(repaired.plan), 0, &self.flow))
    }
}

fn searched(loaded: &Loaded, flow: Flow) -> Diagnosis {
    let scene = Scene::at_rest(Arc::new(loaded.plan.clone()), 0, &flow);
    diagnose(&scene, &mut Shop { loaded, flow })
}

fn names(diagnosis: &Diagnosis) -> String {
    diagnosis.causes.iter().map(|c| c.cause.name()).collect::<Vec<_>>().join(" + ")
}

/// Which expectations of a plan hold.
fn held(loaded: &Loaded) -> Vec<bool> {
    let mut rehearsal = Rehearsal::new(Arc::new(loaded.plan.clone()), 0);
    loaded.plan.expectations.iter().map(|e| rehearsal.expect(e).failed.is_empty()).collect()
}

/// Plans with a fault that needs no traffic before: the cause is the one in the head, and a repair works where there is one.
#[test]
fn every_fault_is_named_and_repaired() {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/faults");
    let mut seen = 0;
    for file in std::fs::read_dir(folder).unwrap() {
        let path = file.unwrap().path();
        let text = std::fs::read_to_string(&path).unwrap();
        let head = |key: &str| text.lines().find_map(|l| l.strip_prefix(key)).map(str::to_owned);
        let Some(wanted) = head("# Cause: ").filter(|_| head("# With: ").is_none()) else { continue };
        seen += 1;
        let loaded = from_text(&path, text.clone()).unwrap_or_else(|e| panic!("{path:?}: {e:?}"));
        let diagnosis = searched(&loaded, loaded.plan.expectations[0].flow);
        assert_eq!(names(&diagnosis), wanted, "{path:?}");
        let hopeless = ["starts-at-device", "outside-fault"].contains(&wanted.as_str());
        assert_eq!(diagnosis.repairs.is_empty(), hopeless, "{path:?}");
        for repair in &diagnosis.repairs {
            assert!(satisfied(&repair.scene.followed), "{path:?}: {}", repair.title);
            // what is written can be read again, and does the same
            let again = edited(&loaded, &repair.changes).unwrap();
            let comments = |text: &str| text.lines().filter(|l| l.trim_start().starts_with('#')).count();
            assert_eq!(comments(again.sources.0[0].text()), comments(&text), "{path:?}: a comment was lost");
        }
    }
    assert!(seen > 30);
}

/// A small generator, the same on every machine.
struct Dice(u64);

impl Dice {
    fn roll(&mut self, sides: u64) -> u64 {
        self.0 = self.0.wrapping_add(0x9E37_79B9_7F4A_7C15);
        let z = (self.0 ^ self.0 >> 30).wrapping_mul(0xBF58_476D_1CE4_E5B9);
        let z = (z ^ z >> 27).wrapping_mul(0x94D0_49BB_1331_11EB);
        (z ^ z >> 31) % sides
    }

    fn flip(&mut self) -> bool {
        self.roll(2) == 0
    }
}

/// A healthy estate, and what a fault may change of it.
#[derive(Clone)]
struct Estate {
    net: u64,
    till: u64,
    gateway: Option<String>,
    server_gateway: Option<String>,
    listens: &'static str,
    groups: Vec<String>,
    forwarding: bool,
    behaviour: Vec<String>,
    realms: (Option<String>, Option<String>),
    ingress: Option<Vec<String>>,
    egress: Option<Vec<String>>,
    lease: bool,
    default_route: Option<String>,
    inner: bool,
    inner_route: bool,
    policy: Option<(Vec<String>, Vec<String>)>,
    noise: u64,
    before: Vec<String>,
    out: BTreeMap<&'static str, String>,
    forward: Option<BTreeMap<&'static str, String>>,
    chain: bool,
    chain_to: String,
    routed: bool,
}

impl Estate {
    fn healthy(dice: &mut Dice) -> Self {
        let net = 1 + dice.roll(200);
        let till = 20 + dice.roll(80);
        let mut out = BTreeMap::from([
            ("type", q("overload")),
            ("as", q("uplink")),
            ("source", format!("[\"10.{net}.1.0/24\", \"10.{net}.9.0/24\"]")),
        ]);
        let named = dice.flip();
        let mut groups = Vec::new();
        if named {
            groups.push(format!("net-10-{net}-1 = \"10.{net}.1.0/24\""));
            out.insert("source", format!("[\"net-10-{net}-1\", \"10.{net}.9.0/24\"]"));
        }
        if dice.flip() {
            out.insert("service", "[\"1-65535/tcp\", \"1-65535/udp\", \"icmp\"]".into());
        }
        if dice.flip() {
            out.insert("destination", "[\"198.51.100.0/24\", \"192.0.2.0/24\"]".into());
        }
        let chain = dice.flip();
        let outer = if chain { "24443" } else { "443" };
        let forward = BTreeMap::from([
            ("type", q("forward")),
            ("external", format!("\"uplink:{outer}/tcp\"")),
            ("internal", q("locker:8080")),
        ]);
        let policy = dice.flip().then(|| {
            let out = vec!["from = \"internal\"\n  into = \"external\"\n  accept = \"any\"".to_owned()];
            let inbound = "from = [\"external\", \"internal\"]\n  into = \"internal\"\n  accept = \"8080/tcp\"\n  destination = \"locker\"";
            (out, vec![inbound.to_owned()])
        });
        let accept = |dice: &mut Dice, text: &str| {
            dice.flip().then(|| vec!["{ drop = \"23/tcp\" }".to_owned(), text.to_owned()])
        };
        Self {
            net,
            till,
            gateway: Some(format!("10.{net}.1.1")),
            server_gateway: Some(format!("10.{net}.2.1")),
            listens: "[\"8080/tcp\"]",
            groups,
            forwarding: true,
            behaviour: if dice.flip() { vec!["port-assignment = \"sequential\"".into()] } else { Vec::new() },
            realms: (Some("internal".into()), Some("external".into())),
            ingress: accept(dice, "{ accept = \"any\" }"),
            egress: accept(dice, "{ accept = \"any\" }"),
            lease: false,
            default_route: Some("203.0.113.1".into()),
            inner: dice.flip(),
            inner_route: true,
            policy,
            noise: dice.roll(4),
            before: Vec::new(),
            out,
            forward: Some(forward),
            chain,
            chain_to: "192.168.50.2:24443".into(),
            routed: false,
        }
    }

    fn text(&self) -> String {
        let net = self.net;
        let mut t = String::new();
        let mut line = |text: String| {
            t += &text;
            t.push('\n');
        };
        line("# an estate that somebody made up\n[addresses]".into());
        self.groups.iter().for_each(|g| line(g.clone()));
        line(format!("other = \"10.{net}.77.0/24\""));
        let routed = if self.routed { "\nrouted = [{ to = \"203.0.113.64/29\", via = \"203.0.113.2\" }]" } else { "" };
        line(format!("\n[[segment]]\nname = \"internet\"\ninternet = true{routed}"));
        line("\n[[segment]]\nname = \"floor\"".into());
        if self.chain {
            line("\n[[segment]]\nname = \"between\"".into());
        }
        let host = |name: &str, address: String, gateway: &Option<String>, more: &str| {
            let gateway = gateway.as_ref().map(|g| format!("gateway = \"{g}\"\n")).unwrap_or_default();
            format!("\n[[host]]\nname = \"{name}\"\naddress = \"{address}/24\"\n{gateway}{more}")
        };
        line(host("till", format!("10.{net}.1.{}", self.till), &self.gateway, ""));
        line(host("clerk", format!("10.{net}.1.150"), &Some(format!("10.{net}.1.1")), ""));
        line(host("locker", format!("10.{net}.2.10"), &self.server_gateway, &format!("listens = {}", self.listens)));
        if self.inner {
            line(host("crane", format!("10.{net}.9.20"), &Some(format!("10.{net}.9.1")), ""));
        }
        for n in 0..self.noise {
            line(host(
                &format!("other-{n}"),
                format!("10.{net}.2.{}", 100 + n),
                &Some(format!("10.{net}.2.1")),
                "listens = [\"22/tcp\"]",
            ));
        }
        line("\n[[device]]\nname = \"edge\"".into());
        if !self.forwarding {
            line("forwarding = false".into());
        }
        if !self.behaviour.is_empty() {
            line(format!("behaviour = {{ {} }}", self.behaviour.join(", ")));
        }
        if self.policy.is_some() {
            line("default-policy = \"drop\"".into());
        }
        let realm = |r: &Option<String>| r.as_ref().map(|r| format!("\n  realm = \"{r}\"")).unwrap_or_default();
        let acl = |key: &str, list: &Option<Vec<String>>| {
            list.as_ref().map(|_| format!("\n  {key}-acl = \"{key}-filter\"")).unwrap_or_default()
        };
        line(format!(
            "\n  [[device.interface]]\n  name = \"shop\"\n  segment = \"floor\"{}\n  address = \"10.{net}.1.1/24\"{}",
            realm(&self.realms.0),
            acl("ingress", &self.ingress)
        ));
        line(format!(
            "\n  [[device.interface]]\n  name = \"store\"\n  realm = \"internal\"\n  address = \"10.{net}.2.1/24\""
        ));
        let (segment, address) =
            if self.chain { ("between", "192.168.50.2/24") } else { ("internet", "203.0.113.2/28") };
        line(format!(
            "\n  [[device.interface]]                      # to the provider\n  name = \"uplink\"{}\n  segment = \"{segment}\"\n  address = \"{address}\"{}{}",
            realm(&self.realms.1),
            acl("egress", &self.egress),
            if self.lease { "\n  lease = true" } else { "" }
        ));
        if let Some(via) = &self.default_route {
            let via = if self.chain { "192.168.50.1" } else { via };
            line(format!("\n  [[device.route]]\n  to = \"0.0.0.0/0\"\n  via = \"{via}\""));
        }
        if self.inner && self.inner_route {
            line(format!("\n  [[device.route]]\n  to = \"10.{net}.9.0/24\"\n  via = \"10.{net}.1.9\""));
        }
        for (name, entries) in [("ingress-filter", &self.ingress), ("egress-filter", &self.egress)] {
            if let Some(entries) = entries {
                line(format!("\n  [[device.acl]]\n  name = \"{name}\"\n  entries = [{}]", entries.join(", ")));
            }
        }
        if let Some((out, inbound)) = &self.policy {
            out.iter().chain(inbound).for_each(|p| line(format!("\n  [[device.policy]]\n  {p}")));
        }
        line("\n  [[device.pool]]\n  name = \"block\"\n  addresses = \"203.0.113.64/29\"".into());
        let rule = |name: &str, keys: &BTreeMap<&str, String>| {
            let keys: Vec<String> = keys.iter().map(|(k, v)| format!("  {k} = {v}\n")).collect();
            format!("\n  [[device.rule]]\n  name = \"{name}\"\n{}", keys.concat())
        };
        self.before.iter().for_each(|b| line(format!("\n  [[device.rule]]\n{b}")));
        for n in 0..self.noise {
            let keys = BTreeMap::from([
                ("type", q("overload")),
                ("as", q("uplink")),
                ("source", format!("\"10.{net}.{}.0/24\"", 100 + n)),
            ]);
            line(rule(&format!("noise-{n}"), &keys));
        }
        line(rule("shop-out", &self.out));
        if let Some(forward) = &self.forward {
            line(rule("locker-in", forward));
        }
        if self.inner {
            line(format!(
                "\n[[device]]\nname = \"router\"\n\n  [[device.interface]]\n  name = \"front\"\n  realm = \"front\"\n  segment = \"floor\"\n  address = \"10.{net}.1.9/24\"\n\n  [[device.interface]]\n  name = \"back\"\n  realm = \"back\"\n  address = \"10.{net}.9.1/24\"\n\n  [[device.route]]\n  to = \"0.0.0.0/0\"\n  via = \"10.{net}.1.1\""
            ));
        }
        if self.chain {
            line(format!(
                "\n[[device]]\nname = \"box\"\n\n  [[device.interface]]\n  name = \"wan\"\n  realm = \"external\"\n  segment = \"internet\"\n  address = \"203.0.113.2/28\"\n\n  [[device.interface]]\n  name = \"lan\"\n  realm = \"internal\"\n  segment = \"between\"\n  address = \"192.168.50.1/24\"\n\n  [[device.route]]\n  to = \"0.0.0.0/0\"\n  via = \"203.0.113.1\"\n\n  [[device.rule]]\n  name = \"to-the-edge\"\n  type = \"forward\"\n  external = \"wan:443/tcp\"\n  internal = \"{}\"\n\n  [[device.rule]]\n  name = \"out\"\n  type = \"overload\"\n  as = \"wan\"",
                self.chain_to
            ));
        }
        for flow in self.flows() {
            line(format!("\n[[expect]]\nflow = \"{flow}\""));
        }
        t
    }

    /// What must hold: the flow that a fault is looked for on is one of these.
    fn flows(&self) -> Vec<&'static str> {
        let mut flows = vec![OUT, PING, CLERK, IN];
        flows.extend(self.inner.then_some(CRANE));
        flows
    }
}

const OUT: &str = "till -> 198.51.100.80:443/tcp";
const PING: &str = "till -> 198.51.100.80/icmp";
const CLERK: &str = "clerk -> 192.0.2.9:443/tcp";
const IN: &str = "198.51.100.80 -> 203.0.113.2:443/tcp";
const CRANE: &str = "crane -> 198.51.100.80:443/tcp";
const HAIRPIN: &str = "clerk -> 203.0.113.2:443/tcp";

fn q(text: &str) -> String {
    format!("\"{text}\"")
}

/// A way to break an estate: the cause that is planted, and the flow that shows it. `None`: not this estate.
type Mutation = (&'static str, fn(&mut Estate, &mut Dice) -> Option<&'static str>);

fn forward(e: &mut Estate) -> &mut BTreeMap<&'static str, String> {
    e.forward.get_or_insert_with(BTreeMap::new)
}

const MUTATIONS: &[Mutation] = &[
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
        e.out.insert("source", format!("[\"{wrong}\", \"10.{}.1.150\", \"10.{}.9.0/24\"]", e.net, e.net));
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
            "  name = \"site\"\n  type = \"exempt\"\n  source = \"10.{}.1.0/24\"\n  destination = \"198.51.100.0/24\"",
            e.net
        ));
        // behind the box it is translated all the same
        (!e.chain).then_some(OUT)
    }),
    ("empty-group", |e, _| {
        e.groups = vec![format!("net-10-{}-1 = []", e.net)];
        e.out.insert("source", format!("[\"net-10-{}-1\", \"10.{}.1.150\", \"10.{}.9.0/24\"]", e.net, e.net, e.net));
        (!e.chain).then_some(OUT)
    }),
    ("name-contradicts-value", |e, _| {
        e.groups = vec![format!("net-10-{}-1 = \"10.{}.77.0/24\"", e.net, e.net)];
        e.out.insert("source", format!("[\"net-10-{}-1\", \"10.{}.1.150\", \"10.{}.9.0/24\"]", e.net, e.net, e.net));
        (!e.chain).then_some(OUT)
    }),
    ("policy-missing", |e, d| {
        let (out, inbound) = e.policy.as_mut()?;
        if d.flip() {
            out[0] = "from = \"internal\"\n  into = \"external\"\n  accept = \"any\"\n  source = \"clerk\"".into();
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
    ("hairpin-off", |e, _| (!e.chain).then_some(HAIRPIN)),
];

#[test]
fn planted_faults_are_found() {
    let count: u64 = std::env::var("MUTATIONS").ok().and_then(|n| n.parse().ok()).unwrap_or(150);
    let (mut named, mut repaired, mut total) = (0, 0, 0);
    let mut by_cause: BTreeMap<&str, (u64, u64, u64)> = BTreeMap::new();
    let mut dice = Dice(1846);
    while total < count {
        let healthy = Estate::healthy(&mut dice);
        let (cause, mutate) = MUTATIONS[dice.roll(MUTATIONS.len() as u64) as usize];
        let mut broken = healthy.clone();
        let Some(flow) = mutate(&mut broken, &mut dice) else { continue };
        let load = |estate: &Estate| {
            let text = format!("{}\n[[expect]]\nflow = \"{flow}\"\n", estate.text());
            from_text(Path::new("estate.toml"), text.clone()).unwrap_or_else(|e| panic!("{e:?}\n{text}"))
        };
        let (before, loaded) = (load(&healthy), load(&broken));
        // nothing but what is planted is wrong; a hairpin that is off is no fault until somebody needs it
        let well = held(&before);
        assert!(well[..well.len() - 1].iter().all(|h| *h), "{}", healthy.text());
        let subject = loaded.plan.expectations.last().unwrap().flow;
        let diagnosis = searched(&loaded, subject);
        if diagnosis.works {
            continue; // it does no harm in this estate
        }
        total += 1;
        let entry = by_cause.entry(cause).or_default();
        entry.0 += 1;
        let found = names(&diagnosis);
        if found == cause {
            named += 1;
            entry.1 += 1;
        }
        let was = held(&loaded);
        let harmless = diagnosis.repairs.first().is_some_and(|r| {
            let after = held(&edited(&loaded, &r.changes).unwrap());
            after.last() == Some(&true) && was.iter().zip(&after).all(|(a, b)| b >= a)
        });
        if harmless {
            repaired += 1;
            entry.2 += 1;
        }
        if (found != cause || !harmless) && std::env::var("SHOW").is_ok() {
            let titles: Vec<&str> = diagnosis.repairs.iter().map(|r| r.title.as_str()).collect();
            println!("planted {cause}, found {found}; {titles:?}; {flow}, chain {}", broken.chain);
        }
    }
    println!("cause                        planted   named  repaired");
    for (cause, (planted, named, repaired)) in &by_cause {
        println!("{cause:28} {planted:7} {named:7} {repaired:9}");
    }
    let percent = |n: u64| n as f64 * 100.0 / total as f64;
    println!("all                          {total:7} {:6.1}% {:8.1}%", percent(named), percent(repaired));
    assert!(percent(named) >= 95.0 && percent(repaired) >= 90.0);
}

/// Two faults at once that one flow meets: both have to go before it works.
#[test]
fn faults_behind_each_other_are_found_too() {
    let count: u64 = std::env::var("MUTATIONS").ok().and_then(|n| n.parse().ok()).unwrap_or(150) / 3;
    let (mut repaired, mut both, mut total) = (0, 0, 0);
    let mut dice = Dice(1912);
    while total < count {
        let mut broken = Estate::healthy(&mut dice);
        let picks = [0, 0].map(|_| MUTATIONS[dice.roll(MUTATIONS.len() as u64) as usize]);
        let flows = picks.map(|(_, mutate)| mutate(&mut broken, &mut dice));
        let (Some(flow), true, true) = (flows[0], flows[0] == flows[1], picks[0].0 != picks[1].0) else { continue };
        let text = format!("{}\n[[expect]]\nflow = \"{flow}\"\n", broken.text());
        // two faults may contradict each other
        let Ok(loaded) = from_text(Path::new("estate.toml"), text) else { continue };
        let diagnosis = searched(&loaded, loaded.plan.expectations.last().unwrap().flow);
        if diagnosis.works {
            continue;
        }
        total += 1;
        repaired += u64::from(!diagnosis.repairs.is_empty());
        let found: Vec<&str> = diagnosis.causes.iter().map(|c| c.cause.name()).collect();
        both += u64::from(picks.iter().all(|p| found.contains(&p.0)));
        if diagnosis.repairs.is_empty() && std::env::var("SHOW").is_ok() {
            println!("planted {} and {}, found {found:?}; {flow}, chain {}", picks[0].0, picks[1].0, broken.chain);
        }
    }
    println!("two at once: {total} planted, {repaired} repaired, both named in {both}");
    assert!(repaired * 100 >= total * 85);
}
