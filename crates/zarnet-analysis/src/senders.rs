//! Who could send what comes in by an interface: examples that nobody sends convince nobody.

use zarnet_core::net::{AddressRange, AddressSet, Packet};
use zarnet_core::network::special;
use zarnet_core::plan::{DevicePlan, Interface, InterfaceId, Plan};

/// Whether one of `senders` could send a packet: none with ports comes from port 0.
pub(crate) fn could_send(senders: &AddressSet, sent: Packet) -> bool {
    let is_real = !sent.protocol.has_ports() || sent.source().port != 0;
    is_real && senders.contains(sent.source().address)
}

/// Addresses that may send what comes in by an interface: those behind it, and no others.
pub(crate) fn senders(whole: &Plan, device: &DevicePlan, ingress: InterfaceId) -> AddressSet {
    let interface = &device.interfaces[ingress.index()];
    let behind = |i: usize| -> AddressSet {
        let connected = device.interfaces[i].addresses.iter().map(|a| a.1.range());
        let routes = device.routes.iter().filter(|r| r.interface.index() == i && r.to.length() > 0);
        connected.chain(routes.map(|r| r.to.range())).collect()
    };
    let leads_out = device
        .routes
        .iter()
        .any(|r| r.interface == ingress && r.to.length() == 0 && r.condition.is_none());
    let is_internet = whole.segments[interface.segment.index()].internet;
    let mut senders = match is_internet || leads_out {
        true => AddressSet::all(),
        false => behind(ingress.index()),
    };
    let mut elsewhere: Vec<AddressSet> = Vec::new();
    if is_internet || leads_out {
        let others = (0..device.interfaces.len()).filter(|i| *i != ingress.index());
        elsewhere.extend(others.map(behind));
    }
    if is_internet {
        elsewhere.push(special());
    }
    for set in &elsewhere {
        set.ranges().for_each(|r| senders.remove(r));
    }
    senders.extend(&interface.addresses.iter().map(|a| a.1.range()).collect());
    // no host has the first and the last address of its link
    for prefix in interface.addresses.iter().map(|a| a.1) {
        prefix.reserved().for_each(|a| senders.remove(AddressRange::one(a)));
    }
    device.interfaces.iter().flat_map(Interface::own).for_each(|a| {
        senders.remove(AddressRange::one(a));
    });
    senders
}
