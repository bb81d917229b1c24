//! What only `zarnet-policy` holds: the rules in their order, policies, pools by name, and how the
//! device chooses.

use serde_json::{Map, Value, json};
use zarnet_core::net::ServiceSet;
use zarnet_core::plan::{
    DevicePlan, Direction, External, Fallback, Forward, HairpinSource, Log, Pick, Policy,
    PortAssignment, Preset, RealmSet, Rule, RuleKind, RuleOrder, Server, Spread, Target, Verdict,
};

use super::super::notation::{range_text, set_text};
use super::super::{LossKind, instance};
use super::policies::{says_port_assignment, says_port_classes, unsaid_timers};
use super::standing::{Standing, limited_instance, matches_nothing};
use super::surroundings::held_routes;
use super::{Export, put};

impl Export<'_> {
    /// The device as a whole.
    pub(super) fn edge(&mut self, standing: Vec<Option<Standing>>) -> Value {
        let device = self.device;
        let mut out = Map::new();
        out.insert("name".into(), json!(device.name));
        if device.default_policy == Verdict::Drop {
            out.insert("default-policy".into(), json!("drop"));
        }
        let behaviour = unsaid_behaviour(device, &standing);
        put(&mut out, "behaviour", (!behaviour.is_empty()).then(|| Value::Object(behaviour)));
        put(&mut out, "timers", timers(device));
        let pools: Vec<Value> = device.pools.iter().filter(|p| !p.retired).map(pool).collect();
        put(&mut out, "pool", (!pools.is_empty()).then(|| json!(pools)));
        put(&mut out, "route", routes(device));
        let policies: Vec<Value> = (1..).zip(&device.policies).filter_map(policy).collect();
        put(&mut out, "policy", (!policies.is_empty()).then(|| json!(policies)));
        let rules: Vec<Value> = device
            .rules
            .iter()
            .zip(&standing)
            .filter(|(r, _)| !r.retired)
            .map(|(r, s)| rule(device, r, s.as_ref()))
            .collect();
        put(&mut out, "rule", (!rules.is_empty()).then(|| json!(rules)));
        Value::Object(out)
    }

    /// What is lost because the device has no `zarnet-policy`, besides what rules tell.
    pub(super) fn what_only_policy_holds(&mut self, standing: &[Option<Standing>]) {
        let device = self.device;
        if !device.policies.is_empty() || device.default_policy == Verdict::Drop {
            let what =
                format!("{} entries, {} by default", device.policies.len(), device.default_policy);
            self.lose(LossKind::Policy, &device.name, what);
        }
        let chooses = [
            "pooling",
            "port-assignment",
            "port-classes",
            "port-parity",
            "port-overloading",
            "ports-per-host",
        ];
        for (key, value) in unsaid_behaviour(device, standing) {
            let kind = match key.as_str() {
                "max-mappings" | "max-sessions" => LossKind::Capacity,
                "refresh" => LossKind::Timer,
                key if chooses.contains(&key) => LossKind::Choice,
                _ => LossKind::Forwarding,
            };
            let what = match &value {
                Value::String(text) => text.clone(),
                other => other.to_string(),
            };
            self.lose(kind, &device.name, format!("{key} = {what}"));
        }
        let (named, per_port) = unsaid_timers(device);
        let named = named.into_iter().map(|(n, t)| format!("{n} = {t}"));
        let per_port = per_port.into_iter().map(|(p, t)| format!("per-port {p} = {t}"));
        for what in named.chain(per_port) {
            self.lose(LossKind::Timer, &device.name, what);
        }
    }
}

/// What a rule logs, by name.
pub(super) fn log_name(log: Log) -> Option<&'static str> {
    match log {
        Log::Nothing => None,
        Log::Sessions => Some("sessions"),
        Log::Mappings => Some("mappings"),
        Log::Blocks => Some("blocks"),
    }
}

/// Keys of `behaviour` that are not as by default and stand in no policy.
fn unsaid_behaviour(device: &DevicePlan, standing: &[Option<Standing>]) -> Map<String, Value> {
    let says_pooling =
        standing.iter().flatten().any(|s| s.policy.is_some() && s.instance == instance::NAPT.0);
    let (b, default) = (&device.behaviour, Preset::Bcp.behaviour());
    let mut out = Map::new();
    let mut say = |key: &str, unsaid: bool, value: Value| {
        if unsaid {
            out.insert(key.into(), value);
        }
    };
    say("pooling", !says_pooling && b.paired != default.paired, json!("arbitrary"));
    let says_ports = says_port_assignment(b);
    let assignment = match b.port_assignment {
        PortAssignment::Preserve => "preserve",
        PortAssignment::Sequential => "sequential",
        PortAssignment::Random => "random",
    };
    say("port-assignment", !says_ports, json!(assignment));
    let classes: Vec<String> = b
        .port_classes
        .iter()
        .map(|c| format!("{}-{} -> {}-{}", c.from.0, c.from.1, c.into.0, c.into.1))
        .collect();
    say("port-classes", !says_port_classes(b), json!(classes));
    say("port-parity", !says_ports && b.port_parity, json!(true));
    say("port-overloading", b.port_overloading, json!(true));
    let ports = b.ports_per_host.filter(|p| *p > u32::from(u16::MAX));
    say("ports-per-host", ports.is_some(), json!(ports));
    let text = |n: Option<u64>| json!(n.map(|n| n.to_string()));
    let says_mappings = limited_instance(standing).is_some();
    say("max-mappings", !says_mappings && b.max_mappings.is_some(), text(b.max_mappings));
    say("max-sessions", b.max_sessions.is_some(), text(b.max_sessions));
    say("hairpin-source", b.hairpin_source == HairpinSource::Keep, json!("keep"));
    say("rule-order", b.rule_order == RuleOrder::FixedFirst, json!("fixed-first"));
    say("policy-sees", !b.policy_sees_translated, json!("original"));
    say("answer-arp", !b.answers_arp_for_translated, json!("listed"));
    say("refresh", b.refresh_both, json!("both"));
    say("answers-leave", b.answers_leave_as_came, json!("as-came"));
    say("translates-own", b.translates_own, json!(true));
    let cannot: Vec<&str> = b.cannot.iter().map(|l| l.name()).collect();
    say("cannot", !cannot.is_empty(), json!(cannot));
    out
}

