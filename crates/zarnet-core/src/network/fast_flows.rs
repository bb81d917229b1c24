//! Flows and packets on fast paths: found beforehand, and entered at once.

use std::net::IpAddr;

use super::fast_paths::{FastFlow, FastKind, FastPaths, ShortWay};
use super::world::{Answering, Node, Way, World};
use super::{Network, Origin};
use crate::device::{Device, FastOutcome, FastPacket, FastPath, FlowSchedule, Key};
use crate::net::{Instant, IntervalMap, Signal, is_link_local};
use crate::plan::{DeviceId, InterfaceId, SegmentId};
use crate::traffic::{Flow, Party, Seen};

/// In larger networks finding every fast path would cost more than they save: devices times places
/// where the way changes.
const MOST_WORK: usize = 4_000_000;

impl Network {
    /// Finds fast paths, if that was not done since something was last done to a device.
    pub(crate) fn prepare_fast_paths(&mut self) {
        if !self.fast_paths.found {
            self.fast_paths = self.find_fast_paths();
        }
    }

    /// One fast path for each interface that is the only way out of an inner segment.
    fn find_fast_paths(&self) -> FastPaths {
        let edges = self.world.edges();
        if edges.len().saturating_mul(self.devices.len()) > MOST_WORK {
            return FastPaths { found: true, issue: self.fast_paths.issue, ..FastPaths::default() };
        }
        let (mut list, mut segments): (Vec<(DeviceId, FastPath)>, Vec<SegmentId>) =
            (Vec::new(), Vec::new());
        for (d, device) in self.plan.devices.iter().enumerate() {
            for (i, interface) in device.interfaces.iter().enumerate() {
                let (device, ingress) = (DeviceId(d as u16), InterfaceId(i as u16));
                let segment = self.world.number(interface.segment);
                let alone = self.world.attached(segment).len() == 1 && segment != World::INTERNET;
                let mut prefixes =
                    interface.addresses.iter().map(|a| a.1).filter(|p| p.first().is_ipv4());
                let (Some(prefix), None, true) = (prefixes.next(), prefixes.next(), alone) else {
                    continue;
                };
                let leads_out = |egress: InterfaceId, to: IpAddr, next_hop: IpAddr| {
                    let exit = &self.plan.devices[device.index()].interfaces[egress.index()];
                    self.world.number(exit.segment) == World::INTERNET
                        && !self.world.checks_sources_of(device, egress)
                        && !prefix.contains(to)
                        && self.world.way(to) == Way::Peer
                        && self.world.answering(World::INTERNET, next_hop)
                            == Some(Answering::Provider)
                };
                if let Some(path) = self.devices[d].fast_path(ingress, &edges, leads_out) {
                    list.push((device, path));
                    segments.push(segment);
                }
            }
        }
        let path_of = |n: u64| {
            let address = IpAddr::V4(u32::try_from(n).unwrap_or(u32::MAX).into());
            let Some(Origin::Undeclared(segment)) = self.world.origin(address) else { return None };
            if is_link_local(address) {
                return None;
            }
            let path = segments.iter().position(|s| *s == segment)?;
            let rule = (*list[path].1.rules().get(n))?;
            Some((path as u16, rule))
        };
        let rules = list.iter().flat_map(|l| l.1.rules().edges());
        let edges = edges.iter().chain(rules).copied().collect();
        let by_source = (!list.is_empty()).then(|| {
            IntervalMap::from_edges(edges, path_of).favouring(Option::is_some).by_octets()
        });
        let devices = || list.iter().map(|l| &self.devices[l.0.index()]);
        let (have_far_ports, are_careful) =
            (devices().any(Device::has_far_ports), devices().any(Device::is_careful));
        let issue = self.fast_paths.issue;
        FastPaths { list, have_far_ports, are_careful, by_source, issue, found: true }
    }

    /// What can be known of a flow before its turn comes, if it is on a fast path.
    #[inline(always)]
    pub(crate) fn fast_flow(&self, flow: &Flow) -> Option<FastFlow> {
        let Flow { protocol, source: Party::Address(from), source_port: Some(port), .. } = *flow
        else {
            return None;
        };
        let Party::Address(to) = flow.destination else { return None };
        let source = (Key::of(from)?, port);
        let destination = (Key::of(to)?, flow.destination_port.unwrap_or(0));
        let (path, rule) = self.fast_paths.of(source.0)?;
        let (device, on) = &self.fast_paths.list[usize::from(path)];
        let at = &self.devices[device.index()];
        let key = at.with_external(at.flow_key(on, rule, protocol, source, destination)?);
        Some(FastFlow { kind: FastKind::Flow, key, device: *device, issue: self.fast_paths.issue })
    }

