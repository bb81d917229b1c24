//! What was in use of a device over time, by what can run out. Kept only where it is asked for.

use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::Arc;

use foldhash::fast::RandomState;

use super::Series;
use crate::device::bindings::{Bindings, Context, NONE, PortMap, PortSpan, Sink, TableEvent};
use crate::device::compiled::Compiled;
use crate::device::key::Key;
use crate::net::{Instant, Protocol};
use crate::plan::{self, PoolId, Renaming, RuleId, Target};
use crate::reason::Reason;

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
    /// Blocks of ports (RFC 7422) on one address.
    Blocks(IpAddr, Protocol, (u16, u16)),
    /// Places in the table for dynamic mappings.
    Mappings,
    /// Places in the table for sessions.
    Sessions,
}

/// So many spans are kept of a device, over all supplies.
const SPANS: usize = 1 << 21;
/// And of one, no less and no more than this.
const ROOM: (usize, usize) = (1 << 10, 1 << 18);

/// What was in use of a device over time.
#[derive(Debug, Clone)]
pub struct History {
    /// The device as it is described at present.
    compiled: Arc<Compiled>,
    lines: Vec<(Supply, Series)>,
    known: HashMap<Supply, u32, RandomState>,
    /// Lines that a port of a port_table counts for, by port class.
    port_tables: HashMap<(u32, u8), PortLines, RandomState>,
    /// Ports of a class on all addresses of a target: counted once, for every address asks.
    usable_on_all: HashMap<Supply, u64, RandomState>,
    room: usize,
}

#[derive(Debug, Clone, Copy)]
struct PortLines {
    ports: u32,
    all: [u32; 2],
    blocks: u32,
}

