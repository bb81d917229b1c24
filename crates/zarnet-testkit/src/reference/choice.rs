//! Step 8: which rule translates a source, and what it chooses.

use std::net::{IpAddr, Ipv4Addr};

use zarnet_core::net::{Endpoint, Packet, Protocol};

use super::{
    Dependence, Entry, Exhausted, FLOOR, Kind, Mapping, Model, NO_RULE, Pick, Refused, Rule, Shape,
    Source, To,
};
use super::{UPLINK, ip, no};

impl Model {
    /// Step 8, with the device's limit.
    pub(super) fn source(
        &self,
        now: u64,
        p: Packet,
        ways: (usize, usize),
        entry: Option<Entry>,
    ) -> Result<Source, Refused> {
        match (self.choose(now, p, ways, entry)?, self.b.max_mappings) {
            (Source::New(_), Some(most)) if self.mappings.len() >= most => Err(no("device-full")),
            (source, _) => Ok(source),
        }
    }

    /// The first rule that matches, and what it chooses.
    fn choose(
        &self,
        now: u64,
        p: Packet,
        (ingress, egress): (usize, usize),
        entry: Option<Entry>,
    ) -> Result<Source, Refused> {
        let from = p.source();
        let entered = entry.map(|e| &self.rules[e.rule]);
        let hairpin = ingress == FLOOR && entered.is_some_and(|r| r.hairpin);
        if self.b.lacks_icmp && p.protocol == Protocol::ICMP || hairpin && self.b.keep {
            return Ok(Source::Kept(NO_RULE));
        }
        let peer = match entry {
            Some(entry) if !hairpin => entry.end,
            _ => p.destination(),
        };
        if let (Some(entry), Some(Rule { kind: Kind::Forward { both: true, .. }, .. })) =
            (entry, entered)
        {
            return self.dynamic(now, entry.rule, p, peer);
        }
        let mut order: Vec<usize> =
            (0..self.rules.len()).filter(|i| self.rules[*i].enabled).collect();
        if self.b.fixed_first {
            order.sort_by_key(|i| match self.rules[*i] {
                Rule { kind: Kind::Exempt { .. }, .. } => (0, 0, false),
                Rule { kind: Kind::Static { .. }, .. } => (1, 1, false),
                Rule { kind: Kind::Forward { ref servers, .. }, .. } => (1, servers.len(), false),
                Rule { source, destination, .. } => {
                    (2, usize::from(source.is_none()), destination.is_none())
                }
            });
        }
        for i in order {
            let rule = &self.rules[i];
            let shared =
                |e: &Rule| hairpin && [1, 2].iter().any(|i| e.is_into(*i) && rule.is_into(*i));
            if ingress != FLOOR || !(rule.is_into(egress) || entered.is_some_and(shared)) {
                continue;
            }
            let to = p.destination();
            let ours = rule.source.is_none_or(|s| ip(s) == from.address);
            let meant = rule.destination.is_none_or(|d| ip(d) == to.address)
                && rule.serves(p.protocol, to.port);
            match &rule.kind {
                Kind::Static { internal, external, direction }
                    if ip(*internal) == from.address
                        && *direction != "inbound"
                        && rule.serves(p.protocol, from.port) =>
                {
                    self.has_room(i)?;
                    return Ok(Source::Fixed(i, Endpoint::new(*external, from.port)));
                }
                Kind::Forward { on, protocol, port, servers, .. }
                    if *protocol == p.protocol
                        && servers.iter().any(|s| Endpoint::new(s.0, s.1) == from) =>
                {
                    self.has_room(i)?;
                    return Ok(Source::Fixed(i, Endpoint::new(self.own[*on], *port)));
                }
                Kind::Exempt { destination }
                    if ours && ip(*destination) == p.destination().address =>
                {
                    return Ok(Source::Kept(("exempt", Some(i))));
                }
                Kind::Pool | Kind::Overload(_) if ours && meant => {
                    return self.dynamic(now, i, p, peer);
                }
                _ => {}
            }
        }
        Ok(Source::Kept(NO_RULE))
    }

    /// Whether a host has mappings of a rule on its fallback, and stays there.
    pub(super) fn stays(&self, rule: usize, host: IpAddr) -> bool {
        let moved = |m: &Mapping| {
            m.rule == rule
                && m.internal.address == host
                && m.external.address == ip(self.own[UPLINK])
        };
        self.rules[rule].when_exhausted == Exhausted::Uplink
            && self.b.paired
            && self.mappings.iter().any(moved)
    }

