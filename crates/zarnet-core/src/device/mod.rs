//! One device at work: what it does with a packet, and the table that this leaves behind.
//!
//! [`Device::receive`] and [`Device::originate`] take a packet and the time; nothing here reads a clock. The steps are
//! those of the contract: expire, filter, known session, destination translation, own addresses, route, policy, source
//! translation, filter, commit.

mod addresses;
mod adopt;
mod arena;
mod capture;
mod choose;
mod choose_port;
mod commit;
mod conditions;
mod config;
mod counters;
mod events;
mod express;
mod external;
mod first_match;
mod gates;
mod history;
mod icmp;
mod index;
pub(crate) mod intervals;
mod leftover;
mod life;
mod overlap;
mod own;
mod pairs;
mod pipeline;
mod ports;
mod prefix;
mod routes;
mod series;
mod session;
mod sweep;
mod table;
mod translate;
mod view;
mod wheel;

use std::collections::{BinaryHeap, HashMap};
use std::net::IpAddr;
use std::sync::Arc;

use foldhash::fast::RandomState;
use rand_chacha::ChaCha12Rng;
use rand_chacha::rand_core::SeedableRng;

use crate::net::{AddressSet, Packet, Protocol};
use crate::plan::{self, InterfaceId, Place, RuleId};
use crate::reason::Reason;
use choose::TargetState;
use config::Config;
use external::Externals;
use leftover::Leftovers;
use pairs::Pairs;
use session::Heading;
use table::{Mapping, Table, bits};

pub use conditions::Condition;
pub use counters::{AddressUse, Counters, Peak, PoolUse, RuleCounters};
pub(crate) use express::{Course, Lane, Ride, RideAlong, Ticket};
pub use history::{History, Supply};
pub use icmp::ForwardedError;
pub use own::OwnSource;
pub use pipeline::{Judged, Verdicts};
pub use series::{Series, Span};
pub use session::{Ending, State};
pub use view::{MappingRow, SessionRow};

/// What a device did with a packet.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Outcome {
    /// It leaves by an interface.
    Forwarded(Forwarded),
    /// The device itself answers; the answer leaves by an interface.
    Answered(Forwarded),
    /// It was for the device itself, which wanted it.
    Consumed(Taken),
    /// It goes no further.
    Dropped(Refusal),
}

/// A packet that a device took for itself.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Taken {
    /// The packet as it then was.
    pub packet: Packet,
    /// The session that it belongs to, if any.
    pub session: Option<SessionRef>,
    /// Whether it keeps that session alive for longer.
    pub refreshes: bool,
}

/// A packet on its way out.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Forwarded {
    /// The packet as it leaves.
    pub packet: Packet,
    /// The interface it leaves by.
    pub interface: InterfaceId,
    /// Who on that segment is to get it.
    pub next_hop: IpAddr,
    /// The session that it belongs to, if any.
    pub session: Option<SessionRef>,
    /// Whether it keeps that session alive for longer.
    pub refreshes: bool,
    /// Whether an older session has the answers to it, as long as that lives.
    pub contested: bool,
    /// Why its ends were not changed; `None` if one was.
    pub unchanged: Option<(Reason, Option<RuleId>)>,
}

impl Forwarded {
    /// A packet that belongs to no session yet, on its way out by an interface to a next hop.
    fn first(
        packet: Packet,
        (interface, next_hop): (InterfaceId, IpAddr),
        unchanged: Option<(Reason, Option<RuleId>)>,
    ) -> Self {
        Self { packet, interface, next_hop, session: None, refreshes: true, contested: false, unchanged }
    }
}

/// A session, told apart from a later one that took its place.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct SessionRef {
    id: u32,
    created: u64,
}

/// Why a packet goes no further, and what in the plan decided that.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Refusal {
    /// The reason.
    pub reason: Reason,
    /// The rule, for reasons that a rule causes.
    pub rule: Option<RuleId>,
    /// What in the plan caused it.
    pub place: Option<Place>,
}

impl Refusal {
    fn new(reason: Reason, place: Place) -> Self {
        Self { reason, rule: None, place: Some(place) }
    }
}

/// A device and its state.
#[derive(Debug, Clone)]
pub struct Device {
    config: Config,
    enabled: Vec<bool>,
    table: Table,
    externals: Externals,
    targets: Vec<TargetState>,
    /// The address last handed out, by pool, for `in-turn`.
    last_picked: Vec<Option<u32>>,
    /// External addresses of internal hosts.
    pairs: Pairs,
    /// Endpoint mappings on the fallback, by internal host and rule.
    on_fallback: HashMap<(u32, u16), u32, RandomState>,
    /// Endpoint mappings by internal host, where they are limited.
    by_host: HashMap<u32, u32, RandomState>,
    /// Portless mappings by external address, protocol and peer.
    portless: HashMap<(u32, Protocol, u32), u32, RandomState>,
    /// The peer that an endpoint mapping was made for, where mappings depend on it.
    peers: HashMap<u32, (u32, u16), RandomState>,
    /// Pool rules that share an address mapping, where they are several.
    sharing: HashMap<u32, Vec<u16>, RandomState>,
    /// Address mappings without sessions, and until when they last.
    lingers: HashMap<u32, u64, RandomState>,
    /// The same by time; an entry counts only if it agrees with the above.
    lingering: BinaryHeap<std::cmp::Reverse<(u64, u32)>>,
    /// What sessions from before the present plan hold.
    leftovers: Leftovers,
    /// The server that the next session of a forward gets.
    turns: Vec<u32>,
    random: ChaCha12Rng,
    counters: Counters,
    /// What was in use over time, where that is wanted.
    history: Option<Box<History>>,
    /// Room for what sessions about to expire are found by.
    leavers: Vec<(Mapping, u32)>,
    /// Nothing is due before this instant.
    calm_until: u64,
}

