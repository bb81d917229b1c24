//! The translation log of a device: what RFC 8158 §4 has a device tell of its table. Kept only
//! where it is asked for.

use std::collections::HashMap;
use std::sync::Arc;

use foldhash::fast::RandomState;

use crate::device::bindings::{Bindings, Cause, Kind, Sink, TableEvent};
use crate::device::compiled::Compiled;
use crate::device::key::{EndKey, Key};
use crate::net::{Endpoint, Instant, Protocol};
use crate::plan::{Dependence, Log, Renaming, RuleId};

mod entry;
mod shortage;

use entry::RefusedPacket;
pub use entry::{HostBlock, LogEntry, LogEvent, Quota, Translated};

/// What of each rule is logged, and what was logged and not yet taken.
#[derive(Debug, Clone)]
pub(in crate::device) struct TranslationLog {
    compiled: Arc<Compiled>,
    /// Every rule is logged like this, whatever the plan says.
    all_as: Option<Log>,
    /// What is logged, by rule.
    by_rule: Vec<Log>,
    entries: Vec<LogEntry>,
    /// When each shortage was logged last.
    shortages: HashMap<(LogEvent, Option<RuleId>), u64, RandomState>,
    /// Mappings of fixed rules that were logged and have not ended.
    fixed: Vec<(RuleId, LogEvent)>,
    /// Blocks that were logged and have not been taken back, by the port table and the first port.
    blocks: HashMap<(u32, u16), (HostBlock, RuleId), RandomState>,
}

impl TranslationLog {
    pub(in crate::device) fn new(compiled: Arc<Compiled>, all_as: Option<Log>) -> Self {
        let by_rule = logged(&compiled, all_as);
        Self {
            compiled,
            all_as,
            by_rule,
            entries: Vec::new(),
            shortages: HashMap::default(),
            fixed: Vec::new(),
            blocks: HashMap::default(),
        }
    }

    /// How many entries wait.
    pub(in crate::device) fn len(&self) -> usize {
        self.entries.len()
    }

    /// Takes what was logged, in the order of its time, and leaves room for more.
    pub(in crate::device) fn take(&mut self, room: Vec<LogEntry>) -> Vec<LogEntry> {
        std::mem::replace(&mut self.entries, room)
    }

    /// Logs which mappings of fixed rules began or ended, by those that there are now.
    pub(in crate::device) fn update_fixed(
        &mut self,
        at: Instant,
        mut now: Vec<(RuleId, LogEvent)>,
    ) {
        now.retain(|known| self.by_rule[known.0.index()] == Log::Mappings);
        let before = std::mem::take(&mut self.fixed);
        for (rule, event) in before.iter().filter(|known| !now.contains(known)) {
            let event = ended(*event, Cause::RuleDisabled);
            self.entries.push(LogEntry { at, rule: Some(*rule), event });
        }
        for (rule, event) in now.iter().filter(|new| !before.contains(new)) {
            self.entries.push(LogEntry { at, rule: Some(*rule), event: *event });
        }
        self.fixed = now;
    }

    pub(super) fn rename(&mut self, compiled: &Arc<Compiled>, renaming: &Renaming) {
        let rename = |rule: RuleId| renaming.rules[rule.index()];
        for entry in &mut self.entries {
            entry.rule = entry.rule.map(rename);
            if let LogEvent::AddressesExhausted(pool) = &mut entry.event {
                *pool = renaming.pools[pool.index()];
            }
        }
        self.fixed.iter_mut().for_each(|known| known.0 = rename(known.0));
        self.blocks.values_mut().for_each(|known| known.1 = rename(known.1));
        self.shortages.clear();
        self.compiled = compiled.clone();
        self.by_rule = logged(compiled, self.all_as);
    }

