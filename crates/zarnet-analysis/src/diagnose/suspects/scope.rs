//! Realms that nobody set, mistyped, or the wrong way round, and rules that are for other realms or
//! the other direction.

use super::{At, Case, set};
use crate::diagnose::Cause;
use crate::diagnose::near::NearMiss;
use zarnet_core::device::Condition;
use zarnet_core::plan::edit::{Edit, Table};
use zarnet_core::plan::{
    DeviceId, DevicePlan, Direction, InterfaceId, Policy, RealmSet, RuleKind, Verdict,
};

/// So many letters at most lie between a name and what was meant.
const SLIP: usize = 2;

/// Where a rule or policy entry names a realm.
struct Naming {
    table: Table,
    key: &'static str,
    name: String,
    /// The rule or entry in words.
    whose: String,
    at: At,
}

impl<'a> Case<'a> {
    fn realm(&self, device: DeviceId, interface: InterfaceId) -> Option<&'a str> {
        self.device(device).interfaces[interface.index()].realm.as_deref()
    }

    /// Whether nothing that rules or policies name holds an interface.
    pub(super) fn lacks_realm(&self, device: DeviceId, interface: InterfaceId) -> bool {
        let own = self.realm(device, interface);
        let name = &self.device(device).interfaces[interface.index()].name;
        let named = named(self.device(device));
        !named.iter().any(|n| own == Some(n) || *n == name)
    }

    /// Realms that nobody set, or that somebody mistyped, where rules and policies name others.
    pub(super) fn realms(&mut self, id: DeviceId, ingress: InterfaceId, egress: InterfaceId) {
        let device = self.device(id);
        let wanted = named(device);
        let known = |name: &str| {
            device.interfaces.iter().any(|i| i.realm.as_deref() == Some(name) || i.name == name)
        };
        let (missing, used): (Vec<&str>, Vec<&str>) = wanted.iter().partition(|n| !known(n));
        self.mistyped_in_rules(id, &missing);
        // a name that rules use and no interface has is the likeliest; then those that are in use
        for interface in [ingress, egress] {
            let name = &device.interfaces[interface.index()].name;
            let at = At::device(id, device.interfaces[interface.index()].place);
            let own = self.realm(id, interface);
            let is_used = own.is_some_and(|own| wanted.contains(&own));
            let others = used.iter().filter(|_| !is_used);
            for candidate in missing.iter().chain(others) {
                let verdict = match own {
                    None => format!(
                        "interface {name} of {} has no realm: no rule concerns what passes it",
                        device.name
                    ),
                    Some(own) => format!(
                        "interface {name} of {} is in the realm {own}, and rules name {candidate}",
                        device.name
                    ),
                };
                let title = format!("put interface {name} into the realm {candidate}");
                let edit = set(Table::Interface(id, interface), "realm", *candidate);
                self.suspect(Cause::InterfaceWithoutRealm, at, verdict, title, vec![edit]);
            }
        }
        if self.lacks_realm(id, ingress) && self.lacks_realm(id, egress) {
            self.both_without_realm(id, ingress, egress);
        }
    }

    /// Neither side has a realm that a rule names: both get those of a rule, at once.
    fn both_without_realm(&mut self, id: DeviceId, ingress: InterfaceId, egress: InterfaceId) {
        let device = self.device(id);
        let mut pairs: Vec<(&str, &str)> = Vec::new();
        for rule in device.rules.iter().filter(|r| r.enabled) {
            let ([from], [into]) = (&rule.from.names[..], &rule.into.names[..]) else { continue };
            // what comes from outside enters by the side that rules lead out by
            let pair = match self.is_internet(device.interfaces[ingress.index()].segment) {
                true => (into.value.as_str(), from.value.as_str()),
                false => (from.value.as_str(), into.value.as_str()),
            };
            if !pairs.contains(&pair) {
                pairs.push(pair);
            }
        }
        let (x, y) = (&device.interfaces[ingress.index()], &device.interfaces[egress.index()]);
        for (a, b) in pairs {
            let verdict = format!(
                "interfaces {} and {} of {} have no realm: no rule concerns what passes between \
                 them",
                x.name, y.name, device.name
            );
            let title =
                format!("put interface {} into the realm {a}, and {} into {b}", x.name, y.name);
            let edits = vec![
                set(Table::Interface(id, ingress), "realm", a),
                set(Table::Interface(id, egress), "realm", b),
            ];
            let at = At::device(id, x.place);
            self.suspect(Cause::InterfaceWithoutRealm, at, verdict, title, edits);
        }
    }

    /// Names that one rule or entry alone uses and no interface has: a slip there.
    fn mistyped_in_rules(&mut self, id: DeviceId, missing: &[&str]) {
        let device = self.device(id);
        let mut realms: Vec<&str> =
            device.interfaces.iter().filter_map(|i| i.realm.as_deref()).collect();
        realms.sort_unstable();
        realms.dedup();
        for naming in self.namings(id).into_iter().filter(|n| missing.contains(&n.name.as_str())) {
            let near = |r: &&&str| strsim::damerau_levenshtein(r, &naming.name) <= SLIP;
            let meant = realms.iter().filter(near).chain(realms.iter().filter(|r| !near(r)));
            for realm in meant {
                let verdict = format!(
                    "{} names the realm {}, which no interface of {} has",
                    naming.whose, naming.name, device.name
                );
                let title = format!("let {} name {realm} instead", naming.whose);
                let (key, old) = (naming.key.to_owned(), naming.name.clone());
                let edit = Edit::Replace(naming.table, key, old, (*realm).to_owned());
                self.suspect(Cause::RealmWithoutInterface, naming.at, verdict, title, vec![edit]);
            }
        }
    }

    /// Every name of a realm that a rule or policy entry writes.
    fn namings(&self, id: DeviceId) -> Vec<Naming> {
        let device = self.device(id);
        let mut list = Vec::new();
        let mut note = |table, key, set: &RealmSet, whose: &str, at: At| {
            // what is left out is not written anywhere
            for name in set.names.iter().filter(|n| Some(n.place) != at.place) {
                let (name, whose) = (name.value.clone(), whose.to_owned());
                list.push(Naming { table, key, name, whose, at });
            }
        };
        for (i, rule) in device.rules.iter().enumerate().filter(|(_, r)| r.enabled) {
            let rule_id = zarnet_core::plan::RuleId(i as u16);
            let (table, at) = (Table::Rule(id, rule_id), self.at_rule(id, rule_id));
            let whose = format!("rule {}", rule.name);
            for (key, set) in [("from", &rule.from), ("into", &rule.into)] {
                note(table, key, set, &whose, at);
            }
        }
        for (i, entry) in device.policies.iter().enumerate() {
            let (table, at) = (Table::Policy(id, i), At::device(id, entry.place));
            let whose = format!("policy entry {}", i + 1);
            for (key, set) in [("from", &entry.from), ("into", &entry.into)] {
                if let Some(set) = set {
                    note(table, key, set, &whose, at);
                }
            }
        }
        list
    }

    /// Inside is called external, and outside internal.
    pub(super) fn realms_swapped(
        &mut self,
        id: DeviceId,
        ingress: InterfaceId,
        egress: InterfaceId,
    ) {
        let device = self.device(id);
        let (Some(a), Some(b)) = (self.realm(id, ingress), self.realm(id, egress)) else { return };
        let swapped = device.rules.iter().any(|r| {
            r.enabled && r.from.interfaces.contains(egress) && r.into.interfaces.contains(ingress)
        });
        let (x, y) = (&device.interfaces[ingress.index()], &device.interfaces[egress.index()]);
        // the internet is outside already: nobody swapped anything
        let is_right = self.is_internet(x.segment) && !self.is_internet(y.segment);
        if !swapped || a == b || is_right {
            return;
        }
        let verdict =
            format!("{} is in the realm {a} and {} in {b}: the wrong way round", x.name, y.name);
        let title = format!("swap the realms of {} and {}", x.name, y.name);
        let edits = vec![
            set(Table::Interface(id, ingress), "realm", b),
            set(Table::Interface(id, egress), "realm", a),
        ];
        self.suspect(Cause::RealmsSwapped, At::device(id, x.place), verdict, title, edits);
    }

    /// A rule that would match, were it not for the realms or the direction that it names.
    pub(super) fn out_of_scope(
        &mut self,
        miss: &NearMiss,
        (ingress, egress): (InterfaceId, InterfaceId),
    ) {
        let (id, rule) = (miss.device, self.rule(miss.device, miss.rule));
        let (table, at) = (Table::Rule(id, miss.rule), self.at_rule(id, miss.rule));
        let side = |i: InterfaceId| self.device(id).interfaces[i.index()].side();
        let mut edits = Vec::new();
        let mut parts = Vec::new();
        for condition in &miss.unmet {
            let (key, realm, written) = match condition {
                Condition::From => ("from", side(ingress), &rule.from),
                Condition::Into => ("into", side(egress), &rule.into),
                Condition::Direction => {
                    let one_way = match &rule.kind {
                        RuleKind::Static(s) if s.direction == Direction::Inbound => "inbound",
                        _ => "outbound",
                    };
                    parts.push(format!("{one_way} only"));
                    edits.push(Edit::Unset(table, "direction".to_owned()));
                    continue;
                }
                Condition::Enabled
                | Condition::Source
                | Condition::Destination
                | Condition::Service => return,
            };
            let names: Vec<&str> = written.names.iter().map(|n| n.value.as_str()).collect();
            parts.push(format!("`{key}` {}", names.join(", ")));
            edits.push(set(table, key, realm));
        }
        if edits.is_empty() {
            return;
        }
        let verdict = format!("rule {} would match, and is {}", rule.name, parts.join(" and "));
        // the key that was written by mistake is taken out where the default would do
        let unset: Option<Vec<Edit>> = edits
            .iter()
            .map(|e| match e {
                Edit::Set(table, key, _) => Some(Edit::Unset(*table, key.clone())),
                _ => None,
            })
            .collect();
        let title = format!("let rule {} be for the realms of this packet", rule.name);
        self.suspect(Cause::RuleScope, at, verdict.clone(), title, edits);
        if let Some(unset) = unset {
            let title = format!("let rule {} be for the usual realms", rule.name);
            self.suspect(Cause::RuleScope, at, verdict, title, unset);
        }
    }

    /// A policy entry that would accept the packet between other realms.
    pub(super) fn entry_of_other_realms(
        &mut self,
        (id, ingress, egress): (DeviceId, InterfaceId, InterfaceId),
        is_for: impl Fn(&Policy) -> bool,
    ) {
        let device = self.device(id);
        let side = |i: InterfaceId| device.interfaces[i.index()].side();
        let found: Vec<usize> = device
            .policies
            .iter()
            .enumerate()
            .filter(|(_, p)| p.verdict == Verdict::Accept && is_for(p))
            .filter(|(_, p)| {
                let holds = |set: &Option<RealmSet>, i| {
                    set.as_ref().is_none_or(|s| s.interfaces.contains(i))
                };
                holds(&p.from, ingress) != holds(&p.into, egress)
            })
            .map(|(i, _)| i)
            .collect();
        for i in found {
            let entry = &device.policies[i];
            let is_from = entry.from.as_ref().is_some_and(|s| !s.interfaces.contains(ingress));
            let (key, realm) =
                if is_from { ("from", side(ingress)) } else { ("into", side(egress)) };
            let verdict = format!(
                "policy entry {} of {} would accept it, and its `{key}` is another realm",
                i + 1,
                device.name
            );
            let title = format!("let policy entry {} of {} be {key} {realm}", i + 1, device.name);
            let edit = set(Table::Policy(id, i), key, realm);
            let at = At::device(id, entry.place);
            self.suspect(Cause::PolicyMissing, at, verdict, title, vec![edit]);
        }
    }
}

/// Every realm, or interface, that enabled rules and policy entries name, in order.
fn named(device: &DevicePlan) -> Vec<&str> {
    let rules = device.rules.iter().filter(|r| r.enabled).flat_map(|r| [&r.from, &r.into]);
    let sets = rules.chain(device.policies.iter().flat_map(|p| p.from.iter().chain(&p.into)));
    let mut names: Vec<&str> =
        sets.flat_map(|z| z.names.iter().map(|n| n.value.as_str())).collect();
    names.sort_unstable();
    names.dedup();
    names
}
