//! What was in use of a device over time, by what can run out. Kept only where it is asked for.

use std::collections::HashMap;
use std::net::IpAddr;

use foldhash::fast::RandomState;

use super::ports::PortMap;
use super::session::NONE;
use super::table::bits;
use super::{Device, Series};
use crate::net::{Instant, Protocol};
use crate::plan::{PoolId, Renaming, RuleId, Target};
use crate::reason::Reason;

/// Something that can run out.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Supply {
    /// Whole addresses of a pool.
    Pool(PoolId),
    /// Ports, or query ids, of a class (RFC 4787 §4.2.2), on all addresses of a target that has several.
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
#[derive(Debug, Clone, Default)]
pub struct History {
    lines: Vec<(Supply, Series)>,
    known: HashMap<Supply, u32, RandomState>,
    /// Lines that a port of a page counts for, by port class.
    pages: HashMap<(u32, u8), PageLines, RandomState>,
    /// Ports of a class on all addresses of a target: counted once, for every address asks.
    usable_on_all: HashMap<Supply, u64, RandomState>,
    room: usize,
}

#[derive(Debug, Clone, Copy)]
struct PageLines {
    ports: u32,
    all: [u32; 2],
    blocks: u32,
}

impl History {
    /// Every supply that was ever drawn on, in the order of its first use.
    pub fn supplies(&self) -> &[(Supply, Series)] {
        &self.lines
    }

    /// One of them.
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
    pub(super) fn rename(&mut self, renaming: &Renaming, old: &crate::plan::Device) {
        self.pages.clear();
        self.usable_on_all.clear();
        self.known.clear();
        for (i, (supply, _)) in self.lines.iter_mut().enumerate() {
            match supply {
                Supply::Pool(pool) => *pool = renaming.pools[pool.index()],
                Supply::PortsOfAll(target, ..) => *target = renaming.target(*target, old),
                _ => {}
            }
            self.known.insert(*supply, i as u32);
        }
    }

    /// Pages are numbered anew.
    pub(super) fn forget_pages(&mut self) {
        self.pages.clear();
    }
}

/// Lines of what a device has all of.
const MAPPINGS: u32 = 0;
const SESSIONS: u32 = 1;

impl Device {
    /// From now on, notes what is in use over time.
    pub fn keep_history(&mut self) {
        let mut history = Box::new(History::default());
        history.line(Supply::Mappings, self.config.plan.behaviour.max_mappings);
        history.line(Supply::Sessions, self.config.plan.behaviour.max_sessions);
        self.history = Some(history);
        let whole: Vec<u16> =
            (0..self.config.targets.len() as u16).filter(|t| self.config.targets[usize::from(*t)].whole).collect();
        whole.into_iter().for_each(|target| {
            self.pool_line(target);
        });
    }

    /// What was in use over time, if it was noted.
    pub fn history(&self) -> Option<&History> {
        self.history.as_deref()
    }

    pub(crate) fn take_history(&mut self) -> Option<Box<History>> {
        self.history.take()
    }

    #[inline(always)]
    pub(super) fn record_mappings(&mut self, now: u64, up: bool) {
        if let Some(history) = &mut self.history {
            history.change(MAPPINGS, now, up);
        }
    }

    #[inline(always)]
    pub(super) fn record_sessions(&mut self, now: u64, up: bool) {
        if let Some(history) = &mut self.history {
            history.change(SESSIONS, now, up);
        }
    }

    /// A port of a page is taken or free again.
    #[inline]
    pub(super) fn record_port(&mut self, page: u32, port: u16, now: u64, up: bool) {
        if self.history.is_some() {
            self.write_port(page, port, now, up);
        }
    }

    #[inline(never)]
    fn write_port(&mut self, page: u32, port: u16, now: u64, up: bool) {
        let lines = self.page_lines(page, port);
        if let Some(history) = &mut self.history {
            [lines.ports, lines.all[0], lines.all[1]].into_iter().for_each(|l| history.change(l, now, up));
        }
    }

    /// A block of a page, by its class, belongs to a host or to none again.
    pub(super) fn record_block(&mut self, page: u32, port: u16, now: u64, up: bool) {
        if self.history.is_some() {
            let line = self.page_lines(page, port).blocks;
            if let Some(history) = &mut self.history {
                history.change(line, now, up);
            }
        }
    }

    /// Addresses of a target for whole addresses are in use.
    pub(super) fn record_pool(&mut self, target: u16, in_use: u32, now: u64, up: bool) {
        let line = self.pool_line(target);
        if let (Some(line), Some(history)) = (line, &mut self.history) {
            let room = history.room;
            history.lines[line as usize].1.note(now, in_use, up, room);
        }
    }

    fn pool_line(&mut self, target: u16) -> Option<u32> {
        let config = &self.config.targets[usize::from(target)];
        let (pool, usable) = (config.pool.filter(|_| config.whole)?, config.space.count());
        Some(self.history.as_mut()?.line(Supply::Pool(pool), Some(usable.into())))
    }

    /// The range of translated ports that a port lies in, and its number among those of the device.
    fn range_of(&self, port: u16) -> (u8, (u16, u16)) {
        let ranges = self.config.plan.behaviour.port_classes.iter().map(|c| c.into);
        let found = ranges.enumerate().find(|(_, r)| (r.0..=r.1).contains(&port));
        // a mapping may be older than the classes
        found.map_or((u8::MAX, (1, u16::MAX)), |(i, r)| (i as u8, r))
    }

