//! Findings on rules, filters and policies: names that come to nothing, rules that hide others.

use std::collections::HashSet;

use super::first_listed::FirstListed;
use super::{Finding, finding, realm_names};
use zarnet_core::plan::{
    DevicePlan, Direction, Interface, RealmSet, Rule, RuleKind, RuleOrder, nearest,
};

pub(super) fn find(device: &DevicePlan, findings: &mut Vec<Finding>) {
    let known = realm_names(device);
    let mut realm_sets: Vec<(&RealmSet, String)> = Vec::new();
    for rule in device.rules.iter().filter(|r| r.enabled) {
        let what = || format!("rule `{}`", rule.name);
        realm_sets.extend([&rule.from, &rule.into, &rule.hairpin].map(|z| (z, what())));
    }
    for policy in &device.policies {
        let realm_set = |z| (z, format!("a policy entry of `{}`", device.name));
        realm_sets.extend(policy.from.iter().chain(&policy.into).map(realm_set));
    }
    for (realm_set, what) in realm_sets {
        for name in realm_set.names.iter().filter(|n| !known.contains(&n.value.as_str())) {
            let message = format!(
                "{what} matches nothing: no interface of `{}` has the realm `{}`",
                device.name, name.value
            );
            let near =
                nearest(&name.value, known.iter().copied()).map(|n| format!("did you mean `{n}`?"));
            let listed = || format!("realms and interfaces of the device: {}", known.join(", "));
            findings.push(finding(
                "realm-without-interface",
                message,
                vec![name.place],
                near.or_else(|| Some(listed())),
            ));
        }
    }
    unattached(device, findings);
    hidden_statics(device, findings);
    let named: HashSet<&str> = named_zones(device).collect();
    once(device, &named, findings);
    without_realm(device, &named, findings);
}

/// Interfaces that rules and policy entries cannot concern, told at once. A device without any has
/// no use for realms.
fn without_realm(device: &DevicePlan, named: &HashSet<&str>, findings: &mut Vec<Finding>) {
    if device.rules.is_empty() && device.policies.is_empty() {
        return;
    }
    let lost = |i: &&Interface| i.realm.is_none() && !named.contains(i.name.as_str());
    let all: Vec<&Interface> = device.interfaces.iter().filter(lost).collect();
    let names: Vec<String> = all.iter().map(|i| format!("`{}`", i.name)).collect();
    let message = match &names[..] {
        [] => return,
        [one] => format!(
            "interface {one} has no realm: no rule concerns what comes in or goes out by it"
        ),
        several => format!(
            "interfaces {} have no realm: no rule concerns what comes in or goes out by them",
            several.join(", ")
        ),
    };
    let help = "give it a `realm`, such as \"internal\" or \"external\"".to_owned();
    let places = all.iter().map(|i| i.place).collect();
    findings.push(finding("interface-without-realm", message, places, help));
}

/// What rules, policy entries and routes of a device name: realms and interfaces, those by default
/// included.
fn named_zones(device: &DevicePlan) -> impl Iterator<Item = &str> {
    let rules = device.rules.iter().flat_map(|r| [&r.from, &r.into, &r.hairpin]);
    let policies = device.policies.iter().flat_map(|p| p.from.iter().chain(&p.into));
    let routes = device.routes.iter().filter_map(|r| r.condition.as_ref()?.from.as_ref());
    rules
        .chain(policies)
        .chain(routes)
        .flat_map(|realm_set| &realm_set.names)
        .map(|name| name.value.as_str())
}

/// A realm that one interface has and nothing else names: likely a slip, or a realm that nothing is
/// for.
fn once(device: &DevicePlan, named: &HashSet<&str>, findings: &mut Vec<Finding>) {
    if device.rules.is_empty() && device.policies.is_empty() {
        return;
    }
    let realms = || device.interfaces.iter().filter_map(|i| i.realm.as_deref());
    for interface in &device.interfaces {
        let Some(realm) = interface.realm.as_deref() else { continue };
        let itself = named.contains(interface.name.as_str());
        if named.contains(realm) || itself || realms().filter(|r| *r == realm).count() > 1 {
            continue;
        }
        let message = format!(
            "realm `{realm}` of interface `{}` is named by no rule and no policy entry of `{}`",
            interface.name, device.name
        );
        let near = nearest(realm, named.iter().copied()).map(|n| format!("did you mean `{n}`?"));
        let help = near.unwrap_or_else(|| {
            "name it in a rule or policy entry, if one is meant for it".to_owned()
        });
        findings.push(finding("realm-used-once", message, vec![interface.place], help));
    }
}

fn unattached(device: &DevicePlan, findings: &mut Vec<Finding>) {
    for (i, acl) in device.acls.iter().enumerate() {
        let mut attached =
            device.interfaces.iter().flat_map(|f| [f.ingress_acl, f.egress_acl]).flatten();
        if !attached.any(|a| a.index() == i) {
            let message =
                format!("filter `{}` is attached to no interface: it does nothing", acl.name);
            let help = format!(
                "attach it with `ingress-acl = \"{0}\"` or `egress-acl = \"{0}\"`, or take it out",
                acl.name
            );
            findings.push(finding("filter-not-attached", message, vec![acl.place], help));
        }
    }
}

/// In listed order, a static below an overload that matches its internal end too loses outbound and
/// wins inbound.
fn hidden_statics(device: &DevicePlan, findings: &mut Vec<Finding>) {
    if device.behaviour.rule_order != RuleOrder::Listed {
        return;
    }
    // sources of the rules above that could hide a static, by the interfaces that they are for
    let mut above: Vec<(&Rule, FirstListed)> = Vec::new();
    for (i, rule) in device.rules.iter().enumerate().filter(|(_, r)| r.enabled) {
        let whole = rule.service.is_any() && rule.parties.destination.is_all();
        match &rule.kind {
            RuleKind::Overload { .. } | RuleKind::Pool { .. } if whole => {
                let alike = |(other, _): &&mut (&Rule, FirstListed)| {
                    (&other.from.interfaces, &other.into.interfaces)
                        == (&rule.from.interfaces, &rule.into.interfaces)
                };
                match above.iter_mut().find(alike) {
                    Some((_, listed)) => listed.push(&rule.parties.source, i),
                    None => {
                        let mut listed = FirstListed::default();
                        listed.push(&rule.parties.source, i);
                        above.push((rule, listed));
                    }
                }
            }
            RuleKind::Static(s) if s.direction != Direction::Inbound => {
                let concerned = above.iter().filter(|(other, _)| {
                    other.from.interfaces.intersects(&rule.from.interfaces)
                        && other.into.interfaces.intersects(&rule.into.interfaces)
                });
                let internal = s.internal.into();
                let first = concerned.filter_map(|(_, listed)| listed.first(&internal)).min();
                findings.extend(first.map(|first| hidden(rule, &device.rules[first])));
            }
            RuleKind::Static(_)
            | RuleKind::Exempt
            | RuleKind::Pool { .. }
            | RuleKind::Overload { .. }
            | RuleKind::Forward(_) => {}
        }
    }
}

fn hidden(rule: &Rule, above: &Rule) -> Finding {
    let message = format!(
        "rule `{}` is listed below `{}`, which matches its internal end first: it works inbound \
         only",
        rule.name, above.name
    );
    let help = format!("list it above `{}`, or set `rule-order = \"fixed-first\"`", above.name);
    finding("static-below-overload", message, vec![rule.place, above.place], help)
}
