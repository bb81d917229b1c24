//! Which supplies a port is of, and how much there is of each.

use std::net::IpAddr;

use super::{History, PortLines, Supply};
use crate::device::bindings::{Bindings, NONE, PortMap, PortSpan};
use crate::device::compiled::Compiled;
use crate::device::key::Key;
use crate::net::Protocol;
use crate::plan::Target;

impl History {
    /// Which range of translated ports a port lies in: as many as there are where it lies in none.
    #[inline(always)]
    fn class_of(&self, port: u16) -> usize {
        let classes = &self.compiled.plan.behaviour.port_classes;
        let is_in = |c: &crate::plan::PortClass| (c.into.0..=c.into.1).contains(&port);
        classes.iter().position(is_in).unwrap_or(classes.len())
    }

    #[inline(always)]
    pub(super) fn port_lines(
        &mut self,
        bindings: &Bindings,
        port_table: u32,
        port: u16,
    ) -> PortLines {
        let (class, classes) =
            (self.class_of(port), self.compiled.plan.behaviour.port_classes.len());
        let place = port_table as usize * (classes + 1) + class;
        match self.port_tables.get(place) {
            Some(Some(known)) => *known,
            _ => self.learn_port_lines(bindings, (port_table, class), place),
        }
    }

    #[cold]
    #[inline(never)]
    fn learn_port_lines(
        &mut self,
        bindings: &Bindings,
        (port_table, class): (u32, usize),
        place: usize,
    ) -> PortLines {
        // a mapping may be older than the classes
        let range = self.compiled.plan.behaviour.port_classes.get(class);
        let range = range.map_or((1, u16::MAX), |c| c.into);
        let (external, protocol) = bindings.externals.owner(port_table);
        let address = bindings.externals.get(external).address;
        let lines = self.new_port_lines(address, protocol, range);
        if place >= self.port_tables.len() {
            self.port_tables.resize(place + 1, None);
        }
        self.port_tables[place] = Some(lines);
        lines
    }

    pub(super) fn new_port_lines(
        &mut self,
        key: Key,
        protocol: Protocol,
        range: PortSpan,
    ) -> PortLines {
        let (compiled, address) = (self.compiled.clone(), key.address());
        let usable = usable_ports(&compiled, address, protocol, range);
        let blocks = compiled.plan.behaviour.block_size.map(|size| {
            let size = u64::from(size.max(1));
            (u64::from(range.1 - range.0) + 1) / size
        });
        let shared = compiled.targets.holding(key).iter().map(|t| compiled.targets.get(*t));
        let shared = shared.filter(|t| !t.whole && t.space.count() > 1).take(2);
        let on_all: Vec<(Target, u64, u64)> = shared
            .map(|target| {
                let supply = Supply::PortsOfAll(target.target, protocol, range);
                let known = self.usable_on_all.get(&supply).copied();
                let usable = known
                    .unwrap_or_else(|| usable_on_all(&compiled, target.target, protocol, range));
                (target.target, usable, u64::from(target.space.count()))
            })
            .collect();
        let mut lines = PortLines { ports: [NONE; 3], blocks: [NONE; 3] };
        lines.ports[0] = self.line(Supply::Ports(address, protocol, range), Some(usable));
        if let Some(blocks) = blocks {
            lines.blocks[0] = self.line(Supply::Blocks(address, protocol, range), Some(blocks));
        }
        for (n, (target, usable, addresses)) in on_all.into_iter().enumerate() {
            let supply = Supply::PortsOfAll(target, protocol, range);
            self.usable_on_all.insert(supply, usable);
            lines.ports[n + 1] = self.line(supply, Some(usable));
            if let Some(blocks) = blocks {
                let supply = Supply::BlocksOfAll(target, protocol, range);
                lines.blocks[n + 1] = self.line(supply, Some(blocks * addresses));
            }
        }
        let [_, others @ ..] = lines.ports;
        let mut wider = [NONE; 5];
        wider[..2].copy_from_slice(&others);
        wider[2..].copy_from_slice(&lines.blocks);
        self.wider[lines.ports[0] as usize] = wider;
        lines
    }
}

/// Ports of a range that can be handed out on an address.
pub(in crate::device) fn usable_ports(
    compiled: &Compiled,
    address: IpAddr,
    protocol: Protocol,
    range: PortSpan,
) -> u64 {
    let mut ports = PortMap::new();
    compiled.reserved(address, protocol, |first, last| ports.take_all(first, last));
    ports.count_free(&[range], None).into()
}

/// The same over all addresses of a target.
fn usable_on_all(compiled: &Compiled, target: Target, protocol: Protocol, range: PortSpan) -> u64 {
    let Some(config) = compiled.targets.list.iter().find(|t| t.target == target && !t.whole) else {
        return 0;
    };
    let on = |n: u32| usable_ports(compiled, config.space.nth(n).address(), protocol, range);
    // ports that fixed rules hold are few; of a wide pool they are looked for on some addresses
    // only
    const LOOKED_AT: u32 = 256;
    let (count, some) = (config.space.count(), config.space.count().min(LOOKED_AT));
    (0..some).map(on).sum::<u64>() + u64::from(count - some) * (u64::from(range.1 - range.0) + 1)
}
