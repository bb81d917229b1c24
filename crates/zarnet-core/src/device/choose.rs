//! How an external end is chosen for a new mapping. Nothing is taken here: a choice takes effect when it is committed,
//! so that a packet that is dropped afterwards moves no turn, sequence or random stream.
//! Read first: RFC 4787 §4.1 and §4.2, RFC 6888 §3, RFC 7422.

use std::net::IpAddr;

use rand_chacha::ChaCha12Rng;
use rand_chacha::rand_core::Rng;

use super::addresses::FreeSet;
use super::config::TargetConfig;
use super::index::mix;
use super::session::NONE;
use super::table::{Kind, bits, v4};
use super::translate::{Kept, Source};
use super::{Device, Peak, Refusal};
use crate::net::{Endpoint, Packet, Protocol};
use crate::plan::{Dependence, Fallback, Pick, PortAssignment, RuleId, RuleKind};
use crate::reason::Reason;

/// What of a target is in use.
#[derive(Debug, Clone, Default)]
pub(super) struct TargetState {
    /// Addresses that can be borrowed whole, where they are.
    pub free: Option<FreeSet>,
    /// Addresses with a mapping.
    pub in_use: u32,
    pub peak: Peak,
    /// Packets refused for want of an address or port.
    pub refused: u64,
    /// Every host with mappings on it has them where `by-source` begins for it. As long as that is so, it need not be
    /// kept who has which address.
    pub at_home: bool,
    /// Of a target with one address, or with everybody at home: where its first addresses stand among those that have been
    /// used, by position; [`NONE`] for one that has not been.
    pub used_as: Vec<u32>,
}

/// An external end that was found, and what choosing it moves.
#[derive(Debug, Clone, Copy)]
pub(super) struct Choice {
    pub kind: Kind,
    pub target: u16,
    pub address: u32,
    /// 0 where there is none.
    pub port: u16,
    /// Whether the device could as well have chosen otherwise.
    pub freely: bool,
    /// Whether the address came out of the pool's turn.
    pub picked: bool,
    /// Position of the port's class.
    pub class: u8,
    /// The block that the port lies in.
    pub block: Option<u32>,
    /// Where the random stream stands behind the choice.
    pub random: Option<u128>,
}

/// A random stream that is read but not moved.
pub(super) struct Draw {
    rng: ChaCha12Rng,
    used: bool,
}

impl Draw {
    /// A number below `n`, each equally likely.
    pub(super) fn below(&mut self, n: u32) -> u32 {
        self.used = true;
        ((u128::from(self.rng.next_u64()) * u128::from(n)) >> 64) as u32
    }

    fn position(&self) -> Option<u128> {
        self.used.then(|| self.rng.get_word_pos())
    }
}

/// What a port is wanted for.
#[derive(Clone, Copy)]
pub(super) struct Wish {
    pub protocol: Protocol,
    pub host: u32,
    pub port: u16,
    pub peer: Endpoint,
}

impl Device {
    pub(super) fn set_up_targets(&mut self) {
        for (config, state) in self.config.targets.iter().zip(&mut self.targets) {
            if config.whole {
                state.free = Some(FreeSet::full(config.space.count()));
            }
        }
    }

    /// Where hosts begin by their source, and stay.
    pub(super) fn send_home(&mut self) {
        for (config, state) in self.config.targets.iter().zip(&mut self.targets) {
            let paired = self.config.plan.behaviour.paired && !config.whole;
            state.at_home = paired && config.pick == Pick::BySource && config.space.count() > 1;
        }
    }

    /// The external address that a host has on a target that pairs them; of one where all are at home, the one that it has
    /// or gets, unless that has no room for it.
    #[inline]
    pub(super) fn paired_address(&self, host: u32, target: u16) -> Option<u32> {
        if self.targets[usize::from(target)].at_home {
            return Some(self.home(host, target));
        }
        self.pairs.find(host, target).map(|found| self.externals.get(found.0).address)
    }

    /// Where `by-source` begins for a host.
    #[inline]
    fn home(&self, host: u32, target: u16) -> u32 {
        let space = &self.config.targets[usize::from(target)].space;
        space.nth(space.home(host))
    }

    /// Whether a host has a mapping on a target: found by going through all.
    fn is_on(&self, host: u32, target: u16) -> bool {
        self.table.all_mappings().map(|id| self.table.mapping(id)).any(|m| m.internal == host && m.target == target)
    }