fn timers(device: &DevicePlan) -> Option<Value> {
    let (named, per_port) = unsaid_timers(device);
    let mut out = Map::new();
    let list: Vec<Value> =
        named.into_iter().map(|(name, time)| json!({ "name": name, "time": time })).collect();
    put(&mut out, "timer", (!list.is_empty()).then(|| json!(list)));
    let list: Vec<Value> = per_port
        .into_iter()
        .map(|(service, time)| json!({ "service": service, "time": time }))
        .collect();
    put(&mut out, "per-port", (!list.is_empty()).then(|| json!(list)));
    (!out.is_empty()).then(|| Value::Object(out))
}

fn pool(pool: &zarnet_core::plan::Pool) -> Value {
    let part = |(range, prefix): &(_, Option<zarnet_core::net::Prefix>)| match prefix {
        Some(prefix) if prefix.range() == *range => prefix.to_string(),
        _ => ends_text(*range),
    };
    let mut out = Map::new();
    out.insert("name".into(), json!(pool.name));
    out.insert("address".into(), json!(pool.parts.iter().map(part).collect::<Vec<_>>()));
    if pool.pick != Pick::Lowest {
        out.insert("pick".into(), json!(pool.pick.name()));
    }
    if pool.usable_all {
        out.insert("usable".into(), json!("all"));
    }
    Value::Object(out)
}

/// A range by its ends: written as a prefix it would lose its first and last address.
fn ends_text(range: zarnet_core::net::AddressRange) -> String {
    match range.first() == range.last() {
        true => range.first().to_string(),
        false => format!("{}-{}", range.first(), range.last()),
    }
}

/// Routes that the list of the standard does not hold.
fn routes(device: &DevicePlan) -> Option<Value> {
    let held = held_routes(&device.routes);
    let unheld = device.routes.iter().zip(held).filter(|(_, held)| !held);
    let entry = |(index, (route, _)): (usize, (&zarnet_core::plan::Route, bool))| {
        let mut out = Map::new();
        out.insert("index".into(), json!(index + 1));
        out.insert("to".into(), json!(route.to.to_string()));
        out.insert("via".into(), json!(route.via.to_string()));
        if let Some(condition) = &route.condition {
            let source = (!condition.source.is_all()).then(|| json!(set_text(&condition.source)));
            put(&mut out, "source", source);
            put(&mut out, "from", condition.from.as_ref().map(names));
        }
        Value::Object(out)
    };
    let list: Vec<Value> = unheld.enumerate().map(entry).collect();
    (!list.is_empty()).then(|| json!(list))
}

fn names(set: &RealmSet) -> Value {
    json!(set.names.iter().map(|n| n.value.as_str()).collect::<Vec<_>>())
}

fn services(set: &ServiceSet) -> Vec<String> {
    set.0.iter().map(ToString::to_string).collect()
}

/// A policy entry; none for one that matches nothing.
fn policy((index, policy): (usize, &Policy)) -> Option<Value> {
    let parties = &policy.parties;
    let nothing =
        parties.source.is_empty() || parties.destination.is_empty() || policy.service.0.is_empty();
    if nothing {
        return None;
    }
    let mut out = Map::new();
    out.insert("index".into(), json!(index));
    out.insert("action".into(), json!(policy.verdict.to_string()));
    put(&mut out, "from", policy.from.as_ref().map(names));
    put(&mut out, "into", policy.into.as_ref().map(names));
    put(&mut out, "source", (!parties.source.is_all()).then(|| json!(set_text(&parties.source))));
    let destination =
        (!parties.destination.is_all()).then(|| json!(set_text(&parties.destination)));
    put(&mut out, "destination", destination);
    put(&mut out, "service", (!policy.service.is_any()).then(|| json!(services(&policy.service))));
    Some(Value::Object(out))
}

