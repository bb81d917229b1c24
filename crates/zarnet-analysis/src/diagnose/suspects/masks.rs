//! What lies around devices and is not as it is there: prefix lengths, and who is on which segment.

use std::net::IpAddr;

use super::{At, Case, set};
use crate::diagnose::Cause;
use zarnet_core::net::Prefix;
use zarnet_core::plan::edit::{Edit, Table};
use zarnet_core::plan::{DeviceId, HostId, Interface, InterfaceId, SegmentId};

impl Case<'_> {
    /// Addresses that the flow and its answer had on their way.
    fn seen(&self) -> Vec<IpAddr> {
        let f = self.followed;
        let hops = f.forth.hops.iter().chain(&f.back.hops);
        let packets = hops.flat_map(|h| [Some(h.packet), h.exit.map(|e| e.packet)]).flatten();
        let ends = f.sent.iter().map(|s| s.1).chain(f.arrived.iter().map(|a| a.1));
        let mut seen: Vec<IpAddr> = packets
            .chain(ends)
            .flat_map(|p| [p.source().address, p.destination().address])
            .collect();
        seen.sort_unstable();
        seen.dedup();
        seen
    }

    /// Hosts that the flow concerns.
    fn seen_hosts(&self) -> Vec<HostId> {
        let seen = self.seen();
        let hosts = self.plan.hosts.iter().enumerate();
        hosts.filter(|(_, h)| seen.contains(&h.address)).map(|(i, _)| HostId(i as u32)).collect()
    }

    /// Prefix lengths that neighbours do not agree about.
    pub(super) fn masks(&mut self) {
        for id in self.seen_hosts() {
            let host = &self.plan.hosts[id.index()];
            for (d, i) in self.neighbours(id) {
                let addresses = self.device(d).interfaces[i.index()].addresses.iter();
                let near = addresses.copied().find(|(address, prefix)| {
                    prefix.contains(host.address) || host.prefix.contains(*address)
                });
                let Some((address, prefix)) = near.filter(|n| n.1.length() != host.prefix.length())
                else {
                    continue;
                };
                let of_interface = self.agreeing(host.segment, prefix.length(), (Some(id), None));
                let of_host =
                    self.agreeing(host.segment, host.prefix.length(), (None, Some((d, i))));
                let length = host.prefix.length();
                let is_host = of_interface + 1 >= of_host;
                if is_host {
                    self.host_mask(id, prefix.length());
                }
                self.interface_mask((d, i), (address, prefix), length);
                if !is_host {
                    self.host_mask(id, prefix.length());
                }
            }
        }
    }

    /// Interfaces on a host's segment; where nothing said which that is, those that its own prefix
    /// holds.
    fn neighbours(&self, id: HostId) -> Vec<(DeviceId, InterfaceId)> {
        let host = &self.plan.hosts[id.index()];
        let on_link: Vec<_> = self.on_segment(host.segment).collect();
        if !on_link.is_empty() {
            return on_link;
        }
        let devices = self.plan.devices.iter().enumerate();
        let all = devices.flat_map(|(d, device)| {
            let interfaces = device.interfaces.iter().enumerate();
            interfaces.map(move |(i, own)| (DeviceId(d as u16), InterfaceId(i as u16), own))
        });
        let near = all.filter(|(_, _, own)| {
            own.addresses.iter().any(|a| host.prefix.contains(a.0) || host.gateway == Some(a.0))
        });
        near.map(|(d, i, _)| (d, i)).collect()
    }

    /// How many on a segment have a prefix length, but for one host or interface.
    fn agreeing(
        &self,
        segment: SegmentId,
        length: u8,
        (host, interface): (Option<HostId>, Option<(DeviceId, InterfaceId)>),
    ) -> usize {
        let hosts = self.plan.hosts.iter().enumerate().filter(|(i, h)| {
            let is_itself = host.is_some_and(|id| id.index() == *i);
            h.segment == segment && h.prefix.length() == length && !is_itself
        });
        let interfaces = self.on_segment(segment).filter(|id| {
            let own = &self.device(id.0).interfaces[id.1.index()];
            Some(*id) != interface && own.addresses.iter().any(|a| a.1.length() == length)
        });
        hosts.count() + interfaces.count()
    }

    fn host_mask(&mut self, id: HostId, length: u8) {
        let host = &self.plan.hosts[id.index()];
        let verdict = format!(
            "{} has {}/{}, and its link is a /{length}",
            host.name,
            host.address,
            host.prefix.length()
        );
        let title = format!("give {} the prefix length /{length}", host.name);
        let edit = set(Table::Host(id), "address", format!("{}/{length}", host.address));
        self.suspect(Cause::HostMask, self.at_host(id), verdict, title, vec![edit]);
    }

    fn interface_mask(
        &mut self,
        (d, i): (DeviceId, InterfaceId),
        (address, prefix): (IpAddr, Prefix),
        length: u8,
    ) {
        let interface = &self.device(d).interfaces[i.index()];
        let verdict = format!(
            "interface {} of {} has {address}/{}, and its hosts have a /{length}",
            interface.name,
            self.device(d).name,
            prefix.length()
        );
        let title = format!("give interface {} the prefix length /{length}", interface.name);
        let (old, new) = (format!("{address}/{}", prefix.length()), format!("{address}/{length}"));
        let edit = Edit::Replace(Table::Interface(d, i), "address".to_owned(), old, new);
        let at = At::device(d, interface.place);
        self.suspect(Cause::InterfaceMask, at, verdict, title, vec![edit]);
    }

    /// Hosts and interfaces that are on another segment than their neighbours.
    pub(super) fn segments(&mut self) {
        for id in self.seen_hosts() {
            let host = &self.plan.hosts[id.index()];
            for segment in self.matching(host.segment, |i| holds(i, host.address)) {
                let name = &self.plan.segments[segment.index()].name;
                let verdict = format!("{} is on another segment than its prefix", host.name);
                let title = format!("put {} onto segment {name}", host.name);
                let edit = set(Table::Host(id), "segment", name.clone());
                self.suspect(Cause::WrongSegment, self.at_host(id), verdict, title, vec![edit]);
            }
        }
        let devices = (0..self.plan.devices.len() as u16).map(DeviceId);
        let on_the_way: Vec<DeviceId> = devices.filter(|d| self.is_on_the_way(*d)).collect();
        for id in on_the_way {
            for i in 0..self.device(id).interfaces.len() as u16 {
                self.interface_elsewhere(id, InterfaceId(i));
            }
        }
    }

    fn is_on_the_way(&self, device: DeviceId) -> bool {
        let hops = self.followed.forth.hops.iter().chain(&self.followed.back.hops);
        // who should have been asked first has a neighbour's prefix
        let seen = self.seen();
        let near = || {
            let interfaces = &self.device(device).interfaces;
            interfaces.iter().any(|i| seen.iter().any(|a| holds(i, *a)))
        };
        hops.clone().any(|h| h.device == device) || near()
    }

    /// An interface whose prefix is that of another segment: alone, and with the one that is there.
    fn interface_elsewhere(&mut self, id: DeviceId, i: InterfaceId) {
        let device = self.device(id);
        let interface = &device.interfaces[i.index()];
        if self.fits(interface, interface.segment, (id, i)) {
            return;
        }
        let segments = (0..self.plan.segments.len() as u16).map(SegmentId);
        let others: Vec<SegmentId> = segments
            .filter(|s| *s != interface.segment && !self.plan.segments[s.index()].inferred)
            .filter(|s| self.fits(interface, *s, (id, i)))
            .collect();
        for segment in others {
            let name = &self.plan.segments[segment.index()].name;
            let verdict = format!(
                "interface {} of {} is on another segment than its neighbours",
                interface.name, device.name
            );
            let at = At::device(id, interface.place);
            let edit = set(Table::Interface(id, i), "segment", name.clone());
            let title = format!("put interface {} onto segment {name}", interface.name);
            self.suspect(Cause::WrongSegment, at, verdict.clone(), title, vec![edit.clone()]);
            let crossed = device.interfaces.iter().position(|o| o.segment == segment);
            let old = &self.plan.segments[interface.segment.index()];
            if let (Some(other), false) = (crossed, old.inferred) {
                let back = Table::Interface(id, InterfaceId(other as u16));
                let edits = vec![edit, set(back, "segment", old.name.clone())];
                let title = format!(
                    "swap the segments of {} and {}",
                    interface.name, device.interfaces[other].name
                );
                self.suspect(Cause::WrongSegment, at, verdict, title, edits);
            }
        }
    }

    /// Whether somebody else on a segment has a prefix, or is in that, of an interface.
    fn fits(
        &self,
        interface: &Interface,
        segment: SegmentId,
        own: (DeviceId, InterfaceId),
    ) -> bool {
        let hosts = self.plan.hosts.iter().filter(|h| h.segment == segment);
        let mut others = self.on_segment(segment).filter(|o| *o != own);
        let is_public = || interface.addresses.iter().any(|a| !is_private(a.0));
        hosts.clone().any(|h| holds(interface, h.address))
            || others.any(|(d, i)| self.addresses(d, i).any(|a| holds(interface, a)))
            || self.is_internet(segment) && is_public()
    }

    /// Declared segments, but for one, with an interface that is as wanted.
    fn matching(&self, but: SegmentId, is: impl Fn(&Interface) -> bool) -> Vec<SegmentId> {
        let segments = (0..self.plan.segments.len() as u16).map(SegmentId);
        let others =
            segments.filter(|s| *s != but && !self.plan.segments[s.index()].inferred).filter(|s| {
                self.on_segment(*s).any(|(d, i)| is(&self.device(d).interfaces[i.index()]))
            });
        others.collect()
    }
}

/// Whether an address is in a prefix of an interface.
fn holds(interface: &Interface, address: IpAddr) -> bool {
    interface.addresses.iter().any(|a| a.1.contains(address))
}

/// RFC 1918, RFC 6598, RFC 4193.
pub(super) fn is_private(address: IpAddr) -> bool {
    match address {
        IpAddr::V4(a) => a.is_private() || a.to_bits() >> 22 == 0x6440_0000 >> 22,
        IpAddr::V6(a) => a.is_unique_local(),
    }
}