    /// A pool or an overload, or the other end of a forward: a mapping that there is, or a new one
    /// on its addresses or elsewhere.
    fn dynamic(&self, now: u64, rule: usize, p: Packet, peer: Endpoint) -> Result<Source, Refused> {
        let from = p.source();
        let same_peer = |m: &Mapping| match (m.shape, self.b.mapping) {
            (Shape::Address, _) | (Shape::Endpoint, Dependence::None) => true,
            (Shape::Portless, _) | (Shape::Endpoint, Dependence::Address) => {
                m.peer.address == peer.address
            }
            (Shape::Endpoint, Dependence::Port) => m.peer == peer,
        };
        let own = |m: &&Mapping| {
            let fits = match m.shape {
                Shape::Address => m.internal.address == from.address,
                _ => (m.protocol, m.internal) == (p.protocol, from),
            };
            m.rule == rule && fits && same_peer(m)
        };
        if let Some(m) = self.mappings.iter().find(own) {
            return Ok(Source::Known(m.id));
        }
        let Rule { kind, limit, when_exhausted, .. } = &self.rules[rule];
        let fixed = matches!(kind, Kind::Forward { .. });
        if !fixed
            && limit
                .is_some_and(|most| self.mappings.iter().filter(|m| m.rule == rule).count() >= most)
        {
            return Err(("rule-limit", Some(rule)));
        }
        let uplink = [self.own[UPLINK]];
        if self.stays(rule, from.address) {
            return self.overload(now, rule, &uplink, p, peer);
        }
        let first = match kind {
            Kind::Pool => self.borrow(now, rule, p, peer),
            Kind::Overload(To::Lines) => self.overload(now, rule, &self.lines(), p, peer),
            Kind::Overload(To::Interface(i)) => self.overload(now, rule, &[self.own[*i]], p, peer),
            _ => self.overload(now, rule, &[self.own[FLOOR]], p, peer),
        };
        match (first, when_exhausted) {
            (Err(("pool-exhausted" | "ports-exhausted", _)), Exhausted::Pass) => {
                Ok(Source::Kept(("passed-exhausted", Some(rule))))
            }
            (Err(("pool-exhausted" | "ports-exhausted", _)), Exhausted::Uplink) => {
                self.overload(now, rule, &uplink, p, peer)
            }
            (first, _) => first,
        }
    }

    /// A whole address, the first free one.
    fn borrow(&self, now: u64, rule: usize, p: Packet, peer: Endpoint) -> Result<Source, Refused> {
        let internal = Endpoint::new(p.source().address, 0);
        let mut order = self.pick(&self.lines(), p).into_iter();
        let has = |a: IpAddr| self.mappings.iter().any(|m| m.external.address == a);
        let free = order.find(|a| !has(*a) && !self.is_held(*a, None));
        let external = Endpoint::new(free.ok_or(("pool-exhausted", Some(rule)))?, 0);
        let mapping = self.mapping(now, rule, Shape::Address, (internal, external, peer), p);
        Ok(Source::New(Mapping { picked: true, ..mapping }))
    }

    /// Addresses in the order in which they are tried.
    fn pick(&self, addresses: &[Ipv4Addr], p: Packet) -> Vec<IpAddr> {
        let mut order: Vec<IpAddr> = addresses.iter().map(|a| ip(*a)).collect();
        let IpAddr::V4(source) = p.source().address else { return order };
        let first = match self.b.pick {
            Pick::Lowest => 0,
            Pick::Highest => {
                order.reverse();
                0
            }
            Pick::InTurn => {
                order.iter().position(|a| Some(*a) == self.last_picked).map_or(0, |n| n + 1)
            }
            Pick::BySource => source.to_bits() as usize % order.len(),
        };
        let first = first % order.len();
        order.rotate_left(first);
        order
    }

    /// A port of one of the addresses, or for other protocols one by peer.
    fn overload(
        &self,
        now: u64,
        rule: usize,
        addresses: &[Ipv4Addr],
        p: Packet,
        peer: Endpoint,
    ) -> Result<Source, Refused> {
        let from = p.source();
        let shape = if p.protocol.is_multiplexed() { Shape::Endpoint } else { Shape::Portless };
        let by_host = self
            .mappings
            .iter()
            .filter(|m| m.shape == Shape::Endpoint && m.internal.address == from.address);
        if shape == Shape::Endpoint
            && self.b.ports_per_host.is_some_and(|most| by_host.count() >= most)
        {
            return Err(("host-limit", Some(rule)));
        }
        let picked = addresses.len() > 1;
        let addresses = self.pick(addresses, p);
        // an address that it has whole from an earlier plan's rule is another matter
        let paired = |m: &&Mapping| {
            m.shape != Shape::Address
                && m.internal.address == from.address
                && addresses.contains(&m.external.address)
        };
        let paired = self.mappings.iter().filter(|_| self.b.paired).find(paired);
        let picked = picked && paired.is_none();
        let lent = |a: IpAddr| {
            self.mappings.iter().any(|m| m.shape == Shape::Address && m.external.address == a)
        };
        let addresses = paired.map_or(addresses.clone(), |m| vec![m.external.address]);
        let fixed = |a: IpAddr| {
            let whole =
                |r: &&Rule| matches!(r.kind, Kind::Static { external, .. } if ip(external) == a);
            shape == Shape::Portless
                && self
                    .rules
                    .iter()
                    .filter(|r| !r.retired)
                    .any(|r| whole(&r) && r.serves(p.protocol, 0))
        };
        for address in addresses.into_iter().filter(|a| !lent(*a) && !fixed(*a)) {
            let external = match shape {
                Shape::Portless => {
                    let taken = (shape, address, p.protocol, peer.address);
                    let has = |m: &Mapping| {
                        (m.shape, m.external.address, m.protocol, m.peer.address) == taken
                    };
                    (!self.mappings.iter().any(has)
                        && !self.is_held(address, Some((p.protocol, 0))))
                    .then_some(0)
                }
                _ => self.port(address, p, peer),
            };
            if let Some(port) = external {
                let mapping =
                    self.mapping(now, rule, shape, (from, Endpoint::new(address, port), peer), p);
                return Ok(Source::New(Mapping { picked, ..mapping }));
            }
        }
        let reason =
            if shape == Shape::Portless { "unsupported-protocol" } else { "ports-exhausted" };
        Err((reason, Some(rule)))
    }

