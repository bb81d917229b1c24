//! Rules that choose their ends as policies, and with them how the device chooses.

use serde_json::{Map, Value, json};
use zarnet_core::limits;
use zarnet_core::net::{AddressSet, PortRange};
use zarnet_core::plan::{
    Behaviour, Dependence, Fallback, Pick, PortAssignment, PortClass, Preset, Rule, RuleKind,
    Static, Target, Timers,
};

use super::super::notation::set_prefixes;
use super::super::{LossKind, instance};
use super::standing::{SoFar, Standing};
use super::{Export, put};

impl Export<'_> {
    /// The policy of a pool or an overload.
    pub(super) fn policy_of(
        &mut self,
        rule: &Rule,
        instance: u64,
        so_far: SoFar,
    ) -> (Option<(Value, u64)>, Option<Standing>) {
        self.told_of(rule);
        let (Some(target), RuleKind::Pool { fallback, .. } | RuleKind::Overload { fallback, .. }) =
            (rule.kind.target(), &rule.kind)
        else {
            return (None, None);
        };
        if *fallback != Fallback::Drop {
            self.lose_without_policy(LossKind::Exhausted, &rule.name, "");
        }
        if !rule.parties.destination.is_all() {
            self.lose_without_policy(LossKind::Destination, &rule.name, "");
        }
        let usable = self.usable(target);
        let external = set_prefixes(&usable);
        if external.is_empty() || external.iter().any(|p| p.first().is_ipv6()) {
            self.lose_without_policy(LossKind::Family, &rule.name, "");
            return (None, None);
        }
        let id = so_far.policies + 1;
        let mut policy = Map::new();
        policy.insert("id".into(), json!(id));
        let pools: Vec<Value> = (so_far.pools + 1..)
            .zip(&external)
            .map(|(id, p)| json!({ "pool-id": id, "external-ip-pool": p.to_string() }))
            .collect();
        policy.insert("external-ip-address-pool".into(), json!(pools));
        self.port_restriction(&mut policy);
        let says_service = self.protocols(rule, &mut policy);
        let says_source = self.subscribers(rule, &mut policy);
        let has_ports = instance == instance::NAPT.0;
        settings(&mut policy, &self.device.behaviour, &self.device.timers, has_ports);
        self.pick(rule, target, &mut policy);
        put(&mut policy, "external-realm", self.external_of(rule));
        let stands = Standing {
            instance,
            policy: Some(id),
            says_source,
            says_service,
            ..Standing::default()
        };
        (Some((Value::Object(policy), external.len() as u64)), Some(stands))
    }

    /// The policy of an IPv6 prefix translation (RFC 6296).
    pub(super) fn prefix_policy(
        &mut self,
        rule: &Rule,
        s: &Static,
        so_far: SoFar,
    ) -> (Option<Value>, Option<Standing>) {
        self.told_of(rule);
        let external = self.device.external(s.external);
        let one = |range: zarnet_core::net::AddressRange| match range.prefixes()[..] {
            [one] => Some(one),
            _ => None,
        };
        let prefixes = one(s.internal).zip(external.and_then(one));
        let is_plain = rule.parties.source.is_all()
            && rule.parties.destination.is_all()
            && rule.service.is_any()
            && s.translate_as.is_none()
            && s.direction == zarnet_core::plan::Direction::Both;
        let Some((internal, external)) = prefixes.filter(|_| is_plain) else {
            self.lose_without_policy(LossKind::Family, &rule.name, "");
            return (None, None);
        };
        let id = so_far.policies + 1;
        let mut policy = Map::new();
        policy.insert("id".into(), json!(id));
        let pair = json!({
            "internal-ipv6-prefix": internal.to_string(),
            "external-ipv6-prefix": external.to_string(),
        });
        policy.insert("nptv6-prefixes".into(), json!([pair]));
        put(&mut policy, "external-realm", self.external_of(rule));
        let stands = Standing {
            instance: instance::NPTV6.0,
            policy: Some(id),
            says_source: true,
            says_service: true,
            says_external: true,
            ..Standing::default()
        };
        (Some(Value::Object(policy)), Some(stands))
    }

    /// The addresses that a target can hand out.
    fn usable(&self, target: Target) -> AddressSet {
        let mut listed = self.device.listed_by(target);
        if let Target::Pool(pool) = target {
            for lost in self.device.pools[pool.index()].lost_to_prefixes() {
                listed.remove(zarnet_core::net::AddressRange::one(lost));
            }
        }
        listed
    }

    /// The protocols of a rule; whether that says all of its services.
    fn protocols(&mut self, rule: &Rule, policy: &mut Map<String, Value>) -> bool {
        if rule.service.is_any() {
            return true;
        }
        let mut protocols: Vec<u8> = Vec::new();
        for service in &rule.service.0 {
            let Some(protocol) = service.protocol.filter(|_| service.ports == PortRange::ALL)
            else {
                let what = rule.service.to_string();
                self.lose_without_policy(LossKind::Service, &rule.name, what);
                return false;
            };
            if !protocols.contains(&protocol.0) {
                protocols.push(protocol.0);
            }
        }
        let list: Vec<Value> = protocols.iter().map(|p| json!({ "protocol-id": p })).collect();
        policy.insert("transport-protocols".into(), json!(list));
        true
    }

    /// Who a rule is for; whether that says all of it.
    fn subscribers(&mut self, rule: &Rule, policy: &mut Map<String, Value>) -> bool {
        if rule.parties.source.is_all() {
            return true;
        }
        let prefixes = set_prefixes(&rule.parties.source);
        if prefixes.len() > limits::EXPORTED_PARTS {
            let what = format!("{} prefixes", prefixes.len());
            self.lose_without_policy(LossKind::Source, &rule.name, what);
            return false;
        }
        let list: Vec<Value> = (1..)
            .zip(&prefixes)
            .map(|(id, p)| json!({ "match-id": id, "subnet": p.to_string() }))
            .collect();
        policy.insert("subscriber-match".into(), json!(list));
        true
    }

    /// How an address is picked, as far as the standard can tell.
    fn pick(&mut self, rule: &Rule, target: Target, policy: &mut Map<String, Value>) {
        let pick = match target {
            Target::Pool(pool) => self.device.pools[pool.index()].pick,
            Target::Interface(_) | Target::Address(_) => Pick::Lowest,
        };
        let paired = self.device.behaviour.paired && matches!(rule.kind, RuleKind::Overload { .. });
        let (name, is_said) = match (pick, paired) {
            (Pick::Lowest, true) => ("paired", true),
            (Pick::Lowest, false) => ("arbitrary", true),
            (Pick::InTurn, false) => ("roundrobin", true),
            (_, true) => ("paired", false),
            (_, false) => ("arbitrary", false),
        };
        if !is_said {
            let what = format!("pick = {}", pick.name());
            self.lose_without_policy(LossKind::Choice, &rule.name, what);
        }
        policy.insert("address-allocation-type".into(), json!(name));
    }

    /// One class of ports for all is a restriction of the standard.
    fn port_restriction(&mut self, policy: &mut Map<String, Value>) {
        if let [PortClass { from: (1, u16::MAX), into: (first, last) }] =
            self.device.behaviour.port_classes[..]
        {
            let range = json!({ "start-port-number": first, "end-port-number": last });
            policy.insert("port-set-restrict".into(), range);
        }
    }
}

