//! What a device knows: mappings, sessions, the external ends that they hold, and when they end.
//!
//! Whoever has a [`Context`] may look; only the four doors of an [`Engine`] change the table:
//! [`Engine::open_mapping`], [`Engine::close_mapping`], [`Engine::open_session`] and
//! [`Engine::close_session`]. Each reports what it did to a [`Sink`].

mod arena;
mod blocks;
mod by_port;
mod close;
mod context;
mod engine;
mod events;
mod expiry;
mod external_addresses;
mod few_numbers;
mod final_expiry;
mod find_session;
mod free_addresses;
mod hairpins;
mod host_map;
mod index;
mod inherit;
mod inherited_ends;
mod keys;
mod lingering;
mod look_up;
mod open;
mod overlapping_flows;
mod own_ports;
mod paired_addresses;
mod port_map;
mod port_table;
mod random_stream;
mod rebuild;
mod resting_ports;
mod running;
mod session;
mod spell_out;
mod table;
mod target_use;
mod timer_wheel;
mod wheel_slots;

use std::collections::HashMap;

use foldhash::fast::RandomState;

use super::compiled::Compiled;
use super::key::{EndKey, Key};
use crate::net::Protocol;
use crate::plan::Dependence;
use by_port::ByPort;
use external_addresses::ExternalAddresses;
use hairpins::Hairpins;
use host_map::HostMap;
use inherited_ends::InheritedEnds;
use lingering::Lingering;
use paired_addresses::PairedAddresses;
use table::Table;
use target_use::TargetUse;

pub(super) use arena::NONE;
pub(super) use context::Context;
pub(super) use engine::Engine;
pub use events::Cause;
pub(super) use events::{Sink, TableEvent, for_each};
pub(super) use external_addresses::ExternalAddress;
pub(super) use find_session::KnownSession;
pub(super) use hairpins::HairpinEnd;
pub(super) use open::{ExternalEnd, NewMapping, NewPort, distinct};
pub(super) use own_ports::OwnPorts;
pub(super) use port_map::{PortMap, PortSpan};
pub(super) use random_stream::RandomStream;
pub(super) use rebuild::Renumbered;
pub(super) use session::{ANSWERED, EXPLICIT, HAIRPIN, Heading, INBOUND, SHARED, Session};
pub(super) use table::{ExplicitTuple, Kind, Mapping};

/// The table of a device and what is kept beside it.
#[derive(Debug, Clone)]
pub(super) struct Bindings {
    pub table: Table,
    pub externals: ExternalAddresses,
    pub by_port: ByPort,
    /// What of each target is in use, by its position.
    pub targets: Vec<TargetUse>,
    /// External addresses of internal hosts.
    pub paired: PairedAddresses,
    pub hosts: HostCounts,
    pub choices: ChoiceState,
    pub details: MappingDetails,
    pub lingering: Lingering,
    /// Where hairpinned sessions go that have no tuples of their own.
    pub hairpins: Hairpins,
    /// What sessions from before the present plan hold.
    pub inherited: InheritedEnds,
    /// What lives of each rule, by its position.
    pub live: Vec<Live>,
    /// By how much of the peer mappings are told apart.
    pub dependence: Dependence,
    /// Room for what sessions about to expire are found by.
    expiring: Vec<(Mapping, u32)>,
    /// The same of sessions with tuples of their own.
    expiring_explicit: Vec<u32>,
    /// Nothing is due before this instant.
    next_expiry: u64,
}

/// What internal hosts have, where it is limited or decides where they go.
#[derive(Debug, Clone, Default)]
pub(super) struct HostCounts {
    /// Endpoint mappings on the fallback, by internal host and rule.
    on_fallback: HostMap<u32>,
    /// Endpoint mappings, where they are limited by host.
    ports: HostMap<u32>,
}

impl HostCounts {
    /// How many endpoint mappings a host has, where they are limited.
    pub(super) fn ports_of(&self, host: Key) -> u32 {
        self.ports.find(host, 0).map_or(0, |found| *found.0)
    }

    /// Reads where that is noted.
    #[inline(always)]
    pub(super) fn touch_ports(&self, host: Key) -> u64 {
        self.ports.touch(host, 0)
    }

    fn add_port(&mut self, host: Key) {
        self.ports.change(host, 0, |count| *count += 1);
    }

    fn remove_port(&mut self, host: Key) {
        self.ports.change(host, 0, |count| *count = count.saturating_sub(1));
    }

    /// Whether a host has endpoint mappings of a rule on the fallback.
    fn is_on_fallback(&self, host: Key, rule: u16) -> bool {
        self.on_fallback.find(host, rule.into()).is_some()
    }

