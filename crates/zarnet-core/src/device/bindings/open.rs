//! The doors by which mappings and sessions come into the table.

use super::arena::NONE;
use super::keys::{address_hash, endpoint_hash, portless_hash};
use super::session::{HAIRPIN, Session};
use super::table::{ExplicitTuple, Kind, Mapping};
use super::{Bindings, Engine, HairpinEnd, Sink, TableEvent, for_each};
use crate::device::key::{EndKey, Key};
use crate::net::Protocol;
use crate::plan::{Dependence, Pick, RuleId};

/// An external end that was found for a new mapping, and what taking it moves.
#[derive(Debug, Clone, Copy)]
pub(in crate::device) struct ExternalEnd {
    pub kind: Kind,
    pub target: u16,
    pub address: Key,
    /// 0 where there is none.
    pub port: u16,
    /// Whether the device could as well have chosen otherwise.
    pub freely: bool,
    /// Whether the address came out of the pool's turn.
    pub picked: bool,
    /// Position of the port's class.
    pub class: u8,
    /// The number of the block that the port lies in, in its class.
    pub block: Option<u16>,
    /// Where the random stream stands behind the choice.
    pub random: Option<u64>,
}

/// A mapping that is to be opened.
#[derive(Debug, Clone, Copy)]
pub(in crate::device) struct NewMapping {
    pub rule: u16,
    pub protocol: Protocol,
    pub internal: EndKey,
    /// The far end of its first packet.
    pub peer: EndKey,
    pub external: ExternalEnd,
}

/// The next port of an address that is in use already, for a mapping that nothing but that port is
/// kept of.
#[derive(Debug, Clone, Copy)]
pub(in crate::device) struct NewPort {
    pub rule: u16,
    pub target: u16,
    pub internal: EndKey,
    /// What the mapping is found by.
    pub hash: u32,
    /// The ports that it is of.
    pub port_table: u32,
    pub class: usize,
    pub port: u16,
    /// The number of the block that the port lies in, in its class.
    pub block: Option<u16>,
    /// Where the host's address is noted, if it is.
    pub pair: Option<usize>,
    /// Whether the device could as well have chosen otherwise.
    pub freely: bool,
    /// Where the random stream stands behind the choice.
    pub random: Option<u64>,
}

impl Bindings {
    /// Gives a port to a host's mapping; tells whether it was free but for what rests, whose it is,
    /// and how many mappings are on that then.
    #[inline(always)]
    fn bind(&mut self, port_table: u32, port: u16, mapping: u32, host: Key) -> (bool, u32, u32) {
        let was_free = self.by_port.give(port_table, port, mapping);
        let (external, on_address) = self.externals.bind(port_table, port, host, was_free);
        (was_free, external, on_address)
    }

    /// Counts a session among those of the rules that made it.
    #[inline(always)]
    fn count_session(&mut self, rules: [Option<RuleId>; 2]) {
        let live = &mut self.live;
        for_each(rules, |rule| live[rule.index()].sessions += 1);
    }

    /// A session that is about to begin under an endpoint mapping is hairpinned, to an end that
    /// [`Hairpins::may_hold`](super::hairpins::Hairpins::may_hold) has found possible.
    #[inline(always)]
    pub(in crate::device) fn enter_hairpin(
        &mut self,
        session: &mut Session,
        protocol: Protocol,
        end: HairpinEnd,
    ) {
        session.flags |= HAIRPIN;
        self.hairpins.enter(protocol, (session.remote, session.remote_port), end);
    }
}

