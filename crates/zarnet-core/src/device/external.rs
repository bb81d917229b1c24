//! The external addresses in use: who has borrowed one whole, which ports of it are taken and by what.

use std::collections::{HashMap, VecDeque};

use foldhash::fast::RandomState;

use super::Peak;
use super::ports::{PortMap, zeros};
use super::session::NONE;
use crate::net::Protocol;

/// The protocols that are translated by port or query id; each has a page of an address.
const PAGED: [Protocol; 5] = [Protocol::TCP, Protocol::UDP, Protocol::ICMP, Protocol::SCTP, Protocol::DCCP];

/// Which page of an address is a protocol's: looked up, for protocols come in no order.
fn page_slot(protocol: Protocol) -> Option<usize> {
    const SLOTS: [u8; 256] = {
        let (mut slots, mut i) = ([u8::MAX; 256], 0);
        while i < PAGED.len() {
            slots[PAGED[i].0 as usize] = i as u8;
            i += 1;
        }
        slots
    };
    let slot = usize::from(SLOTS[usize::from(protocol.0)]);
    (slot < PAGED.len()).then_some(slot)
}

/// The ports of one external address and protocol.
#[derive(Debug, Clone)]
pub(super) struct Page {
    pub ports: PortMap,
    /// Mapping + 1 by external port; 0 for none. In stretches that are made when they are needed: few addresses use all
    /// their ports.
    by_port: [Option<Box<[u32; STRETCH]>>; (1 << 16) / STRETCH],
    /// Owner and number of ports in use of each block that has an owner.
    pub blocks: HashMap<u32, (u32, u32), RandomState>,
    /// Ports in use that another plan has taken out meanwhile: nobody gets them afterwards.
    withdrawn: Vec<u16>,
}

/// So many ports in a row have their places together.
const STRETCH: usize = 1 << 10;

impl Page {
    #[inline(always)]
    fn held_by(&self, port: u16) -> u32 {
        let port = usize::from(port);
        self.by_port[port / STRETCH].as_ref().map_or(0, |stretch| stretch[port % STRETCH])
    }

    /// The place of a port, made if need be.
    #[inline(always)]
    fn holder(&mut self, port: u16) -> &mut u32 {
        let port = usize::from(port);
        &mut self.by_port[port / STRETCH].get_or_insert_with(zeros)[port % STRETCH]
    }

    /// A port stays with whom it is, taken out or not.
    fn keep(&mut self, port: u16) {
        if !self.ports.is_free(port) {
            self.withdrawn.push(port);
        }
        self.ports.take(port);
    }

    /// A port is nobody's any more.
    fn release(&mut self, port: u16) {
        if !self.is_withdrawn(port) {
            self.ports.release(port);
        }
    }

    /// Whether a plan has taken a port out while it was in use.
    pub(super) fn is_withdrawn(&self, port: u16) -> bool {
        !self.withdrawn.is_empty() && self.withdrawn.contains(&port)
    }

    /// The mapping at a port, the first of several where ports are overloaded.
    pub(super) fn mapping(&self, port: u16) -> Option<u32> {
        self.held_by(port).checked_sub(1)
    }
}

/// An external address that has been used.
#[derive(Debug, Clone)]
pub(super) struct External {
    pub address: u32,
    /// The address mapping that has borrowed it whole.
    pub whole: u32,
    /// Endpoint and portless mappings on it.
    pub endpoints: u32,
    /// Most of these at one time, and how many there have been.
    pub peak: Peak,
    pub created: u64,
    /// Whether answers come in by the interface that it is used on; not known at first.
    pub returns: Option<bool>,
    pages: [u32; PAGED.len()],
}

impl External {
    /// The page of a protocol, if it has been used.
    pub(super) fn page(&self, protocol: Protocol) -> Option<u32> {
        let page = self.pages[page_slot(protocol)?];
        (page != NONE).then_some(page)
    }

    /// One more mapping on it.
    pub(super) fn count(&mut self, now: u64) {
        self.endpoints += 1;
        self.created += 1;
        self.peak.note(self.endpoints.into(), now);
    }

    /// It is borrowed whole.
    pub(super) fn lend(&mut self, mapping: u32, now: u64) {
        self.whole = mapping;
        self.created += 1;
        self.peak.note(1, now);
    }

    pub(super) fn is_used(&self) -> bool {
        self.whole != NONE || self.endpoints > 0
    }
}

