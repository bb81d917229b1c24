//! Which supplies a port is of, and how much there is of each.

use std::net::IpAddr;

use super::{History, PortLines, Supply};
use crate::device::bindings::{Bindings, NONE, PortMap, PortSpan};
use crate::device::compiled::Compiled;
use crate::device::key::Key;
use crate::net::Protocol;
use crate::plan::Target;

impl History {
    /// The range of translated ports that a port lies in, and its number among those of the device.
    fn range_of(&self, port: u16) -> (u8, PortSpan) {
        let ranges = self.compiled.plan.behaviour.port_classes.iter().map(|c| c.into);
        let found = ranges.enumerate().find(|(_, r)| (r.0..=r.1).contains(&port));
        // a mapping may be older than the classes
        found.map_or((u8::MAX, (1, u16::MAX)), |(i, r)| (i as u8, r))
    }

    pub(super) fn port_lines(
        &mut self,
        bindings: &Bindings,
        port_table: u32,
        port: u16,
    ) -> PortLines {
        let (class, range) = self.range_of(port);
        let key = (port_table, class);
        if let Some((_, known)) = self.last_lines.filter(|l| l.0 == key) {
            return known;
        }
        let lines = match self.port_tables.get(&key) {
            Some(known) => *known,
            None => {
                let (external, protocol) = bindings.externals.owner(port_table);
                let address = bindings.externals.get(external).address;
                let lines = self.new_port_lines(address, protocol, range);
                self.port_tables.insert(key, lines);
                lines
            }
        };
        self.last_lines = Some((key, lines));
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