/// A rule: what stands for it in the standard modules is not said again.
fn rule(device: &DevicePlan, rule: &Rule, standing: Option<&Standing>) -> Value {
    let mut out = Map::new();
    out.insert("name".into(), json!(rule.name));
    out.insert("type".into(), json!(rule.kind.name()));
    if !rule.enabled || matches_nothing(rule) {
        out.insert("enabled".into(), json!(false));
    }
    put(&mut out, "note", rule.note.as_ref().map(|n| json!(n)));
    put(&mut out, "log", log_name(rule.log).map(|l| json!(l)));
    put(&mut out, "instance", standing.map(|s| json!(s.instance)));
    put(&mut out, "policy-id", standing.and_then(|s| s.policy).map(|p| json!(p)));
    let entries = standing.map(|s| &s.entries).filter(|e| !e.is_empty());
    put(&mut out, "entry", entries.map(|e| json!(e)));
    for (key, set, default) in [("from", &rule.from, "internal"), ("into", &rule.into, "external")]
    {
        let is_default = matches!(&set.names[..], [one] if one.value == default);
        put(&mut out, key, (!is_default).then(|| names(set)));
    }
    let unsaid = |said: fn(&Standing) -> bool| !standing.is_some_and(said);
    let parties = &rule.parties;
    let lists = [
        ("source", &parties.source, unsaid(|s| s.says_source)),
        ("destination", &parties.destination, unsaid(|s| s.says_destination)),
    ];
    for (key, set, is_unsaid) in lists {
        let is_written = is_unsaid && !set.is_all() && !set.is_empty();
        put(&mut out, key, is_written.then(|| json!(set_text(set))));
    }
    let is_written = unsaid(|s| s.says_service)
        && !rule.service.is_any()
        && !rule.service.0.is_empty()
        && !matches!(rule.kind, RuleKind::Forward(_));
    put(&mut out, "service", is_written.then(|| json!(services(&rule.service))));
    ends(device, rule, standing, &mut out);
    put(&mut out, "limit", rule.limit.map(|l| json!(l)));
    put(&mut out, "hairpin", (!rule.hairpin.names.is_empty()).then(|| names(&rule.hairpin)));
    Value::Object(out)
}

/// The ends of a rule, as far as nothing stands for them.
fn ends(
    device: &DevicePlan,
    rule: &Rule,
    standing: Option<&Standing>,
    out: &mut Map<String, Value>,
) {
    let target = |t: Target| target_text(device, t);
    let says_external = standing.is_some_and(|s| s.says_external);
    let external = |external: External| match external {
        External::Interface(i) => device.interfaces[i.index()].name.clone(),
        External::Range(range) => range_text(range),
    };
    match &rule.kind {
        RuleKind::Exempt => {}
        RuleKind::Static(s) => {
            if standing.is_none() {
                out.insert("internal".into(), json!([range_text(s.internal)]));
            }
            if !says_external {
                out.insert("external".into(), json!(external(s.external)));
            }
            put(out, "as", s.translate_as.map(|t| json!(target(t))));
            let direction = match s.direction {
                Direction::Both => None,
                Direction::Outbound => Some("outbound"),
                Direction::Inbound => Some("inbound"),
            };
            put(out, "direction", direction.map(|d| json!(d)));
        }
        RuleKind::Forward(f) => {
            if standing.is_none() || f.servers.len() > 1 {
                let servers: Vec<String> = f.servers.iter().map(|s| server_text(*s, f)).collect();
                out.insert("internal".into(), json!(servers));
            }
            if standing.is_none() {
                let end = bracketed(&external(f.external));
                let text = format!("{end}:{}/{}", f.ports, f.protocol);
                out.insert("external".into(), json!(text));
            } else if !says_external {
                out.insert("external".into(), json!(external(f.external)));
            }
            put(out, "as", f.translate_as.map(|t| json!(target(t))));
            put(out, "spread", (f.spread == Spread::BySource).then(|| json!("by-source")));
        }
        RuleKind::Pool { fallback, .. } | RuleKind::Overload { fallback, .. } => {
            put(out, "as", rule.kind.target().map(|t| json!(target(t))));
            let fallback = match fallback {
                Fallback::Drop => None,
                Fallback::Pass => Some("pass".to_owned()),
                Fallback::Overload(t) => Some(target(*t)),
            };
            put(out, "when-exhausted", fallback.map(|f| json!(f)));
        }
    }
}

fn target_text(device: &DevicePlan, target: Target) -> String {
    match target {
        Target::Interface(i) => device.interfaces[i.index()].name.clone(),
        Target::Pool(p) => device.pools[p.index()].name.clone(),
        Target::Address(address) => address.to_string(),
    }
}

/// An IPv6 address in brackets, for a port to stand behind it.
fn bracketed(end: &str) -> String {
    if end.contains(':') { format!("[{end}]") } else { end.into() }
}

/// A server as plans write it, with its ports where there are several.
fn server_text(server: Server, forward: &Forward) -> String {
    let last = server.port.saturating_add(forward.ports.last - forward.ports.first);
    let end = bracketed(&server.address.to_string());
    match last == server.port {
        true => format!("{end}:{}", server.port),
        false => format!("{end}:{}-{last}", server.port),
    }
}
