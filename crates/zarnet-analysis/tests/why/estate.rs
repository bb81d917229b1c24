//! A random estate that works, written as a plan.

use std::collections::BTreeMap;

use super::mutations::{CLERK, CRANE, IN, LOCAL, OUT, PARTNER, PING, SAFE, STRANGER, q};

/// A small generator, the same on every machine.
#[derive(Clone)]
pub(crate) struct Dice(pub(crate) u64);

impl Dice {
    pub(crate) fn roll(&mut self, sides: u64) -> u64 {
        self.0 = self.0.wrapping_add(0x9E37_79B9_7F4A_7C15);
        let z = (self.0 ^ self.0 >> 30).wrapping_mul(0xBF58_476D_1CE4_E5B9);
        let z = (z ^ z >> 27).wrapping_mul(0x94D0_49BB_1331_11EB);
        (z ^ z >> 31) % sides
    }

    pub(crate) fn flip(&mut self) -> bool {
        self.roll(2) == 0
    }
}

/// A healthy estate, and what a fault may change of it.
#[derive(Clone)]
pub(crate) struct Estate {
    pub(crate) net: u64,
    pub(crate) till: u64,
    pub(crate) gateway: Option<String>,
    pub(crate) server_gateway: Option<String>,
    pub(crate) listens: &'static str,
    pub(crate) groups: Vec<String>,
    pub(crate) forwarding: bool,
    pub(crate) behaviour: Vec<String>,
    pub(crate) realms: (Option<String>, Option<String>),
    pub(crate) ingress: Option<Vec<String>>,
    pub(crate) egress: Option<Vec<String>>,
    pub(crate) lease: bool,
    pub(crate) default_route: Option<String>,
    pub(crate) inner: bool,
    pub(crate) inner_route: bool,
    pub(crate) policy: Option<(Vec<String>, Vec<String>)>,
    pub(crate) noise: u64,
    pub(crate) before: Vec<String>,
    pub(crate) out: BTreeMap<&'static str, String>,
    pub(crate) forward: Option<BTreeMap<&'static str, String>>,
    pub(crate) chain: bool,
    pub(crate) chain_to: String,
    pub(crate) routed: bool,
    /// Prefix lengths of the till and of the shop's interface.
    pub(crate) lengths: (u8, u8),
    /// Segments of the till, the shop's interface and the uplink, where they are not as usual.
    pub(crate) segments: (Option<&'static str>, Option<&'static str>, Option<&'static str>),
    /// A static for the safe.
    pub(crate) fixed: Option<BTreeMap<&'static str, String>>,
    /// An exemption for the partner on the segment between two devices.
    pub(crate) exempt: Option<BTreeMap<&'static str, String>>,
    /// Whether the forward is for the head office only.
    pub(crate) guarded: bool,
    /// A filter on what comes in by the uplink.
    pub(crate) uplink_in: Option<Vec<String>>,
    pub(crate) inner_via: u8,
    /// Whether there is a partner between two devices.
    pub(crate) partner: bool,
}

impl Estate {
    pub(crate) fn healthy(dice: &mut Dice) -> Self {
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
        let mut forward = BTreeMap::from([
            ("type", q("forward")),
            ("external", format!("\"uplink:{outer}/tcp\"")),
            ("internal", q("locker:8080")),
        ]);
        let guarded = dice.flip();
        if guarded {
            forward.insert("source", q("head-office"));
        }
        let fixed = (!chain && dice.flip()).then(|| {
            BTreeMap::from([
                ("type", q("static")),
                ("internal", q("safe")),
                ("external", q("203.0.113.5")),
                ("service", "[\"443/tcp\", \"22/tcp\"]".to_owned()),
            ])
        });
        let exempt = (chain && dice.flip()).then(|| {
            BTreeMap::from([("type", q("exempt")), ("destination", q("192.168.50.0/24"))])
        });
        let uplink_in = dice.flip().then(|| {
            vec![
                "{ accept = \"any\", answers = true }".to_owned(),
                "{ accept = [\"443/tcp\", \"24443/tcp\"] }".to_owned(),
            ]
        });
        let policy = dice.flip().then(|| {
            let out = vec![
                "from = \"internal\"\n  into = \"external\"\n  accept = \
                            \"any\""
                    .to_owned(),
            ];
            let inbound = "from = [\"external\", \"internal\"]\n  into = \"internal\"\n  accept = \
                           \"8080/tcp\"\n  destination = \"locker\"";
            let safe = "from = \"external\"\n  into = \"internal\"\n  accept = \"443/tcp\"\n  \
                        destination = \"safe\"";
            (out, vec![inbound.to_owned(), safe.to_owned()])
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
            behaviour: if dice.flip() {
                vec!["port-assignment = \"sequential\"".into()]
            } else {
                Vec::new()
            },
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
            lengths: (24, 24),
            segments: (None, None, None),
            fixed,
            partner: exempt.is_some(),
            exempt,
            guarded,
            uplink_in,
            inner_via: 9,
        }
    }

    pub(crate) fn text(&self) -> String {
        let net = self.net;
        let mut t = String::new();
        let mut line = |text: String| {
            t += &text;
            t.push('\n');
        };
        line("# an estate that somebody made up\n[addresses]".into());
        self.groups.iter().for_each(|g| line(g.clone()));
        line("head-office = \"198.51.100.0/24\"".into());
        line(format!("other = \"10.{net}.77.0/24\""));
        let routed = if self.routed {
            "\nrouted = [{ to = \"203.0.113.64/29\", via = \"203.0.113.2\" }]"
        } else {
            ""
        };
        line(format!("\n[[segment]]\nname = \"internet\"\ninternet = true{routed}"));
        line("\n[[segment]]\nname = \"floor\"".into());
        if self.chain {
            line("\n[[segment]]\nname = \"between\"".into());
        }
        let host = |name: &str, address: String, gateway: &Option<String>, more: &str| {
            let gateway =
                gateway.as_ref().map(|g| format!("gateway = \"{g}\"\n")).unwrap_or_default();
            format!("\n[[host]]\nname = \"{name}\"\naddress = \"{address}/24\"\n{gateway}{more}")
        };
        let on = |s: Option<&str>| s.map(|s| format!("segment = \"{s}\"")).unwrap_or_default();
        let till = host("till", format!("10.{net}.1.{}", self.till), &self.gateway, "");
        line(till.replace("/24", &format!("/{}", self.lengths.0)) + &on(self.segments.0));
        line(host("cabin", format!("10.{net}.2.30"), &Some(format!("10.{net}.2.1")), ""));
        line(host("safe", format!("10.{net}.2.20"), &Some(format!("10.{net}.2.1")), ""));
        if self.partner {
            let gateway = Some("192.168.50.2".to_owned());
            line(host("partner", "192.168.50.20".into(), &gateway, "segment = \"between\""));
        }
        line(host("clerk", format!("10.{net}.1.150"), &Some(format!("10.{net}.1.1")), ""));
        line(host(
            "locker",
            format!("10.{net}.2.10"),
            &self.server_gateway,
            &format!("listens = {}", self.listens),
        ));
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
        let realm = |r: &Option<String>| {
            r.as_ref().map(|r| format!("\n  realm = \"{r}\"")).unwrap_or_default()
        };
        let acl = |key: &str, list: &Option<Vec<String>>| {
            list.as_ref().map(|_| format!("\n  {key}-acl = \"{key}-filter\"")).unwrap_or_default()
        };
        line(format!(
            "\n  [[device.interface]]\n  name = \"shop\"\n  segment = \"{}\"{}\n  address = \
             \"10.{net}.1.1/{}\"{}",
            self.segments.1.unwrap_or("floor"),
            realm(&self.realms.0),
            self.lengths.1,
            acl("ingress", &self.ingress)
        ));
        line(format!(
            "\n  [[device.interface]]\n  name = \"store\"\n  realm = \"internal\"\n  address = \
             \"10.{net}.2.1/24\""
        ));
        let (usual, address) = if self.chain {
            ("between", "192.168.50.2/24")
        } else {
            ("internet", "203.0.113.2/28")
        };
        let segment = self.segments.2.unwrap_or(usual);
        let uplink_in =
            self.uplink_in.as_ref().map(|_| "\n  ingress-acl = \"from-outside\"").unwrap_or("");
        line(format!(
            "\n  [[device.interface]]                      # to the provider\n  name = \
             \"uplink\"{}\n  segment = \"{segment}\"\n  address = \"{address}\"{}{uplink_in}{}",
            realm(&self.realms.1),
            acl("egress", &self.egress),
            if self.lease { "\n  lease = true" } else { "" }
        ));
        if let Some(via) = &self.default_route {
            let via = if self.chain { "192.168.50.1" } else { via };
            line(format!("\n  [[device.route]]\n  to = \"0.0.0.0/0\"\n  via = \"{via}\""));
        }
        if self.inner && self.inner_route {
            line(format!(
                "\n  [[device.route]]\n  to = \"10.{net}.9.0/24\"\n  via = \"10.{net}.1.{}\"",
                self.inner_via
            ));
        }
        for (name, entries) in [
            ("ingress-filter", &self.ingress),
            ("egress-filter", &self.egress),
            ("from-outside", &self.uplink_in),
        ] {
            if let Some(entries) = entries {
                line(format!(
                    "\n  [[device.acl]]\n  name = \"{name}\"\n  entries = [{}]",
                    entries.join(", ")
                ));
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
        if let Some(exempt) = &self.exempt {
            line(rule("to-the-partner", exempt));
        }
        if let Some(fixed) = &self.fixed {
            line(rule("safe-both", fixed));
        }
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
                "\n[[device]]\nname = \"router\"\n\n  [[device.interface]]\n  name = \"front\"\n  \
                 realm = \"front\"\n  segment = \"floor\"\n  address = \"10.{net}.1.9/24\"\n\n  \
                 [[device.interface]]\n  name = \"back\"\n  realm = \"back\"\n  address = \
                 \"10.{net}.9.1/24\"\n\n  [[device.route]]\n  to = \"0.0.0.0/0\"\n  via = \
                 \"10.{net}.1.1\""
            ));
        }
        if self.chain {
            line(format!(
                "\n[[device]]\nname = \"box\"\n\n  [[device.interface]]\n  name = \"wan\"\n  \
                 realm = \"external\"\n  segment = \"internet\"\n  address = \"203.0.113.2/28\"\n\
                 \n  [[device.interface]]\n  name = \"lan\"\n  realm = \"internal\"\n  segment = \
                 \"between\"\n  address = \"192.168.50.1/24\"\n\n  [[device.route]]\n  to = \
                 \"0.0.0.0/0\"\n  via = \"203.0.113.1\"\n\n  [[device.rule]]\n  name = \
                 \"to-the-edge\"\n  type = \"forward\"\n  external = \"wan:443/tcp\"\n  internal \
                 = \"{}\"\n\n  [[device.rule]]\n  name = \"out\"\n  type = \"overload\"\n  as = \
                 \"wan\"",
                self.chain_to
            ));
        }
        for (flow, more) in self.expectations() {
            line(format!("\n[[expect]]\nflow = \"{flow}\"\n{more}"));
        }
        t
    }

    /// What must hold: the flow that a fault is looked for on is one of these.
    pub(crate) fn expectations(&self) -> Vec<(&'static str, String)> {
        let plain = [OUT, PING, CLERK, LOCAL].map(|f| (f, String::new()));
        let mut all: Vec<(&str, String)> = plain.into();
        all.push((IN, "reaches = \"locker\"".into()));
        if self.inner {
            all.push((CRANE, String::new()));
        }
        if self.guarded && !self.chain {
            all.push((STRANGER, "refused = true".into()));
        }
        if self.fixed.is_some() {
            all.push((SAFE, "reaches = \"safe:443\"".into()));
        }
        if self.partner {
            all.push((PARTNER, "becomes = \"till\"".into()));
        }
        all
    }

    /// What is expected of a flow besides that it works.
    pub(crate) fn wanted(&self, flow: &str) -> String {
        let all = self.expectations();
        all.into_iter().find(|e| e.0 == flow).map_or(String::new(), |e| e.1)
    }
}
