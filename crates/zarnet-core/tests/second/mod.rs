//! The contract once more, as plainly as it can be written: lists that are walked from end to end, nothing indexed, nothing
//! shared with the engine but the vocabulary. One device between 10.0.0.0/24 (inside) and 192.0.2.0/28, which is 192.0.2.1.
//! Times are nanoseconds.

use std::collections::HashMap;
use std::net::{IpAddr, Ipv4Addr};

use zarnet_core::net::{Endpoint, Packet, Protocol, Signal, Tuple};

pub const S: u64 = 1_000_000_000;
pub const OWN: [Ipv4Addr; 2] = [Ipv4Addr::new(10, 0, 0, 1), Ipv4Addr::new(192, 0, 2, 1)];

/// What a rule does.
#[derive(Debug, Clone)]
pub enum Kind {
    Static {
        internal: Ipv4Addr,
        external: Ipv4Addr,
        direction: &'static str,
    },
    /// Of a port of 192.0.2.1.
    Forward {
        protocol: Protocol,
        port: u16,
        server: (Ipv4Addr, u16),
    },
    Exempt {
        destination: Ipv4Addr,
    },
    Pool(Vec<Ipv4Addr>),
    /// Onto a pool, or 192.0.2.1 where there are none.
    Overload(Vec<Ipv4Addr>),
}

#[derive(Debug, Clone)]
pub struct Rule {
    pub kind: Kind,
    pub source: Option<Ipv4Addr>,
    pub hairpin: bool,
    pub limit: Option<usize>,
    pub when_exhausted: Exhausted,
    pub enabled: bool,
}

/// What a rule does when its addresses are used up.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Exhausted {
    Drop,
    Pass,
    /// Overload of 192.0.2.1.
    Outside,
}

/// Which of the peers that were not addressed before a mapping or a filter tells apart.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Dependence {
    None,
    Address,
    Port,
}

#[derive(Debug, Clone)]
pub struct Behaviour {
    pub mapping: Dependence,
    pub filtering: Dependence,
    pub paired: bool,
    pub sequential: bool,
    /// Four ports for all instead of the usual classes.
    pub few_ports: bool,
    pub fixed_first: bool,
    pub keep: bool,
    pub refresh_both: bool,
    pub ports_per_host: Option<usize>,
    pub max_mappings: Option<usize>,
    pub max_sessions: Option<usize>,
    pub binding: u64,
}

/// `udp-timeout`, `icmp-timeout`, `other-timeout`, `tcp-trans-open-timeout`, `tcp-idle-timeout`, and the others of TCP.
pub const UDP: u64 = 30;
pub const ICMP: u64 = 10;
pub const OTHER: u64 = 20;
pub const OPEN: u64 = 40;
pub const IDLE: u64 = 90;
pub const AFTER: u64 = 240;

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum State {
    Plain,
    Opening,
    Established,
    OneFin { of_client: bool },
    Closing,
    Reset,
}

#[derive(Debug, Clone)]
struct Session {
    protocol: Protocol,
    original: Tuple,
    forwarded: Tuple,
    /// The dynamic mappings of source and destination.
    mappings: [Option<u32>; 2],
    /// Rules that translated source and destination.
    rules: [Option<usize>; 2],
    /// Whether the initiator has the internal side of the mapping.
    from_inside: bool,
    client_is_initiator: bool,
    answered: bool,
    state: State,
    expires: u64,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Shape {
    Address,
    Endpoint,
    Portless,
}

/// A dynamic mapping.
#[derive(Debug, Clone)]
struct Mapping {
    id: u32,
    rule: usize,
    shape: Shape,
    protocol: Protocol,
    internal: Endpoint,
    external: Endpoint,
    peer: Endpoint,
    created: u64,
    /// Without sessions: how long it stays.
    until: u64,
}

/// What a table shows of a mapping: rule, protocol, internal, external, peer, sessions, created, expires.
pub type Row = (usize, Option<Protocol>, Endpoint, Endpoint, Option<Endpoint>, usize, u64, u64);

pub struct Model {
    rules: Vec<Rule>,
    b: Behaviour,
    sessions: Vec<Session>,
    mappings: Vec<Mapping>,
    last_port: HashMap<(IpAddr, Protocol, u16), u16>,
    next: u32,
}

/// The destination as step 4 translates it, and the dynamic mapping that says so.
#[derive(Clone, Copy)]
struct Entry {
    end: Endpoint,
    rule: usize,
    mapping: Option<u32>,
}

/// Where step 8 brings a source.
enum Source {
    Kept,
    /// To an external end: by a fixed rule, a known mapping, or one that is still to be made.
    Fixed(usize, Endpoint),
    Known(u32),
    New(Mapping),
}

fn ip(a: Ipv4Addr) -> IpAddr {
    a.into()
}

impl Model {
    pub fn new(rules: Vec<Rule>, b: Behaviour) -> Self {
        Self { rules, b, sessions: Vec::new(), mappings: Vec::new(), last_port: HashMap::new(), next: 0 }
    }

