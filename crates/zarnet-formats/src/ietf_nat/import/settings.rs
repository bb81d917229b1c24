//! How a device chooses and how long its state lasts: read from the first policy that says so.

use super::Import;
use super::reader::At;
use super::toml::Table;

impl Import<'_> {
    /// Keys of the device: `behaviour`, `default-policy` and `timers`.
    pub(super) fn settings(&mut self, instances: &[At<'_>], edge: Option<&At<'_>>) -> Table {
        let policies: Vec<(At<'_>, bool)> = instances
            .iter()
            .flat_map(|i| {
                let has_ports = i.identity("type") != Some("basic-nat44");
                let is_prefix = i.identity("type") == Some("nptv6");
                let list = if is_prefix { Vec::new() } else { i.list("policy") };
                list.into_iter().map(move |p| (p, has_ports))
            })
            .collect();
        let mut behaviour = Table::default();
        let mut timers = Table::default();
        if let Some((first, _)) = policies.first() {
            self.first_policy(first, &mut behaviour, &mut timers);
            let with_ports = policies.iter().find(|p| p.1).map(|p| &p.0);
            let pooling = with_ports.and_then(|p| p.text("address-allocation-type"));
            if pooling.is_some_and(|p| p != "paired") {
                behaviour.text("pooling", "arbitrary");
            }
            for (other, _) in &policies[1..] {
                self.note_same(first, other);
            }
        }
        let limits: Vec<u64> = instances
            .iter()
            .filter_map(|i| {
                let which = match i.identity("type") {
                    Some("basic-nat44") => "limit-address-mappings",
                    _ => "limit-port-mappings",
                };
                i.get("mapping-limits")?.number(which)
            })
            .collect();
        if let [one] = limits[..] {
            behaviour.number("max-mappings", one);
        }
        let mut out = Table::default();
        if let Some(edge) = edge {
            edge_behaviour(edge, &mut behaviour);
            edge_timers(edge, &mut timers, &mut behaviour);
        }
        if !behaviour.is_empty() {
            out.raw("behaviour", behaviour.inline());
        }
        if let Some(policy) = edge.and_then(|e| e.text("default-policy")) {
            out.text("default-policy", policy);
        }
        if !timers.is_empty() {
            out.raw("timers", timers.inline());
        }
        out
    }

    fn first_policy(&mut self, policy: &At<'_>, behaviour: &mut Table, timers: &mut Table) {
        let dependence = |short: Option<&str>| match short {
            Some("adm" | "adf") => Some("address-dependent"),
            Some("edm" | "edf") => Some("address-and-port-dependent"),
            _ => None,
        };
        for (key, leaf) in [("mapping", "mapping-type"), ("filtering", "filtering-type")] {
            let said = policy.text(leaf);
            if said.is_none() {
                let path = &policy.path;
                self.assumed.push(format!("{path}: no `{leaf}`, so endpoint-independent is taken"));
            }
            if let Some(value) = dependence(said) {
                behaviour.text(key, value);
            }
        }
        match policy.text("port-allocation-type") {
            Some("random") => behaviour.text("port-assignment", "random"),
            Some("port-parity-preservation") => behaviour.flag("port-parity", true),
            Some("port-range-allocation") => {
                behaviour.text("port-assignment", "random");
                if let Some(size) = policy.get("port-set").and_then(|p| p.number("port-set-size")) {
                    behaviour.number("block-size", size);
                }
            }
            _ => {}
        }
        let _ = (policy.text("fragment-behavior"), policy.text("address-allocation-type"));
        if let Some(range) = policy.get("port-set-restrict")
            && let Some(first) = range.number("start-port-number")
        {
            let last = range.number("end-port-number").unwrap_or(first);
            let class = format!("[\"1-65535 -> {}-{last}\"]", first.max(1));
            behaviour.raw("port-classes", class);
        }
        for quota in policy.list("port-quota") {
            if quota.get("quota-type").is_some_and(|q| q.is_zero()) {
                let _ = quota.number("quota-type");
                if let Some(limit) = quota.number("port-limit") {
                    behaviour.number("ports-per-host", limit);
                }
            }
        }
        let own = policy.get("timers");
        let number = |leaf: &str| own.as_ref().and_then(|t| t.number(leaf));
        for (leaf, default) in [
            ("udp-timeout", 300),
            ("tcp-idle-timeout", 7440),
            ("tcp-trans-open-timeout", 240),
            ("tcp-trans-close-timeout", 240),
            ("tcp-in-syn-timeout", 6),
            ("icmp-timeout", 60),
            ("fragment-min-timeout", 2),
        ] {
            if let Some(time) = number(leaf).filter(|t| *t != default) {
                timers.text(leaf, &format!("{time}s"));
            }
        }
        // the default of the module (RFC 8512 §3)
        let rest = number("hold-down-timeout").unwrap_or(120);
        if rest != 0 {
            behaviour.text("hold-down-timeout", &format!("{rest}s"));
        }
        let mut per_port = Table::default();
        for entry in own.as_ref().map(|t| t.list("per-port-timeout")).unwrap_or_default() {
            let (Some(port), Some(time)) = (entry.number("port-number"), entry.number("timeout"))
            else {
                continue;
            };
            let numbers = match entry.number("protocol") {
                Some(protocol) => vec![protocol],
                None => vec![6, 17],
            };
            for number in numbers {
                let protocol = zarnet_core::net::Protocol(number as u8);
                per_port.text(&format!("\"{port}/{protocol}\""), &format!("{time}s"));
            }
        }
        if !per_port.is_empty() {
            timers.raw("per-port", per_port.inline());
        }
    }

    /// A plan has one way of choosing and one set of timers a device: another policy may only say
    /// the same.
    fn note_same(&mut self, first: &At<'_>, other: &At<'_>) {
        for leaf in [
            "port-allocation-type",
            "mapping-type",
            "filtering-type",
            "fragment-behavior",
            "port-quota",
            "port-set",
            "port-set-restrict",
            "timers",
        ] {
            match (first.get(leaf), other.get(leaf)) {
                (Some(a), Some(b)) if a.is_same(&b) => b.note_all_read(),
                (_, Some(b)) => self.assumed.push(format!(
                    "{}: another value than the first policy's; that one is taken for all",
                    b.path
                )),
                (_, None) => {}
            }
        }
    }
}

fn edge_behaviour(edge: &At<'_>, out: &mut Table) {
    let Some(behaviour) = edge.get("behaviour") else { return };
    for key in [
        "pooling",
        "port-assignment",
        "hairpin-source",
        "rule-order",
        "policy-sees",
        "answer-arp",
        "refresh",
        "answers-leave",
    ] {
        if let Some(value) = behaviour.text(key) {
            out.remove(key);
            out.text(key, value);
        }
    }
    for key in ["port-parity", "port-overloading", "translates-own"] {
        if let Some(value) = behaviour.flag(key) {
            out.remove(key);
            out.flag(key, value);
        }
    }
    for key in ["ports-per-host", "max-mappings", "max-sessions"] {
        if let Some(value) = behaviour.number(key) {
            out.remove(key);
            out.number(key, value);
        }
    }
    for key in ["port-classes", "cannot"] {
        let values = behaviour.texts(key);
        if !values.is_empty() {
            let quoted: Vec<String> = values.iter().map(|v| super::toml::quoted(v)).collect();
            out.remove(key);
            out.raw(key, format!("[{}]", quoted.join(", ")));
        }
    }
}

fn edge_timers(edge: &At<'_>, timers: &mut Table, behaviour: &mut Table) {
    let Some(own) = edge.get("timers") else { return };
    for timer in own.list("timer") {
        let (Some(name), Some(time)) = (timer.text("name"), timer.text("time")) else { continue };
        let table = if name == "hold-down-timeout" { &mut *behaviour } else { &mut *timers };
        table.remove(name);
        table.text(name, time);
    }
    let mut per_port = Table::default();
    for entry in own.list("per-port") {
        if let (Some(service), Some(time)) = (entry.text("service"), entry.text("time")) {
            per_port.text(&format!("\"{service}\""), time);
        }
    }
    if !per_port.is_empty() {
        let before = timers.remove("per-port");
        let mut all = before.map(|b| b.trim_matches(['{', '}', ' ']).to_owned());
        let more = per_port.inline();
        let more = more.trim_matches(['{', '}', ' ']);
        all = Some(all.map_or(more.to_owned(), |b| format!("{b}, {more}")));
        timers.raw("per-port", format!("{{ {} }}", all.unwrap_or_default()));
    }
}