/// How the device chooses and how long state lasts. The standard has no defaults for most, so
/// that all of it is written.
pub(super) fn settings(
    policy: &mut Map<String, Value>,
    b: &Behaviour,
    t: &Timers,
    has_ports: bool,
) {
    // who reads it asks the first policy that it meets
    let pooling = if b.paired && has_ports { "paired" } else { "arbitrary" };
    policy.insert("address-allocation-type".into(), json!(pooling));
    policy.insert("port-allocation-type".into(), json!(port_allocation(b)));
    policy.insert("mapping-type".into(), json!(["eim", "adm", "edm"][dependence(b.mapping)]));
    policy.insert("filtering-type".into(), json!(["eif", "adf", "edf"][dependence(b.filtering)]));
    policy.insert("fragment-behavior".into(), json!("out-of-order"));
    if let Some(limit) = b.ports_per_host.filter(|l| *l <= u32::from(u16::MAX)) {
        policy.insert("port-quota".into(), json!([{ "port-limit": limit, "quota-type": 0 }]));
    }
    if let Some(size) = b.block_size {
        policy.insert("port-set".into(), json!({ "port-set-size": size }));
    }
    let mut timers = Map::new();
    for (name, time) in [
        ("udp-timeout", t.udp),
        ("tcp-idle-timeout", t.tcp_idle),
        ("tcp-trans-open-timeout", t.tcp_open),
        ("tcp-trans-close-timeout", t.tcp_close),
        ("tcp-in-syn-timeout", t.tcp_in_syn),
        ("fragment-min-timeout", t.fragment_min),
        ("icmp-timeout", t.icmp),
    ] {
        timers.insert(name.into(), json!(time.as_secs().min(u64::from(u32::MAX))));
    }
    let mut ports: Vec<u16> = Vec::new();
    let mut per_port = Vec::new();
    for ((protocol, port), time) in &t.per_port {
        if !ports.contains(port) {
            ports.push(*port);
            per_port.push(json!({
                "port-number": port, "protocol": protocol.0, "timeout": time.as_secs(),
            }));
        }
    }
    if !per_port.is_empty() {
        timers.insert("per-port-timeout".into(), json!(per_port));
    }
    timers.insert("hold-down-timeout".into(), json!(b.hold_down.as_secs()));
    policy.insert("timers".into(), Value::Object(timers));
}

