//! Rules of a document: those that it lists in their order, or those that its instances come to.

use zarnet_core::net::{AddressSet, Prefix};

use super::super::notation::{range_text, set_text};
use super::Import;
use super::fixed::Entry;
use super::reader::At;
use super::surroundings::Interface;
use super::toml::Table;

impl Import<'_> {
    /// Pools and rules.
    pub(super) fn rules(
        &mut self,
        instances: &[At<'_>],
        edge: Option<&At<'_>>,
        interfaces: &[Interface],
    ) -> (Vec<Table>, Vec<Table>) {
        if let Some(edge) = edge {
            return self.listed_rules(instances, edge, interfaces);
        }
        let (mut pools, mut rules) = (Vec::new(), Vec::new());
        for instance in instances {
            let is_enabled = self.is_enabled(instance);
            let id = instance.number("id").unwrap_or_default();
            for at in instance.list("nat-pass-through") {
                let number = at.number("id").unwrap_or_default();
                if at.get("port").is_some() {
                    let path = &at.path;
                    self.assumed.push(format!("{path}: an exemption by port is left out"));
                    continue;
                }
                let mut rule = self.begin("exempt", "exempt", number, id, is_enabled);
                if let Some(to) = at.text("prefix").filter(|p| !p.ends_with("/0")) {
                    rule.text("destination", to);
                }
                rules.push(rule);
            }
        }
        for instance in instances {
            let is_enabled = self.is_enabled(instance);
            let id = instance.number("id").unwrap_or_default();
            let entries = self.entries(instance);
            for group in entries.chunk_by(|a, b| a.continues(b)) {
                rules.push(self.fixed_rule(group, (id, is_enabled), interfaces));
            }
        }
        for instance in instances {
            let is_enabled = self.is_enabled(instance);
            let id = instance.number("id").unwrap_or_default();
            let kind = match instance.identity("type") {
                Some("basic-nat44") => "pool",
                _ => "overload",
            };
            for policy in instance.list("policy") {
                self.policy_rules(
                    &policy,
                    kind,
                    (id, is_enabled),
                    interfaces,
                    (&mut pools, &mut rules),
                );
            }
        }
        (pools, rules)
    }

    fn is_enabled(&self, instance: &At<'_>) -> bool {
        instance.flag("enable").unwrap_or(true)
    }

    /// A rule with a name made of its number.
    fn begin(
        &mut self,
        prefix: &str,
        kind: &str,
        number: u64,
        instance: u64,
        is_enabled: bool,
    ) -> Table {
        let mut rule = Table::default();
        let name = self.name(prefix, number, instance);
        rule.text("name", &name);
        rule.text("type", kind);
        if !is_enabled {
            rule.flag("enabled", false);
        }
        rule
    }

    /// The rule that entries come to which differ only by who may send.
    pub(super) fn fixed_rule(
        &mut self,
        entries: &[Entry],
        (instance, is_enabled): (u64, bool),
        interfaces: &[Interface],
    ) -> Table {
        let kind = if entries[0].ports.is_some() { "forward" } else { "static" };
        let mut rule = self.begin(kind, kind, entries[0].index, instance, is_enabled);
        fixed_ends(entries, interfaces, &mut rule);
        sources(entries, &mut rule);
        rule
    }

    /// The rules that a policy comes to: one that hands out addresses, and prefixes of IPv6.
    pub(super) fn policy_rules(
        &mut self,
        policy: &At<'_>,
        kind: &str,
        (instance, is_enabled): (u64, bool),
        interfaces: &[Interface],
        (pools, rules): (&mut Vec<Table>, &mut Vec<Table>),
    ) {
        let id = policy.number("id").unwrap_or_default();
        let outside = policy.get("external-realm").and_then(|r| r.text("external-interface"));
        // where there are several, a policy is for the one that it names
        let mut external = interfaces.iter().filter(|i| i.is_external);
        let is_one_of_several =
            external.clone().nth(1).is_some() && external.any(|i| outside == Some(i.name.as_str()));
        let into: Vec<String> =
            outside.filter(|_| is_one_of_several).map(str::to_owned).into_iter().collect();
        for pair in policy.list("nptv6-prefixes") {
            let mut rule = self.begin("prefix", "static", id, instance, is_enabled);
            rule.list("into", &into);
            prefix_ends(&pair, &mut rule);
            rules.push(rule);
        }
        let addresses = pool_addresses(policy);
        if addresses.is_empty() {
            return;
        }
        let mut rule = self.begin(kind, kind, id, instance, is_enabled);
        rule.list("into", &into);
        let senders: Vec<String> = policy
            .list("subscriber-match")
            .iter()
            .filter_map(|m| {
                let _ = m.number("match-id");
                m.text("subnet").map(str::to_owned)
            })
            .collect();
        rule.list("source", &senders);
        rule.list("service", &protocols(policy));
        let in_turn = policy.text("address-allocation-type") == Some("roundrobin");
        let held = |i: &&Interface| {
            i.primary.is_some() && i.primary == addresses.single() && outside == Some(&*i.name)
        };
        match (interfaces.iter().find(held), addresses.single()) {
            (Some(interface), _) if !in_turn => rule.text("as", &interface.name),
            (None, Some(one)) if kind == "overload" && !in_turn => {
                rule.text("as", &one.to_string())
            }
            _ => {
                let mut pool = Table::default();
                let name = format!("{kind}-{id}");
                pool.text("name", &name);
                pool.list("addresses", &ends_text(&addresses));
                if in_turn {
                    pool.text("pick", "in-turn");
                }
                pools.push(pool);
                rule.text("as", &name);
            }
        }
        rules.push(rule);
    }
}

