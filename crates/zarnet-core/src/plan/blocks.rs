//! The external addresses that a device has: which blocks they lie in, who uses them, and which are
//! free.

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

/// Who uses which addresses of a block; in numeric order, and more than once where several do.
pub fn uses(plan: &Plan, block: &Block) -> Vec<(AddressRange, Use)> {
    let mut list: Vec<(AddressRange, Use)> = Vec::new();
    let range = block.prefix.range();
    let mut note = |part: AddressRange, what: Use| {
        let (first, last) = (part.first().max(range.first()), part.last().min(range.last()));
        if part.family() == range.family()
            && let Ok(part) = AddressRange::new(first, last)
        {
            list.push((part, what));
        }
    };
    if let Some(broadcast) = block.prefix.broadcast().filter(|_| !block.routed) {
        note(AddressRange::one(block.prefix.first()), Use::Network);
        note(AddressRange::one(broadcast), Use::Broadcast);
    }
    for (h, host) in plan.hosts.iter().enumerate() {
        note(AddressRange::one(host.address), Use::Host(HostId(h as u16)));
    }
    let hops = plan.devices.iter().flat_map(|d| d.routes.iter().map(|r| r.via));
    let own = |a: &IpAddr| {
        plan.devices.iter().flat_map(|d| &d.interfaces).any(|i| i.own().any(|o| o == *a))
    };
    let mut hops: Vec<IpAddr> =
        hops.chain(plan.hosts.iter().filter_map(|h| h.gateway)).filter(|a| !own(a)).collect();
    hops.sort_unstable();
    hops.dedup();
    hops.into_iter().for_each(|hop| note(AddressRange::one(hop), Use::NextHop));
    for (d, device) in plan.devices.iter().enumerate() {
        device_uses(DeviceId(d as u16), device, &mut note);
    }
    list.sort_by_key(|(part, what)| (part.first(), part.last(), *what));
    list
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

/// The addresses of a block that nobody uses.
pub fn free_addresses(plan: &Plan, block: &Block) -> AddressSet {
    let mut free: AddressSet = std::iter::once(block.prefix.range()).collect();
    uses(plan, block).into_iter().for_each(|(part, _)| free.remove(part));
    free
}

/// The addresses of all blocks of a device that nobody uses, block by block.
pub fn free_ranges(plan: &Plan, device: DeviceId) -> Vec<AddressRange> {
    let own = blocks(plan).into_iter().filter(|b| b.device == device);
    own.flat_map(|b| free_addresses(plan, &b).ranges().collect::<Vec<_>>()).collect()
}
