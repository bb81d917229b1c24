//! The world of a plan, made once: who is attached where, who the provider is, what is reached
//! how.

use std::collections::{HashMap, HashSet};
use std::net::IpAddr;

use foldhash::fast::RandomState;

use super::{Answering, Attachment, INTERNET, Node, Reach, Way, World, key, special};
use crate::net::{AddressRange, AddressSet, IntervalMap, PrefixMap};
use crate::plan::{DeviceId, External, HostId, InterfaceId, Plan, SegmentId, Target};

impl World {
    pub(in crate::network) fn new(plan: &Plan) -> Self {
        let number =
            |i: usize| if plan.segments[i].internet { INTERNET } else { SegmentId(i as u16) };
        let special = special();
        let mut world = Self {
            numbers: (0..plan.segments.len()).map(number).collect(),
            owners: HashMap::default(),
            attached: HashMap::default(),
            provider: HashSet::default(),
            origin_v4: IntervalMap::from_edges(Vec::new(), |_| None),
            way_v4: IntervalMap::from_edges(Vec::new(), |_| Way::Unrouted),
            answering_v4: HashMap::default(),
            special,
            in_plan: AddressSet::default(),
            reach: PrefixMap::default(),
            hosts: plan
                .hosts
                .iter()
                .enumerate()
                .rev()
                .map(|(i, h)| (h.address, HostId(i as u32)))
                .collect(),
            devices: HashMap::default(),
            inside: PrefixMap::default(),
            servers: servers(plan),
            lines: lines(plan),
        };
        world.attach(plan);
        world.find_provider(plan);
        world.find_in_plan(plan);
        world.find_reach(plan);
        world.compile();
        world
    }

    /// Answers once and for all, for IPv4, what each packet asks.
    pub(super) fn compile(&mut self) {
        let mut edges = Vec::new();
        let mut add = |range: AddressRange| {
            if let (IpAddr::V4(a), IpAddr::V4(b)) = (range.first(), range.last()) {
                edges.extend([u64::from(a.to_bits()), u64::from(b.to_bits()) + 1]);
            }
        };
        self.special.ranges().chain(self.in_plan.ranges()).for_each(&mut add);
        let ones = self.hosts.keys().chain(self.devices.keys()).chain(&self.provider);
        ones.for_each(|a| add(AddressRange::one(*a)));
        self.owners.keys().for_each(|k| add(AddressRange::one(k.1)));
        self.inside.prefixes().for_each(|p| add(p.range()));
        self.reach.prefixes().for_each(|p| add(p.range()));
        let address = |n: u64| IpAddr::V4(u32::try_from(n).unwrap_or(u32::MAX).into());
        self.origin_v4 = IntervalMap::from_edges(edges.clone(), |n| self.find_origin(address(n)));
        // the way to an address on a link is to ask for itself: the interval stands for all of its
        // addresses
        self.way_v4 = IntervalMap::from_edges(edges, |n| match self.find_way(address(n)) {
            Way::Ask(next) if next == address(n) => Way::Ask(IpAddr::from([0, 0, 0, 0])),
            way @ Way::Ask(_) | way @ Way::Peer | way @ Way::Unrouted | way @ Way::Special => way,
        });
        for ((segment, address), node) in &self.owners {
            if let IpAddr::V4(a) = address {
                self.answering_v4.insert(key(*segment, a.to_bits()), Answering::Node(*node));
            }
        }
        for address in &self.provider {
            if let (IpAddr::V4(a), None) = (address, self.proxy(INTERNET, *address)) {
                self.answering_v4.insert(key(INTERNET, a.to_bits()), Answering::Provider);
            }
        }
    }