/// The ranges of a set by their ends: written as prefixes they would lose their first and last
/// address.
fn ends_text(set: &AddressSet) -> Vec<String> {
    set.ranges()
        .map(|r| match r.first() == r.last() {
            true => r.first().to_string(),
            false => format!("{}-{}", r.first(), r.last()),
        })
        .collect()
}

/// What a policy hands out.
fn pool_addresses(policy: &At<'_>) -> AddressSet {
    let parts = policy.list("external-ip-address-pool");
    let prefix = |p: &At<'_>| {
        let _ = p.number("pool-id");
        p.text("external-ip-pool").and_then(|t| t.parse::<Prefix>().ok())
    };
    parts.iter().filter_map(prefix).map(Prefix::range).collect()
}

/// The protocols of a policy.
pub(super) fn protocols(policy: &At<'_>) -> Vec<String> {
    let list = policy.list("transport-protocols");
    list.iter()
        .filter_map(|p| {
            let _ = p.text("protocol-name");
            p.number("protocol-id").map(|n| super::filters::protocol_text(n as u8))
        })
        .collect()
}

/// The ends of a prefix translation.
pub(super) fn prefix_ends(pair: &At<'_>, rule: &mut Table) {
    for (key, leaf) in [("internal", "internal-ipv6-prefix"), ("external", "external-ipv6-prefix")]
    {
        rule.text(key, pair.text(leaf).unwrap_or_default());
    }
}

/// The ends of a fixed rule, and what its senders become.
pub(super) fn fixed_ends(entries: &[Entry], interfaces: &[Interface], rule: &mut Table) {
    let Some(first) = entries.first() else { return };
    let internal = super::fixed::whole(entries.iter().map(|e| e.internal));
    let external = super::fixed::whole(entries.iter().map(|e| e.external));
    let (Some(internal), Some(external)) = (internal, external) else { return };
    let bracketed = |text: String| if text.contains(':') { format!("[{text}]") } else { text };
    let range = |(a, b): (u64, u64)| if a == b { a.to_string() } else { format!("{a}-{b}") };
    match first.ports {
        Some((inside, outside)) => {
            let protocol = zarnet_core::net::Protocol(first.protocol.unwrap_or_default());
            let who = bracketed(internal.first().to_string());
            rule.text("internal", &format!("{who}:{}", range(inside)));
            let who = bracketed(external.first().to_string());
            let end = format!("{who}:{}/{protocol}", range(outside));
            rule.text("external", &end);
        }
        None => {
            rule.text("internal", &range_text(internal));
            rule.text("external", &range_text(external));
            if let Some(service) = first.service() {
                rule.text("service", &service);
            }
        }
    }
    if let Some(becomes) = first.becomes {
        let address = becomes.first();
        let interface = interfaces.iter().find(|i| i.primary == Some(address));
        rule.text("as", &interface.map_or(address.to_string(), |i| i.name.clone()));
    }
}

/// Who may send to a fixed rule.
pub(super) fn sources(entries: &[Entry], rule: &mut Table) {
    if entries.iter().any(|e| e.source.is_none()) {
        return;
    }
    let set: AddressSet = entries.iter().filter_map(|e| e.source).map(Prefix::range).collect();
    rule.list("source", &set_text(&set));
}
