//! Which port a new mapping gets on an address. Read first: RFC 4787 §4.2, RFC 6056 §3, RFC 7422.
//!
//! Contract: §B5 and §B6 of docs/semantics.md.

use std::borrow::Cow;

use super::draw::Draw;
use crate::device::bindings::{Context, ExternalEnd, PortMap, PortSpan};
use crate::device::key::Key;
use crate::net::{Endpoint, Protocol};
use crate::plan::{Behaviour, PortAssignment};

/// What a port is wanted for.
#[derive(Clone, Copy)]
pub(super) struct Wish {
    pub protocol: Protocol,
    pub host: Key,
    pub port: u16,
    pub peer: Endpoint,
}

impl Context<'_> {
    /// A port on an address: RFC 4787 §4.2.1 REQ-3 (no overloading, classes), §4.2.2 REQ-4
    /// (parity), RFC 6056 §3.
    pub(super) fn port_on(
        &self,
        choice: &mut ExternalEnd,
        wish: Wish,
        draw: &mut Option<Draw<'_>>,
    ) -> Option<()> {
        let behaviour = &self.compiled.plan.behaviour;
        let class = behaviour.port_class(wish.port);
        let range: PortSpan = behaviour.port_classes[class].into;
        choice.class = class as u8;
        let port_table = self.bindings.externals.find_port_table(choice.address, wish.protocol);
        let free = self.free_for(port_table, choice.address, wish);
        let odd = behaviour.port_parity.then_some(wish.port & 1 == 1);
        let whole = [range];
        let blocks;
        let spans: &[PortSpan] = match behaviour.block_size {
            None => &whole,
            Some(size) => {
                blocks = self.block_spans(port_table, (class, range, size), wish, &free, odd)?;
                &blocks
            }
        };
        let shared = self.shared_ports(port_table);
        let last = port_table.map_or(0, |p| self.bindings.externals.last(p, class));
        choice.port = match (behaviour.port_assignment, shared) {
            (PortAssignment::Preserve | PortAssignment::Sequential, _) => {
                let from = first_tried(behaviour, range, last, wish.port);
                self.next_port(&free.all(), shared, spans, from, odd, wish)?
            }
            (PortAssignment::Random, None) => free.any(spans, odd, draw.as_mut()?)?,
            (PortAssignment::Random, Some(shared)) => {
                let parity = |p: &u16| odd.is_none_or(|o| (p & 1 == 1) == o);
                let usable = |p: &u16| free.has(*p) || self.shareable(shared, *p, wish);
                let all = spans.iter().flat_map(|s| s.0..=s.1).filter(parity).filter(usable);
                let all: Vec<u16> = all.collect();
                let n = draw.as_mut().map_or(0, |d| d.below((all.len() as u32).max(1)));
                *all.get(n as usize)?
            }
        };
        choice.freely |= behaviour.port_assignment == PortAssignment::Random;
        choice.block = behaviour.block_size.map(|size| (choice.port - range.0) / size);
        Some(())
    }

    /// The ports of an address that a host may have.
    fn free_for(&self, port_table: Option<u32>, address: Key, wish: Wish) -> Free<'_> {
        let Some(port_table) = port_table else {
            // of many addresses each is looked at for the first time, and few have ports held
            let mut ports = Cow::Borrowed(PortMap::unused());
            self.compiled.reserved(address.address(), wish.protocol, |first, last| {
                ports.to_mut().take_all(first, last)
            });
            return Free { ports, rested: Vec::new() };
        };
        let ports = Cow::Borrowed(&self.bindings.externals.port_table(port_table).ports);
        let own = self.bindings.externals.own_ports(port_table, wish.host);
        let rested = self.bindings.externals.resting_for(port_table, own).collect();
        Free { ports, rested }
    }

    /// The ports of an address, where several mappings may share one.
    fn shared_ports(&self, port_table: Option<u32>) -> Option<u32> {
        port_table.filter(|_| self.compiled.plan.behaviour.port_overloading)
    }

    /// The next port upward that is free, or that may be shared with other peers.
    fn next_port(
        &self,
        ports: &PortMap,
        shared: Option<u32>,
        spans: &[PortSpan],
        from: u16,
        odd: Option<bool>,
        wish: Wish,
    ) -> Option<u16> {
        let Some(port_table) = shared else { return ports.next_free(spans, from, odd) };
        let behind = spans.iter().flat_map(|s| s.0..=s.1).filter(|p| *p >= from);
        let before = spans.iter().flat_map(|s| s.0..=s.1).filter(|p| *p < from);
        let parity = |p: &u16| odd.is_none_or(|o| (p & 1 == 1) == o);
        behind
            .chain(before)
            .filter(parity)
            .find(|p| ports.is_free(*p) || self.shareable(port_table, *p, wish))
    }

    /// Whether the mappings of a port all have peers that `mapping` tells apart from the wished
    /// one.
    fn shareable(&self, port_table: u32, port: u16, wish: Wish) -> bool {
        let Some(peer) = Key::of(wish.peer.address) else { return false };
        if self.bindings.externals.port_table(port_table).is_withdrawn(port) {
            return false;
        }
        let mut others = self.bindings.mappings_at(port_table, port).peekable();
        others.peek().is_some()
            && others.all(|m| !self.bindings.is_own_peer(m, (peer, wish.peer.port)))
    }

    /// RFC 7422: the blocks of a host in which a port is free, or else the lowest block that nobody
    /// has.
    fn block_spans(
        &self,
        port_table: Option<u32>,
        (class, range, size): (usize, PortSpan, u16),
        wish: Wish,
        free: &Free<'_>,
        odd: Option<bool>,
    ) -> Option<Vec<PortSpan>> {
        let count = (u32::from(range.1 - range.0) + 1) / u32::from(size);
        let span = |number: u16| block_span(range, size, number);
        let free_in = |s: &PortSpan| free.are_in(*s, odd);
        let Some(port_table) = port_table else {
            return (0..count as u16).map(span).find(free_in).map(|s| vec![s]);
        };
        let blocks = &self.bindings.externals.port_table(port_table).blocks;
        let own = self.bindings.externals.own_ports(port_table, wish.host);
        let own: Vec<PortSpan> =
            own.into_iter().flat_map(|own| own.blocks(class)).map(span).collect();
        let shared = self.shared_ports(Some(port_table));
        let parity = |p: &u16| odd.is_none_or(|o| (p & 1 == 1) == o);
        // a host shares the ports of its own blocks with itself
        let shareable = |s: &PortSpan| {
            shared.is_some_and(|port_table| {
                (s.0..=s.1).filter(parity).any(|p| self.shareable(port_table, p, wish))
            })
        };
        if own.iter().any(|s| free_in(s) || shareable(s)) {
            return Some(own);
        }
        blocks.unowned(class, count).map(span).find(free_in).map(|s| vec![s])
    }
}

