//! The external addresses in use: who has borrowed one whole, which ports of it are taken and by
//! what.

use std::collections::HashMap;

use foldhash::fast::RandomState;

use super::arena::NONE;
use super::blocks::Blocks;
use super::own_ports::{AllOwnPorts, OwnPorts};
use super::port_map::PortMap;
use super::port_table::{PortTable, TABLED, table_slot};
use super::resting_ports::RestingPorts;
use crate::device::key::Key;
use crate::net::Protocol;

/// An external address that has been used.
#[derive(Debug, Clone)]
pub(in crate::device) struct ExternalAddress {
    pub address: Key,
    /// The address mapping that has borrowed it whole.
    pub whole: u32,
    /// Endpoint and portless mappings on it.
    pub endpoints: u32,
    /// Whether answers come in by the interface that it is used on; not known at first.
    pub returns: Option<bool>,
    port_tables: [u32; TABLED.len()],
}

impl ExternalAddress {
    /// The port table of a protocol, if it has been used.
    pub(in crate::device) fn port_table(&self, protocol: Protocol) -> Option<u32> {
        let port_table = self.port_tables[table_slot(protocol)?];
        (port_table != NONE).then_some(port_table)
    }

    pub(in crate::device) fn is_used(&self) -> bool {
        self.whole != NONE || self.endpoints > 0
    }
}

/// Every external address that has been used, the ports of each, and what rests on them.
#[derive(Debug, Clone, Default)]
pub(in crate::device) struct ExternalAddresses {
    by_address: HashMap<Key, u32, RandomState>,
    list: Vec<ExternalAddress>,
    port_tables: Vec<PortTable>,
    /// Whose each port table is: the position of its address, and the protocol. Apart from the
    /// port tables, as what follows: all of them together are few lines of a cache.
    owners: Vec<(u32, Protocol)>,
    /// The port last handed out, by port table and class, for sequential assignment; 0 before the
    /// first.
    lasts: Vec<u16>,
    classes: usize,
    resting: RestingPorts,
    /// What hosts have on the port tables: blocks, and what rests.
    own: AllOwnPorts,
}

impl ExternalAddresses {
    /// The position of an address that has been used.
    pub(in crate::device) fn find(&self, address: Key) -> Option<u32> {
        self.by_address.get(&address).copied()
    }

    pub(in crate::device) fn get(&self, external: u32) -> &ExternalAddress {
        &self.list[external as usize]
    }

    pub(in crate::device) fn get_mut(&mut self, external: u32) -> &mut ExternalAddress {
        &mut self.list[external as usize]
    }

    /// The position of an address, new if need be.
    pub(in crate::device) fn obtain(&mut self, address: Key) -> u32 {
        *self.by_address.entry(address).or_insert_with(|| {
            let port_tables = [NONE; TABLED.len()];
            self.list.push(ExternalAddress {
                address,
                whole: NONE,
                endpoints: 0,
                returns: None,
                port_tables,
            });
            self.list.len() as u32 - 1
        })
    }

    pub(in crate::device) fn port_table(&self, port_table: u32) -> &PortTable {
        &self.port_tables[port_table as usize]
    }

    pub(super) fn port_table_mut(&mut self, port_table: u32) -> &mut PortTable {
        &mut self.port_tables[port_table as usize]
    }

    /// Whose a port table is: the position of its address, and the protocol.
    #[inline(always)]
    pub(in crate::device) fn owner(&self, port_table: u32) -> (u32, Protocol) {
        self.owners[port_table as usize]
    }

    /// The position of a port table's address.
    #[inline(always)]
    pub(in crate::device) fn external_of(&self, port_table: u32) -> u32 {
        self.owner(port_table).0
    }

    /// The protocol of a port table.
    #[inline(always)]
    pub(in crate::device) fn protocol_of(&self, port_table: u32) -> Protocol {
        self.owner(port_table).1
    }

    /// The port last handed out on a port table, in a class; 0 before the first.
    #[inline(always)]
    pub(in crate::device) fn last(&self, port_table: u32, class: usize) -> u16 {
        self.lasts[port_table as usize * self.classes + class]
    }

