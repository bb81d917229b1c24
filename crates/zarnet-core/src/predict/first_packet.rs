//! The first packet of a flow: who sends it, from where, and to whom.

use std::net::IpAddr;

use super::run::Run;
use crate::device::OwnSource;
use crate::net::{Endpoint, Packet, is_link_local};
use crate::network::Origin;
use crate::plan::DeviceId;
use crate::reason::Reason;
use crate::traffic::{Flow, Party};

/// First and last port that a host chooses itself (RFC 6335 §6).
const EPHEMERAL: (u16, u16) = (49_152, 65_535);

impl Run {
    /// A flow with the interfaces that it names as they are numbered now; or, where one is no more,
    /// with its device, and which that is.
    pub(super) fn as_things_are(&self, flow: &Flow) -> Result<Flow, (Flow, DeviceId)> {
        let (mut now, mut gone) = (*flow, None);
        for party in [&mut now.source, &mut now.destination] {
            if let Party::Interface(device, i) = *party
                && let Some(known) = self.interfaces.get(&device)
            {
                *party =
                    known[i.index()].map_or(Party::Device(device), |i| Party::Interface(device, i));
                gone = gone.or(known[i.index()].is_none().then_some(device));
            }
        }
        gone.map_or(Ok(now), |device| Err((now, device)))
    }

    /// The port that a host chooses next.
    pub(super) fn next_port(&self, source: IpAddr) -> u16 {
        self.ephemeral.get(&source).copied().unwrap_or(EPHEMERAL.0)
    }

    /// The same, which it does not choose again soon.
    pub(super) fn take_port(&mut self, source: IpAddr) -> u16 {
        let next = self.ephemeral.entry(source).or_insert(EPHEMERAL.0);
        let port = *next;
        *next = if port == EPHEMERAL.1 { EPHEMERAL.0 } else { port + 1 };
        port
    }

    /// The sender of a flow that went a short way has chosen its port.
    pub(super) fn choose_port(&mut self, flow: &Flow) {
        if let Some(Flow { source: Party::Address(source), .. }) = self.between_addresses(flow)
            && flow.protocol.is_multiplexed()
        {
            self.take_port(source);
        }
    }

    /// A flow between two addresses that sends what is translated by port, with the port that its
    /// sender chooses: what can go a short way.
    pub(super) fn between_addresses(&self, flow: &Flow) -> Option<Flow> {
        let plan = self.network.plan();
        let address = |party: Party| match party {
            Party::Address(address) => Some(address),
            Party::Host(id) => Some(plan.hosts[id.index()].address),
            Party::Device(_) | Party::Interface(..) => None,
        };
        let (source, destination) = (address(flow.source)?, address(flow.destination)?);
        let port = match flow.source_port {
            Some(port) => port,
            None if flow.protocol.is_multiplexed() => self.next_port(source),
            None => 0,
        };
        let (source, destination) = (Party::Address(source), Party::Address(destination));
        Some(Flow { source, destination, source_port: Some(port), ..*flow })
    }

    /// The first packet of a flow, or why there is none and which device is to blame.
    pub(super) fn first_packet(
        &mut self,
        flow: &Flow,
    ) -> Result<(Origin, Packet), (Reason, Option<DeviceId>)> {
        let plan = self.network.plan();
        let destination = match flow.destination {
            Party::Address(address) => address,
            Party::Host(id) => plan.hosts[id.index()].address,
            Party::Device(id) => plan.devices[id.index()]
                .interfaces
                .iter()
                .find_map(|i| i.primary())
                .ok_or((Reason::Unrouted, None))?,
            Party::Interface(device, interface) => {
                let addresses =
                    &plan.devices[device.index()].interfaces[interface.index()].addresses;
                addresses.first().ok_or((Reason::Unrouted, None))?.0
            }
        };
        let (origin, source) = match flow.source {
            Party::Address(address) => {
                // wherever its sender is, it stays there
                let unknown =
                    if is_link_local(address) { Reason::LinkOnly } else { Reason::UnknownSource };
                (self.network.origin(address).ok_or((unknown, None))?, address)
            }
            Party::Host(id) => (Origin::Host(id), plan.hosts[id.index()].address),
            Party::Device(id) => {
                let source = self.network.devices()[id.index()]
                    .own_source(destination)
                    .ok_or((Reason::NoRoute, Some(id)))?;
                (Origin::Device(id, OwnSource::ByRoute), source)
            }
            Party::Interface(device, interface) => {
                let interface = &plan.devices[device.index()].interfaces[interface.index()];
                // of another family: no way leads there
                let source =
                    interface.address_for(destination).or(interface.addresses.first().map(|a| a.0));
                let source = source.ok_or((Reason::NoRoute, Some(device)))?;
                (Origin::Device(device, OwnSource::Given), source)
            }
        };
        if source.is_ipv4() != destination.is_ipv4() {
            return Err((Reason::UnsupportedFamily, self.network.first_device(origin)));
        }
        let port = match flow.source_port {
            Some(port) => port,
            None if flow.protocol.is_multiplexed() => self.take_port(source),
            None => 0,
        };
        let to = Endpoint::new(destination, flow.destination_port.unwrap_or(0));
        let packet = Packet::first(flow.protocol, Endpoint::new(source, port), to);
        if self.network.stays_on_link(origin, packet) {
            Err((Reason::LinkOnly, None))
        } else {
            Ok((origin, packet))
        }
    }
}