    /// Another plan may have other blocks: logs which were taken back and which were given, by
    /// those that there are now.
    pub(in crate::device) fn update_blocks(&mut self, at: Instant, bindings: &Bindings) {
        if !self.by_rule.contains(&Log::Blocks) && self.blocks.is_empty() {
            return;
        }
        let mut now = HashMap::default();
        for id in bindings.table.all_mappings() {
            let m = bindings.table.mapping(id);
            let is_logged = self.by_rule[usize::from(m.rule)] == Log::Blocks;
            if is_logged
                && m.kind() == Kind::Endpoint
                && let Some(block) = self.block(bindings, m.place(), m.external_port, m.internal)
            {
                now.insert((m.place(), block.ports.0), (block, RuleId(m.rule)));
            }
        }
        let mut changes: Vec<LogEntry> = Vec::new();
        let entry = |rule, block, cause| LogEntry {
            at,
            rule: Some(rule),
            event: LogEvent::Block(block, cause),
        };
        for (place, (block, rule)) in &self.blocks {
            if now.get(place).is_none_or(|new: &(HostBlock, RuleId)| new.0 != *block) {
                changes.push(entry(*rule, *block, Some(Cause::Cleared)));
            }
        }
        changes.sort_unstable_by_key(order_of_block);
        let freed = changes.len();
        for (place, (block, rule)) in &now {
            if self.blocks.get(place).is_none_or(|old| old.0 != *block) {
                changes.push(entry(*rule, *block, None));
            }
        }
        changes[freed..].sort_unstable_by_key(order_of_block);
        self.entries.append(&mut changes);
        self.blocks = now;
    }

    /// What is logged of a rule.
    #[inline(always)]
    fn is(&self, rule: u16, log: Log) -> bool {
        self.by_rule[usize::from(rule)] == log
    }

    /// Whether a mapping is for one peer only: that one.
    fn peer(&self, kind: Kind, peer: EndKey) -> Option<Endpoint> {
        match (kind, self.compiled.plan.behaviour.mapping) {
            (Kind::Address, _) | (Kind::Endpoint, Dependence::EndpointIndependent) => None,
            (Kind::Endpoint, Dependence::AddressAndPortDependent) => Some(peer.0.with_port(peer.1)),
            (Kind::Portless, _) | (Kind::Endpoint, Dependence::AddressDependent) => {
                Some(peer.0.with_port(0))
            }
        }
    }

    fn mapping(
        &mut self,
        at: u64,
        id: u32,
        (rule, peer): (u16, EndKey),
        cause: Option<Cause>,
        bindings: &Bindings,
    ) {
        let m = bindings.table.mapping(id);
        let (external, protocol) = match m.kind() {
            Kind::Endpoint => {
                let (external, protocol) = bindings.externals.owner(m.place());
                (external, Some(protocol))
            }
            Kind::Portless => (m.place(), Some(Protocol(m.internal_port as u8))),
            Kind::Address => (m.place(), self.compiled.rule(rule).service.protocol()),
        };
        let port = if m.kind() == Kind::Endpoint { m.internal_port } else { 0 };
        let translated = Translated {
            protocol,
            internal: m.internal.with_port(port),
            external: bindings.externals.get(external).address.with_port(m.external_port),
            peer: self.peer(m.kind(), peer),
        };
        let event = match m.kind() {
            Kind::Address => LogEvent::Address(translated, cause),
            Kind::Endpoint | Kind::Portless => LogEvent::Mapping(translated, cause),
        };
        self.entries.push(LogEntry { at: Instant(at), rule: Some(RuleId(rule)), event });
    }

    fn session(&mut self, at: u64, id: u32, cause: Option<Cause>, bindings: &Bindings) {
        let session = bindings.table.session(id);
        let Some((rule, protocol, ends)) = bindings.translation(session) else {
            return self.session_by_tuples(at, id, cause, bindings);
        };
        if self.is(rule.0, Log::Sessions) {
            let [internal, external, peer] = ends.map(|end| end.0.with_port(end.1));
            let (protocol, peer) = (Some(protocol), Some(peer));
            let translated = Translated { protocol, internal, external, peer };
            let event = LogEvent::Session(translated, cause);
            self.entries.push(LogEntry { at: Instant(at), rule: Some(rule), event });
        }
    }

    #[inline(never)]
    fn session_by_tuples(&mut self, at: u64, id: u32, cause: Option<Cause>, bindings: &Bindings) {
        let session = bindings.table.session(id);
        let (inbound, outbound) = bindings.rules_of(session);
        let is_logged = |rule: &RuleId| self.by_rule[rule.index()] == Log::Sessions;
        let (inbound, outbound) = (inbound.filter(is_logged), outbound.filter(is_logged));
        if inbound.or(outbound).is_none() {
            return;
        }
        let protocol = Some(bindings.protocol_of(session));
        let (original, translated) = bindings.tuples(id);
        let mut log = |rule, internal, external, peer| {
            let translated = Translated { protocol, internal, external, peer: Some(peer) };
            let event = LogEvent::Session(translated, cause);
            self.entries.push(LogEntry { at: Instant(at), rule, event });
        };
        // a session that two rules translate has two translations
        if inbound.is_some() {
            log(inbound, translated.destination, original.destination, original.source);
        }
        if outbound.is_some() {
            log(outbound, original.source, translated.source, translated.destination);
        }
    }