    /// The same of a packet that was seen on an interface.
    #[inline(always)]
    pub(crate) fn fast_packet(&self, seen: &Seen) -> Option<FastFlow> {
        let (from, to) = (seen.packet.source(), seen.packet.destination());
        let (from, to) = ((Key::of(from.address)?, from.port), (Key::of(to.address)?, to.port));
        // picked, not decided: which way the next packet goes is hard to guess
        let (forth, back) = (self.fast_paths.of(from.0), self.fast_paths.of(to.0));
        let goes_back = usize::from(forth.is_none());
        let kind = [FastKind::Forth, FastKind::Back][goes_back];
        let (path, rule) = [forth, back][goes_back]?;
        let (source, destination) = ([from, to][goes_back], [to, from][goes_back]);
        let (device, on) = &self.fast_paths.list[usize::from(path)];
        if *device != seen.device || !on.shows(seen.interface) {
            return None;
        }
        let at = &self.devices[device.index()];
        let key = at.flow_key(on, rule, seen.packet.protocol, source, destination)?;
        Some(FastFlow { kind, key, device: *device, issue: self.fast_paths.issue })
    }

    /// Reads what flows and packets will be looked up by, all at once. In loops of a few steps
    /// each: of longer ones the processor does not see enough at a time to wait for many places
    /// together.
    pub(crate) fn prefetch(&mut self, all: &mut [ShortWay]) {
        let device = |b: &FastFlow| &self.devices[b.device.index()];
        let (mut places, mut flows, mut packets, mut ways) = (0, false, false, false);
        for short in all.iter() {
            match short {
                ShortWay::Fast(flow) => {
                    places ^= device(flow).prefetch_index(&flow.key);
                    flows |= flow.kind == FastKind::Flow;
                    packets |= flow.kind != FastKind::Flow;
                }
                ShortWay::Known(_) => ways = true,
                ShortWay::None => {}
            }
        }
        std::hint::black_box(places);
        if flows {
            let flows =
                || all.iter().filter_map(ShortWay::fast).filter(|b| b.kind == FastKind::Flow);
            let unknown = || flows().filter(|b| !b.key.knows_external());
            let hosts = unknown().fold(0, |sum, b| sum ^ device(b).prefetch_host(&b.key));
            std::hint::black_box(hosts);
            if self.fast_paths.have_far_ports {
                let ports = flows().fold(0, |sum, b| sum ^ device(b).prefetch_port(&b.key));
                std::hint::black_box(ports);
            }
            if self.fast_paths.are_careful {
                let blocks = flows().fold(0, |sum, b| sum ^ device(b).prefetch_block(&b.key));
                std::hint::black_box(blocks);
            }
        }
        if packets {
            let mut back = 0;
            for short in all.iter_mut() {
                if let ShortWay::Fast(flow) = short
                    && flow.kind != FastKind::Flow
                {
                    let device = device(flow);
                    device.find_mapping(&mut flow.key);
                    back ^= device.prefetch_reverse(&flow.key);
                }
            }
            let fast = all.iter().filter_map(ShortWay::fast);
            let found = fast.fold(0, |sum, b| sum ^ device(b).prefetch_mapping(&b.key));
            std::hint::black_box((back, found));
        }
        if ways {
            self.prefetch_ways(all);
        }
    }

    /// Enters a packet that was seen on an interface.
    #[inline(always)]
    pub(crate) fn enter_packet(
        &mut self,
        now: Instant,
        flow: &FastFlow,
        signal: Signal,
    ) -> FastPacket {
        let FastFlow { kind, key, device, issue } = flow;
        if *issue != self.fast_paths.issue {
            return FastPacket::SlowPath;
        }
        self.devices[device.index()].enter_packet(now, key, *kind == FastKind::Back, signal)
    }

    /// Enters a whole flow at once. `false`: nothing was done, and it has to go step by step.
    #[inline]
    pub(crate) fn enter_flow(
        &mut self,
        now: Instant,
        flow: &FastFlow,
        schedule: FlowSchedule,
    ) -> bool {
        let device = flow.device;
        // something was done to a device since
        if flow.issue != self.fast_paths.issue {
            return false;
        }
        match self.devices[device.index()].enter_flow(now, &flow.key, schedule) {
            FastOutcome::Entered => true,
            FastOutcome::SlowPath => false,
            FastOutcome::Ask(external, egress) => {
                let returns = self.leads_back(now, device, egress, external);
                self.devices[device.index()].note_return(external, returns);
                returns && self.enter_flow(now, flow, schedule)
            }
        }
    }

    /// Whether what is sent to an external address from the internet comes in by an interface.
    fn leads_back(
        &mut self,
        now: Instant,
        device: DeviceId,
        egress: InterfaceId,
        external: Key,
    ) -> bool {
        match self.world.way(external.address()) {
            Way::Ask(next_hop) => {
                self.answering(now, World::INTERNET, next_hop)
                    == Some(Answering::Node(Node::Interface(device, egress)))
            }
            Way::Peer | Way::Unrouted | Way::Special => false,
        }
    }
}
