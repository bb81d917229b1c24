//! What was in use of a device over time, by what can run out. Kept only where it is asked for.

mod hosts;
mod lines;
mod refused;

use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::Arc;

use foldhash::fast::RandomState;

use super::Series;
use super::rests::Rests;
use crate::device::bindings::{Bindings, Kind, NONE, Sink, TableEvent};
use crate::device::compiled::Compiled;
use crate::net::{Instant, Protocol};
use crate::plan::{self, PoolId, Renaming, Target};
use hosts::Hosts;

pub(in crate::device) use lines::usable_ports;
pub(in crate::device) use refused::RefusedFlow;

/// Something that can run out.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Supply {
    /// Whole addresses of a pool.
    Pool(PoolId),
    /// Ports, or query ids, of a class (RFC 4787 §4.2.2), on all addresses of a target that has
    /// several.
    PortsOfAll(Target, Protocol, (u16, u16)),
    /// The same on one address.
    Ports(IpAddr, Protocol, (u16, u16)),
    /// Blocks of ports (RFC 7422), on all addresses of a target that has several.
    BlocksOfAll(Target, Protocol, (u16, u16)),
    /// The same on one address.
    Blocks(IpAddr, Protocol, (u16, u16)),
    /// Places in the table for dynamic mappings.
    Mappings,
    /// Places in the table for sessions.
    Sessions,
}

/// So many spans are kept of a device, over all supplies.
const SPANS: usize = 1 << 19;
/// And of one, no less and no more than this.
const ROOM: (usize, usize) = (1 << 10, 1 << 18);

/// What was in use of a device over time.
#[derive(Debug, Clone)]
pub struct History {
    /// The device as it is described at present.
    compiled: Arc<Compiled>,
    lines: Vec<(Supply, Series)>,
    known: HashMap<Supply, u32, RandomState>,
    /// Lines that a port of a port table counts for, by port table and port class.
    port_tables: Vec<Option<PortLines>>,
    /// Of each line, the wider ones that whatever is of it is of too.
    wider: Vec<[u32; 5]>,
    /// Ports of a class on all addresses of a target: counted once, for every address asks.
    usable_on_all: HashMap<Supply, u64, RandomState>,
    rests: Rests,
    hosts: Hosts,
    /// Whether the traffic is over.
    drains: bool,
    room: usize,
}

#[derive(Debug, Clone, Copy)]
struct PortLines {
    ports: [u32; 3],
    blocks: [u32; 3],
}

impl History {
    /// Nothing in use yet.
    pub(in crate::device) fn new(compiled: Arc<Compiled>) -> Self {
        let (lines, known) = (Vec::new(), HashMap::default());
        let mut history = Self {
            compiled: compiled.clone(),
            lines,
            known,
            port_tables: Vec::new(),
            wider: Vec::new(),
            usable_on_all: HashMap::default(),
            rests: Rests::default(),
            hosts: Hosts::default(),
            drains: false,
            room: 0,
        };
        history.line(Supply::Mappings, compiled.plan.behaviour.max_mappings);
        history.line(Supply::Sessions, compiled.plan.behaviour.max_sessions);
        for target in 0..compiled.targets.list.len() as u16 {
            history.pool_line(target);
        }
        history
    }

    /// Every supply that was ever drawn on, in the order of its first use.
    pub fn supplies(&self) -> &[(Supply, Series)] {
        &self.lines
    }

    /// Takes them out, in that order.
    pub fn take_supplies(&mut self) -> Vec<(Supply, Series)> {
        self.known.clear();
        std::mem::take(&mut self.lines)
    }