/// The ports that rest after their mapping ended (RFC 6888 §3 REQ-8), the longest resting first, and whose they were:
/// that host may have them again.
#[derive(Debug, Clone, Default)]
struct Resting {
    queue: VecDeque<(u64, u32, u16)>,
    hosts: HashMap<(u32, u16), (u64, u32), RandomState>,
    by_host: HashMap<(u32, u32), Vec<u16>, RandomState>,
}

impl Resting {
    fn put(&mut self, page: u32, port: u16, host: u32, until: u64) {
        self.queue.push_back((until, page, port));
        self.hosts.insert((page, port), (until, host));
        self.by_host.entry((page, host)).or_default().push(port);
    }

    /// Ends the rest of a port; `until` is the one that was agreed, for a port may have begun another rest since.
    #[inline]
    fn end(&mut self, page: u32, port: u16, until: Option<u64>) -> bool {
        !self.hosts.is_empty() && self.end_one(page, port, until)
    }

    fn end_one(&mut self, page: u32, port: u16, until: Option<u64>) -> bool {
        let Some(&(agreed, host)) = self.hosts.get(&(page, port)) else { return false };
        if until.is_some_and(|u| u != agreed) {
            return false;
        }
        self.hosts.remove(&(page, port));
        if let Some(ports) = self.by_host.get_mut(&(page, host)) {
            ports.retain(|p| *p != port);
            if ports.is_empty() {
                self.by_host.remove(&(page, host));
            }
        }
        true
    }
}

/// All of them.
#[derive(Debug, Clone, Default)]
pub(super) struct Externals {
    by_address: HashMap<u32, u32, RandomState>,
    list: Vec<External>,
    pages: Vec<Page>,
    /// Whose each page is: the position of its address, and the protocol. Apart from the pages, as what follows: all of
    /// them together are few lines of a cache.
    owners: Vec<(u32, Protocol)>,
    /// The port last handed out, by page and class, for sequential assignment; 0 before the first.
    lasts: Vec<u16>,
    classes: usize,
    /// Further mappings of a port, where ports are overloaded.
    shared: HashMap<(u32, u16), Vec<u32>, RandomState>,
    resting: Resting,
}

impl Externals {
    /// The position of an address that has been used.
    pub(super) fn find(&self, address: u32) -> Option<u32> {
        self.by_address.get(&address).copied()
    }

    pub(super) fn get(&self, external: u32) -> &External {
        &self.list[external as usize]
    }

    pub(super) fn get_mut(&mut self, external: u32) -> &mut External {
        &mut self.list[external as usize]
    }

    /// The position of an address, new if need be.
    pub(super) fn obtain(&mut self, address: u32) -> u32 {
        *self.by_address.entry(address).or_insert_with(|| {
            let (peak, pages) = (Peak::default(), [NONE; PAGED.len()]);
            self.list.push(External { address, whole: NONE, endpoints: 0, peak, created: 0, returns: None, pages });
            self.list.len() as u32 - 1
        })
    }

    pub(super) fn page(&self, page: u32) -> &Page {
        &self.pages[page as usize]
    }

    pub(super) fn page_mut(&mut self, page: u32) -> &mut Page {
        &mut self.pages[page as usize]
    }

    /// Whose a page is: the position of its address, and the protocol.
    #[inline(always)]
    pub(super) fn owner(&self, page: u32) -> (u32, Protocol) {
        self.owners[page as usize]
    }

    /// The position of a page's address.
    #[inline(always)]
    pub(super) fn external_of(&self, page: u32) -> u32 {
        self.owner(page).0
    }

    /// The protocol of a page.
    #[inline(always)]
    pub(super) fn protocol_of(&self, page: u32) -> Protocol {
        self.owner(page).1
    }

    /// The port last handed out on a page, in a class; 0 before the first.
    #[inline(always)]
    pub(super) fn last(&self, page: u32, class: usize) -> u16 {
        self.lasts[page as usize * self.classes + class]
    }

    #[inline(always)]
    pub(super) fn set_last(&mut self, page: u32, class: usize, port: u16) {
        self.lasts[page as usize * self.classes + class] = port;
    }

    /// Reads the place of the port behind the one handed out last.
    #[inline(always)]
    pub(super) fn touch_next(&self, page: u32) -> u32 {
        let (next, page) = (self.last(page, 0).wrapping_add(1), self.page(page));
        page.held_by(next) ^ u32::from(page.ports.is_free(next))
    }

    /// The page of an address and protocol, if it has been used.
    pub(super) fn find_page(&self, address: u32, protocol: Protocol) -> Option<u32> {
        self.get(self.find(address)?).page(protocol)
    }

