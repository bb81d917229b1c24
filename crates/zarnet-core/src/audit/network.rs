//! Findings on the network around the devices: gateways, next hops, prefixes, ways that go round in circles.

use std::collections::HashMap;
use std::net::IpAddr;

use super::{Finding, finding};
use crate::net::Prefix;
use crate::plan::{Device, Interface, Place, Plan, RuleKind, SegmentId};

/// Who has an address on a segment that is not the internet.
#[derive(Clone, Copy)]
enum Holder {
    Device(usize),
    Host,
}

type Holders = HashMap<(SegmentId, IpAddr), Holder>;

pub(super) fn find(plan: &Plan, findings: &mut Vec<Finding>) {
    let mut holders: Holders = plan.hosts.iter().map(|h| ((h.segment, h.address), Holder::Host)).collect();
    for (d, device) in plan.devices.iter().enumerate() {
        for interface in &device.interfaces {
            let own = interface.own();
            holders.extend(own.map(|a| ((interface.segment, a), Holder::Device(d))));
        }
    }
    hosts(plan, &holders, findings);
    next_hops(plan, &holders, findings);
    overlaps(plan, findings);
    circles(plan, &holders, findings);
}

fn is_internet(plan: &Plan, segment: SegmentId) -> bool {
    plan.segments[segment.index()].internet
}

fn hosts(plan: &Plan, holders: &Holders, findings: &mut Vec<Finding>) {
    for host in plan.hosts.iter().filter(|h| !is_internet(plan, h.segment)) {
        let Some(gateway) = host.gateway else {
            if is_reached_as_neighbour(plan, host.address) {
                continue;
            }
            let message = format!("host `{}` has no gateway: it answers nobody beyond {}", host.name, host.prefix);
            let help = "give it a `gateway`, or translate the sources of what is to reach it (`as`)".to_owned();
            findings.push(finding("host-without-gateway", message, vec![host.place], help));
            continue;
        };
        if !host.prefix.contains(gateway) {
            let message =
                format!("the gateway {gateway} of host `{}` lies outside of its prefix {}", host.name, host.prefix);
            let help = "correct the gateway, or the prefix length of the address".to_owned();
            findings.push(finding("gateway-outside-prefix", message, vec![host.place], help));
        }
        if !matches!(holders.get(&(host.segment, gateway)), Some(Holder::Device(_)))
            && !is_proxied(plan, host.segment, gateway)
        {
            let message = format!("no device has the gateway {gateway} of host `{}` on its segment", host.name);
            let near = plan.devices.iter().flat_map(|d| &d.interfaces).filter(|i| i.segment == host.segment);
            let near: Vec<String> = near.flat_map(|i| i.addresses.iter().map(|a| a.0.to_string())).collect();
            let help = (!near.is_empty()).then(|| format!("devices there have {}", near.join(", ")));
            findings.push(finding("gateway-not-held", message, vec![host.place], help));
        }
    }
}

/// Whether a rule translates the senders of what it leads to a host, so that the host answers on its own link.
fn is_reached_as_neighbour(plan: &Plan, host: IpAddr) -> bool {
    plan.devices.iter().flat_map(|d| &d.rules).filter(|r| r.enabled).any(|r| match &r.kind {
        RuleKind::Forward(f) => f.translate_as.is_some() && f.servers.iter().any(|s| s.address == host),
        RuleKind::Static(s) => s.translate_as.is_some() && s.internal.contains(host),
        _ => false,
    })
}

fn is_proxied(plan: &Plan, segment: SegmentId, address: IpAddr) -> bool {
    let mut interfaces = plan.devices.iter().flat_map(|d| &d.interfaces).filter(|i| i.segment == segment);
    interfaces.any(|i| i.proxy_arp.contains(address))
}

fn next_hops(plan: &Plan, holders: &Holders, findings: &mut Vec<Finding>) {
    for device in &plan.devices {
        for route in &device.routes {
            let segment = device.interfaces[route.interface.index()].segment;
            let held = is_internet(plan, segment) || holders.contains_key(&(segment, route.via));
            if !held && !is_proxied(plan, segment, route.via) {
                let message =
                    format!("the route of `{}` to {} leads nowhere: nobody has {}", device.name, route.to, route.via);
                let help = "correct `via`, or declare who has it".to_owned();
                findings.push(finding("next-hop-not-held", message, vec![route.place], help));
            }
        }
    }
}

