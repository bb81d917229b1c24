//! Rules as instances of NAT: pools and overloads as policies, statics and forwards as entries of
//! the mapping table, exemptions as traffic that passes through (RFC 8512 §2).

use serde_json::{Map, Value, json};
use zarnet_core::plan::{Preset, Rule, RuleKind, Timers};

use super::super::notation::set_prefixes;
use super::super::{LossKind, instance};
use super::policies::settings;
use super::standing::{SoFar, Standing, limited_instance, matches_nothing};
use super::{Export, put};

/// An instance in the making.
#[derive(Default)]
struct Instance {
    policies: Vec<Value>,
    entries: Vec<Value>,
    pass_through: Vec<Value>,
    /// Parts of pools so far.
    pools: u64,
}

impl Instance {
    fn so_far(&self) -> SoFar {
        SoFar {
            entries: self.entries.len() as u64,
            policies: self.policies.len() as u64,
            pools: self.pools,
        }
    }

    fn is_empty(&self) -> bool {
        self.policies.is_empty() && self.entries.is_empty() && self.pass_through.is_empty()
    }
}

impl Export<'_> {
    /// The instances, and by rule what stands for it there.
    pub(super) fn nat(&mut self) -> (Option<Value>, Vec<Option<Standing>>) {
        let device = self.device;
        let is_written = |r: &&Rule| r.enabled && !r.retired && !matches_nothing(r);
        let has_ports =
            |r: &Rule| matches!(r.kind, RuleKind::Overload { .. } | RuleKind::Forward(_));
        let with_ports = device.rules.iter().filter(is_written).any(has_ports);
        let general = if with_ports { instance::NAPT.0 } else { instance::BASIC.0 };
        let mut instances: [Instance; 3] = Default::default();
        let mut standing = Vec::with_capacity(device.rules.len());
        for rule in &device.rules {
            if !is_written(&rule) {
                standing.push(None);
                self.not_written(rule);
                continue;
            }
            let written = match &rule.kind {
                RuleKind::Exempt => {
                    let list = &mut instances[general as usize - 1].pass_through;
                    let (entries, stands) = self.exempt(rule, general, list.len() as u64);
                    list.extend(entries);
                    stands
                }
                RuleKind::Static(s) if s.internal.first().is_ipv6() => {
                    let own = &mut instances[instance::NPTV6.0 as usize - 1];
                    let (policy, stands) = self.prefix_policy(rule, s, own.so_far());
                    own.policies.extend(policy);
                    stands
                }
                RuleKind::Static(s) => {
                    let own = &mut instances[instance::BASIC.0 as usize - 1];
                    let (entries, stands) = self.static_entries(rule, s, own.so_far());
                    own.entries.extend(entries);
                    stands
                }
                RuleKind::Forward(f) => {
                    let own = &mut instances[instance::NAPT.0 as usize - 1];
                    let (entries, stands) = self.forward_entries(rule, f, own.so_far());
                    own.entries.extend(entries);
                    stands
                }
                RuleKind::Pool { .. } | RuleKind::Overload { .. } => {
                    let has_ports = matches!(rule.kind, RuleKind::Overload { .. });
                    let id = if has_ports { instance::NAPT.0 } else { instance::BASIC.0 };
                    let own = &mut instances[id as usize - 1];
                    let (policy, stands) = self.policy_of(rule, id, own.so_far());
                    if let Some((policy, parts)) = policy {
                        own.policies.push(policy);
                        own.pools += parts;
                    }
                    stands
                }
            };
            standing.push(written);
        }
        self.settings_alone(&mut instances, general);
        if !self.form.has_policy() {
            self.order();
            self.scopes();
        }
        let numbered = [instance::BASIC, instance::NAPT, instance::NPTV6];
        let limited = limited_instance(&standing);
        let written: Vec<Value> = numbered
            .into_iter()
            .zip(instances)
            .filter(|(_, i)| !i.is_empty())
            .map(|((id, kind), i)| {
                let mut written = self.instance(id, kind, i);
                if let Some(most) = device.behaviour.max_mappings.filter(|_| limited == Some(id)) {
                    let which = if id == instance::NAPT.0 { "port" } else { "address" };
                    let limit = format!("limit-{which}-mappings");
                    written["mapping-limits"] = json!({ limit: most });
                }
                written
            })
            .collect();
        let nat = (!written.is_empty()).then(|| json!({ "instances": { "instance": written } }));
        (nat, standing)
    }

    /// How the device chooses and how long state lasts stands in policies: where no rule has one,
    /// in one of its own, unless all is as it is by default.
    fn settings_alone(&mut self, instances: &mut [Instance; 3], general: u64) {
        let [basic, napt, _] = &*instances;
        let said = !basic.policies.is_empty() || !napt.policies.is_empty();
        let device = self.device;
        let has_ports = general == instance::NAPT.0;
        let mut policy = Map::new();
        policy.insert("id".into(), json!(1));
        let mut default = policy.clone();
        settings(&mut policy, &device.behaviour, &device.timers, has_ports);
        settings(&mut default, &Preset::Bcp.behaviour(), &Timers::default(), has_ports);
        let has_entries = !basic.entries.is_empty() || !napt.entries.is_empty();
        if said || policy == default && !has_entries {
            return;
        }
        let external = device.rules.iter().find(|r| r.enabled).and_then(|r| self.external_of(r));
        put(&mut policy, "external-realm", external);
        instances[general as usize - 1].policies.push(Value::Object(policy));
    }

    fn instance(&self, id: u64, kind: &str, content: Instance) -> Value {
        let mut out = Map::new();
        out.insert("id".into(), json!(id));
        out.insert("name".into(), json!(self.device.name));
        out.insert("enable".into(), json!(true));
        out.insert("type".into(), json!(kind));
        let Instance { policies, entries, pass_through, pools: _ } = content;
        put(
            &mut out,
            "nat-pass-through",
            (!pass_through.is_empty()).then(|| Value::Array(pass_through)),
        );
        put(&mut out, "policy", (!policies.is_empty()).then(|| Value::Array(policies)));
        put(
            &mut out,
            "mapping-table",
            (!entries.is_empty()).then(|| json!({ "mapping-entry": entries })),
        );
        Value::Object(out)
    }

    /// A rule that has no place in the standard modules, for it does nothing.
    fn not_written(&mut self, rule: &Rule) {
        if rule.retired {
            return;
        }
        match rule.enabled {
            true => self.lose(LossKind::MatchesNothing, &rule.name, ""),
            false => self.lose_without_policy(LossKind::Disabled, &rule.name, ""),
        }
        self.told_of(rule);
    }

    /// Exempt traffic by its destination: all that the standard asks.
    fn exempt(&mut self, rule: &Rule, id: u64, before: u64) -> (Vec<Value>, Option<Standing>) {
        self.told_of(rule);
        let prefixes = match rule.parties.destination.is_all() {
            true => vec!["0.0.0.0/0".to_owned(), "::/0".to_owned()],
            false => {
                let list = set_prefixes(&rule.parties.destination);
                list.iter().map(ToString::to_string).collect()
            }
        };
        let by_destination = rule.parties.source.is_all() && rule.service.is_any();
        if !by_destination {
            self.lose_without_policy(LossKind::Exempt, &rule.name, "");
            return (Vec::new(), None);
        }
        let mut stands = Standing {
            instance: id,
            says_source: true,
            says_service: true,
            says_destination: true,
            ..Standing::default()
        };
        let mut list = Vec::new();
        for (id, prefix) in (before + 1..).zip(prefixes) {
            stands.entries.push(id);
            list.push(json!({ "id": id, "prefix": prefix }));
        }
        (list, Some(stands))
    }

    /// What rules of every type may have and the standard does not hold.
    pub(super) fn told_of(&mut self, rule: &Rule) {
        if let Some(limit) = rule.limit {
            self.lose_without_policy(LossKind::Limit, &rule.name, limit.to_string());
        }
        if rule.note.is_some() {
            self.lose_without_policy(LossKind::Notes, &rule.name, "");
        }
        if let Some(log) = super::edge::log_name(rule.log) {
            self.lose_without_policy(LossKind::Log, &rule.name, log);
        }
        if !rule.hairpin.names.is_empty() {
            let names: Vec<&str> = rule.hairpin.names.iter().map(|n| n.value.as_str()).collect();
            self.lose_without_policy(LossKind::Hairpin, &rule.name, names.join(", "));
        }
    }

    /// The one external interface of a rule, as a policy names it.
    pub(super) fn external_of(&self, rule: &Rule) -> Option<Value> {
        let mut outside = (0..)
            .zip(&self.device.interfaces)
            .filter(|(i, _)| rule.into.interfaces.contains(zarnet_core::plan::InterfaceId(*i)));
        match (outside.next(), outside.next()) {
            (Some((_, one)), None) => Some(json!({ "external-interface": one.name })),
            _ => None,
        }
    }
}