    /// What becomes of a packet: its ends as it leaves, `itself`, or the reason for its drop. `None` where more than one
    /// session has its ends: the contract does not say whose it is.
    pub fn receive(&mut self, now: u64, inside: bool, p: Packet) -> Option<Result<Tuple, &'static str>> {
        self.expire(now);
        let of = |s: &Session| {
            (s.protocol == p.protocol).then_some((s.original == p.ends, s.forwarded.reversed() == p.ends))
        };
        let hits: Vec<(usize, bool)> = self
            .sessions
            .iter()
            .enumerate()
            .filter_map(|(i, s)| match of(s)? {
                (true, _) => Some((i, true)),
                (_, true) => Some((i, false)),
                _ => None,
            })
            .collect();
        match hits[..] {
            [] => Some(self.first(now, inside, p)),
            [(i, forth)] => {
                let s = &mut self.sessions[i];
                let out = if forth { s.forwarded } else { s.original.reversed() };
                s.take(now, forth, p.signal, self.b.refresh_both);
                Some(Ok(out))
            }
            _ => None,
        }
    }

    /// Steps 4 to 10 for a packet of no session.
    fn first(&mut self, now: u64, inside: bool, p: Packet) -> Result<Tuple, &'static str> {
        let (entry, blocked) = self.enter(inside, p)?;
        let to = p.destination();
        if entry.is_none() {
            if OWN.map(ip).contains(&to.address) {
                return Err(match (p.signal, blocked) {
                    (Signal::Query, _) => "itself",
                    (_, true) => "filtered",
                    _ => "no-listener",
                });
            }
            if self.claims(to.address) {
                return Err(if blocked { "filtered" } else { "no-mapping" });
            }
        }
        let destination = entry.map_or(to, |e| e.end);
        let into_inside = matches!(destination.address, IpAddr::V4(a) if a.octets()[..3] == [10, 0, 0]);
        let hairpin = inside && into_inside && entry.is_some();
        let source =
            if inside && (!into_inside || hairpin && !self.b.keep) { self.source(now, p)? } else { Source::Kept };
        let translated = entry.is_some() || !matches!(source, Source::Kept);
        if !p.may_begin() {
            return if translated { Err("no-session") } else { Ok(p.ends) };
        }
        if self.b.max_sessions.is_some_and(|most| self.sessions.len() >= most) {
            return Err("device-full");
        }
        let (source, mapping, by) = match source {
            Source::Kept => (p.source(), None, None),
            Source::Fixed(rule, end) => (end, None, Some(rule)),
            Source::Known(id) => (self.external(id, p), Some(id), self.rule_of(id)),
            Source::New(mut m) => {
                (m.id, self.next) = (self.next, self.next + 1);
                if m.shape == Shape::Endpoint {
                    let class = self.class(m.internal.port).0;
                    self.last_port.insert((m.external.address, m.protocol, class), m.external.port);
                }
                let id = m.id;
                self.mappings.push(m);
                (self.external(id, p), Some(id), self.rule_of(id))
            }
        };
        let forwarded = Tuple { source, destination };
        let (state, span) = match p.protocol {
            Protocol::TCP => (State::Opening, OPEN),
            Protocol::UDP => (State::Plain, UDP),
            Protocol::ICMP => (State::Plain, ICMP),
            _ => (State::Plain, OTHER),
        };
        self.sessions.push(Session {
            protocol: p.protocol,
            original: p.ends,
            forwarded,
            mappings: [mapping, entry.and_then(|e| e.mapping)],
            rules: [by, entry.map(|e| e.rule)],
            // without a mapping the contract leaves it open: who begins
            from_inside: forwarded.source != p.source() || entry.is_none(),
            client_is_initiator: true,
            answered: false,
            state,
            expires: now + span * S,
        });
        Ok(forwarded)
    }

    /// Step 4: whether something blocks.
    fn enter(&self, inside: bool, p: Packet) -> Result<(Option<Entry>, bool), &'static str> {
        let to = p.destination();
        let mut blocked = false;
        for statics in [false, true] {
            for (i, rule) in self.rules.iter().enumerate().filter(|r| r.1.enabled) {
                let (end, open) = match rule.kind {
                    Kind::Forward { protocol, port, server }
                        if !statics && (protocol, port) == (p.protocol, to.port) =>
                    {
                        (Endpoint::new(server.0, server.1), ip(OWN[1]) == to.address)
                    }
                    Kind::Static { internal, external, .. } if statics => {
                        (Endpoint::new(internal, to.port), ip(external) == to.address)
                    }
                    _ => continue,
                };
                if !open {
                    continue;
                }
                let arrives = !inside || rule.hairpin;
                let inbound = !matches!(rule.kind, Kind::Static { direction: "outbound", .. });
                if arrives && inbound && rule.source.is_none_or(|s| ip(s) == p.source().address) {
                    self.has_room(i)?;
                    return Ok((Some(Entry { end, rule: i, mapping: None }), blocked));
                }
                blocked = true;
            }
        }
        for m in self.mappings.iter().filter(|m| m.external.address == to.address) {
            let holds = match m.shape {
                Shape::Address => true,
                Shape::Endpoint => (m.protocol, m.external.port) == (p.protocol, to.port),
                Shape::Portless => m.protocol == p.protocol,
            };
            if !holds {
                continue;
            }
            let rule = &self.rules[m.rule];
            let arrives = rule.enabled && (!inside || rule.hairpin);
            let answers_only = m.shape == Shape::Portless || m.shape == Shape::Endpoint && p.protocol == Protocol::ICMP;
            if arrives && !answers_only && p.signal != Signal::Reply && self.admits(m, inside, p) {
                let port = if m.shape == Shape::Endpoint { m.internal.port } else { to.port };
                let end = Endpoint { port, ..m.internal };
                return Ok((Some(Entry { end, rule: m.rule, mapping: Some(m.id) }), blocked));
            }
            blocked = true;
        }
        Ok((None, blocked))
    }

    /// Whether a fixed rule may have one more session.
    fn has_room(&self, rule: usize) -> Result<(), &'static str> {
        let has = self.sessions.iter().filter(|s| s.rules.contains(&Some(rule))).count();
        if self.rules[rule].limit.is_some_and(|most| has >= most) { Err("rule-limit") } else { Ok(()) }
    }

    fn admits(&self, m: &Mapping, inside: bool, p: Packet) -> bool {
        let sender = match inside && !self.b.keep {
            false => p.source(),
            true => match self.source(0, p) {
                Ok(Source::Kept) => p.source(),
                Ok(Source::Fixed(_, end)) => end,
                Ok(Source::Known(id)) => self.external(id, p),
                Ok(Source::New(m)) if m.shape == Shape::Address => Endpoint { port: p.source().port, ..m.external },
                Ok(Source::New(m)) => m.external,
                Err(_) => return false,
            },
        };
        let addressed = |s: &&Session| {
            let there =
                (s.mappings[0] == Some(m.id)).then(|| match s.original.destination == s.forwarded.destination {
                    true => s.forwarded.destination,
                    false => s.original.destination,
                });
            let here = (s.mappings[1] == Some(m.id) && s.answered).then_some(s.forwarded.source);
            there.into_iter().chain(here).any(|peer| match self.b.filtering {
                Dependence::None => true,
                Dependence::Address => peer.address == sender.address,
                Dependence::Port => peer == sender,
            })
        };
        self.b.filtering == Dependence::None || self.sessions.iter().find(addressed).is_some()
    }

    /// Step 8, with the device's limit.
    fn source(&self, now: u64, p: Packet) -> Result<Source, &'static str> {
        match (self.choose(now, p)?, self.b.max_mappings) {
            (Source::New(_), Some(most)) if self.mappings.len() >= most => Err("device-full"),
            (source, _) => Ok(source),
        }
    }

    /// The first rule that matches, and what it chooses.
    fn choose(&self, now: u64, p: Packet) -> Result<Source, &'static str> {
        let from = p.source();
        let mut order: Vec<usize> = (0..self.rules.len()).filter(|i| self.rules[*i].enabled).collect();
        if self.b.fixed_first {
            order.sort_by_key(|i| match self.rules[*i] {
                Rule { kind: Kind::Exempt { .. }, .. } => (0, 0),
                Rule { kind: Kind::Static { .. } | Kind::Forward { .. }, .. } => (1, 0),
                Rule { source, .. } => (2, u8::from(source.is_none())),
            });
        }
        for i in order {
            let rule = &self.rules[i];
            let ours = rule.source.is_none_or(|s| ip(s) == from.address);
            match &rule.kind {
                Kind::Static { internal, external, direction }
                    if ip(*internal) == from.address && *direction != "inbound" =>
                {
                    self.has_room(i)?;
                    return Ok(Source::Fixed(i, Endpoint::new(*external, from.port)));
                }
                Kind::Forward { protocol, port, server }
                    if *protocol == p.protocol && Endpoint::new(server.0, server.1) == from =>
                {
                    self.has_room(i)?;
                    return Ok(Source::Fixed(i, Endpoint::new(OWN[1], *port)));
                }
                Kind::Exempt { destination } if ours && ip(*destination) == p.destination().address => {
                    return Ok(Source::Kept);
                }
                Kind::Pool(_) | Kind::Overload(_) if ours => return self.dynamic(now, i, p),
                _ => {}
            }
        }
        Ok(Source::Kept)
    }

    /// A pool or an overload: a mapping that there is, or a new one on its addresses or elsewhere.
    fn dynamic(&self, now: u64, rule: usize, p: Packet) -> Result<Source, &'static str> {
        let (from, to) = (p.source(), p.destination());
        let same_peer = |m: &Mapping| match (m.shape, self.b.mapping) {
            (Shape::Address, _) | (Shape::Endpoint, Dependence::None) => true,
            (Shape::Portless, _) | (Shape::Endpoint, Dependence::Address) => m.peer.address == to.address,
            (Shape::Endpoint, Dependence::Port) => m.peer == to,
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
        if limit.is_some_and(|most| self.mappings.iter().filter(|m| m.rule == rule).count() >= most) {
            return Err("rule-limit");
        }
        let outside = vec![OWN[1]];
        let moved =
            |m: &Mapping| m.rule == rule && m.internal.address == from.address && m.external.address == ip(OWN[1]);
        if *when_exhausted == Exhausted::Outside && self.b.paired && self.mappings.iter().any(moved) {
            return self.overload(now, rule, &outside, p);
        }
        let first = match kind {
            Kind::Pool(addresses) => self.borrow(now, rule, addresses, p),
            Kind::Overload(addresses) => {
                self.overload(now, rule, if addresses.is_empty() { &outside } else { addresses }, p)
            }
            _ => Ok(Source::Kept),
        };
        match (first, when_exhausted) {
            (Err("pool-exhausted" | "ports-exhausted"), Exhausted::Pass) => Ok(Source::Kept),
            (Err("pool-exhausted" | "ports-exhausted"), Exhausted::Outside) => self.overload(now, rule, &outside, p),
            (first, _) => first,
        }
    }

    /// A whole address, the lowest free one.
    fn borrow(&self, now: u64, rule: usize, addresses: &[Ipv4Addr], p: Packet) -> Result<Source, &'static str> {
        let internal = Endpoint::new(p.source().address, 0);
        let free = addresses.iter().find(|a| self.mappings.iter().all(|m| m.external.address != ip(**a)));
        let external = Endpoint::new(*free.ok_or("pool-exhausted")?, 0);
        Ok(Source::New(self.mapping(now, rule, Shape::Address, internal, external, p)))
    }

    /// A port of one of the addresses, or for other protocols one by peer.
    fn overload(&self, now: u64, rule: usize, addresses: &[Ipv4Addr], p: Packet) -> Result<Source, &'static str> {
        let (from, to) = (p.source(), p.destination());
        let shape = if p.protocol.is_multiplexed() { Shape::Endpoint } else { Shape::Portless };
        let by_host = self.mappings.iter().filter(|m| m.shape == Shape::Endpoint && m.internal.address == from.address);
        if shape == Shape::Endpoint && self.b.ports_per_host.is_some_and(|most| by_host.count() >= most) {
            return Err("host-limit");
        }
        let addresses: Vec<IpAddr> = addresses.iter().map(|a| ip(*a)).collect();
        let paired = |m: &&Mapping| m.internal.address == from.address && addresses.contains(&m.external.address);
        let paired = self.mappings.iter().filter(|_| self.b.paired).find(paired);
        for address in paired.map_or(addresses.clone(), |m| vec![m.external.address]) {
            let external = match shape {
                Shape::Portless => {
                    let taken = (shape, address, p.protocol, to.address);
                    let has = |m: &Mapping| (m.shape, m.external.address, m.protocol, m.peer.address) == taken;
                    (!self.mappings.iter().any(has)).then_some(0)
                }
                _ => self.port(address, p),
            };
            if let Some(port) = external {
                return Ok(Source::New(self.mapping(now, rule, shape, from, Endpoint::new(address, port), p)));
            }
        }
        Err(if shape == Shape::Portless { "unsupported-protocol" } else { "ports-exhausted" })
    }

    fn mapping(
        &self,
        now: u64,
        rule: usize,
        shape: Shape,
        internal: Endpoint,
        external: Endpoint,
        p: Packet,
    ) -> Mapping {
        let (protocol, peer) = (p.protocol, p.destination());
        Mapping { id: self.next, rule, shape, protocol, internal, external, peer, created: now, until: u64::MAX }
    }

    /// The range that a port of a class is translated into.
    fn class(&self, port: u16) -> (u16, u16) {
        match port {
            _ if self.b.few_ports => (3000, 3003),
            0..1024 => (1, 1023),
            _ => (1024, 65535),
        }
    }

    /// The port that a source port gets on an address.
    fn port(&self, address: IpAddr, p: Packet) -> Option<u16> {
        let (low, high) = self.class(p.source().port);
        let reserved = |port: u16| {
            self.rules.iter().any(|r| {
            matches!(r.kind, Kind::Forward { protocol, port: taken, .. } if (protocol, taken, ip(OWN[1])) == (p.protocol, port, address))
        })
        };
        let held = |port: u16| {
            self.mappings.iter().any(|m| {
                m.shape == Shape::Endpoint && m.protocol == p.protocol && m.external == Endpoint::new(address, port)
            })
        };
        let begin = match self.b.sequential {
            true => self
                .last_port
                .get(&(address, p.protocol, low))
                .map_or(low, |last| if *last == high { low } else { last + 1 }),
            false => Some(p.source().port).filter(|p| (low..=high).contains(p)).unwrap_or(low),
        };
        (begin..=high).chain(low..begin).find(|port| !reserved(*port) && !held(*port))
    }

    fn external(&self, id: u32, p: Packet) -> Endpoint {
        let m = self.mappings.iter().find(|m| m.id == id).expect("the mapping is there");
        if m.shape == Shape::Address { Endpoint { port: p.source().port, ..m.external } } else { m.external }
    }

    fn rule_of(&self, id: u32) -> Option<usize> {
        self.mappings.iter().find(|m| m.id == id).map(|m| m.rule)
    }

    /// A rule takes part from now on, or no longer. A mapping of one that does not ends with its last session.
    pub fn enable(&mut self, now: u64, rule: usize, enabled: bool) {
        self.expire(now);
        self.rules[rule].enabled = enabled;
        let used = |m: &Mapping| self.sessions.iter().any(|s| s.mappings.contains(&Some(m.id)));
        self.mappings.retain(|m| enabled || m.rule != rule || used(m));
    }

    /// Whether an address is an external one of a rule or of a living mapping.
    fn claims(&self, address: IpAddr) -> bool {
        let of_rule = self.rules.iter().any(|r| match &r.kind {
            Kind::Static { external, .. } => ip(*external) == address,
            Kind::Pool(a) | Kind::Overload(a) => a.iter().any(|a| ip(*a) == address),
            _ => false,
        });
        of_rule || self.mappings.iter().any(|m| m.external.address == address)
    }

    fn expire(&mut self, now: u64) {
        self.sessions.sort_by_key(|s| s.expires);
        while self.sessions.first().is_some_and(|s| s.expires <= now) {
            let over = self.sessions.remove(0);
            for id in over.mappings.into_iter().flatten() {
                if let Some(m) = self.mappings.iter_mut().find(|m| m.id == id) {
                    let lingers = m.shape == Shape::Address && self.rules[m.rule].enabled;
                    m.until = over.expires + if lingers { self.b.binding * S } else { 0 };
                }
            }
        }
        let used = |m: &Mapping| self.sessions.iter().any(|s| s.mappings.contains(&Some(m.id)));
        self.mappings.retain(|m| used(m) || m.until > now);
    }

    /// The table's dynamic mappings, in some order.
    pub fn rows(&mut self, now: u64) -> Vec<Row> {
        self.expire(now);
        let row = |m: &Mapping| {
            let sessions: Vec<&Session> = self.sessions.iter().filter(|s| s.mappings.contains(&Some(m.id))).collect();
            let lingers = m.shape == Shape::Address && self.rules[m.rule].enabled;
            let binding = if lingers { self.b.binding * S } else { 0 };
            let expires = sessions.iter().map(|s| s.expires + binding).max().unwrap_or(m.until);
            let protocol = (m.shape != Shape::Address).then_some(m.protocol);
            let any_port = Endpoint { port: 0, ..m.peer };
            let peer = match (m.shape, self.b.mapping) {
                (Shape::Portless, _) | (Shape::Endpoint, Dependence::Address) => Some(any_port),
                (Shape::Endpoint, Dependence::Port) => Some(m.peer),
                _ => None,
            };
            (m.rule, protocol, m.internal, m.external, peer, sessions.len(), m.created, expires)
        };
        self.mappings.iter().map(row).collect()
    }

    /// How many sessions there are.
    pub fn session_count(&self) -> u64 {
        self.sessions.len() as u64
    }
}

