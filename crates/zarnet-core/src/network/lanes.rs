//! Ways through the network on which nothing can object, known beforehand: see [`Lane`].

use std::net::IpAddr;

use super::world::{Answering, Node, Way, World};
use super::{Network, Origin};
use crate::device::intervals::IntervalMap;
use crate::device::{Course, Lane, Ride, RideAlong, Ticket};
use crate::net::{Instant, Protocol, Signal, is_link_local};
use crate::plan::{DeviceId, InterfaceId, SegmentId};
use crate::traffic::Seen;

/// Every lane, and which sources are on it.
#[derive(Debug, Clone, Default)]
pub(super) struct Lanes {
    list: Vec<(DeviceId, Lane)>,
    /// By source: the lane, and the rule on it.
    by_source: Option<IntervalMap<Option<(u16, u16)>>>,
    /// How often they were forgotten.
    issue: u32,
    /// Whether they were found since.
    found: bool,
}

/// In larger networks finding every lane would cost more than lanes save: devices times places where the way changes.
const MOST_WORK: usize = 4_000_000;

impl Lanes {
    /// The lane that flows of a source are on, and the rule that translates them there.
    #[inline(always)]
    fn of(&self, source: u32) -> Option<(u16, u16)> {
        *self.by_source.as_ref()?.get(source.into())
    }

    /// Something was done to a device: nothing that was known holds any more.
    pub(super) fn forget(&mut self) {
        *self = Self { issue: self.issue + 1, ..Self::default() };
    }
}

/// What is on a lane.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Journey {
    /// A flow from its first packet to its last.
    Flow,
    /// A packet that was seen coming in.
    Forth,
    /// A packet that was seen going out to who began its flow.
    Back,
}

/// A flow or a packet whose way is known.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Boarding {
    journey: Journey,
    ticket: Ticket,
    device: DeviceId,
    issue: u32,
}

impl Network {
    /// Finds lanes, if that was not done since something was last done to a device.
    pub(crate) fn prepare_lanes(&mut self) {
        if !self.lanes.found {
            self.lanes = self.find_lanes();
        }
    }