    #[inline(always)]
    pub(super) fn set_last(&mut self, port_table: u32, class: usize, port: u16) {
        self.lasts[port_table as usize * self.classes + class] = port;
    }

    /// The port table of an address and protocol, if it has been used.
    pub(in crate::device) fn find_port_table(
        &self,
        address: Key,
        protocol: Protocol,
    ) -> Option<u32> {
        self.get(self.find(address)?).port_table(protocol)
    }

    /// The port_table of an address and protocol, new if need be: then `reserve` takes out what is
    /// never handed out.
    pub(super) fn obtain_port_table(
        &mut self,
        address: Key,
        protocol: Protocol,
        classes: usize,
        reserve: impl FnOnce(&mut PortMap),
    ) -> u32 {
        let external = self.obtain(address);
        let slot = table_slot(protocol).unwrap_or(0);
        if self.list[external as usize].port_tables[slot] == NONE {
            let mut ports = PortMap::new();
            reserve(&mut ports);
            self.port_tables.push(PortTable::new(ports, classes));
            self.owners.push((external, protocol));
            self.classes = classes;
            self.lasts.resize(self.port_tables.len() * classes, 0);
            self.list[external as usize].port_tables[slot] = self.port_tables.len() as u32 - 1;
        }
        self.list[external as usize].port_tables[slot]
    }

    /// A host's mapping has a port, which `was_free` but for what rests: tells whose it is, and how
    /// many mappings are on that then.
    #[inline(always)]
    pub(super) fn bind(
        &mut self,
        port_table: u32,
        port: u16,
        host: Key,
        was_free: bool,
    ) -> (u32, u32) {
        if was_free {
            let ports = &mut self.port_tables[port_table as usize].ports;
            if !ports.is_free(port) {
                self.resting.end(&mut self.own, port_table, port, host);
            }
            ports.take(port);
        }
        let external = self.owners[port_table as usize].0;
        let endpoints = &mut self.list[external as usize].endpoints;
        *endpoints += 1;
        (external, *endpoints)
    }

    /// A host's mapping has a port no more. If it `is_left` to nobody, it is free at once, or rests
    /// until `rest_until` but for the host.
    #[inline]
    pub(super) fn unbind(
        &mut self,
        port_table: u32,
        port: u16,
        host: Key,
        is_left: bool,
        rest_until: Option<u64>,
    ) {
        self.list[self.owners[port_table as usize].0 as usize].endpoints -= 1;
        match rest_until {
            _ if !is_left => {}
            Some(until) => self.resting.put(&mut self.own, port_table, port, host, until),
            None => self.port_tables[port_table as usize].release(port),
        }
    }

    /// Counts one mapping less on a port table's address, and gives the address if it is out of
    /// use.
    pub(super) fn leave(&mut self, port_table: u32) -> Option<Key> {
        let external = self.external_of(port_table);
        let external = self.get_mut(external);
        external.endpoints -= 1;
        (!external.is_used()).then_some(external.address)
    }

    /// Wakes the ports whose rest is over.
    pub(super) fn wake(&mut self, now: u64) {
        while let Some((port_table, port)) = self.resting.next_over(&mut self.own, now) {
            if let Some(ahead) = self.resting.touch_ahead(&self.own) {
                std::hint::black_box(self.port_table(ahead.0).ports.is_free(ahead.1));
            }
            self.port_tables[port_table as usize].release(port);
        }
    }

