//! Findings on pools and external addresses: what can be handed out, and whether anybody answers
//! for it.

use std::net::IpAddr;
use std::sync::Arc;

use super::{Finding, finding};
use zarnet_core::net::{AddressRange, AddressSet};
use zarnet_core::plan::{DevicePlan, Plan, Rule, RuleKind, Target};

pub(super) fn find(
    plan: &Plan,
    device: &DevicePlan,
    taken: &Arc<AddressSet>,
    sizes: &[Option<u32>],
    findings: &mut Vec<Finding>,
) {
    pools(device, taken, sizes, findings);
    let is_static = |r: &Rule| matches!(r.kind, RuleKind::Static(_));
    let binds = |r: &Rule| device.external_end(r).filter(|_| is_static(r) && r.service.is_any());
    let bound: AddressSet = device.rules.iter().filter_map(binds).collect();
    for rule in device.rules.iter().filter(|r| r.enabled) {
        let RuleKind::Overload { target, .. } = &rule.kind else { continue };
        let address = match target {
            Target::Interface(i) => device.interfaces[i.index()].primary(),
            Target::Address(address) => Some(*address),
            Target::Pool(_) => None,
        };
        let Some(address) = address.filter(|a| bound.contains(*a)) else { continue };
        let whole = device.rules.iter().find(|r| binds(r).is_some_and(|e| e.contains(address)));
        if let Some(whole) = whole {
            let message = format!(
                "rule `{}` has no port to hand out: `{}` binds all of {address}",
                rule.name, whole.name
            );
            let help = "bind another address, or limit the static to its `service`".to_owned();
            findings.push(finding(
                "overload-without-ports",
                message,
                vec![rule.place, whole.place],
                help,
            ));
        }
    }
    unheld(plan, device, findings);
}

fn pools(
    device: &DevicePlan,
    taken: &Arc<AddressSet>,
    sizes: &[Option<u32>],
    findings: &mut Vec<Finding>,
) {
    let is_static = |r: &&Rule| matches!(r.kind, RuleKind::Static(_));
    let first_end = |r: &Rule| device.external_end(r).map(AddressRange::first);
    let mut statics: Vec<IpAddr> =
        device.rules.iter().filter(is_static).filter_map(first_end).collect();
    statics.sort_unstable();
    for (pool, usable) in device.pools.iter().zip(sizes) {
        let Some(usable) = *usable else { continue };
        let listed = pool.listed();
        if usable == 0 {
            let message = format!("pool `{}` has no address to hand out", pool.name);
            let help =
                "list addresses that no interface, host, next hop or static rule has".to_owned();
            findings.push(finding("pool-empty", message, vec![pool.place], help));
            continue;
        }
        let mut over: Vec<IpAddr> = Vec::new();
        for range in listed.ranges().flat_map(|part| taken.overlapping(part)) {
            over.extend(
                (0..range.count().min(8))
                    .filter_map(|n| range.nth(n))
                    .filter(|a| listed.contains(*a)),
            );
        }
        for range in listed.ranges() {
            let from = statics.partition_point(|a| *a < range.first());
            over.extend(statics[from..].iter().take_while(|a| range.contains(**a)));
        }
        over.sort_unstable();
        over.dedup();
        if !over.is_empty() {
            let names: Vec<String> = over.iter().take(4).map(IpAddr::to_string).collect();
            let message = format!(
                "pool `{}` lists {}, which an interface, host, next hop or static rule has: never \
                 handed out",
                pool.name,
                names.join(", ")
            );
            findings.push(finding(
                "pool-over-taken-addresses",
                message,
                vec![pool.place],
                "leave them out of the pool".to_owned(),
            ));
        }
        let lost = listed.count().saturating_sub(usable.into());
        if lost > over.len() as u128 {
            let message = format!(
                "pool `{}` lists {} addresses and can hand out {usable}",
                pool.name,
                listed.count()
            );
            let help =
                "a prefix loses its network and broadcast address; `usable = \"all\"` hands them \
                 out too"
                    .to_owned();
            findings.push(finding("pool-loses-addresses", message, vec![pool.place], help));
        }
    }
}

/// External addresses that nobody would answer for, and that are routed nowhere.
fn unheld(plan: &Plan, device: &DevicePlan, findings: &mut Vec<Finding>) {
    let mut held = AddressSet::default();
    for interface in &device.interfaces {
        let own = interface.own();
        own.for_each(|a| held.insert(AddressRange::one(a)));
        held.extend(&interface.proxy_arp);
        if device.behaviour.answers_arp_for_translated {
            interface.addresses.iter().for_each(|a| held.insert(a.1.range()));
        }
    }
    plan.segments.iter().flat_map(|s| &s.routed).for_each(|r| held.insert(r.to.range()));
    for rule in device.rules.iter().filter(|r| r.enabled) {
        let ends: AddressSet = match rule.kind.target() {
            // its own address it answers for
            Some(Target::Interface(_)) => AddressSet::default(),
            Some(target) => device.listed_by(target),
            None => device.external_end(rule).into_iter().collect(),
        };
        let mut missing = held.missing(&ends);
        let sent = missing.ranges().filter(|r| is_sent_here(plan, device, *r)).collect::<Vec<_>>();
        sent.into_iter().for_each(|r| missing.remove(r));
        if let Some(range) = missing.ranges().next() {
            let message = format!(
                "no host or device answers for {range}, which rule `{}` translates to: answers \
                 never come back",
                rule.name
            );
            let help = "hold it with `also` or `proxy-arp` on the external interface, or have it \
                 `routed` to the device"
                .to_owned();
            findings.push(finding("external-address-not-held", message, vec![rule.place], help));
        }
    }
}

/// Whether neighbours send what is for a range to the device of their own accord: hosts that have
/// it as their gateway, or a device with a route.
fn is_sent_here(plan: &Plan, device: &DevicePlan, range: AddressRange) -> bool {
    device.interfaces.iter().filter(|i| !plan.segments[i.segment.index()].internet).any(|i| {
        let own: Vec<IpAddr> = i.own().collect();
        let mut hosts = plan.hosts.iter().filter(|h| h.segment == i.segment);
        let mut routes = plan.devices.iter().flat_map(|d| &d.routes);
        hosts.any(|h| {
            h.gateway.is_some_and(|g| own.contains(&g)) && !h.prefix.contains(range.first())
        }) || routes.any(|r| own.contains(&r.via) && r.to.range().contains(range.first()))
    })
}

/// Routed addresses that no rule uses loop between the provider and the device.
pub(super) fn routed(plan: &Plan, findings: &mut Vec<Finding>) {
    let mut used = AddressSet::default();
    for device in &plan.devices {
        device.pools.iter().for_each(|p| used.extend(&p.listed()));
        device.interfaces.iter().flat_map(|i| &i.addresses).for_each(|a| used.insert(a.1.range()));
        for rule in &device.rules {
            used.extend(&device.external_end(rule).into_iter().collect());
            rule.kind
                .target()
                .into_iter()
                .for_each(|target| used.extend(&device.listed_by(target)));
        }
    }
    for routed in plan.segments.iter().flat_map(|s| &s.routed) {
        let unused = used.missing(&routed.to.range().into());
        if !unused.is_empty() && unused.count() < routed.to.range().count() {
            continue; // part of the block is in use: the rest is spare
        }
        if !unused.is_empty() {
            let message = format!(
                "{} is routed to {}, and no rule uses any of it: packets to it go round in circles",
                routed.to, routed.via
            );
            let help = "use it in a rule, or drop it with a route of the device".to_owned();
            findings.push(finding("routed-address-unused", message, vec![routed.place], help));
        }
    }
}
