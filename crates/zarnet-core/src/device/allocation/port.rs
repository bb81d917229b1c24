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
        draw: &mut Option<Draw>,
    ) -> Option<()> {
        let behaviour = &self.compiled.plan.behaviour;
        let class = behaviour.port_class(wish.port);
        let range: PortSpan = behaviour.port_classes[class].into;
        choice.class = class as u8;
        let port_table = self.bindings.externals.find_port_table(choice.address, wish.protocol);
        let ports: Cow<'_, PortMap> = match port_table {
            Some(port_table) => {
                Cow::Borrowed(&self.bindings.externals.port_table(port_table).ports)
            }
            None => {
                let mut ports = PortMap::new();
                self.compiled.reserved(choice.address.address(), wish.protocol, |first, last| {
                    ports.take_all(first, last)
                });
                Cow::Owned(ports)
            }
        };
        let mut rested = port_table
            .into_iter()
            .flat_map(|p| self.bindings.externals.resting_for(p, wish.host))
            .peekable();
        let ports = if rested.peek().is_none() {
            ports
        } else {
            let mut own = ports.into_owned();
            rested.for_each(|p| own.release(p));
            Cow::Owned(own)
        };
        let odd = behaviour.port_parity.then_some(wish.port & 1 == 1);
        let whole = [range];
        let blocks;
        let spans: &[PortSpan] = match behaviour.block_size {
            None => &whole,
            Some(size) => {
                blocks = self.block_spans(port_table, class, range, size, wish, &ports, odd)?;
                &blocks
            }
        };
        let shared = self.shared_ports(port_table);
        let last = port_table.map_or(0, |p| self.bindings.externals.last(p, class));
        choice.port = match (behaviour.port_assignment, shared) {
            (PortAssignment::Preserve | PortAssignment::Sequential, _) => {
                let from = first_tried(behaviour, range, last, wish.port);
                self.next_port(&ports, shared, spans, from, odd, wish)?
            }
            (PortAssignment::Random, shared) => {
                choice.freely = true;
                let usable = |p: &u16| {
                    ports.is_free(*p) || shared.is_some_and(|s| self.shareable(s, *p, wish))
                };
                let draw = draw.as_mut();
                match shared {
                    None => any_free(&ports, spans, odd, draw)?,
                    Some(_) => {
                        let parity = |p: &u16| odd.is_none_or(|o| (p & 1 == 1) == o);
                        let all: Vec<u16> = spans
                            .iter()
                            .flat_map(|s| s.0..=s.1)
                            .filter(parity)
                            .filter(usable)
                            .collect();
                        let n = draw.map_or(0, |d| d.below((all.len() as u32).max(1)));
                        *all.get(n as usize)?
                    }
                }
            }
        };
        if let Some(size) = behaviour.block_size {
            choice.block = Some((class as u32) << 16 | u32::from((choice.port - range.0) / size));
        }
        Some(())
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
        let mut others = self.bindings.externals.mappings(port_table, port).peekable();
        others.peek().is_some()
            && others.all(|m| !self.bindings.is_own_peer(m, (peer, wish.peer.port)))
    }

    /// RFC 7422: the blocks of a host in which a port is free, or else the lowest block that nobody
    /// has.
    #[allow(clippy::too_many_arguments)]
    fn block_spans(
        &self,
        port_table: Option<u32>,
        class: usize,
        range: PortSpan,
        size: u16,
        wish: Wish,
        ports: &PortMap,
        odd: Option<bool>,
    ) -> Option<Vec<PortSpan>> {
        let count = (u32::from(range.1 - range.0) + 1) / u32::from(size);
        let span = |n: u32| {
            let low = range.0 + (n as u16) * size;
            (low, low + (size - 1))
        };
        let owner = |n: u32| {
            let port_table = port_table.map(|p| self.bindings.externals.port_table(p))?;
            port_table.blocks.get(&((class as u32) << 16 | n)).map(|b| b.0)
        };
        let own: Vec<PortSpan> =
            (0..count).filter(|n| owner(*n) == Some(wish.host)).map(span).collect();
        let shared = self.shared_ports(port_table);
        let parity = |p: &u16| odd.is_none_or(|o| (p & 1 == 1) == o);
        // a host shares the ports of its own blocks with itself
        let shareable = |s: &PortSpan| {
            shared.is_some_and(|port_table| {
                (s.0..=s.1).filter(parity).any(|p| self.shareable(port_table, p, wish))
            })
        };
        if own.iter().any(|s| ports.lowest_free(*s, odd).is_some() || shareable(s)) {
            return Some(own);
        }
        let unowned = (0..count).filter(|n| owner(*n).is_none()).map(span);
        unowned.into_iter().find(|s| ports.lowest_free(*s, odd).is_some()).map(|s| vec![s])
    }
}

/// Where the search for a port begins: at the internal one, or behind the one handed out last.
#[inline]
pub(in crate::device) fn first_tried(
    behaviour: &Behaviour,
    range: PortSpan,
    last: u16,
    port: u16,
) -> u16 {
    match behaviour.port_assignment {
        PortAssignment::Preserve if (range.0..=range.1).contains(&port) => port,
        PortAssignment::Preserve => range.0,
        PortAssignment::Sequential | PortAssignment::Random if last == 0 || last >= range.1 => {
            range.0
        }
        PortAssignment::Sequential | PortAssignment::Random => last + 1,
    }
}

/// Any free port, each equally likely: draws until one is free, and counts where few are.
fn any_free(
    ports: &PortMap,
    spans: &[PortSpan],
    odd: Option<bool>,
    draw: Option<&mut Draw>,
) -> Option<u16> {
    let draw = draw?;
    if let [(low, high)] = *spans {
        let width = u32::from(high - low) + 1;
        for _ in 0..16 {
            let port = low + draw.below(width) as u16;
            if ports.is_free(port) && odd.is_none_or(|o| (port & 1 == 1) == o) {
                return Some(port);
            }
        }
    }
    let free = ports.count_free(spans, odd);
    if free == 0 { None } else { ports.nth_free(spans, draw.below(free), odd) }
}
