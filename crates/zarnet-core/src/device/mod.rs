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
mod commit;
mod config;
mod counters;
mod events;
mod express;
mod external;
mod first_match;
mod icmp;
mod index;
pub(crate) mod intervals;
mod life;
mod pairs;
mod ports;
mod prefix;
mod routes;
mod session;
mod table;
mod translate;
mod view;
mod wheel;

use std::collections::{BinaryHeap, HashMap};
use std::net::IpAddr;

use foldhash::fast::RandomState;
use rand_chacha::ChaCha12Rng;
use rand_chacha::rand_core::SeedableRng;

use crate::net::{AddressSet, Endpoint, Instant, Packet, Protocol, Signal};
use crate::plan::{self, Acl, InterfaceId, Place, RuleId, Verdict};
use crate::reason::Reason;
use choose::TargetState;
use config::Config;
use external::Externals;
use pairs::Pairs;
use session::{Heading, INBOUND, WIDE};
use table::{Mapping, Table, bits};
use translate::{Entry, Kept};

pub use counters::{AddressUse, Counters, Peak, PoolUse, RuleCounters};
pub(crate) use express::{Course, Lane, Ride, Ticket, lane_number};
pub use icmp::ForwardedError;
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
    Consumed,
    /// It goes no further.
    Dropped(Refusal),
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
    /// Why its ends were not changed; `None` if one was.
    pub unchanged: Option<(Reason, Option<RuleId>)>,
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
    /// The server that the next session of a forward gets.
    turns: Vec<u32>,
    random: ChaCha12Rng,
    counters: Counters,
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
pub(crate) fn usable_by_pool(plan: &plan::Device, taken: &AddressSet) -> Vec<Option<u32>> {
    let enabled = vec![true; plan.rules.len()];
    let config = Config::new(plan.clone(), taken.clone(), &enabled);
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
    pub fn new(plan: &plan::Device, taken: &AddressSet, seed: u64) -> Self {
        let enabled: Vec<bool> = plan.rules.iter().map(|r| r.enabled).collect();
        let config = Config::new(plan.clone(), taken.clone(), &enabled);
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
            random: ChaCha12Rng::seed_from_u64(seed),
            leavers: Vec::new(),
            calm_until: 0,
        };
        device.set_up_targets();
        device
    }

    /// The device as planned, with leases as they are now.
    pub fn plan(&self) -> &plan::Device {
        &self.config.plan
    }

    /// What it counted.
    pub fn counters(&self) -> &Counters {
        &self.counters
    }

    /// Dynamic mappings in the table.
    pub fn mapping_count(&self) -> u64 {
        self.table.mapping_count()
    }

    /// A packet comes in on an interface.
    pub fn receive(&mut self, now: Instant, ingress: InterfaceId, packet: Packet) -> Outcome {
        self.expire(now);
        let outcome = self.handle(now, ingress, packet);
        if let Outcome::Dropped(refusal) = outcome {
            self.count_refusal(refusal);
        }
        outcome
    }

    fn count_refusal(&mut self, refusal: Refusal) {
        self.counters.refuse(refusal.rule, refusal.reason);
        if let (Reason::PoolExhausted | Reason::PortsExhausted, Some(rule)) = (refusal.reason, refusal.rule)
            && let Some(target) = self.config.rule_targets[rule.index()].main
        {
            self.targets[usize::from(target)].refused += 1;
        }
    }

    fn handle(&mut self, now: Instant, ingress: InterfaceId, packet: Packet) -> Outcome {
        let hit = self.find(packet, Some(ingress));
        let is_answer = hit.is_some_and(|h| !h.heading.from_initiator);
        let acl = self.config.plan.interfaces[ingress.index()].ingress_acl;
        if let Some(refusal) = self.filter(acl, packet, is_answer, Reason::IngressAcl) {
            return Outcome::Dropped(refusal);
        }
        match hit {
            Some(hit) => self.pass_known(now, Some(ingress), packet, hit),
            None => self.pass_first(now, ingress, packet).unwrap_or_else(Outcome::Dropped),
        }
    }

    /// The device sends a packet of its own: routed and filtered on its way out, and matched by no rule.
    pub fn originate(&mut self, now: Instant, packet: Packet) -> Outcome {
        self.expire(now);
        if let Some(hit) = self.find(packet, None) {
            return self.pass_known(now, None, packet, hit);
        }
        let unchanged = Some((Reason::FromDevice, None));
        match self.send_own(packet, false) {
            Ok(mut out) => {
                out.unchanged = unchanged;
                if packet.may_begin() {
                    match self.commit_own(now, packet, out.interface) {
                        Ok(session) => out.session = Some(session),
                        Err(refusal) => return Outcome::Dropped(refusal),
                    }
                }
                Outcome::Forwarded(out)
            }
            Err(refusal) => Outcome::Dropped(refusal),
        }
    }

    /// Who it sends packets for a destination to.
    pub fn next_hop(&self, destination: IpAddr) -> Option<IpAddr> {
        self.config.routes.find(destination, None).map(|w| w.via.unwrap_or(destination))
    }

    /// The interface that a packet of its own to `destination` would leave by, and the address it would be from.
    pub fn own_source(&self, destination: IpAddr) -> Option<IpAddr> {
        let way = self.config.routes.find(destination, None)?;
        let interface = &self.config.plan.interfaces[way.interface.index()];
        interface.addresses.iter().map(|a| a.0).find(|a| a.is_ipv4() == destination.is_ipv4())
    }

    /// Route and egress filter for what the device itself sends.
    fn send_own(&self, packet: Packet, is_answer: bool) -> Result<Forwarded, Refusal> {
        let destination = packet.destination().address;
        let Some(way) = self.config.routes.find(destination, None) else {
            return Err(Refusal::new(Reason::NoRoute, self.config.plan.place));
        };
        let acl = self.config.plan.interfaces[way.interface.index()].egress_acl;
        if let Some(refusal) = self.filter(acl, packet, is_answer, Reason::EgressAcl) {
            return Err(refusal);
        }
        let next_hop = way.via.unwrap_or(destination);
        Ok(Forwarded { packet, interface: way.interface, next_hop, session: None, unchanged: None })
    }

    /// Step 3: the session that a packet belongs to.
    fn find(&self, packet: Packet, ingress: Option<InterfaceId>) -> Option<Hit> {
        let (source, destination) = (packet.source(), packet.destination());
        if let (Some(from), Some(to)) = (bits(source.address), bits(destination.address))
            && packet.protocol.is_multiplexed()
        {
            let outbound = self.mappings_of(packet.protocol, from, source.port, to, destination.port);
            for mapping in outbound {
                if let Some(id) = self.table.under(mapping, to, destination.port) {
                    let from_initiator = !self.table.session(id).has(INBOUND);
                    return Some(Hit { id, heading: Heading { from_initiator, outbound: true } });
                }
            }
            let page = || self.externals.find_page(to, packet.protocol);
            if let Some(page) = self.config.concerns(destination.address).then(page).flatten() {
                for mapping in self.externals.mappings(page, destination.port) {
                    if let Some(id) = self.table.under(mapping, from, source.port) {
                        let from_initiator = self.table.session(id).has(INBOUND);
                        return Some(Hit { id, heading: Heading { from_initiator, outbound: false } });
                    }
                }
            }
        }
        let ambiguous = self.config.routes.ambiguous;
        let (id, forth) = self.table.find_wide(packet, |wide, forth| {
            let side = if forth { wide.interfaces.0 } else { wide.interfaces.1 };
            !ambiguous || ingress.is_none_or(|i| i.0 == side || side == u16::MAX)
        })?;
        let outbound = forth != self.table.session(id).has(INBOUND);
        Some(Hit { id, heading: Heading { from_initiator: forth, outbound } })
    }

    /// A packet of a known session: translated as the session says.
    fn pass_known(&mut self, now: Instant, ingress: Option<InterfaceId>, packet: Packet, hit: Hit) -> Outcome {
        let (original, translated) = self.tuples(hit.id);
        let ends = if hit.heading.from_initiator { translated } else { original.reversed() };
        let out = Packet { ends, ..packet };
        let session = Some(SessionRef { id: hit.id, created: self.table.session(hit.id).created });
        let destination = out.destination().address;
        if self.config.concerns(destination) && self.config.own.contains_key(&destination) {
            self.refresh(now, hit, packet.signal);
            return Outcome::Consumed;
        }
        if !self.config.plan.forwarding && ingress.is_some() {
            return Outcome::Dropped(Refusal::new(Reason::NotForwarding, self.config.plan.place));
        }
        let wide = self.table.session(hit.id).has(WIDE).then(|| self.side(hit)).flatten();
        let Some(way) = self.config.routes.find(destination, wide.as_ref()) else {
            return Outcome::Dropped(Refusal::new(Reason::NoRoute, self.config.plan.place));
        };
        let acl = self.config.plan.interfaces[way.interface.index()].egress_acl;
        if let Some(refusal) = self.filter(acl, out, !hit.heading.from_initiator, Reason::EgressAcl) {
            return Outcome::Dropped(refusal);
        }
        self.refresh(now, hit, packet.signal);
        let unchanged = (original == translated).then(|| self.unchanged_reason(hit.id));
        let next_hop = way.via.unwrap_or(destination);
        Outcome::Forwarded(Forwarded { packet: out, interface: way.interface, next_hop, session, unchanged })
    }

    /// The interface that a packet of a wide session leaves by, where several have one prefix.
    fn side(&self, hit: Hit) -> Option<plan::InterfaceSet> {
        if !self.config.routes.ambiguous {
            return None;
        }
        let (ingress, egress) = self.table.wide(self.table.session(hit.id))?.interfaces;
        let mut set = plan::InterfaceSet::default();
        set.insert(InterfaceId(if hit.heading.from_initiator { egress } else { ingress }));
        Some(set)
    }

    /// A packet that belongs to no session: steps 4 to 10.
    fn pass_first(&mut self, now: Instant, ingress: InterfaceId, packet: Packet) -> Result<Outcome, Refusal> {
        let ours = self.config.concerns(packet.destination().address);
        let entry = if ours { self.translate_destination(ingress, packet)? } else { Entry::default() };
        let inside = Packet { ends: entry.ends(packet), ..packet };
        let destination = inside.destination().address;
        let own = || self.config.own.get(&destination);
        if let Some(&own) = self.config.concerns(destination).then(own).flatten() {
            return self.for_itself(own, inside, &entry);
        }
        if ours
            && entry.rule.is_none()
            && (self.config.claimed.contains(destination) || self.is_living_end(destination))
        {
            let reason = if entry.blocked { Reason::Filtered } else { Reason::NoMapping };
            return Err(Refusal { reason, rule: None, place: entry.place });
        }
        if !self.config.plan.forwarding {
            return Err(Refusal::new(Reason::NotForwarding, self.config.plan.place));
        }
        let preferred = entry.rule.map(|r| &self.config.plan.rules[r.index()].from.interfaces);
        let way = self.config.routes.find(destination, preferred);
        let way = way.ok_or(Refusal::new(Reason::NoRoute, self.config.plan.place))?;
        let egress = way.interface;
        self.policy(ingress, egress, packet, inside)?;
        let source = self.translate_source(ingress, egress, packet, entry.rule)?;
        let kept = source.kept();
        if !packet.may_begin() {
            let rule = entry.rule.or(source.rule());
            if entry.rule.is_some() || kept.is_none() {
                let place = rule.map(|r| self.config.plan.rules[r.index()].place);
                return Err(Refusal { reason: Reason::NoSession, rule, place });
            }
        }
        let out = Packet { ends: source.ends(inside), ..inside };
        let acl = self.config.plan.interfaces[egress.index()].egress_acl;
        if let Some(refusal) = self.filter(acl, out, false, Reason::EgressAcl) {
            return Err(refusal);
        }
        let unchanged = kept.filter(|_| out.ends == packet.ends).map(Kept::reason);
        let next_hop = way.via.unwrap_or(destination);
        let session = match packet.may_begin() {
            true => Some(self.commit(now, (ingress, egress), packet, out, &entry, source)?),
            false => None,
        };
        Ok(Outcome::Forwarded(Forwarded { packet: out, interface: egress, next_hop, session, unchanged }))
    }

    /// Step 5: a packet for one of its own addresses.
    fn for_itself(&self, own: InterfaceId, packet: Packet, entry: &Entry) -> Result<Outcome, Refusal> {
        let interface = &self.config.plan.interfaces[own.index()];
        let to = packet.destination();
        let answers = (packet.signal == Signal::Query && interface.ping)
            || (packet.may_begin() && interface.services.holds(packet.protocol, to.port));
        if answers {
            return Ok(match self.send_own(packet.answer(), true) {
                Ok(out) => Outcome::Answered(out),
                Err(refusal) => Outcome::Dropped(refusal),
            });
        }
        if entry.blocked {
            return Err(Refusal { reason: Reason::Filtered, rule: None, place: entry.place });
        }
        Err(Refusal::new(Reason::NoListener, interface.place))
    }

    /// Steps 2 and 9: first entry that matches, implicit drop at the end.
    fn filter(&self, acl: Option<plan::AclId>, packet: Packet, is_answer: bool, reason: Reason) -> Option<Refusal> {
        let acl: &Acl = &self.config.plan.acls[acl?.index()];
        let (from, to) = (packet.source(), packet.destination());
        let entry = acl.entries.iter().find(|e| {
            (!e.answers || is_answer)
                && e.service.holds(packet.protocol, to.port)
                && e.source_service.holds(packet.protocol, from.port)
                && e.parties.source.contains(from.address)
                && e.parties.destination.contains(to.address)
        });
        match entry {
            Some(e) if e.verdict == Verdict::Accept => None,
            Some(e) => Some(Refusal::new(reason, e.place)),
            None => Some(Refusal::new(reason, acl.place)),
        }
    }

    /// Step 7: first entry that matches, else the default. The source is as sent, the destination as `policy-sees` says.
    fn policy(&self, ingress: InterfaceId, egress: InterfaceId, sent: Packet, inside: Packet) -> Result<(), Refusal> {
        let plan = &self.config.plan;
        let to: Endpoint =
            if plan.behaviour.policy_sees_translated { inside.destination() } else { sent.destination() };
        let from = sent.source().address;
        let side = |zone: &Option<plan::Zone>, id| zone.as_ref().is_none_or(|z| z.interfaces.contains(id));
        let entry = plan.policies.iter().find(|p| {
            side(&p.from, ingress)
                && side(&p.into, egress)
                && p.service.holds(sent.protocol, to.port)
                && p.parties.source.contains(from)
                && p.parties.destination.contains(to.address)
        });
        let (verdict, place) = entry.map_or((plan.default_policy, plan.default_policy_place), |e| (e.verdict, e.place));
        if verdict == Verdict::Accept { Ok(()) } else { Err(Refusal::new(Reason::Policy, place)) }
    }

    /// Whether a mapping or session that still lives has this external address.
    fn is_living_end(&self, address: IpAddr) -> bool {
        let external = bits(address).and_then(|a| self.externals.find(a));
        external.is_some_and(|e| self.externals.get(e).is_used())
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