/// The ports that a host may have: those that are free, and those that rest and were its own.
struct Free<'a> {
    ports: Cow<'a, PortMap>,
    rested: Vec<u16>,
}

impl Free<'_> {
    fn has(&self, port: u16) -> bool {
        self.ports.is_free(port) || self.rested.contains(&port)
    }

    /// Whether there are any in a span.
    fn are_in(&self, span: PortSpan, odd: Option<bool>) -> bool {
        let fits = |p: &u16| (span.0..=span.1).contains(p) && odd.is_none_or(|o| (p & 1 == 1) == o);
        self.ports.lowest_free(span, odd).is_some() || self.rested.iter().any(fits)
    }

    /// All of them.
    fn all(&self) -> Cow<'_, PortMap> {
        if self.rested.is_empty() {
            return Cow::Borrowed(&self.ports);
        }
        let mut all = self.ports.clone().into_owned();
        self.rested.iter().for_each(|p| all.release(*p));
        Cow::Owned(all)
    }

    /// Any of them, each equally likely.
    fn any(&self, spans: &[PortSpan], odd: Option<bool>, draw: &mut Draw<'_>) -> Option<u16> {
        match drawn(spans, odd, draw, |p| self.has(p)) {
            None => counted(&self.all(), spans, odd, draw),
            port => port,
        }
    }
}

/// The ports of a block by its number, in a range whose blocks are of one size.
pub(super) fn block_span(range: PortSpan, size: u16, number: u16) -> PortSpan {
    let low = range.0 + number * size;
    (low, low + (size - 1))
}

/// Where the search for a port begins: at the internal one, or behind the one handed out last.
#[inline]
pub(super) fn first_tried(behaviour: &Behaviour, range: PortSpan, last: u16, port: u16) -> u16 {
    match behaviour.port_assignment {
        PortAssignment::Preserve if (range.0..=range.1).contains(&port) => port,
        PortAssignment::Preserve => range.0,
        PortAssignment::Sequential | PortAssignment::Random if last == 0 || last >= range.1 => {
            range.0
        }
        PortAssignment::Sequential | PortAssignment::Random => last + 1,
    }
}

/// Any free port of a span, each equally likely: draws until one is free, and counts where few are.
#[inline]
pub(super) fn any_free(ports: &PortMap, span: PortSpan, draw: &mut Draw<'_>) -> Option<u16> {
    match drawn(&[span], None, draw, |p| ports.is_free(p)) {
        None => counted(ports, &[span], None, draw),
        port => port,
    }
}

/// The first of a few ports drawn that is free.
#[inline]
pub(super) fn drawn(
    spans: &[PortSpan],
    odd: Option<bool>,
    draw: &mut Draw<'_>,
    is_free: impl Fn(u16) -> bool,
) -> Option<u16> {
    let [(low, high)] = *spans else { return None };
    let width = u32::from(high - low) + 1;
    (0..16)
        .map(|_| low + draw.below(width) as u16)
        .find(|port| is_free(*port) && odd.is_none_or(|o| (port & 1 == 1) == o))
}

/// One of all that are free, by its number.
fn counted(
    ports: &PortMap,
    spans: &[PortSpan],
    odd: Option<bool>,
    draw: &mut Draw<'_>,
) -> Option<u16> {
    let free = ports.count_free(spans, odd);
    if free == 0 { None } else { ports.nth_free(spans, draw.below(free), odd) }
}
