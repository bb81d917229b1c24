//! The external addresses that a device has: which blocks they lie in, who uses them, and which are
//! free.

use std::collections::{BTreeSet, HashSet};
use std::net::IpAddr;

use super::{
    DeviceId, DevicePlan, External, HostId, InterfaceId, Plan, PoolId, RuleId, RuleKind, Target,
};
use crate::net::{AddressRange, AddressSet, Prefix};

/// External addresses that belong together.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Block {
    /// The device that answers for them, or that they are routed to.
    pub device: DeviceId,
    /// The interface whose prefix they are, or by whose address they are reached.
    pub interface: InterfaceId,
    /// The prefix whose addresses are listed.
    pub prefix: Prefix,
    /// Whether they are routed to the device, and on no link.
    pub routed: bool,
}

/// What an external address is used for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Use {
    /// The first address of a link's prefix.
    Network,
    /// The last address of a link's prefix.
    Broadcast,
    /// The address of an interface, or one that it answers for besides.
    Interface(DeviceId, InterfaceId),
    /// A next hop: somebody else's router.
    NextHop,
    /// A host has the address.
    Host(HostId),
    /// The external end of a static or forward.
    Fixed(DeviceId, RuleId),
    /// Listed by a pool.
    Pool(DeviceId, PoolId),
    /// Overloaded by a rule that names it.
    Overload(DeviceId, RuleId),
}

/// The external blocks of a plan, by device: the prefixes of interfaces on an internet segment or
/// that rules translate into, and what is routed to them.
pub fn blocks(plan: &Plan) -> Vec<Block> {
    let mut list = Vec::new();
    for (d, device) in plan.devices.iter().enumerate() {
        let id = DeviceId(d as u16);
        for (i, interface) in device.interfaces.iter().enumerate() {
            let number = InterfaceId(i as u16);
            let internet = plan.segments[interface.segment.index()].internet;
            let faced = device.rules.iter().any(|r| r.into.interfaces.contains(number));
            if !internet && !faced {
                continue;
            }
            for (address, prefix) in &interface.addresses {
                if address.is_ipv4() {
                    list.push(Block {
                        device: id,
                        interface: number,
                        prefix: *prefix,
                        routed: false,
                    });
                }
            }
            let routed = plan.segments[interface.segment.index()].routed.iter();
            let own =
                routed.filter(|r| r.to.first().is_ipv4() && interface.own().any(|a| a == r.via));
            list.extend(own.map(|r| Block {
                device: id,
                interface: number,
                prefix: r.to,
                routed: true,
            }));
        }
    }
    list
}

/// Every use of an address that a plan tells, found by address.
#[derive(Debug, Clone)]
pub struct AddressUses {
    /// Of one address each, in numeric order.
    single: Vec<(IpAddr, Use)>,
    /// Of several, in the order of their first one.
    ranges: Vec<(AddressRange, Use)>,
}

impl AddressUses {
    /// All uses of a plan.
    pub fn of(plan: &Plan) -> Self {
        let mut uses = Self { single: Vec::new(), ranges: Vec::new() };
        let own: HashSet<IpAddr> =
            plan.devices.iter().flat_map(|d| &d.interfaces).flat_map(|i| i.own()).collect();
        let gateways = plan.hosts.iter().filter_map(|h| h.gateway);
        let hops = plan.devices.iter().flat_map(|d| d.routes.iter().map(|r| r.via));
        let hops: BTreeSet<IpAddr> = hops.chain(gateways).filter(|a| !own.contains(a)).collect();
        uses.single.extend(hops.into_iter().map(|hop| (hop, Use::NextHop)));
        for (h, host) in (0..).zip(&plan.hosts) {
            uses.single.push((host.address, Use::Host(HostId(h))));
        }
        for (d, device) in plan.devices.iter().enumerate() {
            device_uses(DeviceId(d as u16), device, &mut |part, what| {
                if part.count() == 1 {
                    uses.single.push((part.first(), what));
                } else {
                    uses.ranges.push((part, what));
                }
            });
        }
        uses.single.sort_unstable();
        uses.ranges.sort_by_key(|(part, what)| (part.first(), *what));
        uses
    }

    /// Who uses which addresses of a block; in numeric order, and more than once where several do.
    pub fn of_block(&self, block: &Block) -> Vec<(AddressRange, Use)> {
        let range = block.prefix.range();
        let mut list: Vec<(AddressRange, Use)> = Vec::new();
        if let Some(broadcast) = block.prefix.broadcast().filter(|_| !block.routed) {
            list.push((AddressRange::one(block.prefix.first()), Use::Network));
            list.push((AddressRange::one(broadcast), Use::Broadcast));
        }
        let from = self.single.partition_point(|s| s.0 < range.first());
        let within = self.single[from..].iter().take_while(|s| s.0 <= range.last());
        list.extend(within.map(|(address, what)| (AddressRange::one(*address), *what)));
        for (part, what) in self.ranges.iter().take_while(|r| r.0.first() <= range.last()) {
            let (first, last) = (part.first().max(range.first()), part.last().min(range.last()));
            if part.family() == range.family()
                && let Ok(part) = AddressRange::new(first, last)
            {
                list.push((part, *what));
            }
        }
        list.sort_by_key(|(part, what)| (part.first(), part.last(), *what));
        list
    }

    /// The addresses of a block that nobody uses.
    pub fn free_in(&self, block: &Block) -> AddressSet {
        let mut free: AddressSet = std::iter::once(block.prefix.range()).collect();
        let used: AddressSet = self.of_block(block).into_iter().map(|u| u.0).collect();
        // in ascending order: each is taken out of what is left at the end
        used.ranges().for_each(|part| free.remove(part));
        free
    }
}

fn device_uses(id: DeviceId, device: &DevicePlan, note: &mut impl FnMut(AddressRange, Use)) {
    for (i, interface) in device.interfaces.iter().enumerate() {
        let what = Use::Interface(id, InterfaceId(i as u16));
        interface.own().for_each(|a| note(AddressRange::one(a), what));
    }
    for (r, rule) in device.rules.iter().enumerate() {
        let number = RuleId(r as u16);
        // an interface's own address is listed as such
        if let Some(External::Range(part)) = rule.kind.external() {
            note(part, Use::Fixed(id, number));
        }
        if let (RuleKind::Overload { .. }, Some(Target::Address(a))) =
            (&rule.kind, rule.kind.target())
        {
            note(AddressRange::one(a), Use::Overload(id, number));
        }
    }
    for (p, pool) in device.pools.iter().enumerate() {
        pool.parts.iter().for_each(|part| note(part.0, Use::Pool(id, PoolId(p as u16))));
    }
}

/// The addresses of all blocks of a device that nobody uses, block by block.
pub fn free_ranges(plan: &Plan, device: DeviceId) -> Vec<AddressRange> {
    let uses = AddressUses::of(plan);
    let own = blocks(plan).into_iter().filter(|b| b.device == device);
    own.flat_map(|b| uses.free_in(&b).ranges().collect::<Vec<_>>()).collect()
}