    fn mapping(
        &self,
        now: u64,
        rule: usize,
        shape: Shape,
        (internal, external, peer): (Endpoint, Endpoint, Endpoint),
        p: Packet,
    ) -> Mapping {
        let (protocol, id, until) = (p.protocol, self.next, u64::MAX);
        let of_pool = self.lines().iter().any(|a| ip(*a) == external.address);
        Mapping {
            id,
            rule,
            shape,
            protocol,
            internal,
            external,
            peer,
            of_pool,
            picked: false,
            created: now,
            until,
        }
    }

    /// The range that a port of a class is translated into.
    pub(super) fn class(&self, port: u16) -> (u16, u16) {
        match port {
            _ if self.b.few_ports => (3000, 3003),
            0..1024 => (1, 1023),
            _ => (1024, 65535),
        }
    }

    /// The port that a source port gets on an address.
    fn port(&self, address: IpAddr, p: Packet, peer: Endpoint) -> Option<u16> {
        let (low, high) = self.class(p.source().port);
        let reserved = |port: u16| {
            self.rules.iter().filter(|r| !r.retired).any(|r| {
                matches!(r.kind, Kind::Forward { on, protocol, port: taken, .. }
                    if (protocol, taken, ip(self.own[on])) == (p.protocol, port, address))
            })
        };
        let kept = |port: u16| self.is_held(address, Some((p.protocol, port)));
        // an end may serve several peers, as far as mappings tell these apart
        let differs = |m: &Mapping| match self.b.mapping {
            _ if !self.b.overloading => false,
            Dependence::None => false,
            Dependence::Address => m.peer.address != peer.address,
            Dependence::Port => m.peer != peer,
        };
        let held = |port: u16| {
            self.mappings.iter().any(|m| {
                m.shape == Shape::Endpoint
                    && m.protocol == p.protocol
                    && m.external == Endpoint::new(address, port)
                    && !differs(m)
            })
        };
        let begin = match self.b.sequential {
            true => self
                .last_port
                .get(&(address, p.protocol, low))
                .map_or(low, |last| if *last == high { low } else { last + 1 }),
            false => Some(p.source().port).filter(|p| (low..=high).contains(p)).unwrap_or(low),
        };
        let free = |port: u16| {
            let odd = self.b.parity && (port ^ p.source().port) & 1 == 1;
            let rests = self.resting.iter().any(|r| {
                (r.protocol, r.external) == (p.protocol, Endpoint::new(address, port))
                    && r.host != p.source().address
            });
            !odd && !rests && !reserved(port) && !held(port) && !kept(port)
        };
        let Some(size) = self.b.block_size else {
            return (begin..=high).chain(low..begin).find(|port| free(*port));
        };
        // the host's own blocks, or else the lowest one that is nobody's, of those with a free port
        let ports = |block: u16| low + block * size..=low + block * size + (size - 1);
        let owner = |block: u16| {
            let of = |m: &&Mapping| {
                (m.shape, m.protocol, m.external.address) == (Shape::Endpoint, p.protocol, address)
                    && self.class(m.internal.port).0 == low
                    && ports(block).contains(&m.external.port)
            };
            self.mappings.iter().find(of).map(|m| m.internal.address)
        };
        let all = 0..(high - low + 1) / size;
        let mut blocks: Vec<u16> =
            all.clone().filter(|b| owner(*b) == Some(p.source().address)).collect();
        if !blocks.iter().any(|b| ports(*b).any(free)) {
            blocks = all
                .into_iter()
                .find(|b| owner(*b).is_none() && ports(*b).any(free))
                .into_iter()
                .collect();
        }
        let mine = |port: &u16| blocks.iter().any(|b| ports(*b).contains(port)) && free(*port);
        (begin..=high).chain(low..begin).find(mine)
    }
}
