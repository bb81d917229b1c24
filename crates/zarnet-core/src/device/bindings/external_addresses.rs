//! The external addresses in use: who has borrowed one whole, which ports of it are taken and by what.

use std::collections::HashMap;

use foldhash::fast::RandomState;

use super::arena::NONE;
use super::port_map::PortMap;
use super::port_table::{PAGED, PortTable, page_slot};
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
    pages: [u32; PAGED.len()],
}

impl ExternalAddress {
    /// The page of a protocol, if it has been used.
    pub(in crate::device) fn page(&self, protocol: Protocol) -> Option<u32> {
        let page = self.pages[page_slot(protocol)?];
        (page != NONE).then_some(page)
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
    pages: Vec<PortTable>,
    /// Whose each page is: the position of its address, and the protocol. Apart from the pages, as what follows: all of
    /// them together are few lines of a cache.
    owners: Vec<(u32, Protocol)>,
    /// The port last handed out, by page and class, for sequential assignment; 0 before the first.
    lasts: Vec<u16>,
    classes: usize,
    /// Further mappings of a port, where ports are overloaded.
    shared: HashMap<(u32, u16), Vec<u32>, RandomState>,
    resting: RestingPorts,
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
            let pages = [NONE; PAGED.len()];
            self.list.push(ExternalAddress { address, whole: NONE, endpoints: 0, returns: None, pages });
            self.list.len() as u32 - 1
        })
    }

    pub(in crate::device) fn page(&self, page: u32) -> &PortTable {
        &self.pages[page as usize]
    }

    pub(super) fn page_mut(&mut self, page: u32) -> &mut PortTable {
        &mut self.pages[page as usize]
    }

    /// Whose a page is: the position of its address, and the protocol.
    #[inline(always)]
    pub(in crate::device) fn owner(&self, page: u32) -> (u32, Protocol) {
        self.owners[page as usize]
    }

    /// The position of a page's address.
    #[inline(always)]
    pub(in crate::device) fn external_of(&self, page: u32) -> u32 {
        self.owner(page).0
    }

    /// The protocol of a page.
    #[inline(always)]
    pub(in crate::device) fn protocol_of(&self, page: u32) -> Protocol {
        self.owner(page).1
    }

    /// The port last handed out on a page, in a class; 0 before the first.
    #[inline(always)]
    pub(in crate::device) fn last(&self, page: u32, class: usize) -> u16 {
        self.lasts[page as usize * self.classes + class]
    }

    #[inline(always)]
    pub(super) fn set_last(&mut self, page: u32, class: usize, port: u16) {
        self.lasts[page as usize * self.classes + class] = port;
    }

    /// Reads the place of the port behind the one handed out last.
    #[inline(always)]
    pub(in crate::device) fn touch_next(&self, page: u32) -> u32 {
        let (next, page) = (self.last(page, 0).wrapping_add(1), self.page(page));
        page.held_by(next) ^ u32::from(page.ports.is_free(next))
    }

    /// The page of an address and protocol, if it has been used.
    pub(in crate::device) fn find_page(&self, address: Key, protocol: Protocol) -> Option<u32> {
        self.get(self.find(address)?).page(protocol)
    }

    /// The page of an address and protocol, new if need be: then `reserve` takes out what is never handed out.
    pub(super) fn obtain_page(
        &mut self,
        address: Key,
        protocol: Protocol,
        classes: usize,
        reserve: impl FnOnce(&mut PortMap),
    ) -> u32 {
        let external = self.obtain(address);
        let slot = page_slot(protocol).unwrap_or(0);
        if self.list[external as usize].pages[slot] == NONE {
            let mut ports = PortMap::new();
            reserve(&mut ports);
            self.pages.push(PortTable::new(ports));
            self.owners.push((external, protocol));
            self.classes = classes;
            self.lasts.resize(self.pages.len() * classes, 0);
            self.list[external as usize].pages[slot] = self.pages.len() as u32 - 1;
        }
        self.list[external as usize].pages[slot]
    }

    /// Every mapping at a port.
    pub(in crate::device) fn mappings(&self, page: u32, port: u16) -> impl Iterator<Item = u32> + '_ {
        let more = if self.shared.is_empty() { None } else { self.shared.get(&(page, port)) };
        self.page(page).mapping(port).into_iter().chain(more.into_iter().flatten().copied())
    }

    /// Gives a port to a mapping, and tells whether it was free, whose port it is, and how many mappings are on that then.
    #[inline(always)]
    pub(super) fn bind(&mut self, page: u32, port: u16, mapping: u32) -> (bool, u32, u32) {
        let p = &mut self.pages[page as usize];
        let was_free = p.held_by(port) == 0;
        if !was_free {
            self.shared.entry((page, port)).or_default().push(mapping);
        } else {
            *p.holder(port) = mapping + 1;
            p.ports.take(port);
            self.resting.end(page, port, None);
        }
        let external = self.owners[page as usize].0;
        let endpoints = &mut self.list[external as usize].endpoints;
        *endpoints += 1;
        (was_free, external, *endpoints)
    }

    /// Takes a port from a mapping, and tells whether no other has it: then it is free at once, or rests until `rest_until`
    /// but for `host`.
    #[inline]
    pub(super) fn unbind(&mut self, page: u32, port: u16, mapping: u32, host: Key, rest_until: Option<u64>) -> bool {
        let p = &mut self.pages[page as usize];
        self.list[self.owners[page as usize].0 as usize].endpoints -= 1;
        let more = if self.shared.is_empty() { None } else { self.shared.get_mut(&(page, port)) };
        if let Some(more) = more {
            if p.held_by(port) == mapping + 1 {
                *p.holder(port) = more.remove(0) + 1;
            } else {
                more.retain(|m| *m != mapping);
            }
            if more.is_empty() {
                self.shared.remove(&(page, port));
            }
            return false;
        }
        *p.holder(port) = 0;
        match rest_until {
            Some(until) => self.resting.put(page, port, host, until),
            None => p.release(port),
        }
        true
    }

    /// Counts one mapping less on a page's address, and gives the address if it is out of use.
    pub(super) fn leave(&mut self, page: u32) -> Option<Key> {
        let external = self.external_of(page);
        let external = self.get_mut(external);
        external.endpoints -= 1;
        (!external.is_used()).then_some(external.address)
    }

    /// Wakes the ports whose rest is over.
    pub(super) fn wake(&mut self, now: u64) {
        while let Some((page, port, until)) = self.resting.next_over(now) {
            if self.resting.end(page, port, Some(until)) {
                self.pages[page as usize].release(port);
            }
        }
    }

    /// The addresses in use.
    pub(in crate::device) fn used(&self) -> impl Iterator<Item = Key> + '_ {
        self.list.iter().filter(|e| e.is_used()).map(|e| e.address)
    }

    /// Finds anew which ports can be handed out: all but those that `reserve` takes out, those in use, and those that rest.
    /// Blocks are forgotten.
    pub(super) fn reopen(&mut self, classes: usize, reserve: impl Fn(Key, Protocol, &mut PortMap)) {
        let before =
            |n: usize| if n % classes < self.classes { self.last((n / classes) as u32, n % classes) } else { 0 };
        (self.lasts, self.classes) = ((0..self.pages.len() * classes).map(before).collect(), classes);
        for (page, (external, protocol)) in self.pages.iter_mut().zip(&self.owners) {
            page.ports = PortMap::new();
            reserve(self.list[*external as usize].address, *protocol, &mut page.ports);
            page.withdrawn.clear();
            for port in 0..=u16::MAX {
                if page.held_by(port) != 0 {
                    page.keep(port);
                }
            }
            page.blocks.clear();
        }
        for (page, port) in self.resting.all() {
            self.pages[page as usize].keep(port);
        }
    }

    /// Forgets all but what was counted: what sequences and rests remember.
    pub(in crate::device) fn forget(&mut self) {
        let list = std::mem::take(&mut self.list);
        let by_address = std::mem::take(&mut self.by_address);
        *self = Self { list, by_address, ..Self::default() };
        self.list.iter_mut().for_each(|e| (e.returns, e.pages) = (None, [NONE; PAGED.len()]));
    }

    /// Forgets which answers come back: something has been done to the device.
    pub(in crate::device) fn forget_returns(&mut self) {
        self.list.iter_mut().for_each(|e| e.returns = None);
    }

    /// When the next rest is over.
    pub(super) fn next_wake(&self) -> u64 {
        self.resting.next_end()
    }

    /// Resting ports of a page that `host` had: to it they are free, unless a plan has taken them out since.
    pub(in crate::device) fn resting_for(&self, page: u32, host: Key) -> impl Iterator<Item = u16> + '_ {
        self.resting.of(page, host).filter(move |port| !self.page(page).is_withdrawn(*port))
    }
}