    /// Of every internal host that had a dynamic mapping, the ports and query ids that it had at
    /// most at a time; in no order.
    pub fn most_ports_of_hosts(&self) -> impl Iterator<Item = u32> + '_ {
        self.hosts.most_ports()
    }

    /// By position in [`History::supplies`], the hosts that began uses of a supply, in order, with
    /// how many each began.
    pub fn hosts_of_supplies(&self) -> Vec<Vec<(IpAddr, u32)>> {
        self.hosts.by_line(&self.wider)
    }

    /// The traffic is over: how long what is in use goes on is all that is still noted.
    pub(in crate::device) fn drain(&mut self, now: Instant) {
        self.drains = true;
        self.lines.iter_mut().for_each(|l| l.1.drain(now.0));
    }

    /// Whether it is: what ends then is told in whichever order it is found.
    pub(in crate::device) fn drains(&self) -> bool {
        self.drains
    }

    /// Nothing more comes: what was put off is done.
    pub(in crate::device) fn finish(&mut self) {
        self.end_rests(u64::MAX);
        self.hosts.count();
    }

    /// Everything that rests has rested.
    pub(in crate::device) fn end_rests(&mut self, now: u64) {
        while let Some((at, lines)) = self.rests.next_over(now) {
            for line in lines.into_iter().filter(|l| *l != NONE) {
                let room = self.room;
                if let Some(rest) = &mut self.lines[line as usize].1.with_rest {
                    rest.fall(at, room);
                }
            }
        }
    }

    /// The series of a supply; `None` if the history does not have it.
    pub fn of(&self, supply: Supply) -> Option<&Series> {
        self.known.get(&supply).map(|l| &self.lines[*l as usize].1)
    }

    fn line(&mut self, supply: Supply, usable: Option<u64>) -> u32 {
        let line = *self.known.entry(supply).or_insert_with(|| {
            self.lines.push((supply, Series::default()));
            self.wider.push([NONE; 5]);
            self.lines.len() as u32 - 1
        });
        self.lines[line as usize].1.usable = usable;
        self.room = (SPANS / self.lines.len()).clamp(ROOM.0, ROOM.1);
        line
    }

    #[inline]
    fn change(&mut self, line: u32, now: u64, up: bool) {
        if line != NONE {
            let series = &mut self.lines[line as usize].1;
            if up { series.rise(now, self.room) } else { series.fall(now, self.room) }
        }
    }

    /// The device is described anew: pools and targets have other numbers.
    pub(super) fn rename(
        &mut self,
        compiled: &Arc<Compiled>,
        renaming: &Renaming,
        old: &plan::DevicePlan,
    ) {
        self.compiled = compiled.clone();
        self.rests.forget();
        self.port_tables.clear();
        self.usable_on_all.clear();
        self.known.clear();
        for (i, (supply, _)) in self.lines.iter_mut().enumerate() {
            match supply {
                Supply::Pool(pool) => *pool = renaming.pools[pool.index()],
                Supply::PortsOfAll(target, ..) | Supply::BlocksOfAll(target, ..) => {
                    *target = renaming.target(*target, old)
                }
                Supply::Ports(..) | Supply::Blocks(..) | Supply::Mappings | Supply::Sessions => {}
            }
            self.known.insert(*supply, i as u32);
        }
    }

    /// Port tables are numbered anew.
    pub(in crate::device) fn forget_port_tables(&mut self) {
        self.rests.forget();
        self.port_tables.clear();
    }
}

/// Lines of what a device has all of.
const MAPPINGS: u32 = 0;
const SESSIONS: u32 = 1;

impl History {
    /// A port of a port table is taken or free again.
    #[inline(never)]
    fn change_port(&mut self, bindings: &Bindings, port_table: u32, port: u16, now: u64, up: bool) {
        let lines = self.port_lines(bindings, port_table, port).ports;
        lines.into_iter().for_each(|l| self.change(l, now, up));
        let hold = self.compiled.timers.hold_down;
        if hold == 0 || bindings.externals.protocol_of(port_table) == Protocol::TCP {
            return;
        }
        let until = now.saturating_add(hold);
        let counts = match up {
            true => !self.rests.end(port_table, port),
            false => {
                self.rests.begin(port_table, port, until, lines);
                false
            }
        };
        for line in lines.into_iter().filter(|l| *l != NONE) {
            let room = self.room;
            let series = &mut self.lines[line as usize].1;
            let (usable, value) = (series.usable, series.value());
            let rest = series.with_rest.get_or_insert_with(|| {
                let mut rest = Series::new(usable);
                rest.note(now, value.saturating_sub(u32::from(up)), false, room);
                Box::new(rest)
            });
            if counts {
                rest.rise(now, room);
            }
        }
    }

