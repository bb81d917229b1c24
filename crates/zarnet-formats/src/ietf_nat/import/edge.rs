//! Rules and policies as `zarnet-policy` lists them, with what stands for them in the standard
//! modules.

use std::collections::{HashMap, HashSet};

use super::Import;
use super::fixed::Entry;
use super::reader::At;
use super::rules::{fixed_ends, prefix_ends, protocols, sources};
use super::surroundings::Interface;
use super::toml::Table;

/// An instance, by what rules point at.
struct Pointed<'a> {
    entries: HashMap<u64, Entry>,
    pass_through: HashMap<u64, At<'a>>,
    policies: HashMap<u64, At<'a>>,
}

impl Import<'_> {
    pub(super) fn policies(&mut self, edge: &At<'_>) -> Vec<Table> {
        let mut list = Vec::new();
        for entry in edge.list("policy") {
            let _ = entry.number("index");
            let mut table = Table::default();
            for key in ["from", "into"] {
                table.list(key, &entry.texts(key));
            }
            let services = entry.texts("service");
            let any = vec!["any".to_owned()];
            let services = if services.is_empty() { &any } else { &services };
            table.list(entry.text("action").unwrap_or("drop"), services);
            for key in ["source", "destination"] {
                table.list(key, &entry.texts(key));
            }
            list.push(table);
        }
        list
    }

    pub(super) fn listed_rules(
        &mut self,
        instances: &[At<'_>],
        edge: &At<'_>,
        interfaces: &[Interface],
    ) -> (Vec<Table>, Vec<Table>) {
        let mut pointed: HashMap<u64, Pointed<'_>> = HashMap::new();
        for instance in instances {
            let _ = (instance.flag("enable"), instance.identity("type"));
            let id = instance.number("id").unwrap_or_default();
            let keyed = |list: &str| -> HashMap<u64, At<'_>> {
                let list = instance.list(list);
                list.into_iter().filter_map(|at| Some((at.number("id")?, at))).collect()
            };
            let (pass_through, policies) = (keyed("nat-pass-through"), keyed("policy"));
            let entries = self.entries(instance).into_iter().map(|e| (e.index, e)).collect();
            pointed.insert(id, Pointed { entries, pass_through, policies });
        }
        let mut pools = Vec::new();
        for pool in edge.list("pool") {
            let mut table = Table::default();
            table.text("name", pool.text("name").unwrap_or_default());
            table.list("addresses", &pool.texts("address"));
            for key in ["pick", "usable"] {
                if let Some(value) = pool.text(key) {
                    table.text(key, value);
                }
            }
            pools.push(table);
        }
        let mut rules = Vec::new();
        for at in edge.list("rule") {
            rules.push(self.listed_rule(&at, &pointed, interfaces));
        }
        self.unlisted(instances, interfaces, edge, (&mut pools, &mut rules));
        (pools, rules)
    }

    fn listed_rule(
        &mut self,
        at: &At<'_>,
        pointed: &HashMap<u64, Pointed<'_>>,
        interfaces: &[Interface],
    ) -> Table {
        let mut rule = Table::default();
        let name = at.text("name").unwrap_or_default();
        self.names.insert(name.into());
        rule.text("name", name);
        let kind = at.text("type").unwrap_or_default();
        rule.text("type", kind);
        if at.flag("enabled") == Some(false) {
            rule.flag("enabled", false);
        }
        for key in ["note", "log"] {
            if let Some(value) = at.text(key) {
                rule.text(key, value);
            }
        }
        for key in ["from", "into", "source", "destination", "service"] {
            rule.list(key, &at.texts(key));
        }
        let instance = at.number("instance");
        let there = instance.and_then(|i| pointed.get(&i));
        if instance.is_some() && there.is_none() {
            self.fault(format!("{}/instance", at.path), "there is no such instance");
        }
        let numbers = at.numbers("entry");
        let (internal, external) = (at.texts("internal"), at.text("external"));
        if let Some(there) = there {
            self.stands_for(at, &numbers, there, kind, interfaces, &mut rule);
        }
        if !internal.is_empty() {
            rule.remove("internal");
            rule.list("internal", &internal);
        }
        if let Some(external) = external {
            let ports = rule.remove("external").and_then(|e| {
                // an interface takes the place of its address
                let behind = e.trim_matches('"').rsplit_once(':').map(|(_, p)| p.to_owned());
                behind.filter(|_| kind == "forward" && !external.contains('/'))
            });
            let whole = ports.map_or(external.to_owned(), |p| format!("{external}:{p}"));
            rule.text("external", &whole);
        }
        for key in ["as", "when-exhausted", "direction", "spread"] {
            if let Some(value) = at.text(key) {
                rule.remove(key);
                rule.text(key, value);
            }
        }
        if let Some(limit) = at.number("limit") {
            rule.number("limit", limit);
        }
        rule.list("hairpin", &at.texts("hairpin"));
        rule
    }

    /// What the entries or the policy that a rule points at say of it.
    fn stands_for(
        &mut self,
        at: &At<'_>,
        numbers: &[u64],
        there: &Pointed<'_>,
        kind: &str,
        interfaces: &[Interface],
        rule: &mut Table,
    ) {
        if let Some(id) = at.number("policy-id") {
            let Some(policy) = there.policies.get(&id) else {
                self.fault(format!("{}/policy-id", at.path), "there is no such policy");
                return;
            };
            let _ = policy.get("external-realm").and_then(|r| r.text("external-interface"));
            policy.list("nptv6-prefixes").iter().for_each(|pair| prefix_ends(pair, rule));
            // the pool that the rule names says the same
            for pool in policy.list("external-ip-address-pool") {
                pool.note_all_read();
            }
            let senders: Vec<String> = policy
                .list("subscriber-match")
                .iter()
                .filter_map(|m| {
                    let _ = m.number("match-id");
                    m.text("subnet").map(str::to_owned)
                })
                .collect();
            let _ = policy.text("address-allocation-type");
            if !rule.has("source") {
                rule.list("source", &senders);
            }
            if !rule.has("service") {
                rule.list("service", &protocols(policy));
            }
            return;
        }
        if kind == "exempt" {
            let mut to = Vec::new();
            for number in numbers {
                match there.pass_through.get(number).and_then(|p| p.text("prefix")) {
                    Some(prefix) => to.push(prefix.to_owned()),
                    None => self.fault(format!("{}/entry", at.path), "there is no such entry"),
                }
            }
            if !to.iter().any(|p| p.ends_with("/0")) {
                rule.list("destination", &to);
            }
            return;
        }
        let mut entries = Vec::new();
        for number in numbers {
            match there.entries.get(number) {
                Some(entry) => entries.push(entry.clone()),
                None => self.fault(
                    format!("{}/entry", at.path),
                    &format!("there is no entry {number} in the mapping table"),
                ),
            }
        }
        let had_service = rule.remove("service");
        fixed_ends(&entries, interfaces, rule);
        if let Some(service) = had_service {
            rule.remove("service");
            rule.raw("service", service);
        }
        if !rule.has("source") {
            sources(&entries, rule);
        }
    }

    /// What no rule points at: somebody added it by means of the standard alone. It takes part
    /// behind the rules that are listed.
    fn unlisted(
        &mut self,
        instances: &[At<'_>],
        interfaces: &[Interface],
        edge: &At<'_>,
        (pools, rules): (&mut Vec<Table>, &mut Vec<Table>),
    ) {
        let mut known: HashSet<(u64, &str, u64)> = HashSet::new();
        for rule in edge.list("rule") {
            let Some(instance) = rule.number("instance") else { continue };
            known.extend(rule.number("policy-id").map(|p| (instance, "policy", p)));
            known.extend(rule.numbers("entry").into_iter().map(|e| (instance, "entry", e)));
        }
        for instance in instances {
            let id = instance.number("id").unwrap_or_default();
            let is_enabled = instance.flag("enable").unwrap_or(true);
            let mut entries = self.entries(instance);
            entries.retain(|e| !known.contains(&(id, "entry", e.index)));
            for group in entries.chunk_by(|a, b| a.continues(b)) {
                rules.push(self.fixed_rule(group, (id, is_enabled), interfaces));
            }
            let kind = if id == super::super::instance::BASIC.0 { "pool" } else { "overload" };
            for policy in instance.list("policy") {
                let number = policy.number("id").unwrap_or_default();
                if !known.contains(&(id, "policy", number)) {
                    let made = (&mut *pools, &mut *rules);
                    self.policy_rules(&policy, kind, (id, is_enabled), interfaces, made);
                }
            }
        }
    }
}