    /// One lane for each interface that is the only way out of an inner segment.
    fn find_lanes(&self) -> Lanes {
        let edges = self.world.edges();
        if edges.len().saturating_mul(self.devices.len()) > MOST_WORK {
            return Lanes { found: true, issue: self.lanes.issue, ..Lanes::default() };
        }
        let (mut list, mut segments): (Vec<(DeviceId, Lane)>, Vec<SegmentId>) = (Vec::new(), Vec::new());
        for (d, device) in self.plan.devices.iter().enumerate() {
            for (i, interface) in device.interfaces.iter().enumerate() {
                let (device, ingress) = (DeviceId(d as u16), InterfaceId(i as u16));
                let segment = self.world.number(interface.segment);
                let alone = self.world.attached(segment).len() == 1 && segment != World::INTERNET;
                let mut prefixes = interface.addresses.iter().map(|a| a.1).filter(|p| p.first().is_ipv4());
                let (Some(prefix), None, true) = (prefixes.next(), prefixes.next(), alone) else { continue };
                let leads_out = |egress: InterfaceId, to: IpAddr, next_hop: IpAddr| {
                    let exit = &self.plan.devices[device.index()].interfaces[egress.index()];
                    self.world.number(exit.segment) == World::INTERNET
                        && !self.world.checks_sources_of(device, egress)
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
            if is_link_local(address) {
                return None;
            }
            let lane = segments.iter().position(|s| *s == segment)?;
            let rule = (*list[lane].1.rules().get(n))?;
            Some((lane as u16, rule))
        };
        let rules = list.iter().flat_map(|l| l.1.rules().edges());
        let edges = edges.iter().chain(rules).copied().collect();
        let by_source = (!list.is_empty()).then(|| IntervalMap::from_edges(edges, lane_of).favouring(Option::is_some));
        Lanes { list, by_source, issue: self.lanes.issue, found: true }
    }

    /// What can be known of a flow before its turn comes, if it is on a lane.
    #[inline(always)]
    pub(crate) fn board(&self, protocol: Protocol, source: (u32, u16), destination: (u32, u16)) -> Option<Boarding> {
        let (lane, rule) = self.lanes.of(source.0)?;
        let (device, on) = &self.lanes.list[usize::from(lane)];
        let at = &self.devices[device.index()];
        let ticket = at.prepared(at.ticket(on, rule, protocol, source, destination)?);
        Some(Boarding { journey: Journey::Flow, ticket, device: *device, issue: self.lanes.issue })
    }

    /// The same of a packet that was seen on an interface.
    #[inline(always)]
    pub(crate) fn board_seen(&self, seen: &Seen) -> Option<Boarding> {
        let (from, to) = (seen.packet.source(), seen.packet.destination());
        let (IpAddr::V4(a), IpAddr::V4(b)) = (from.address, to.address) else { return None };
        let (from, to) = ((a.to_bits(), from.port), (b.to_bits(), to.port));
        // picked, not decided: which way the next packet goes is hard to guess
        let (forth, back) = (self.lanes.of(from.0), self.lanes.of(to.0));
        let goes_back = usize::from(forth.is_none());
        let journey = [Journey::Forth, Journey::Back][goes_back];
        let (lane, rule) = [forth, back][goes_back]?;
        let (source, destination) = ([from, to][goes_back], [to, from][goes_back]);
        let (device, on) = &self.lanes.list[usize::from(lane)];
        if *device != seen.device || !on.shows(seen.interface) {
            return None;
        }
        let at = &self.devices[device.index()];
        let ticket = at.ticket(on, rule, seen.packet.protocol, source, destination)?;
        Some(Boarding { journey, ticket, device: *device, issue: self.lanes.issue })
    }

    /// Reads what flows and packets will be looked up by, all at once. In loops of a few steps each: of longer ones the
    /// processor does not see enough at a time to wait for many places together.
    pub(crate) fn warm(&self, boardings: &mut [Option<Boarding>]) {
        let device = |b: &Boarding| &self.devices[b.device.index()];
        let (mut places, mut flows, mut packets) = (0, false, false);
        for boarding in boardings.iter().flatten() {
            places ^= device(boarding).warm(&boarding.ticket);
            flows |= boarding.journey == Journey::Flow;
            packets |= boarding.journey != Journey::Flow;
        }
        std::hint::black_box(places);
        if flows {
            let flows = || boardings.iter().flatten().filter(|b| b.journey == Journey::Flow);
            let unknown = || flows().filter(|b| !b.ticket.knows_external());
            let hosts = unknown().fold(0, |sum, b| sum ^ device(b).warm_host(&b.ticket));
            let ports = flows().fold(0, |sum, b| sum ^ device(b).warm_port(&b.ticket));
            std::hint::black_box((hosts, ports));
        }
        if packets {
            let mut back = 0;
            for boarding in boardings.iter_mut().flatten().filter(|b| b.journey != Journey::Flow) {
                let device = device(boarding);
                device.look_up(&mut boarding.ticket);
                back ^= device.warm_reverse(&boarding.ticket);
            }
            let found = boardings.iter().flatten().fold(0, |sum, b| sum ^ device(b).warm_mapping(&b.ticket));
            std::hint::black_box((back, found));
        }
    }

    /// Enters a packet that was seen on an interface.
    #[inline(always)]
    pub(crate) fn express_seen(&mut self, now: Instant, boarding: &Boarding, signal: Signal) -> RideAlong {
        let Boarding { journey, ticket, device, issue } = boarding;
        if *issue != self.lanes.issue {
            return RideAlong::NotHere;
        }
        self.devices[device.index()].ride_along(now, ticket, *journey == Journey::Back, signal)
    }

    /// Enters a whole flow at once. `false`: nothing was done, and it has to go step by step.
    #[inline]
    pub(crate) fn express(&mut self, now: Instant, boarding: &Boarding, course: Course) -> bool {
        let device = boarding.device;
        // something was done to a device since
        if boarding.issue != self.lanes.issue {
            return false;
        }
        match self.devices[device.index()].ride(now, &boarding.ticket, course) {
            Ride::Done => true,
            Ride::NotHere => false,
            Ride::Ask(external, egress) => {
                let returns = self.leads_back(now, device, egress, external);
                self.devices[device.index()].note_return(external, returns);
                returns && self.express(now, boarding, course)
            }
        }
    }

    /// Whether what is sent to an external address from the internet comes in by an interface.
    fn leads_back(&mut self, now: Instant, device: DeviceId, egress: InterfaceId, external: u32) -> bool {
        match self.world.way(IpAddr::V4(external.into())) {
            Way::Ask(next_hop) => {
                self.answering(now, World::INTERNET, next_hop) == Some(Answering::Node(Node::Interface(device, egress)))
            }
            _ => false,
        }
    }
}