/// A known session that a packet belongs to.
#[derive(Debug, Clone, Copy)]
struct Hit {
    id: u32,
    heading: Heading,
}

/// How many addresses each pool of a device can hand out; `None` for a pool that no rule uses.
pub(crate) fn usable_by_pool(plan: &plan::Device, taken: &Arc<AddressSet>) -> Vec<Option<u32>> {
    let enabled = vec![true; plan.rules.len()];
    let config = Config::new(plan.clone(), taken.clone(), &enabled, AddressSet::default());
    let mut sizes = vec![None; plan.pools.len()];
    for whole in [false, true] {
        for target in config.targets.iter().filter(|t| t.whole == whole) {
            if let Some(pool) = target.pool {
                sizes[pool.index()] = Some(target.space.count());
            }
        }
    }
    sizes
}

impl Device {
    /// A device with nothing in its table. `taken`: addresses of the plan's interfaces, hosts and next hops, which no
    /// pool hands out. The same `seed` gives the same choices on every machine.
    pub fn new(plan: &plan::Device, taken: &Arc<AddressSet>, seed: u64) -> Self {
        let enabled: Vec<bool> = plan.rules.iter().map(|r| r.enabled).collect();
        let config = Config::new(plan.clone(), taken.clone(), &enabled, AddressSet::default());
        let mut device = Self {
            targets: vec![TargetState::default(); config.targets.len()],
            last_picked: vec![None; config.plan.pools.len()],
            turns: vec![0; enabled.len()],
            counters: Counters::new(enabled.len()),
            config,
            enabled,
            table: Table::new(),
            externals: Externals::default(),
            pairs: Pairs::new(),
            on_fallback: HashMap::default(),
            by_host: HashMap::default(),
            portless: HashMap::default(),
            peers: HashMap::default(),
            sharing: HashMap::default(),
            lingers: HashMap::default(),
            lingering: BinaryHeap::new(),
            leftovers: Leftovers::default(),
            random: ChaCha12Rng::seed_from_u64(seed),
            history: None,
            leavers: Vec::new(),
            calm_until: 0,
        };
        device.set_up_targets();
        device.send_home();
        device
    }

    /// The device as planned, with leases as they are now.
    pub fn plan(&self) -> &plan::Device {
        &self.config.plan
    }

    /// Whether a rule takes part, as things are now.
    pub fn is_enabled(&self, rule: RuleId) -> bool {
        self.enabled[rule.index()]
    }

    /// What it counted.
    pub fn counters(&self) -> &Counters {
        &self.counters
    }

    /// Dynamic mappings in the table.
    pub fn mapping_count(&self) -> u64 {
        self.table.mapping_count()
    }

    /// Whether a mapping or session that still lives has this external address.
    fn is_living_end(&self, address: IpAddr) -> bool {
        bits(address).is_some_and(|a| {
            let external = self.externals.find(a);
            external.is_some_and(|e| self.externals.get(e).is_used()) || self.leftovers.are_on(a)
        })
    }

    /// The addresses of a fixed rule's external end, as they are now.
    pub fn external_of(&self, external: plan::External) -> Option<crate::net::AddressRange> {
        self.config.external(external)
    }

    /// External addresses of its rules and those it answers ARP for: never routed.
    pub(crate) fn claimed(&self) -> &AddressSet {
        &self.config.claimed
    }

    /// Whether a source that is chosen could as well become this end.
    pub fn could_choose(&self, verdicts: &Verdicts, end: crate::net::Endpoint) -> bool {
        verdicts.target.is_some_and(|t| self.target_of(t).0.contains(end.address))
    }

    /// What a target can hand out, how it picks, and whether it hands out whole addresses.
    pub(crate) fn target_of(&self, target: u16) -> (AddressSet, plan::Pick, bool) {
        let target = &self.config.targets[usize::from(target)];
        let range = |(a, b): (u32, u32)| crate::net::AddressRange::new(IpAddr::V4(a.into()), IpAddr::V4(b.into())).ok();
        (target.space.runs().filter_map(range).collect(), target.pick, target.whole)
    }

    /// Whether it answers ARP on an interface for an address that is not its own, for the sake of a rule, a mapping or
    /// a session.
    pub fn answers_for_translated(&self, interface: InterfaceId, address: IpAddr) -> bool {
        let interface = &self.config.plan.interfaces[interface.index()];
        self.config.plan.behaviour.answers_arp_for_translated
            && interface.addresses.iter().any(|a| a.1.contains(address))
            && (self.config.arp.contains(address) || self.is_living_end(address) || self.session_has_end(address))
    }

    /// Whether a living session of a fixed rule has this external address.
    fn session_has_end(&self, address: IpAddr) -> bool {
        // only a disabled rule's session can hold an address that no rule claims any more
        self.config.claimed.contains(address)
            && self.table.all_sessions().any(|id| {
                let (original, translated) = self.tuples(id);
                original != translated
                    && (original.destination.address == address || translated.source.address == address)
            })
    }
}
