//! Packets that stay on the link that they were sent on: multicast, broadcast, and what is from or
//! to a link-local address. No device forwards or translates them.

use std::net::IpAddr;

use super::{Network, Origin};
use crate::net::{Packet, Tuple, is_link_local};
use crate::plan::{DeviceId, InterfaceId};

impl Network {
    /// Whether a first packet stays on the link of its sender.
    pub(crate) fn stays_on_link(&self, origin: Origin, packet: Packet) -> bool {
        let (source, to) = (packet.source().address, packet.destination().address);
        is_link_only(packet.ends)
            || match origin {
                Origin::Host(id) => self.plan.hosts[id.index()].prefix.broadcast() == Some(to),
                Origin::Undeclared(segment) => self.world.attached(segment).iter().any(|a| {
                    let interface =
                        &self.plan.devices[a.device.index()].interfaces[a.interface.index()];
                    interface
                        .addresses
                        .iter()
                        .any(|a| a.1.contains(source) && a.1.broadcast() == Some(to))
                }),
                Origin::Device(id, _) => {
                    let mut interfaces = self.plan.devices[id.index()].interfaces.iter();
                    interfaces.any(|i| i.addresses.iter().any(|a| a.1.broadcast() == Some(to)))
                }
                Origin::Peer => false,
            }
    }

    /// Whether a packet that was seen on an interface stays on its link.
    pub(crate) fn is_link_only_at(
        &self,
        device: DeviceId,
        interface: InterfaceId,
        ends: Tuple,
    ) -> bool {
        let interface = &self.plan.devices[device.index()].interfaces[interface.index()];
        let to = Some(ends.destination.address);
        is_link_only(ends) || interface.addresses.iter().any(|a| a.1.broadcast() == to)
    }
}

/// What stays on any link, whatever its prefix.
fn is_link_only(ends: Tuple) -> bool {
    let (from, to) = (ends.source.address, ends.destination.address);
    to.is_multicast()
        || to == IpAddr::V4(std::net::Ipv4Addr::BROADCAST)
        || is_link_local(from)
        || is_link_local(to)
}