fn dependence(dependence: Dependence) -> usize {
    match dependence {
        Dependence::EndpointIndependent => 0,
        Dependence::AddressDependent => 1,
        Dependence::AddressAndPortDependent => 2,
    }
}

/// The one choice of ports that the standard states.
fn port_allocation(b: &Behaviour) -> &'static str {
    match (b.block_size, b.port_assignment, b.port_parity) {
        (Some(_), _, _) => "port-range-allocation",
        (None, PortAssignment::Preserve, true) => "port-parity-preservation",
        (None, PortAssignment::Preserve, false) => "port-preservation",
        (None, PortAssignment::Random | PortAssignment::Sequential, _) => "random",
    }
}

/// Whether a document says how ports are assigned and whether parity is kept: blocks are taken for
/// random ones.
pub(super) fn says_port_assignment(b: &Behaviour) -> bool {
    match (b.block_size, b.port_assignment) {
        (Some(_), assignment) => assignment == PortAssignment::Random && !b.port_parity,
        (None, PortAssignment::Preserve) => true,
        (None, PortAssignment::Random) => !b.port_parity,
        (None, PortAssignment::Sequential) => false,
    }
}

/// Whether a document says which classes of ports there are.
pub(super) fn says_port_classes(b: &Behaviour) -> bool {
    b.port_classes == Preset::Bcp.behaviour().port_classes
        || matches!(b.port_classes[..], [PortClass { from: (1, u16::MAX), .. }])
}

/// Timers by name, and by destination port, as a plan writes them.
pub(super) type WrittenTimers = (Vec<(&'static str, String)>, Vec<(String, String)>);

/// Timers that a document does not say.
pub(super) fn unsaid_timers(device: &zarnet_core::plan::DevicePlan) -> WrittenTimers {
    let standard = ["other-timeout", "binding"];
    let mut timers = device.timers.clone();
    let mut defaults = Timers::default();
    let mut named: Vec<(&'static str, String)> = Vec::new();
    for name in Timers::NAMES {
        let (Some(time), Some(default)) = (timers.by_name(name), defaults.by_name(name)) else {
            continue;
        };
        let unsaid = standard.contains(&name) && time != default || time.subsec_nanos() != 0;
        if unsaid {
            named.push((name, seconds(*time)));
        }
    }
    if device.behaviour.hold_down.subsec_nanos() != 0 {
        named.push(("hold-down-timeout", seconds(device.behaviour.hold_down)));
    }
    let mut ports: Vec<u16> = Vec::new();
    let mut per_port = Vec::new();
    for ((protocol, port), time) in &device.timers.per_port {
        if ports.contains(port) || time.subsec_nanos() != 0 {
            per_port.push((format!("{port}/{}", protocol), seconds(*time)));
        }
        ports.push(*port);
    }
    (named, per_port)
}

/// A time as plans write it, in seconds.
fn seconds(time: std::time::Duration) -> String {
    match time.subsec_nanos() {
        0 => format!("{}s", time.as_secs()),
        _ => format!("{}s", time.as_secs_f64()),
    }
}