    /// A block of a port table, by its class, belongs to a host or to none again.
    fn change_block(
        &mut self,
        bindings: &Bindings,
        port_table: u32,
        port: u16,
        now: u64,
        up: bool,
    ) {
        let lines = self.port_lines(bindings, port_table, port).blocks;
        lines.into_iter().for_each(|l| self.change(l, now, up));
    }

    /// A host has a mapping more.
    fn opened(&mut self, bindings: &Bindings, mapping: u32) {
        let m = *bindings.table.mapping(mapping);
        let line = match m.kind() {
            Kind::Endpoint => self.port_lines(bindings, m.place(), m.external_port).ports[0],
            Kind::Address => self.pool_line(m.target).unwrap_or(NONE),
            Kind::Portless => NONE,
        };
        self.hosts.open(m.internal, line, m.kind() == Kind::Endpoint);
    }

    /// A host has a mapping less.
    fn closed(&mut self, at: u64, bindings: &Bindings, mapping: u32) {
        let m = *bindings.table.mapping(mapping);
        let length = at.saturating_sub(bindings.table.made(mapping));
        match m.kind() {
            Kind::Endpoint => {
                // of a host only the most is told, and that does not grow any more
                if !self.drains {
                    self.hosts.close(m.internal);
                }
                let lines = self.port_lines(bindings, m.place(), m.external_port).ports;
                lines.into_iter().for_each(|line| self.ended(line, length));
            }
            Kind::Address => {
                let line = self.pool_line(m.target).unwrap_or(NONE);
                self.ended(line, length);
            }
            Kind::Portless => {}
        }
    }

    /// A use of a supply has lasted so long.
    fn ended(&mut self, line: u32, length: u64) {
        if line != NONE {
            self.lines[line as usize].1.lengths.note(length);
        }
    }

    /// So many addresses of a target for whole addresses are in use.
    fn change_pool(&mut self, target: u16, in_use: u32, now: u64, up: bool) {
        if let Some(line) = self.pool_line(target) {
            self.lines[line as usize].1.note(now, in_use, up, self.room);
        }
    }

    fn pool_line(&mut self, target: u16) -> Option<u32> {
        let config = self.compiled.targets.get(target);
        let (pool, usable) = (config.pool.filter(|_| config.whole)?, config.space.count());
        Some(self.line(Supply::Pool(pool), Some(usable.into())))
    }
}

impl Sink for History {
    #[inline]
    fn note(&mut self, at: u64, event: TableEvent, bindings: &Bindings) {
        if !self.rests.is_empty() {
            self.end_rests(at);
        }
        match event {
            TableEvent::MappingOpened { mapping, .. } => {
                self.change(MAPPINGS, at, true);
                self.opened(bindings, mapping);
            }
            TableEvent::MappingClosed { mapping, .. } => {
                self.change(MAPPINGS, at, false);
                self.closed(at, bindings, mapping);
            }
            TableEvent::SessionOpened { .. } => self.change(SESSIONS, at, true),
            TableEvent::SessionClosed { .. } => self.change(SESSIONS, at, false),
            TableEvent::PortTaken { port_table, port } => {
                self.change_port(bindings, port_table, port, at, true)
            }
            TableEvent::PortFreed { port_table, port } => {
                self.change_port(bindings, port_table, port, at, false)
            }
            TableEvent::BlockTaken { port_table, port, .. } => {
                self.change_block(bindings, port_table, port, at, true)
            }
            TableEvent::BlockFreed { port_table, port, .. } => {
                self.change_block(bindings, port_table, port, at, false)
            }
            TableEvent::AddressTaken { target, in_use } => {
                self.change_pool(target, in_use, at, true)
            }
            TableEvent::AddressFreed { target, in_use } => {
                self.change_pool(target, in_use, at, false)
            }
            TableEvent::MappingHandedOver { .. } | TableEvent::Refused { .. } => {}
        }
    }
}
