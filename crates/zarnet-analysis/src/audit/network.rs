//! Findings on the network around the devices: gateways, next hops, prefixes, ways that go round in
//! circles.

use std::collections::{HashMap, HashSet};
use std::net::IpAddr;

use super::{Finding, finding};
use zarnet_core::net::{AddressRange, AddressSet, Prefix, PrefixMap};
use zarnet_core::plan::{DevicePlan, Interface, Place, Plan, Rule, RuleKind, SegmentId};

/// Who has an address on a segment that is not the internet.
#[derive(Clone, Copy)]
enum Holder {
    Device(usize),
    Host,
}

type Holders = HashMap<(SegmentId, IpAddr), Holder>;

pub(super) fn find(plan: &Plan, findings: &mut Vec<Finding>) {
    let mut holders: Holders =
        plan.hosts.iter().map(|h| ((h.segment, h.address), Holder::Host)).collect();
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
    let (reached, proxied, beside) = (reached_as_neighbours(plan), proxied(plan), beside(plan));
    for host in plan.hosts.iter().filter(|h| !is_internet(plan, h.segment)) {
        let Some(gateway) = host.gateway else {
            if reached.contains(host.address) {
                continue;
            }
            let message = format!(
                "host `{}` has no gateway: it cannot answer beyond {}",
                host.name, host.prefix
            );
            let help =
                "give it a `gateway`, or translate the sources of its clients (`as`)".to_owned();
            findings.push(finding("host-without-gateway", message, vec![host.place], help));
            continue;
        };
        if !host.prefix.contains(gateway) {
            let message = format!(
                "the gateway {gateway} of host `{}` lies outside of its prefix {}",
                host.name, host.prefix
            );
            let help = "correct the gateway, or the prefix length of the address".to_owned();
            findings.push(finding("gateway-outside-prefix", message, vec![host.place], help));
        }
        if !matches!(holders.get(&(host.segment, gateway)), Some(Holder::Device(_)))
            && !proxied.get(&host.segment).is_some_and(|p| p.contains(gateway))
        {
            let message = format!(
                "no device has the gateway {gateway} of host `{}` on its segment",
                host.name
            );
            let near = beside.get(&host.segment).map(|near| near.join(", "));
            let help = near.map(|near| format!("devices there have {near}"));
            findings.push(finding("gateway-not-held", message, vec![host.place], help));
        }
    }
}

/// Internal ends of rules that translate the senders of what they lead in: a host there answers on
/// its own link.
fn reached_as_neighbours(plan: &Plan) -> AddressSet {
    let rules = plan.devices.iter().flat_map(|d| &d.rules).filter(|r| r.enabled);
    let ends = |rule: &Rule| -> Vec<AddressRange> {
        match &rule.kind {
            RuleKind::Forward(f) if f.translate_as.is_some() => {
                f.servers.iter().map(|s| AddressRange::one(s.address)).collect()
            }
            RuleKind::Static(s) if s.translate_as.is_some() => vec![s.internal],
            RuleKind::Exempt
            | RuleKind::Static(_)
            | RuleKind::Pool { .. }
            | RuleKind::Overload { .. }
            | RuleKind::Forward(_) => Vec::new(),
        }
    };
    rules.flat_map(ends).collect()
}

/// Addresses that interfaces on a segment answer for without having them.
fn proxied(plan: &Plan) -> HashMap<SegmentId, AddressSet> {
    let mut proxied: HashMap<SegmentId, AddressSet> = HashMap::new();
    for interface in plan.devices.iter().flat_map(|d| &d.interfaces) {
        proxied.entry(interface.segment).or_default().extend(&interface.proxy_arp);
    }
    proxied
}

/// A few addresses of devices on each segment.
fn beside(plan: &Plan) -> HashMap<SegmentId, Vec<String>> {
    let mut beside: HashMap<SegmentId, Vec<String>> = HashMap::new();
    for interface in plan.devices.iter().flat_map(|d| &d.interfaces) {
        let near = beside.entry(interface.segment).or_default();
        near.extend(
            interface
                .addresses
                .iter()
                .take(8_usize.saturating_sub(near.len()))
                .map(|a| a.0.to_string()),
        );
    }
    beside.retain(|_, near| !near.is_empty());
    beside
}

fn next_hops(plan: &Plan, holders: &Holders, findings: &mut Vec<Finding>) {
    let proxied = proxied(plan);
    for device in &plan.devices {
        for route in &device.routes {
            let segment = device.interfaces[route.interface.index()].segment;
            let held = is_internet(plan, segment) || holders.contains_key(&(segment, route.via));
            if !held && !proxied.get(&segment).is_some_and(|p| p.contains(route.via)) {
                let message = format!(
                    "the route of `{}` to {} leads nowhere: no host or device has {}",
                    device.name, route.to, route.via
                );
                let help = "correct `via`, or declare who has it".to_owned();
                findings.push(finding("next-hop-not-held", message, vec![route.place], help));
            }
        }
    }
}