/// Prefixes of two segments that overlap without being equal: whoever is in both is reached on the narrower one only.
fn overlaps(plan: &Plan, findings: &mut Vec<Finding>) {
    for device in &plan.devices {
        let mut all: Vec<(Prefix, &Interface)> =
            device.interfaces.iter().flat_map(|i| i.addresses.iter().map(move |a| (a.1, i))).collect();
        all.sort_by_key(|(p, _)| (p.first(), p.length()));
        // sorted so, a prefix that holds another comes before it, with nothing but others that it holds in between
        let mut open: Vec<(Prefix, &Interface)> = Vec::new();
        for (prefix, interface) in all {
            open.retain(|(p, _)| p.contains(prefix.first()));
            let wider = open.iter().rev().find(|(p, i)| *p != prefix && i.segment != interface.segment);
            if let Some((other, wide)) = wider {
                let message = format!(
                    "{prefix} of interface `{}` lies inside {other} of `{}`: whoever has such an address behind `{}` is out of reach",
                    interface.name, wide.name, wide.name
                );
                let help = "make one of the prefixes narrower".to_owned();
                findings.push(finding("prefixes-overlap", message, vec![interface.place, wide.place], help));
            }
            open.push((prefix, interface));
        }
    }
}

/// Routes that come back to where they began.
fn circles(plan: &Plan, holders: &Holders, findings: &mut Vec<Finding>) {
    let mut told: Vec<(usize, Prefix)> = Vec::new();
    for (d, device) in plan.devices.iter().enumerate() {
        for route in &device.routes {
            let Some(target) = outside(route.to, device) else { continue };
            let mut passed = vec![(d, route.place)];
            let mut here = d;
            while let Some((next, place)) = step(plan, holders, here, target) {
                if let Some(first) = passed.iter().position(|p| p.0 == next) {
                    let circle = &passed[first..];
                    let lowest = circle.iter().map(|p| p.0).min().unwrap_or(next);
                    if !told.contains(&(lowest, route.to)) {
                        told.push((lowest, route.to));
                        findings.push(circle_of(plan, route.to, circle));
                    }
                    break;
                }
                passed.push((next, place));
                here = next;
            }
        }
    }
}

fn circle_of(plan: &Plan, to: Prefix, circle: &[(usize, Place)]) -> Finding {
    let names: Vec<&str> = circle.iter().map(|c| plan.devices[c.0].name.as_str()).collect();
    let message = format!("packets to {to} go round in circles: {} and back", names.join(", "));
    let help = "let one of the routes lead out of the circle".to_owned();
    finding("route-circle", message, circle.iter().map(|c| c.1).collect(), help)
}

/// An address that only this route of the device is for, and no prefix of its own.
fn outside(to: Prefix, device: &Device) -> Option<IpAddr> {
    let candidates = [to.last(), to.first()];
    let narrower = |a: IpAddr| {
        device.routes.iter().any(|r| r.to.length() > to.length() && r.to.contains(a))
            || device.interfaces.iter().flat_map(|i| &i.addresses).any(|p| p.1.contains(a))
    };
    candidates.into_iter().find(|a| !narrower(*a))
}

/// The device that a device sends packets for an address to, by which route.
fn step(plan: &Plan, holders: &Holders, device: usize, to: IpAddr) -> Option<(usize, Place)> {
    let device = &plan.devices[device];
    let connected = device.interfaces.iter().flat_map(|i| &i.addresses).any(|a| a.1.contains(to));
    let route = device.routes.iter().filter(|r| r.to.contains(to)).max_by_key(|r| r.to.length())?;
    let segment = device.interfaces[route.interface.index()].segment;
    if connected || is_internet(plan, segment) {
        return None;
    }
    match holders.get(&(segment, route.via)) {
        Some(Holder::Device(next)) => {
            let next_route =
                plan.devices[*next].routes.iter().filter(|r| r.to.contains(to)).max_by_key(|r| r.to.length());
            Some((*next, next_route.map_or(route.place, |r| r.place)))
        }
        _ => None,
    }
}