impl Session {
    /// A packet of the session: RFC 7857 figure 1 as decided in the contract, and what refreshes.
    fn take(&mut self, now: u64, forth: bool, signal: Signal, refresh_both: bool) {
        self.answered |= !forth;
        let of_client = forth == self.client_is_initiator;
        let before = self.state;
        match (before, signal) {
            (State::Closing | State::Reset, Signal::Syn) => {
                (self.state, self.client_is_initiator) = (State::Opening, forth);
                self.expires = now + OPEN * S;
                return;
            }
            (State::Opening, Signal::Syn) if of_client => self.expires = now + OPEN * S,
            (State::Opening, Signal::Syn | Signal::SynAck) if !of_client => self.state = State::Established,
            (State::Opening | State::Closing, _) => {}
            (State::Established | State::OneFin { .. }, Signal::Rst) => {
                (self.state, self.expires) = (State::Reset, now + AFTER * S);
            }
            (State::Established, Signal::Fin) => self.state = State::OneFin { of_client },
            (State::OneFin { of_client: first }, Signal::Fin) if first != of_client => {
                (self.state, self.expires) = (State::Closing, now + AFTER * S);
            }
            (State::Reset, Signal::Rst) => {}
            (State::Reset, _) => self.state = State::Established,
            _ => {}
        }
        match self.state {
            State::Established | State::OneFin { .. } => self.expires = now + IDLE * S,
            State::Plain => match self.protocol {
                Protocol::UDP if forth == self.from_inside || refresh_both => self.expires = now + UDP * S,
                Protocol::UDP => {}
                Protocol::ICMP => self.expires = now + ICMP * S,
                _ => self.expires = now + OTHER * S,
            },
            _ => {}
        }
    }
}