    fn page_lines(&mut self, page: u32, port: u16) -> PageLines {
        let (class, range) = self.range_of(port);
        if let Some(known) = self.history.as_ref().and_then(|h| h.pages.get(&(page, class))) {
            return *known;
        }
        let (external, protocol) = self.externals.owner(page);
        let number = self.externals.get(external).address;
        let lines = self.new_page_lines(number, protocol, range);
        if let Some(history) = &mut self.history {
            history.pages.insert((page, class), lines);
        }
        lines
    }

    fn new_page_lines(&mut self, number: u32, protocol: Protocol, range: (u16, u16)) -> PageLines {
        let address = IpAddr::V4(number.into());
        let usable = self.usable_ports(address, protocol, range);
        let blocks = self.config.plan.behaviour.block_size.map(|size| {
            let size = u64::from(size.max(1));
            (u64::from(range.1 - range.0) + 1) / size
        });
        let wide = self.config.targets_of(number).iter().filter_map(|t| {
            let target = &self.config.targets[usize::from(*t)];
            (!target.whole && target.space.count() > 1).then_some((target.target, target.space.count()))
        });
        let wide = wide.take(2).map(|(target, count)| {
            let supply = Supply::PortsOfAll(target, protocol, range);
            let known = self.history.as_ref().and_then(|h| h.usable_on_all.get(&supply)).copied();
            (supply, known.unwrap_or_else(|| self.usable_on_all(target, count, protocol, range)))
        });
        let wide: Vec<(Supply, u64)> = wide.collect();
        let Some(history) = &mut self.history else {
            return PageLines { ports: NONE, all: [NONE; 2], blocks: NONE };
        };
        let ports = history.line(Supply::Ports(address, protocol, range), Some(usable));
        let blocks = blocks.map_or(NONE, |b| history.line(Supply::Blocks(address, protocol, range), Some(b)));
        let mut all = [NONE; 2];
        for (line, (supply, usable)) in all.iter_mut().zip(wide) {
            history.usable_on_all.insert(supply, usable);
            *line = history.line(supply, Some(usable));
        }
        PageLines { ports, all, blocks }
    }

    /// Ports of a class that can be handed out on an address.
    pub(crate) fn usable_ports(&self, address: IpAddr, protocol: Protocol, range: (u16, u16)) -> u64 {
        let mut ports = PortMap::new();
        self.config.reserve(address, protocol, &mut ports);
        ports.count_free(&[range], None).into()
    }

    /// The same over all addresses of a target.
    fn usable_on_all(&self, target: Target, count: u32, protocol: Protocol, range: (u16, u16)) -> u64 {
        let config = self.config.targets.iter().find(|t| t.target == target && !t.whole);
        let Some(config) = config else { return 0 };
        let on = |n: u32| self.usable_ports(IpAddr::V4(config.space.nth(n).into()), protocol, range);
        // ports that fixed rules hold are few; of a wide pool they are looked for on some addresses only
        const LOOKED_AT: u32 = 256;
        let some = count.min(LOOKED_AT);
        (0..some).map(on).sum::<u64>() + u64::from(count - some) * (u64::from(range.1 - range.0) + 1)
    }

    /// Notes that a flow found nothing left, and tells of what: up to three positions in [`History::supplies`].
    pub(crate) fn record_refusal(
        &mut self,
        now: Instant,
        reason: Reason,
        rule: Option<RuleId>,
        host: IpAddr,
        (protocol, port): (Protocol, u16),
    ) -> [Option<u32>; 3] {
        let mut lines = [NONE; 3];
        let room = match &self.history {
            Some(history) => history.room,
            None => return [None; 3],
        };
        match (reason, rule) {
            (Reason::DeviceFull, _) => {
                let full = self.config.plan.behaviour.max_sessions.is_some_and(|m| self.table.session_count() >= m);
                lines[0] = if full { SESSIONS } else { MAPPINGS };
            }
            (Reason::PoolExhausted | Reason::PortsExhausted | Reason::PassedExhausted, Some(rule)) => {
                let targets = self.config.rule_targets[rule.index()];
                let stays = bits(host).is_some_and(|h| self.on_fallback.contains_key(&(h, rule.0)));
                let stays = stays && self.config.plan.behaviour.paired;
                let tried = [targets.main.filter(|_| !stays), targets.fallback];
                let mut next = 0;
                for target in tried.into_iter().flatten() {
                    for line in self.lines_of(target, host, protocol, port) {
                        if line != NONE && next < lines.len() {
                            lines[next] = line;
                            next += 1;
                        }
                    }
                }
            }
            _ => {}
        }
        let Some(history) = &mut self.history else { return [None; 3] };
        lines.map(|line| {
            history.lines.get_mut(line as usize)?.1.refuse(now.0, room);
            Some(line)
        })
    }

    /// What a host would have had to find on a target.
    fn lines_of(&mut self, target: u16, host: IpAddr, protocol: Protocol, port: u16) -> [u32; 2] {
        let config = &self.config.targets[usize::from(target)];
        if config.whole {
            return [self.pool_line(target).unwrap_or(NONE), NONE];
        }
        if !protocol.is_multiplexed() || config.space.count() == 0 {
            return [NONE; 2];
        }
        let one = match config.space.count() {
            1 => Some(config.space.nth(0)),
            _ => bits(host).and_then(|h| self.paired_address(h, target)),
        };
        let range = self.config.plan.behaviour.port_classes[self.config.plan.behaviour.port_class(port)].into;
        let (place, first) = (config.target, config.space.nth(0));
        let lines = self.new_page_lines(one.unwrap_or(first), protocol, range);
        let Some(history) = &self.history else { return [NONE; 2] };
        let all = history.known.get(&Supply::PortsOfAll(place, protocol, range)).copied().unwrap_or(NONE);
        [if one.is_some() { lines.ports } else { NONE }, all]
    }
}