    /// The page of an address and protocol, new if need be: then `reserve` takes out what is never handed out.
    pub(super) fn obtain_page(
        &mut self,
        address: u32,
        protocol: Protocol,
        classes: usize,
        reserve: impl FnOnce(&mut PortMap),
    ) -> u32 {
        let external = self.obtain(address);
        let slot = page_slot(protocol).unwrap_or(0);
        if self.list[external as usize].pages[slot] == NONE {
            let mut ports = PortMap::new();
            reserve(&mut ports);
            let by_port = [const { None }; (1 << 16) / STRETCH];
            let (blocks, withdrawn) = (HashMap::default(), Vec::new());
            self.pages.push(Page { ports, by_port, blocks, withdrawn });
            self.owners.push((external, protocol));
            self.classes = classes;
            self.lasts.resize(self.pages.len() * classes, 0);
            self.list[external as usize].pages[slot] = self.pages.len() as u32 - 1;
        }
        self.list[external as usize].pages[slot]
    }

    /// Every mapping at a port.
    pub(super) fn mappings(&self, page: u32, port: u16) -> impl Iterator<Item = u32> + '_ {
        let more = if self.shared.is_empty() { None } else { self.shared.get(&(page, port)) };
        self.page(page).mapping(port).into_iter().chain(more.into_iter().flatten().copied())
    }

    /// Gives a port to a mapping, and tells whether it was free.
    #[inline(always)]
    pub(super) fn bind(&mut self, page: u32, port: u16, mapping: u32, now: u64) -> bool {
        let p = &mut self.pages[page as usize];
        let was_free = p.held_by(port) == 0;
        if !was_free {
            self.shared.entry((page, port)).or_default().push(mapping);
        } else {
            *p.holder(port) = mapping + 1;
            p.ports.take(port);
            self.resting.end(page, port, None);
        }
        self.list[self.owners[page as usize].0 as usize].count(now);
        was_free
    }

    /// Takes a port from a mapping, and tells whether no other has it: then it is free at once, or rests until `rest_until`
    /// but for `host`.
    #[inline]
    pub(super) fn unbind(&mut self, page: u32, port: u16, mapping: u32, host: u32, rest_until: Option<u64>) -> bool {
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
    pub(super) fn leave(&mut self, page: u32) -> Option<u32> {
        let external = self.external_of(page);
        let external = self.get_mut(external);
        external.endpoints -= 1;
        (!external.is_used()).then_some(external.address)
    }

    /// Wakes the ports whose rest is over.
    pub(super) fn wake(&mut self, now: u64) {
        while let Some(&(until, page, port)) = self.resting.queue.front().filter(|r| r.0 <= now) {
            self.resting.queue.pop_front();
            if self.resting.end(page, port, Some(until)) {
                self.pages[page as usize].release(port);
            }
        }
    }

    /// Every address that has been used.
    pub(super) fn all(&self) -> &[External] {
        &self.list
    }

    /// The addresses in use.
    pub(super) fn used(&self) -> impl Iterator<Item = u32> + '_ {
        self.list.iter().filter(|e| e.is_used()).map(|e| e.address)
    }

    /// Finds anew which ports can be handed out: all but those that `reserve` takes out, those in use, and those that rest.
    /// Blocks are forgotten.
    pub(super) fn reopen(&mut self, classes: usize, reserve: impl Fn(u32, Protocol, &mut PortMap)) {
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
        for (page, port) in self.resting.hosts.keys() {
            self.pages[*page as usize].keep(*port);
        }
    }

    /// Forgets all but what was counted: what sequences and rests remember.
    pub(super) fn forget(&mut self) {
        let list = std::mem::take(&mut self.list);
        let by_address = std::mem::take(&mut self.by_address);
        *self = Self { list, by_address, ..Self::default() };
        self.list.iter_mut().for_each(|e| (e.returns, e.pages) = (None, [NONE; PAGED.len()]));
    }

    /// Forgets which answers come back: something has been done to the device.
    pub(super) fn forget_returns(&mut self) {
        self.list.iter_mut().for_each(|e| e.returns = None);
    }

    /// When the next rest is over.
    pub(super) fn next_wake(&self) -> u64 {
        self.resting.queue.front().map_or(u64::MAX, |r| r.0)
    }

    /// Resting ports of a page that `host` had: to it they are free, unless a plan has taken them out since.
    pub(super) fn resting_for(&self, page: u32, host: u32) -> impl Iterator<Item = u16> + '_ {
        let resting = self.resting.by_host.get(&(page, host)).into_iter().flatten().copied();
        resting.filter(move |port| !self.page(page).is_withdrawn(*port))
    }
}
