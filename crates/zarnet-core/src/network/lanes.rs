//! Ways through the network on which nothing can object, known beforehand: see [`Lane`].

use std::net::IpAddr;

use super::world::{Answering, Node, Way, World};
use super::{Network, Origin};
use crate::device::intervals::IntervalMap;
use crate::device::{Ending, Lane, Passenger, Ride, lane_number};
use crate::net::{Endpoint, Instant, Protocol};
use crate::plan::{DeviceId, InterfaceId, SegmentId};

/// Every lane, and which sources are on it.
#[derive(Debug, Clone, Default)]
pub(super) struct Lanes {
    list: Vec<(DeviceId, Lane)>,
    by_source: Option<IntervalMap<Option<u16>>>,
}

/// A flow, as far as a lane needs to know it.
#[derive(Debug, Clone, Copy)]
pub struct Whole {
    /// Its protocol.
    pub protocol: Protocol,
    /// Who starts it.
    pub source: Endpoint,
    /// Whom it is for.
    pub destination: Endpoint,
    /// When the answer passes.
    pub answer: Instant,
    /// The last packet.
    pub end: Instant,
    /// How it ends.
    pub ending: Ending,
}

impl Network {
    /// One lane for each interface that is the only way out of an inner segment.
    pub(super) fn find_lanes(&self) -> Lanes {
        let edges = self.world.edges();
        let (mut list, mut segments): (Vec<(DeviceId, Lane)>, Vec<SegmentId>) = (Vec::new(), Vec::new());
        for (d, device) in self.plan.devices.iter().enumerate() {
            for (i, interface) in device.interfaces.iter().enumerate() {
                let (device, ingress) = (DeviceId(d as u16), InterfaceId(i as u16));
                let segment = self.world.number(interface.segment);
                let alone = self.world.attached(segment).len() == 1 && segment != World::INTERNET;
                let [(_, prefix)] = interface.addresses[..] else { continue };
                if !alone || !prefix.first().is_ipv4() {
                    continue;
                }
                let leads_out = |egress: InterfaceId, to: IpAddr, next_hop: IpAddr| {
                    let exit = &self.plan.devices[device.index()].interfaces[egress.index()];
                    self.world.number(exit.segment) == World::INTERNET
                        && !prefix.contains(to)
                        && self.world.way(to) == Way::Peer
                        && self.world.answering(World::INTERNET, next_hop) == Some(Answering::Provider)
                };
                if let Some(lane) = self.devices[d].lane(ingress, &edges, leads_out) {
                    list.push((device, lane));
                    segments.push(segment);
                }
            }
        }
        let lane_of = |n: u64| {
            let address = IpAddr::V4(u32::try_from(n).unwrap_or(u32::MAX).into());
            let Some(Origin::Undeclared(segment)) = self.world.origin(address) else { return None };
            segments.iter().position(|s| *s == segment).map(|i| i as u16)
        };
        let by_source = (!list.is_empty()).then(|| IntervalMap::from_edges(edges, lane_of));
        Lanes { list, by_source }
    }

    /// Enters a whole flow at once if it is on a lane. `false`: nothing was done, and it has to go step by step.
    #[inline]
    pub fn express(&mut self, now: Instant, flow: Whole) -> bool {
        let Some(by_source) = &self.lanes.by_source else { return false };
        let (Some(source), Some(destination)) =
            (lane_number(flow.source.address), lane_number(flow.destination.address))
        else {
            return false;
        };
        let Some(lane) = *by_source.get(source.into()) else { return false };
        let (device, lane) = &self.lanes.list[usize::from(lane)];
        let Whole { protocol, answer, end, ending, .. } = flow;
        let (source, destination) = ((source, flow.source.port), (destination, flow.destination.port));
        let passenger = Passenger { protocol, source, destination, answer, end, ending };
        match self.devices[device.index()].ride(now, lane, passenger) {
            Ride::Done => true,
            Ride::NotHere => false,
            Ride::Ask(external, egress) => {
                let device = *device;
                let returns = self.leads_back(device, egress, external);
                self.devices[device.index()].note_return(external, returns);
                returns && self.express(now, flow)
            }
        }
    }

    /// Whether what is sent to an external address from the internet comes in by an interface.
    fn leads_back(&self, device: DeviceId, egress: InterfaceId, external: u32) -> bool {
        match self.world.way(IpAddr::V4(external.into())) {
            Way::Ask(next_hop) => {
                self.answering(World::INTERNET, next_hop) == Some(Answering::Node(Node::Interface(device, egress)))
            }
            _ => false,
        }
    }

    /// Reads ahead what a first packet will be looked up by.
    #[inline]
    pub fn warm(&self, protocol: Protocol, source: Endpoint, destination: Endpoint) -> u64 {
        // of several devices, which one it will be is not known yet
        match (&self.devices[..], lane_number(source.address), lane_number(destination.address)) {
            ([device], Some(a), Some(b)) => device.warm(protocol, (a, source.port), (b, destination.port)),
            _ => 0,
        }
    }
}