impl<S: Sink> Engine<'_, S> {
    /// Opens a mapping, and gives its place. Its first session is to follow at once.
    pub(in crate::device) fn open_mapping(&mut self, now: u64, new: &NewMapping) -> u32 {
        let NewMapping { rule, protocol, internal: (host, port), peer, external: end } = *new;
        let external = self.bindings.externals.obtain(end.address);
        let was_used = self.bindings.externals.get(external).is_used();
        self.note_place(end.target, end.address, external);
        let (place, hash) = match end.kind {
            Kind::Endpoint => {
                let port_table = self.obtain_ports(end.address, protocol);
                (port_table, endpoint_hash(self.bindings.dependence, protocol, (host, port), peer))
            }
            Kind::Address => (external, address_hash(host, end.target)),
            Kind::Portless => (external, portless_hash(protocol, host, peer.0)),
        };
        let mut mapping = Mapping::new(end.kind, place, end.freely);
        (mapping.internal, mapping.rule, mapping.target) = (host, rule, end.target);
        mapping.internal_port = if end.kind == Kind::Portless { protocol.0.into() } else { port };
        mapping.external_port = end.port;
        let id = self.bindings.table.add_mapping(mapping, now, hash);
        match end.kind {
            Kind::Address => self.bindings.externals.get_mut(external).whole = id,
            Kind::Portless => {
                self.bindings.externals.get_mut(external).endpoints += 1;
                self.bindings.details.portless.insert((external, protocol, peer.0), id);
            }
            Kind::Endpoint => self.take_port(now, id, host, peer, (place, end)),
        }
        if end.kind != Kind::Address {
            self.pair(host, end.target, external);
            if self.compiled.targets.is_fallback(rule, end.target) {
                self.bindings.hosts.add_on_fallback(host, rule);
            }
        }
        let config = self.compiled.targets.get(end.target);
        if let (true, Pick::InTurn, Some(pool)) = (end.picked, config.pick, config.pool) {
            self.bindings.choices.last_picked[pool.index()] = Some(end.address);
        }
        if let Some(position) = end.random {
            self.bindings.choices.random.move_to(position);
        }
        if !was_used {
            self.note_use(end.address, true, now);
        }
        self.bindings.live[usize::from(rule)].mappings += 1;
        let e = self.bindings.externals.get(external);
        let on_address = if e.whole == NONE { e.endpoints } else { 1 };
        self.report(
            now,
            TableEvent::MappingOpened { mapping: id, rule, external, on_address, peer },
        );
        id
    }

    /// The ports of an address and protocol, without those that are never handed out.
    pub(super) fn obtain_ports(&mut self, address: Key, protocol: Protocol) -> u32 {
        let classes = self.compiled.plan.behaviour.port_classes.len();
        let compiled = self.compiled;
        self.bindings.externals.obtain_port_table(address, protocol, classes, |ports| {
            compiled
                .reserved(address.address(), protocol, |first, last| ports.take_all(first, last));
        })
    }

    /// Gives an external port to a new endpoint mapping.
    fn take_port(
        &mut self,
        now: u64,
        id: u32,
        host: Key,
        peer: EndKey,
        (port_table, end): (u32, ExternalEnd),
    ) {
        if self.bindings.dependence != Dependence::EndpointIndependent {
            self.bindings.details.peers.insert(id, peer);
        }
        if self.bindings.bind(port_table, end.port, id, host).0 {
            self.report(now, TableEvent::PortTaken { port_table, port: end.port });
        }
        self.bindings.externals.set_last(port_table, end.class.into(), end.port);
        let rule = self.bindings.table.mapping(id).rule;
        let block = (end.class.into(), end.block);
        self.count_port(now, (port_table, end.port), block, host, rule);
    }

    /// Counts a port that a host was given in its block, and among those that it has.
    fn count_port(
        &mut self,
        now: u64,
        (port_table, port): (u32, u16),
        (class, block): (usize, Option<u16>),
        host: Key,
        rule: u16,
    ) {
        if let Some(block) = block
            && self.bindings.externals.take_block(port_table, (class, block), host)
        {
            self.report(now, TableEvent::BlockTaken { port_table, port, host, rule });
        }
        if self.compiled.plan.behaviour.ports_per_host.is_some() {
            self.bindings.hosts.add_port(host);
        }
    }

    /// Opens a session under a mapping, or one with tuples of its own, and gives its place. Its
    /// mappings are in use again, if they were about to go. `rules`: those that made it, each once.
    #[inline(always)]
    pub(in crate::device) fn open_session(
        &mut self,
        session: Session,
        explicit: Option<ExplicitTuple>,
        rules: [Option<RuleId>; 2],
    ) -> u32 {
        if !self.bindings.lingering.is_empty() {
            let entered = explicit.map_or(NONE, |e| e.entered);
            let source = explicit.map_or(session.owner, |e| e.source_mapping);
            [source, entered].into_iter().for_each(|m| self.bindings.lingering.remove(m));
        }
        self.bindings.due_by(session.expires);
        let id = self.bindings.table.add_session(session, explicit);
        self.bindings.count_session(rules);
        self.report(session.created, TableEvent::SessionOpened { session: id, rules });
        id
    }

    /// Opens an endpoint mapping and its first session, which changes the source only or is
    /// hairpinned: both doors in one step.
    #[inline(always)]
    pub(in crate::device) fn open_both(
        &mut self,
        mut session: Session,
        new: &NewPort,
        hairpin: Option<HairpinEnd>,
    ) -> u32 {
        let now = session.created;
        let mut mapping = Mapping::new(Kind::Endpoint, new.port_table, new.freely);
        (mapping.internal, mapping.internal_port) = new.internal;
        (mapping.external_port, mapping.rule, mapping.target) = (new.port, new.rule, new.target);
        let own = Some(RuleId(new.rule));
        let mut rules = [own, None];
        if let Some(end) = hairpin {
            let protocol = self.bindings.externals.protocol_of(new.port_table);
            self.bindings.enter_hairpin(&mut session, protocol, end);
            rules = distinct(Some(RuleId(end.rule)), own);
        }
        self.bindings.due_by(session.expires);
        let id = self.bindings.table.add_both(mapping, session, new.hash);
        let (_, external, on_address) =
            self.bindings.bind(new.port_table, new.port, id, new.internal.0);
        self.report(now, TableEvent::PortTaken { port_table: new.port_table, port: new.port });
        self.bindings.externals.set_last(new.port_table, new.class, new.port);
        if !self.compiled.mappings_are_simple {
            self.count_port(
                now,
                (new.port_table, new.port),
                (new.class, new.block),
                new.internal.0,
                new.rule,
            );
        }
        if let Some(pair) = new.pair {
            self.bindings.paired.count_at(pair);
        }
        if let Some(position) = new.random {
            self.bindings.choices.random.move_to(position);
        }
        let (rule, peer) = (new.rule, (session.remote, session.remote_port));
        self.bindings.live[usize::from(rule)].mappings += 1;
        self.bindings.count_session(rules);
        self.report(
            now,
            TableEvent::MappingOpened { mapping: id, rule, external, on_address, peer },
        );
        self.report(now, TableEvent::SessionOpened { session: id, rules });
        id
    }

    /// Notes where an address of a target stands among those that have been used.
    fn note_place(&mut self, target: u16, address: Key, external: u32) {
        let space = &self.compiled.targets.get(target).space;
        let state = self.bindings.target_mut(target);
        let kept = |p: &u32| space.count() == 1 || state.is_stable() && *p <= u16::MAX.into();
        if let Some(position) = space.position(address).filter(kept) {
            state.note_place(position, external);
        }
    }

    /// Notes that a host has an address of a target.
    fn pair(&mut self, host: Key, target: u16, external: u32) {
        if self.bindings.target(target).is_stable() {
            let address = self.bindings.externals.get(external).address;
            if self.context().paired_address(host, target) != Some(address) {
                // its own mapping is among them
                self.keep_pairs(target);
            }
        } else if self.bindings.target(target).keeps_pairs() {
            self.bindings.paired.add(host, target, external);
        }
    }

    /// Some host found no room where it has its stable address: from now on it is kept who has
    /// which address of a target.
    pub(in crate::device) fn keep_pairs(&mut self, target: u16) {
        if !self.bindings.target(target).is_stable() {
            return;
        }
        let (config, paired) =
            (self.compiled.targets.get(target), self.compiled.plan.behaviour.paired);
        self.bindings.target_mut(target).keep_pairs(config, paired);
        for id in self.bindings.table.all_mappings() {
            let m = self.bindings.table.mapping(id);
            if m.target == target && m.kind() != Kind::Address {
                self.bindings.paired.add(m.internal, target, self.bindings.external_under(id));
            }
        }
    }

    /// Tells every target that holds an address whether it is in use.
    pub(super) fn note_use(&mut self, address: Key, used: bool, now: u64) {
        let compiled = self.compiled;
        for &target in compiled.targets.holding(address) {
            let Some(position) = compiled.targets.get(target).space.position(address) else {
                continue;
            };
            let inherited = self.bindings.inherited.are_on(address);
            let state = self.bindings.target_mut(target);
            if used {
                state.in_use += 1
            } else {
                state.in_use -= 1
            }
            match &mut state.free {
                Some(free) if used => free.remove(position),
                Some(free) if !inherited => free.insert(position),
                Some(_) | None => {}
            }
            let in_use = state.in_use;
            let event = match used {
                true => TableEvent::AddressTaken { target, in_use },
                false => TableEvent::AddressFreed { target, in_use },
            };
            self.report(now, event);
        }
    }

    /// Lets a mapping count as another rule's; its sessions stay those of the rules that made them.
    pub(in crate::device) fn hand_over(&mut self, now: u64, mapping: u32, to: u16) {
        if self.bindings.table.counted(mapping) > 0 {
            self.spell_out_sessions(|session, _| session.owner == mapping);
        }
        let from = std::mem::replace(&mut self.bindings.table.mapping_mut(mapping).rule, to);
        self.bindings.live[usize::from(from)].mappings -= 1;
        self.bindings.live[usize::from(to)].mappings += 1;
        self.report(now, TableEvent::MappingHandedOver { mapping, from, to });
    }
}

/// Each of two rules once, in their order.
pub(in crate::device) fn distinct(a: Option<RuleId>, b: Option<RuleId>) -> [Option<RuleId>; 2] {
    match a {
        Some(_) => [a, b.filter(|b| Some(*b) != a)],
        None => [b, None],
    }
}