    /// The block of a port, and who has it.
    fn block(
        &self,
        bindings: &Bindings,
        port_table: u32,
        port: u16,
        host: Key,
    ) -> Option<HostBlock> {
        let behaviour = &self.compiled.plan.behaviour;
        let size = behaviour.block_size?;
        let (external, protocol) = bindings.externals.owner(port_table);
        let ranges = behaviour.port_classes.iter().map(|class| class.into);
        let (first, last) = ranges.into_iter().find(|r| (r.0..=r.1).contains(&port))?;
        let from = first + (port - first) / size * size;
        Some(HostBlock {
            protocol,
            host: host.address(),
            external: bindings.externals.get(external).address.address(),
            ports: (from, from.saturating_add(size - 1).min(last)),
        })
    }

    fn block_taken(
        &mut self,
        at: u64,
        place: (u32, u16),
        host: Key,
        rule: u16,
        bindings: &Bindings,
    ) {
        if self.is(rule, Log::Blocks)
            && let Some(block) = self.block(bindings, place.0, place.1, host)
        {
            self.blocks.insert((place.0, block.ports.0), (block, RuleId(rule)));
            let event = LogEvent::Block(block, None);
            self.entries.push(LogEntry { at: Instant(at), rule: Some(RuleId(rule)), event });
        }
    }

    fn block_freed(
        &mut self,
        at: u64,
        place: (u32, u16),
        host: Key,
        cause: Cause,
        bindings: &Bindings,
    ) {
        let freed = self.block(bindings, place.0, place.1, host);
        // one that was not logged when it was given is not logged when it is taken back
        if let Some((block, rule)) = freed.and_then(|b| self.blocks.remove(&(place.0, b.ports.0))) {
            let event = LogEvent::Block(block, Some(cause));
            self.entries.push(LogEntry { at: Instant(at), rule: Some(rule), event });
        }
    }
}

/// What is logged of each rule of a device.
fn logged(compiled: &Compiled, all_as: Option<Log>) -> Vec<Log> {
    compiled.plan.rules.iter().map(|rule| all_as.unwrap_or(rule.log)).collect()
}

/// The end of a mapping whose beginning was logged.
fn ended(event: LogEvent, cause: Cause) -> LogEvent {
    match event {
        LogEvent::Address(translated, _) => LogEvent::Address(translated, Some(cause)),
        LogEvent::Mapping(translated, _) => LogEvent::Mapping(translated, Some(cause)),
        other => other,
    }
}

fn order_of_block(entry: &LogEntry) -> Option<HostBlock> {
    if let LogEvent::Block(block, _) = entry.event { Some(block) } else { None }
}

impl Sink for TranslationLog {
    #[inline]
    fn note(&mut self, at: u64, event: TableEvent, bindings: &Bindings) {
        match event {
            TableEvent::MappingOpened { mapping, rule, peer, .. } => {
                if self.is(rule, Log::Mappings) {
                    self.mapping(at, mapping, (rule, peer), None, bindings);
                }
            }
            TableEvent::MappingClosed { mapping, rule, cause, peer } => {
                if self.is(rule, Log::Mappings) {
                    self.mapping(at, mapping, (rule, peer), Some(cause), bindings);
                }
            }
            TableEvent::SessionOpened { session, .. } => self.session(at, session, None, bindings),
            TableEvent::SessionClosed { session, cause, .. } => {
                self.session(at, session, Some(cause), bindings);
            }
            TableEvent::BlockTaken { port_table, port, host, rule } => {
                self.block_taken(at, (port_table, port), host, rule, bindings);
            }
            TableEvent::BlockFreed { port_table, port, host, cause, .. } => {
                self.block_freed(at, (port_table, port), host, cause, bindings);
            }
            TableEvent::Refused { rule, reason, targets, protocol, source } => {
                let refused = RefusedPacket { rule, reason, targets, protocol, source };
                self.refuse(at, &refused, bindings);
            }
            TableEvent::MappingHandedOver { .. }
            | TableEvent::PortTaken { .. }
            | TableEvent::PortFreed { .. }
            | TableEvent::AddressTaken { .. }
            | TableEvent::AddressFreed { .. } => {}
        }
    }
}