    pub(super) fn attach(&mut self, plan: &Plan) {
        for (d, device) in plan.devices.iter().enumerate() {
            for (i, interface) in device.interfaces.iter().enumerate() {
                let (device, id) = (DeviceId(d as u16), InterfaceId(i as u16));
                let segment = self.number(interface.segment);
                let addresses = interface.own();
                for address in addresses {
                    self.owners.insert((segment, address), Node::Interface(device, id));
                    self.devices.insert(address, device);
                }
                let attachment =
                    Attachment { device, interface: id, proxy_arp: interface.proxy_arp.clone() };
                self.attached.entry(segment).or_default().push(attachment);
                if segment != INTERNET {
                    self.inside.extend(interface.addresses.iter().map(|a| (a.1, segment)));
                }
            }
        }
        for (i, host) in plan.hosts.iter().enumerate() {
            self.owners
                .insert((self.number(host.segment), host.address), Node::Host(HostId(i as u32)));
        }
    }

    pub(super) fn find_provider(&mut self, plan: &Plan) {
        let internet = |s: SegmentId| plan.segments[s.index()].internet;
        let mut hops: Vec<IpAddr> = Vec::new();
        for device in &plan.devices {
            let routes = device.routes.iter();
            hops.extend(
                routes
                    .filter(|r| internet(device.interfaces[r.interface.index()].segment))
                    .map(|r| r.via),
            );
        }
        hops.extend(plan.hosts.iter().filter(|h| internet(h.segment)).filter_map(|h| h.gateway));
        hops.extend(
            plan.segments
                .iter()
                .filter(|s| s.internet)
                .flat_map(|s| s.routed.iter().map(|r| r.via)),
        );
        self.provider =
            hops.into_iter().filter(|h| !self.owners.contains_key(&(INTERNET, *h))).collect();
    }

    /// What is in the plan is not a peer.
    pub(super) fn find_in_plan(&mut self, plan: &Plan) {
        let set = &mut self.in_plan;
        for device in &plan.devices {
            for interface in &device.interfaces {
                let own = interface.own();
                own.for_each(|a| set.insert(AddressRange::one(a)));
                set.extend(&interface.proxy_arp);
                if plan.segments[interface.segment.index()].internet {
                    interface.addresses.iter().for_each(|a| set.insert(a.1.range()));
                }
            }
            device.pools.iter().filter(|p| !p.retired).for_each(|p| set.extend(&p.listed()));
            for rule in device.rules.iter().filter(|r| !r.retired) {
                // an interface's own address is among those above
                if let Some(External::Range(range)) = rule.kind.external() {
                    set.insert(range);
                }
                if let Some(Target::Address(address)) = rule.kind.target() {
                    set.insert(AddressRange::one(address));
                }
            }
        }
        plan.hosts.iter().for_each(|h| set.insert(AddressRange::one(h.address)));
        plan.segments.iter().flat_map(|s| &s.routed).for_each(|r| set.insert(r.to.range()));
        self.provider.iter().for_each(|a| set.remove(AddressRange::one(*a)));
    }

    pub(super) fn find_reach(&mut self, plan: &Plan) {
        for interface in plan.devices.iter().flat_map(|d| &d.interfaces) {
            if plan.segments[interface.segment.index()].internet {
                self.reach.extend(interface.addresses.iter().map(|a| (a.1, Reach::OnLink)));
            }
        }
        for segment in plan.segments.iter().filter(|s| s.internet) {
            self.reach.extend(segment.routed.iter().map(|r| (r.to, Reach::Via(r.via))));
        }
    }
}

/// The internal ends of forwards, and of statics of one address, enabled or not.
pub(super) fn servers(plan: &Plan) -> HashSet<IpAddr, RandomState> {
    let rules = plan.devices.iter().flat_map(|d| &d.rules).filter(|r| !r.retired);
    rules.flat_map(|r| r.kind.servers()).collect()
}

/// The line of each interface on an internet segment that checks sources.
pub(super) fn lines(plan: &Plan) -> HashMap<(DeviceId, InterfaceId), AddressSet, RandomState> {
    let mut lines = HashMap::default();
    for (d, device) in (0..).zip(&plan.devices) {
        for (i, interface) in (0..).zip(&device.interfaces) {
            if plan.segments[interface.segment.index()].checks_source {
                lines.insert((DeviceId(d), InterfaceId(i)), plan.line_of(interface));
            }
        }
    }
    lines
}