    /// The addresses in use.
    pub(in crate::device) fn used(&self) -> impl Iterator<Item = Key> + '_ {
        self.list.iter().filter(|e| e.is_used()).map(|e| e.address)
    }

    /// Finds anew which ports can be handed out: all but those that `reserve` takes out, those that
    /// are `held`, each once, and those that rest. Blocks are forgotten.
    pub(super) fn reopen(
        &mut self,
        classes: usize,
        held: impl Iterator<Item = (u32, u16)>,
        reserve: impl Fn(Key, Protocol, &mut PortMap),
    ) {
        let before = |n: usize| {
            if n % classes < self.classes {
                self.last((n / classes) as u32, n % classes)
            } else {
                0
            }
        };
        (self.lasts, self.classes) =
            ((0..self.port_tables.len() * classes).map(before).collect(), classes);
        for (port_table, (external, protocol)) in self.port_tables.iter_mut().zip(&self.owners) {
            port_table.ports = PortMap::new();
            reserve(self.list[*external as usize].address, *protocol, &mut port_table.ports);
            port_table.withdrawn.clear();
            port_table.blocks = Blocks::new(classes);
        }
        self.own.clear_blocks();
        for (port_table, port) in held.chain(self.resting.all()) {
            self.port_tables[port_table as usize].keep(port);
        }
    }

    /// Forgets all but what was counted: what sequences and rests remember.
    pub(in crate::device) fn forget(&mut self) {
        let list = std::mem::take(&mut self.list);
        let by_address = std::mem::take(&mut self.by_address);
        *self = Self { list, by_address, ..Self::default() };
        self.list
            .iter_mut()
            .for_each(|e| (e.returns, e.port_tables) = (None, [NONE; TABLED.len()]));
    }

    /// Forgets which answers come back: something has been done to the device.
    pub(in crate::device) fn forget_returns(&mut self) {
        self.list.iter_mut().for_each(|e| e.returns = None);
    }

    /// When the next rest is over.
    pub(super) fn next_wake(&self) -> u64 {
        self.resting.next_end()
    }

    /// Whether any host has anything on a port table besides mappings.
    pub(super) fn has_own_ports(&self) -> bool {
        !self.own.is_empty()
    }

    /// What a host has on a port table besides mappings, if it has anything.
    #[inline(always)]
    pub(in crate::device) fn own_ports(&self, port_table: u32, host: Key) -> Option<&OwnPorts> {
        self.own.of(port_table, host)
    }

    /// Reads where the parts of a port table are.
    #[inline(always)]
    pub(super) fn touch_table(&self, port_table: u32) -> u32 {
        self.port_table(port_table).touch()
    }

    /// Reads where is noted what a host has on a port table besides mappings.
    #[inline(always)]
    pub(super) fn touch_own(&self, port_table: u32, host: Key) -> u64 {
        self.own.touch(port_table, host)
    }

    /// Reads what there is of the first block of a host on a port table.
    #[inline(always)]
    pub(super) fn touch_first_block(&self, port_table: u32, host: Key) -> u32 {
        let block = self.own_ports(port_table, host).and_then(OwnPorts::first_block);
        block.map_or(0, |block| self.touch_block(port_table, block))
    }

    /// Resting ports of a port table that a host had: to it they are free, unless a plan has taken
    /// them out since. In no order.
    pub(in crate::device) fn resting_for<'a>(
        &'a self,
        port_table: u32,
        own: Option<&'a OwnPorts>,
    ) -> impl Iterator<Item = u16> + 'a {
        own.into_iter()
            .flat_map(|own| self.resting.of(own))
            .filter(move |port| !self.port_table(port_table).is_withdrawn(*port))
    }

    /// Counts one more port in use of a block, and tells whether it is the first.
    pub(super) fn take_block(
        &mut self,
        port_table: u32,
        (class, number): (usize, u16),
        host: Key,
    ) -> bool {
        let first = self.port_tables[port_table as usize].blocks.take(class, number, host);
        if first {
            self.own.add_block(port_table, host, class, number);
        }
        first
    }

    /// Reads what there is of a block.
    #[inline(always)]
    pub(in crate::device) fn touch_block(&self, port_table: u32, block: (usize, u16)) -> u32 {
        self.port_table(port_table).blocks.touch(block.0, block.1)
    }

    /// Counts one port less of a block, and tells whether it was the last.
    pub(super) fn release_block(&mut self, port_table: u32, (class, number): (usize, u16)) -> bool {
        let owner = self.port_tables[port_table as usize].blocks.release(class, number);
        if let Some(owner) = owner {
            self.own.remove_block(port_table, owner, class, number);
        }
        owner.is_some()
    }
}