impl History {
    /// Nothing in use yet.
    pub(in crate::device) fn new(compiled: Arc<Compiled>) -> Self {
        let (lines, known) = (Vec::new(), HashMap::default());
        let (port_tables, usable_on_all) = (HashMap::default(), HashMap::default());
        let mut history =
            Self { compiled: compiled.clone(), lines, known, port_tables, usable_on_all, room: 0 };
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

    /// The series of a supply; `None` if the history does not have it.
    pub fn of(&self, supply: Supply) -> Option<&Series> {
        self.known.get(&supply).map(|l| &self.lines[*l as usize].1)
    }

    fn line(&mut self, supply: Supply, usable: Option<u64>) -> u32 {
        let line = *self.known.entry(supply).or_insert_with(|| {
            self.lines.push((supply, Series::default()));
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
        self.port_tables.clear();
        self.usable_on_all.clear();
        self.known.clear();
        for (i, (supply, _)) in self.lines.iter_mut().enumerate() {
            match supply {
                Supply::Pool(pool) => *pool = renaming.pools[pool.index()],
                Supply::PortsOfAll(target, ..) => *target = renaming.target(*target, old),
                Supply::Ports(..) | Supply::Blocks(..) | Supply::Mappings | Supply::Sessions => {}
            }
            self.known.insert(*supply, i as u32);
        }
    }

    /// Port tables are numbered anew.
    pub(in crate::device) fn forget_port_tables(&mut self) {
        self.port_tables.clear();
    }
}

/// Lines of what a device has all of.
const MAPPINGS: u32 = 0;
const SESSIONS: u32 = 1;

/// A flow that was refused, as far as it tells what it looked for.
#[derive(Debug, Clone, Copy)]
pub(in crate::device) struct RefusedFlow {
    pub reason: Reason,
    pub rule: Option<RuleId>,
    pub host: IpAddr,
    pub protocol: Protocol,
    pub port: u16,
}

impl History {
    /// A port of a port_table is taken or free again.
    #[inline(never)]
    fn change_port(&mut self, bindings: &Bindings, port_table: u32, port: u16, now: u64, up: bool) {
        let lines = self.port_lines(bindings, port_table, port);
        [lines.ports, lines.all[0], lines.all[1]].into_iter().for_each(|l| self.change(l, now, up));
    }

    /// A block of a port_table, by its class, belongs to a host or to none again.
    fn change_block(
        &mut self,
        bindings: &Bindings,
        port_table: u32,
        port: u16,
        now: u64,
        up: bool,
    ) {
        let line = self.port_lines(bindings, port_table, port).blocks;
        self.change(line, now, up);
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

    /// The range of translated ports that a port lies in, and its number among those of the device.
    fn range_of(&self, port: u16) -> (u8, PortSpan) {
        let ranges = self.compiled.plan.behaviour.port_classes.iter().map(|c| c.into);
        let found = ranges.enumerate().find(|(_, r)| (r.0..=r.1).contains(&port));
        // a mapping may be older than the classes
        found.map_or((u8::MAX, (1, u16::MAX)), |(i, r)| (i as u8, r))
    }

    fn port_lines(&mut self, bindings: &Bindings, port_table: u32, port: u16) -> PortLines {
        let (class, range) = self.range_of(port);
        if let Some(known) = self.port_tables.get(&(port_table, class)) {
            return *known;
        }
        let (external, protocol) = bindings.externals.owner(port_table);
        let lines = self.new_port_lines(bindings.externals.get(external).address, protocol, range);
        self.port_tables.insert((port_table, class), lines);
        lines
    }

    fn new_port_lines(&mut self, key: Key, protocol: Protocol, range: PortSpan) -> PortLines {
        let (compiled, address) = (self.compiled.clone(), key.address());
        let usable = usable_ports(&compiled, address, protocol, range);
        let blocks = compiled.plan.behaviour.block_size.map(|size| {
            let size = u64::from(size.max(1));
            (u64::from(range.1 - range.0) + 1) / size
        });
        let shared = compiled.targets.holding(key).iter().map(|t| compiled.targets.get(*t));
        let shared = shared.filter(|t| !t.whole && t.space.count() > 1).take(2);
        let on_all: Vec<(Supply, u64)> = shared
            .map(|target| {
                let supply = Supply::PortsOfAll(target.target, protocol, range);
                let known = self.usable_on_all.get(&supply).copied();
                (
                    supply,
                    known.unwrap_or_else(|| {
                        usable_on_all(&compiled, target.target, protocol, range)
                    }),
                )
            })
            .collect();
        let ports = self.line(Supply::Ports(address, protocol, range), Some(usable));
        let blocks =
            blocks.map_or(NONE, |b| self.line(Supply::Blocks(address, protocol, range), Some(b)));
        let mut all = [NONE; 2];
        for (line, (supply, usable)) in all.iter_mut().zip(on_all) {
            self.usable_on_all.insert(supply, usable);
            *line = self.line(supply, Some(usable));
        }
        PortLines { ports, all, blocks }
    }

    /// Notes that a flow found nothing left, and tells of what: up to three positions in
    /// [`History::supplies`].
    pub(in crate::device) fn refuse(
        &mut self,
        now: Instant,
        context: Context<'_>,
        flow: RefusedFlow,
    ) -> [Option<u32>; 3] {
        let room = self.room;
        let lines = self.lines_sought(context, flow);
        lines.map(|line| {
            self.lines.get_mut(line as usize)?.1.refuse(now.0, room);
            Some(line)
        })
    }

    /// What a flow would have had to find something of.
    fn lines_sought(&mut self, context: Context<'_>, flow: RefusedFlow) -> [u32; 3] {
        let mut lines = [NONE; 3];
        match (flow.reason, flow.rule) {
            (Reason::DeviceFull, _) => {
                let most = self.compiled.plan.behaviour.max_sessions;
                let full = most.is_some_and(|m| context.bindings.table.session_count() >= m);
                lines[0] = if full { SESSIONS } else { MAPPINGS };
            }
            (
                Reason::PoolExhausted | Reason::PortsExhausted | Reason::PassedExhausted,
                Some(rule),
            ) => {
                let tried = context.tried_targets(rule.0, flow.host);
                let sought = tried
                    .into_iter()
                    .flatten()
                    .flat_map(|target| self.lines_of(context, target, flow));
                let found: Vec<u32> = sought.filter(|line| *line != NONE).collect();
                lines.iter_mut().zip(found).for_each(|(place, line)| *place = line);
            }
            _ => {}
        }
        lines
    }

    /// What a host would have had to find on a target.
    fn lines_of(&mut self, context: Context<'_>, target: u16, flow: RefusedFlow) -> [u32; 2] {
        let compiled = self.compiled.clone();
        let config = compiled.targets.get(target);
        if config.whole {
            return [self.pool_line(target).unwrap_or(NONE), NONE];
        }
        if !flow.protocol.is_multiplexed() || config.space.count() == 0 {
            return [NONE; 2];
        }
        let one = match config.space.count() {
            1 => Some(config.space.nth(0)),
            _ => Key::of(flow.host).and_then(|h| context.paired_address(h, target)),
        };
        let behaviour = &compiled.plan.behaviour;
        let range = behaviour.port_classes[behaviour.port_class(flow.port)].into;
        let lines = self.new_port_lines(one.unwrap_or(config.space.nth(0)), flow.protocol, range);
        let all = self
            .known
            .get(&Supply::PortsOfAll(config.target, flow.protocol, range))
            .copied()
            .unwrap_or(NONE);
        [if one.is_some() { lines.ports } else { NONE }, all]
    }
}

impl Sink for History {
    #[inline]
    fn note(&mut self, at: u64, event: TableEvent, bindings: &Bindings) {
        match event {
            TableEvent::MappingOpened { .. } => self.change(MAPPINGS, at, true),
            TableEvent::MappingClosed { .. } => self.change(MAPPINGS, at, false),
            TableEvent::SessionOpened { .. } => self.change(SESSIONS, at, true),
            TableEvent::SessionClosed { .. } => self.change(SESSIONS, at, false),
            TableEvent::PortTaken { port_table, port } => {
                self.change_port(bindings, port_table, port, at, true)
            }
            TableEvent::PortFreed { port_table, port } => {
                self.change_port(bindings, port_table, port, at, false)
            }
            TableEvent::BlockTaken { port_table, port } => {
                self.change_block(bindings, port_table, port, at, true)
            }
            TableEvent::BlockFreed { port_table, port } => {
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