/// Prefixes of two segments that overlap without being equal: whoever is in both is reached on the
/// narrower one only.
fn overlaps(plan: &Plan, findings: &mut Vec<Finding>) {
    for device in &plan.devices {
        let mut all: Vec<(Prefix, &Interface)> = device
            .interfaces
            .iter()
            .flat_map(|i| i.addresses.iter().map(move |a| (a.1, i)))
            .collect();
        all.sort_by_key(|(p, _)| (p.first(), p.length()));
        // sorted so, a prefix that holds another comes before it, with nothing but others that it
        // holds in between
        let mut open: Vec<(Prefix, &Interface)> = Vec::new();
        for (prefix, interface) in all {
            open.retain(|(p, _)| p.contains(prefix.first()));
            let wider =
                open.iter().rev().find(|(p, i)| *p != prefix && i.segment != interface.segment);
            if let Some((other, wide)) = wider {
                let message = format!(
                    "{prefix} of interface `{}` lies inside {other} of `{}`: hosts with such an \
                     address reached by `{}` are out of reach",
                    interface.name, wide.name, wide.name
                );
                let help = "make one of the prefixes narrower".to_owned();
                findings.push(finding(
                    "prefixes-overlap",
                    message,
                    vec![interface.place, wide.place],
                    help,
                ));
            }
            open.push((prefix, interface));
        }
    }
}

/// Routes that come back to where they began.
fn circles(plan: &Plan, holders: &Holders, findings: &mut Vec<Finding>) {
    let ways: Vec<Ways> = plan.devices.iter().map(|device| Ways::new(device)).collect();
    let mut told: HashSet<(usize, Prefix)> = HashSet::new();
    for (d, device) in plan.devices.iter().enumerate() {
        for route in device.routes.iter().filter(|r| r.condition.is_none()) {
            let Some(target) = ways[d].outside(route.to) else { continue };
            let mut passed = vec![(d, route.place)];
            let mut here = d;
            while let Some((next, place)) = step(plan, &ways, holders, here, target) {
                if let Some(first) = passed.iter().position(|p| p.0 == next) {
                    let circle = &passed[first..];
                    let lowest = circle.iter().map(|p| p.0).min().unwrap_or(next);
                    if told.insert((lowest, route.to)) {
                        findings.push(circle_of(plan, route.to, circle));
                    }
                    break;
                }
                passed.push((next, place));
                // a packet passes no more devices than this
                if passed.len() > MOST_HOPS {
                    break;
                }
                here = next;
            }
        }
    }
}

/// A packet that has passed so many devices is lost.
const MOST_HOPS: usize = 32;

/// The ways out of a device by prefix.
struct Ways {
    /// Length and position of each route that is for all packets.
    routes: PrefixMap<(u8, usize)>,
    connected: PrefixMap<()>,
}

impl Ways {
    fn new(device: &DevicePlan) -> Self {
        let (mut routes, mut connected) = (PrefixMap::default(), PrefixMap::default());
        let for_all = device.routes.iter().enumerate().filter(|(_, r)| r.condition.is_none());
        routes.extend(for_all.map(|(i, r)| (r.to, (r.to.length(), i))));
        connected.extend(device.interfaces.iter().flat_map(|i| &i.addresses).map(|a| (a.1, ())));
        Self { routes, connected }
    }

    /// The longest route to an address; of equals the first one listed.
    fn longest(&self, to: IpAddr) -> Option<(u8, usize)> {
        self.routes.longest(to).copied()
    }

    fn is_connected(&self, to: IpAddr) -> bool {
        self.connected.longest(to).is_some()
    }

    /// An address that only the routes of this prefix are for, and no prefix of the device's own.
    fn outside(&self, to: Prefix) -> Option<IpAddr> {
        let narrower =
            |a: IpAddr| self.longest(a).is_some_and(|l| l.0 > to.length()) || self.is_connected(a);
        [to.last(), to.first()].into_iter().find(|a| !narrower(*a))
    }
}

fn circle_of(plan: &Plan, to: Prefix, circle: &[(usize, Place)]) -> Finding {
    let names: Vec<&str> = circle.iter().map(|c| plan.devices[c.0].name.as_str()).collect();
    let message = format!("packets to {to} go round in circles: {} and back", names.join(", "));
    let help = "let one of the routes lead out of the circle".to_owned();
    finding("route-circle", message, circle.iter().map(|c| c.1).collect(), help)
}

/// The device that a device sends packets for an address to, by which route.
fn step(
    plan: &Plan,
    ways: &[Ways],
    holders: &Holders,
    device: usize,
    to: IpAddr,
) -> Option<(usize, Place)> {
    let (own, way) = (&plan.devices[device], &ways[device]);
    let route = &own.routes[way.longest(to)?.1];
    let segment = own.interfaces[route.interface.index()].segment;
    if way.is_connected(to) || is_internet(plan, segment) {
        return None;
    }
    match holders.get(&(segment, route.via)) {
        Some(Holder::Device(next)) => {
            let next_route = ways[*next].longest(to).map(|l| &plan.devices[*next].routes[l.1]);
            Some((*next, next_route.map_or(route.place, |r| r.place)))
        }
        _ => None,
    }
}