    #[inline]
    pub(super) fn endpoint_hash(&self, protocol: Protocol, host: u32, port: u16, peer: u32, peer_port: u16) -> u32 {
        endpoint_hash(self.config.plan.behaviour.mapping, (protocol, host, port), (peer, peer_port))
    }

    pub(super) fn address_hash(host: u32, target: u16) -> u32 {
        mix(1 << 56 | u64::from(host), u64::from(target))
    }

    pub(super) fn portless_hash(protocol: Protocol, host: u32, peer: u32) -> u32 {
        mix(2 << 56 | u64::from(protocol.0) << 48 | u64::from(host), u64::from(peer))
    }

    /// Endpoint mappings of an internal endpoint that a packet to this peer may use, whichever rule made them.
    #[inline]
    pub(super) fn mappings_of(
        &self,
        protocol: Protocol,
        host: u32,
        port: u16,
        peer: u32,
        peer_port: u16,
    ) -> impl Iterator<Item = u32> + '_ {
        let hash = self.endpoint_hash(protocol, host, port, peer, peer_port);
        let dependence = self.config.plan.behaviour.mapping;
        self.table.by_internal.candidates(hash).filter(move |&id| {
            self.is_mapping_of(id, protocol, host, port)
                && match dependence {
                    Dependence::EndpointIndependent => true,
                    Dependence::AddressDependent => self.peer_of(id).is_some_and(|p| p.0 == peer),
                    Dependence::AddressAndPortDependent => self.peer_of(id) == Some((peer, peer_port)),
                }
        })
    }

    /// The mapping of an internal endpoint, where mappings do not depend on the peer.
    #[inline(always)]
    pub(super) fn find_endpoint(&self, hash: u32, protocol: Protocol, host: u32, port: u16) -> Option<u32> {
        self.table.by_internal.candidates(hash).find(|id| self.is_mapping_of(*id, protocol, host, port))
    }

    /// Whether a place holds a mapping of an internal endpoint.
    #[inline(always)]
    pub(super) fn is_mapping_of(&self, id: u32, protocol: Protocol, host: u32, port: u16) -> bool {
        let m = self.table.mapping(id);
        m.internal == host
            && m.internal_port == port
            && m.kind() == Kind::Endpoint
            && self.externals.protocol_of(m.place()) == protocol
    }

    /// The peer that an endpoint mapping was made for, where mappings depend on it.
    pub(super) fn peer_of(&self, mapping: u32) -> Option<(u32, u16)> {
        self.peers.get(&mapping).copied()
    }

    /// Whether a peer is the one that an endpoint mapping was made for, as far as mappings tell peers apart.
    pub(super) fn is_own_peer(&self, mapping: u32, peer: (u32, u16)) -> bool {
        self.peer_of(mapping).is_none_or(|own| match self.config.plan.behaviour.mapping {
            Dependence::EndpointIndependent => true,
            Dependence::AddressDependent => own.0 == peer.0,
            Dependence::AddressAndPortDependent => own == peer,
        })
    }

    /// The address mapping of a host on a target for whole addresses.
    pub(super) fn address_mapping(&self, host: u32, target: u16) -> Option<u32> {
        self.table.by_internal.candidates(Self::address_hash(host, target)).find(|&id| {
            let m = self.table.mapping(id);
            m.kind() == Kind::Address && m.internal == host && m.target == target
        })
    }

    /// Portless mappings on an external address.
    pub(super) fn portless_at(&self, external: u32, protocol: Protocol) -> Vec<u32> {
        let all = self.portless.iter().filter(|(key, _)| key.0 == external && key.1 == protocol);
        all.map(|(_, id)| *id).collect()
    }

    /// A pool rule: a whole address for the sender.
    pub(super) fn borrow(&self, id: u16, sent: Packet, peer: Endpoint) -> Result<Source, Refusal> {
        let RuleKind::Pool { fallback, .. } = self.rule(id).kind else { return Ok(Source::Keep(Kept::NoRule)) };
        let (Some(host), Some(target)) = (bits(sent.source().address), self.config.rule_targets[usize::from(id)].main)
        else {
            return Ok(Source::Keep(Kept::NoRule));
        };
        let port = sent.source().port;
        if let Some(mapping) = self.address_mapping(host, target) {
            let address = self.externals.get(self.table.mapping(mapping).place()).address;
            return Ok(Source::Mapped(RuleId(id), mapping, v4(address, port)));
        }
        // on its fallback, or on that of an earlier plan
        if let Some(known) = self.known_endpoint(id, sent, peer) {
            return Ok(known);
        }
        self.check_rule_limit(id)?;
        if self.stays_on_fallback(sent.source().address, id) {
            return self.new_on_fallback(id, (sent, peer), fallback, Reason::PoolExhausted);
        }
        let mut draw = self.draw();
        let Some(position) = self.free_position(target, host, &mut draw) else {
            return self.new_on_fallback(id, (sent, peer), fallback, Reason::PoolExhausted);
        };
        self.check_room(id)?;
        let config = &self.config.targets[usize::from(target)];
        let address = config.space.nth(position);
        let choice = Choice {
            kind: Kind::Address,
            target,
            address,
            port: 0,
            freely: config.pick == Pick::Random && config.space.count() > 1,
            picked: true,
            class: 0,
            block: None,
            random: draw.position(),
        };
        Ok(Source::New(RuleId(id), choice, v4(address, port)))
    }

    /// An overload rule, or the `as` of a fixed one: an endpoint for the sender.
    pub(super) fn overload(&self, id: u16, sent: Packet, peer: Endpoint) -> Result<Source, Refusal> {
        if let Some(known) = self.known_endpoint(id, sent, peer) {
            return Ok(known);
        }
        let fallback = match self.rule(id).kind {
            RuleKind::Overload { fallback, .. } => fallback,
            _ => Fallback::Drop,
        };
        self.check_rule_limit(id)?;
        self.check_host_limit(id, sent)?;
        let targets = self.config.rule_targets[usize::from(id)];
        let Some(main) = targets.main else { return Ok(Source::Keep(Kept::NoRule)) };
        if self.stays_on_fallback(sent.source().address, id) {
            return self.new_on_fallback(id, (sent, peer), fallback, Reason::PortsExhausted);
        }
        match self.endpoint_on(main, sent, peer) {
            Ok(choice) => self.new_source(id, choice),
            Err(Reason::PortsExhausted) => self.new_on_fallback(id, (sent, peer), fallback, Reason::PortsExhausted),
            Err(reason) => Err(self.refuse(reason, id)),
        }
    }

    /// The living mapping that a rule made for a sender, as far as mappings are reused.
    fn known_endpoint(&self, id: u16, sent: Packet, to: Endpoint) -> Option<Source> {
        let from = sent.source();
        let (host, peer) = (bits(from.address)?, bits(to.address)?);
        if sent.protocol.is_multiplexed() {
            let mut known = self.mappings_of(sent.protocol, host, from.port, peer, to.port);
            let mapping = known.find(|m| self.table.mapping(*m).rule == id)?;
            let m = self.table.mapping(mapping);
            let address = self.externals.get(self.externals.external_of(m.place())).address;
            return Some(Source::Mapped(RuleId(id), mapping, v4(address, m.external_port)));
        }
        let mut known = self.table.by_internal.candidates(Self::portless_hash(sent.protocol, host, peer));
        let mapping = known.find(|known| {
            let m = self.table.mapping(*known);
            m.kind() == Kind::Portless
                && m.internal == host
                && m.rule == id
                && m.internal_port == u16::from(sent.protocol.0)
                && self.table.sessions_of(*known).next().is_some_and(|s| self.table.session(s).remote == peer)
        })?;
        let address = self.externals.get(self.table.mapping(mapping).place()).address;
        Some(Source::Mapped(RuleId(id), mapping, v4(address, 0)))
    }

    /// Whether a host has mappings of a rule on its fallback, and stays there while it has.
    pub(super) fn stays_on_fallback(&self, host: IpAddr, rule: u16) -> bool {
        self.config.plan.behaviour.paired && bits(host).is_some_and(|h| self.on_fallback.contains_key(&(h, rule)))
    }

    fn new_source(&self, id: u16, choice: Choice) -> Result<Source, Refusal> {
        self.check_room(id)?;
        Ok(Source::New(RuleId(id), choice, v4(choice.address, choice.port)))
    }

    fn new_on_fallback(
        &self,
        id: u16,
        (sent, peer): (Packet, Endpoint),
        fallback: Fallback,
        reason: Reason,
    ) -> Result<Source, Refusal> {
        match (fallback, self.config.rule_targets[usize::from(id)].fallback) {
            (Fallback::Pass, _) => Ok(Source::Keep(Kept::Passed(RuleId(id)))),
            (Fallback::Overload(_), Some(target)) => {
                self.check_host_limit(id, sent)?;
                let choice = self.endpoint_on(target, sent, peer).map_err(|reason| self.refuse(reason, id))?;
                self.new_source(id, choice)
            }
            _ => Err(self.refuse(reason, id)),
        }
    }

    fn refuse(&self, reason: Reason, id: u16) -> Refusal {
        let rule = (reason != Reason::DeviceFull).then_some(RuleId(id));
        Refusal { reason, rule, place: Some(self.rule(id).place) }
    }

    /// RFC 6888 §3 REQ-11: what exceeds a limit is dropped, and nothing is deleted to make room.
    fn check_rule_limit(&self, id: u16) -> Result<(), Refusal> {
        let rule = self.rule(id);
        let dynamic = matches!(rule.kind, RuleKind::Pool { .. } | RuleKind::Overload { .. });
        let held = self.counters.rules[usize::from(id)].mappings;
        let full = dynamic && rule.limit.is_some_and(|l| held >= u64::from(l));
        if full { Err(self.refuse(Reason::RuleLimit, id)) } else { Ok(()) }
    }

    /// RFC 6888 §3 REQ-4: ports are limited by internal host.
    fn check_host_limit(&self, id: u16, sent: Packet) -> Result<(), Refusal> {
        let Some(most) = self.config.plan.behaviour.ports_per_host else { return Ok(()) };
        let held = bits(sent.source().address).and_then(|h| self.by_host.get(&h)).copied().unwrap_or(0);
        if sent.protocol.is_multiplexed() && held >= most { Err(self.refuse(Reason::HostLimit, id)) } else { Ok(()) }
    }

    fn check_room(&self, id: u16) -> Result<(), Refusal> {
        let full = self.config.plan.behaviour.max_mappings.is_some_and(|m| self.table.mapping_count() >= m);
        if full { Err(self.refuse(Reason::DeviceFull, id)) } else { Ok(()) }
    }

    fn draw(&self) -> Draw {
        Draw { rng: self.random.clone(), used: false }
    }

    /// A free address for a host to borrow whole.
    fn free_position(&self, target: u16, host: u32, draw: &mut Draw) -> Option<u32> {
        let config = &self.config.targets[usize::from(target)];
        let free = self.targets[usize::from(target)].free.as_ref()?;
        let from = |start: u32| free.at_or_above(start).or_else(|| free.at_or_above(0));
        match config.pick {
            _ if free.len() == 0 => None,
            Pick::Lowest => from(0),
            Pick::Highest => free.highest(),
            Pick::InTurn => from(self.turn_start(config)),
            Pick::Random => free.nth(draw.below(free.len())),
            Pick::BySource => from(config.space.home(host)),
        }
    }

    /// Where `in-turn` goes on: behind the address that the pool handed out last.
    fn turn_start(&self, config: &TargetConfig) -> u32 {
        let last = config.pool.and_then(|p| self.last_picked[p.index()]);
        last.map_or(0, |a| config.space.position_after(a))
    }

    /// An address and port on a target.
    fn endpoint_on(&self, target: u16, sent: Packet, peer: Endpoint) -> Result<Choice, Reason> {
        let config = &self.config.targets[usize::from(target)];
        let Some(host) = bits(sent.source().address) else { return Err(Reason::UnsupportedFamily) };
        let mut draw = self.draw_if(config);
        let wish = Wish { protocol: sent.protocol, host, port: sent.source().port, peer };
        let count = config.space.count();
        let paired = self.config.plan.behaviour.paired && count > 1;
        let found =
            |address: u32, picked: bool, draw: &mut Option<Draw>| self.end_on(target, address, picked, wish, draw);
        let at_home = self.targets[usize::from(target)].at_home;
        if let Some(address) = self.paired_address(host, target).filter(|_| paired) {
            let choice = found(address, at_home, &mut draw);
            // who is nowhere yet may go elsewhere
            if choice.is_some() || !at_home || self.is_on(host, target) {
                return choice.ok_or(self.none_left(wish));
            }
        }
        let start = match config.pick {
            Pick::InTurn => self.turn_start(config),
            Pick::BySource if count > 0 => config.space.home(host),
            _ => 0,
        };
        let choice = match config.pick {
            Pick::Highest => (0..count).rev().find_map(|n| found(config.space.nth(n), true, &mut draw)),
            Pick::Random => self.random_end(config, |a, d| found(a, true, d), &mut draw),
            _ => (start..count).chain(0..start).find_map(|n| found(config.space.nth(n), true, &mut draw)),
        };
        choice.ok_or(self.none_left(wish))
    }

    fn none_left(&self, wish: Wish) -> Reason {
        if wish.protocol.is_multiplexed() { Reason::PortsExhausted } else { Reason::UnsupportedProtocol }
    }

    fn draw_if(&self, config: &TargetConfig) -> Option<Draw> {
        let wanted =
            config.pick == Pick::Random || self.config.plan.behaviour.port_assignment == PortAssignment::Random;
        wanted.then(|| self.draw())
    }

    /// Any address of a pool on which an end is found, each equally likely.
    fn random_end(
        &self,
        config: &TargetConfig,
        mut found: impl FnMut(u32, &mut Option<Draw>) -> Option<Choice>,
        draw: &mut Option<Draw>,
    ) -> Option<Choice> {
        let count = config.space.count();
        for _ in 0..16 {
            let position = draw.as_mut()?.below(count.max(1));
            if let Some(choice) = (count > 0).then(|| found(config.space.nth(position), draw)).flatten() {
                return Some(choice);
            }
        }
        // nearly all are full: look at each
        let usable = |d: &mut Option<Draw>, f: &mut dyn FnMut(u32, &mut Option<Draw>) -> Option<Choice>| {
            (0..count).filter(|n| f(config.space.nth(*n), d).is_some()).collect::<Vec<_>>()
        };
        let left = usable(&mut None, &mut found);
        let position = *left.get(draw.as_mut()?.below((left.len() as u32).max(1)) as usize)?;
        found(config.space.nth(position), draw)
    }

    /// An end on one address.
    fn end_on(&self, target: u16, address: u32, picked: bool, wish: Wish, draw: &mut Option<Draw>) -> Option<Choice> {
        let external = self.externals.find(address);
        if external.is_some_and(|e| self.externals.get(e).whole != NONE) {
            return None;
        }
        let config = &self.config.targets[usize::from(target)];
        let any = config.pick == Pick::Random && config.space.count() > 1;
        let (kind, class, block, random) = (Kind::Endpoint, 0, None, None);
        let mut choice = Choice { kind, target, address, port: 0, freely: any, picked, class, block, random };
        if !wish.protocol.is_multiplexed() {
            let peer = bits(wish.peer.address)?;
            choice.kind = Kind::Portless;
            // the address of a static rule is its own for whatever it serves, enabled or not
            let static_end = self.config.static_rules(std::net::IpAddr::V4(address.into())).iter();
            if static_end.into_iter().any(|r| self.rule(*r).service.holds(wish.protocol, 0)) {
                return None;
            }
            let taken = external.is_some_and(|e| self.portless.contains_key(&(e, wish.protocol, peer)))
                || self.leftovers.hold(address, wish.protocol);
            choice.random = draw.as_ref().and_then(Draw::position);
            return (!taken).then_some(choice);
        }
        self.port_on(&mut choice, wish, draw)?;
        choice.random = draw.as_ref().and_then(Draw::position);
        Some(choice)
    }
}

/// The hash under which an endpoint mapping is found, by as much of the peer as mappings depend on.
#[inline(always)]
pub(super) fn endpoint_hash(dependence: Dependence, end: (Protocol, u32, u16), peer: (u32, u16)) -> u32 {
    let (protocol, host, port) = end;
    let peer = match dependence {
        Dependence::EndpointIndependent => 0,
        Dependence::AddressDependent => u64::from(peer.0) << 16,
        Dependence::AddressAndPortDependent => u64::from(peer.0) << 16 | u64::from(peer.1),
    };
    mix(u64::from(protocol.0) << 48 | u64::from(host) << 16 | u64::from(port), peer)
}
