//! What of a packet the plan of a network tells apart: addresses between two of those that stand in
//! it fare alike, and so do services.

use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

use crate::net::{AddressRange, AddressSet, IntervalMap, Protocol, Service, ServiceSet, Tuple};
use crate::network::world::special;
use crate::plan::{External, Plan, RuleKind, Target};

/// Which addresses, and which services, fare alike.
#[derive(Debug, Clone)]
pub(in crate::network) struct Classes {
    v4: IntervalMap<u32>,
    /// Where a class of IPv6 addresses begins.
    v6: Vec<u128>,
    /// Those classes, and before them that of the addresses below.
    v6_classes: Vec<u32>,
    services: IntervalMap<u32>,
}

/// Of a class of IPv6 addresses.
const V6: u32 = 1 << 31;

/// Of a class of addresses whose packets are told apart by their source port too.
const BY_SOURCE_PORT: u32 = 1 << 30;

/// The classes of a packet's source, destination and service.
pub(in crate::network) type Class = [u32; 3];

impl Classes {
    pub(super) fn new(plan: &Plan) -> Self {
        let (mut v4, mut v6) = (Vec::new(), Vec::new());
        for range in ranges(plan) {
            match (range.first(), range.last()) {
                (IpAddr::V4(a), IpAddr::V4(b)) => {
                    v4.extend([u64::from(a.to_bits()), u64::from(b.to_bits()) + 1]);
                }
                (a, b) => v6.extend([Some(bits(a)), bits(b).checked_add(1)].into_iter().flatten()),
            }
        }
        v6.sort_unstable();
        v6.dedup();
        let by_source_port = by_source_port(plan);
        let mark = |address| if by_source_port.contains(address) { BY_SOURCE_PORT } else { 0 };
        let v6_class = |(i, edge): (usize, &u128)| {
            V6 | i as u32 | mark(IpAddr::V6(Ipv6Addr::from_bits(*edge)))
        };
        let v6_classes = [0].iter().chain(&v6).enumerate().map(v6_class).collect();
        let v4_mark = |at: u64| {
            u32::try_from(at).map_or(0, |bits| mark(IpAddr::V4(Ipv4Addr::from_bits(bits))))
        };
        let services = numbered(service_edges(plan), |_| 0);
        Self { v4: numbered(v4, v4_mark), v6, v6_classes, services }
    }

    /// Whether packets of a class are told apart by their source port too.
    #[inline]
    pub(in crate::network) fn is_by_source_port(class: Class) -> bool {
        class[0] & BY_SOURCE_PORT != 0
    }

    /// The class of an address.
    #[inline]
    pub(in crate::network) fn of_address(&self, address: IpAddr) -> u32 {
        match address {
            IpAddr::V4(a) => *self.v4.get(a.to_bits().into()),
            IpAddr::V6(a) => {
                let bits = a.to_bits();
                self.v6_classes[self.v6.partition_point(|edge| *edge <= bits)]
            }
        }
    }

    /// The classes of packets of a protocol between two ends.
    #[inline]
    pub(in crate::network) fn of(&self, protocol: Protocol, ends: Tuple) -> Class {
        let (from, to) = (ends.source, ends.destination);
        let service = service_number(protocol.0, to.port);
        [self.of_address(from.address), self.of_address(to.address), *self.services.get(service)]
    }
}

fn bits(address: IpAddr) -> u128 {
    match address {
        IpAddr::V4(a) => a.to_bits().into(),
        IpAddr::V6(a) => a.to_bits(),
    }
}

fn service_number(protocol: u8, port: u16) -> u64 {
    u64::from(protocol) << 16 | u64::from(port)
}

/// A number for each interval between edges, and `mark` of where it begins.
fn numbered(mut edges: Vec<u64>, mark: impl Fn(u64) -> u32) -> IntervalMap<u32> {
    edges.push(0);
    edges.sort_unstable();
    edges.dedup();
    let number = |at: u64| edges.partition_point(|edge| *edge <= at) as u32 | mark(at);
    let map = IntervalMap::from_edges(edges.clone(), number);
    map.favouring(|_| true).favouring_within(|_| true).by_octets()
}

/// Every run of addresses that a plan speaks of, but for those that only filters and policies do.
fn ranges(plan: &Plan) -> Vec<AddressRange> {
    let mut all: Vec<AddressRange> = special().ranges().collect();
    let one = AddressRange::one;
    for segment in &plan.segments {
        all.extend(segment.routed.iter().flat_map(|r| [r.to.range(), one(r.via)]));
    }
    for host in &plan.hosts {
        all.extend([one(host.address), host.prefix.range()]);
        all.extend(host.gateway.into_iter().chain(host.prefix.broadcast()).map(one));
    }
    for device in &plan.devices {
        for interface in &device.interfaces {
            all.extend(interface.own().map(one));
            all.extend(interface.proxy_arp.ranges());
            let prefixes = interface.addresses.iter().map(|a| a.1);
            all.extend(prefixes.clone().map(|p| p.range()));
            all.extend(prefixes.filter_map(|p| p.broadcast()).map(one));
            if plan.segments[interface.segment.index()].checks_source {
                all.extend(plan.line_of(interface).ranges());
            }
        }
        for route in &device.routes {
            all.extend([route.to.range(), one(route.via)]);
            all.extend(route.condition.iter().flat_map(|c| c.source.ranges()));
        }
        for pool in &device.pools {
            all.extend(pool.listed().ranges());
        }
        for rule in &device.rules {
            all.extend(rule.senders().ranges());
            all.extend(rule.parties.source.ranges().chain(rule.parties.destination.ranges()));
            all.extend(rule.kind.servers().into_iter().map(one));
            if let Some(External::Range(range)) = rule.kind.external() {
                all.push(range);
            }
            if let Some(Target::Address(address)) = rule.kind.target() {
                all.push(one(address));
            }
        }
    }
    all
}

/// Where the services that rules, hosts and devices tell apart begin and end.
fn service_edges(plan: &Plan) -> Vec<u64> {
    let mut edges: Vec<u64> = (0..=u8::MAX).map(|p| service_number(p, 0)).collect();
    let mut add = |service: &Service| {
        let protocols = match service.protocol {
            Some(p) => p.0..=p.0,
            None => 0..=u8::MAX,
        };
        for protocol in protocols {
            edges.extend([
                service_number(protocol, service.ports.first),
                service_number(protocol, service.ports.last) + 1,
            ]);
        }
    };
    let mut add_all =
        |set: &ServiceSet| set.0.iter().filter(|s| **s != Service::ANY).for_each(&mut add);
    plan.hosts.iter().filter_map(|h| h.listens.as_ref()).for_each(&mut add_all);
    for device in &plan.devices {
        device.interfaces.iter().for_each(|i| add_all(&i.services));
        for rule in &device.rules {
            add_all(&rule.service);
            if let RuleKind::Forward(f) = &rule.kind {
                let service = |ports| Service { protocol: Some(f.protocol), ports };
                add_all(&ServiceSet(vec![service(f.ports)]));
            }
        }
    }
    edges
}

/// The internal ends of rules that look at the port there.
fn by_source_port(plan: &Plan) -> AddressSet {
    let rules = plan.devices.iter().flat_map(|d| &d.rules);
    let looking = rules.filter(|rule| match rule.kind {
        RuleKind::Forward(_) => true,
        RuleKind::Static(_) => !rule.service.is_any(),
        RuleKind::Exempt | RuleKind::Pool { .. } | RuleKind::Overload { .. } => false,
    });
    looking.flat_map(|rule| rule.senders().ranges().collect::<Vec<_>>()).collect()
}