    fn add_on_fallback(&mut self, host: Key, rule: u16) {
        self.on_fallback.change(host, rule.into(), |count| *count += 1);
    }

    fn remove_on_fallback(&mut self, host: Key, rule: u16) {
        self.on_fallback.change(host, rule.into(), |count| *count = count.saturating_sub(1));
    }
}

/// What choices go on from.
#[derive(Debug, Clone)]
pub(super) struct ChoiceState {
    /// The address last handed out, by pool, for `in-turn`.
    pub last_picked: Vec<Option<Key>>,
    /// The server that the next session of a forward gets, by rule.
    pub next_server: Vec<u32>,
    pub random: RandomStream,
}

/// What few mappings have besides.
#[derive(Debug, Clone, Default)]
pub(super) struct MappingDetails {
    /// Portless mappings by external address, protocol and peer.
    pub portless: HashMap<(u32, Protocol, Key), u32, RandomState>,
    /// The peer that an endpoint mapping was made for, where mappings depend on it.
    pub peers: HashMap<u32, EndKey, RandomState>,
    /// Pool rules that share an address mapping, where they are several.
    pub sharing: HashMap<u32, Vec<u16>, RandomState>,
}

/// What is asked all the time, of no more things than this, the processor has at hand.
pub(super) const AT_HAND: usize = 64;

/// What lives of a rule.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Live {
    pub sessions: u64,
    pub mappings: u64,
}

impl Bindings {
    /// Lets everything be as in another state. What there is of each rule is put where it was: of
    /// very many rules that would be much to make room for again and again.
    pub(super) fn restore(&mut self, from: &Self) {
        let Self { table, externals, by_port, targets, paired, hosts, choices, details, .. } = from;
        let Self { lingering, hairpins, inherited, live, dependence, next_expiry, .. } = from;
        self.table.clone_from(table);
        self.externals.clone_from(externals);
        self.by_port.clone_from(by_port);
        self.targets.clone_from(targets);
        self.paired.clone_from(paired);
        self.hosts.clone_from(hosts);
        let ChoiceState { last_picked, next_server, random } = choices;
        self.choices.last_picked.clone_from(last_picked);
        self.choices.next_server.clone_from(next_server);
        self.choices.random.clone_from(random);
        self.details.clone_from(details);
        self.lingering.clone_from(lingering);
        self.hairpins.clone_from(hairpins);
        self.inherited.clone_from(inherited);
        self.live.clone_from(live);
        (self.dependence, self.next_expiry) = (*dependence, *next_expiry);
    }

    /// Nothing in the table. The same `seed` gives the same choices on every machine.
    pub(super) fn new(compiled: &Compiled, seed: u64) -> Self {
        let (pools, rules) = (compiled.plan.pools.len(), compiled.plan.rules.len());
        let random = RandomStream::new(seed);
        let choices =
            ChoiceState { last_picked: vec![None; pools], next_server: vec![0; rules], random };
        let mut targets: Vec<TargetUse> =
            compiled.targets.list.iter().map(TargetUse::unused).collect();
        for (state, config) in targets.iter_mut().zip(&compiled.targets.list) {
            state.set_pairing(config, compiled.plan.behaviour.paired);
        }
        Self {
            table: Table::new(),
            externals: ExternalAddresses::default(),
            by_port: ByPort::new(compiled.plan.behaviour.port_overloading),
            targets,
            paired: PairedAddresses::default(),
            hosts: HostCounts::default(),
            choices,
            details: MappingDetails::default(),
            lingering: Lingering::default(),
            hairpins: Hairpins::default(),
            inherited: InheritedEnds::default(),
            live: vec![Live::default(); rules],
            dependence: compiled.plan.behaviour.mapping,
            expiring: Vec::new(),
            expiring_explicit: Vec::new(),
            next_expiry: 0,
        }
    }

    /// What of a target is in use.
    #[inline(always)]
    pub(super) fn target(&self, target: u16) -> &TargetUse {
        &self.targets[usize::from(target)]
    }

    #[inline(always)]
    fn target_mut(&mut self, target: u16) -> &mut TargetUse {
        &mut self.targets[usize::from(target)]
    }

    /// Whether what lives of a rule has to be waited for.
    pub(super) fn has_many_rules(&self) -> bool {
        self.live.len() > AT_HAND
    }

    /// Nothing is due before this instant.
    pub(super) fn next_expiry(&self) -> u64 {
        self.next_expiry
    }

    /// Something becomes due at an instant.
    #[inline(always)]
    fn due_by(&mut self, at: u64) {
        self.next_expiry = self.next_expiry.min(at);
    }
}

#[cfg(test)]
mod tests;
