//! The contract once more, as plainly as it can be written: lists that are walked from end to end, nothing indexed, nothing
//! shared with the engine but the vocabulary. One device between 10.0.0.0/24 (inside) and 192.0.2.0/28, which is 192.0.2.1 until it gets another address.
//! Times are nanoseconds.

mod choice;
mod rules;
mod session;
mod takeover;

use std::collections::HashMap;
use std::net::{IpAddr, Ipv4Addr};

use zarnet_core::net::{Endpoint, Packet, Protocol, Signal, Tuple};

pub use rules::{Behaviour, Dependence, Exhausted, Kind, Pick, Rule};
pub use session::{AFTER, ICMP, IDLE, OPEN, OTHER, UDP};
use session::{Session, State};

pub const S: u64 = 1_000_000_000;

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
    /// Whether its address was picked, and not the host's already.
    picked: bool,
    created: u64,
    /// Without sessions: how long it stays.
    until: u64,
}

impl Mapping {
    /// Its external end for a packet of its host.
    fn end(&self, p: Packet) -> Endpoint {
        let port = if self.shape == Shape::Address { p.source().port } else { self.external.port };
        Endpoint { port, ..self.external }
    }
}

/// What a table shows of a mapping: rule, protocol, internal, external, peer, sessions, created, expires.
pub type Row = (usize, Option<Protocol>, Endpoint, Endpoint, Option<Endpoint>, usize, u64, u64);

pub struct Model {
    /// The device's own addresses, inside and outside.
    own: [Ipv4Addr; 2],
    rules: Vec<Rule>,
    b: Behaviour,
    sessions: Vec<Session>,
    mappings: Vec<Mapping>,
    last_port: HashMap<(IpAddr, Protocol, u16), u16>,
    last_picked: Option<IpAddr>,
    resting: Vec<Resting>,
    next: u32,
    /// How many sessions were made so far.
    made: u64,
    /// By rule: the server whose turn it is.
    turns: Vec<usize>,
}

/// A freed port, whose it was, and until when nobody else gets it.
struct Resting {
    protocol: Protocol,
    external: Endpoint,
    host: IpAddr,
    until: u64,
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
        Self {
            own: [Ipv4Addr::new(10, 0, 0, 1), Ipv4Addr::new(192, 0, 2, 1)],
            turns: vec![0; rules.len()],
            rules,
            b,
            sessions: Vec::new(),
            mappings: Vec::new(),
            last_port: HashMap::new(),
            last_picked: None,
            resting: Vec::new(),
            next: 0,
            made: 0,
        }
    }

    /// What becomes of a packet: its ends as it leaves, `itself`, or the reason for its drop. If more than one session has its
    /// ends, it belongs to the one that was made first.
    pub fn receive(&mut self, now: u64, inside: bool, p: Packet) -> Result<Tuple, &'static str> {
        self.expire(now);
        let forth = |s: &Session| s.original == p.ends;
        let fits = |s: &Session| s.protocol == p.protocol && (forth(s) || s.forwarded.reversed() == p.ends);
        match self.sessions.iter_mut().filter(|s| fits(s)).min_by_key(|s| s.serial) {
            None => self.first(now, inside, p),
            Some(s) => {
                let forth = forth(s);
                let out = if forth { s.forwarded } else { s.original.reversed() };
                s.take(now, forth, p.signal, self.b.refresh_both);
                Ok(out)
            }
        }
    }

    /// Steps 4 to 10 for a packet of no session.
    fn first(&mut self, now: u64, inside: bool, p: Packet) -> Result<Tuple, &'static str> {
        let (entry, blocked) = self.enter(inside, p)?;
        let to = p.destination();
        if entry.is_none() {
            if self.own.map(ip).contains(&to.address) {
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
            Source::Known(id) => (self.known(id).end(p), Some(id), Some(self.known(id).rule)),
            Source::New(m) => self.enlist(m, p),
        };
        let forwarded = Tuple { source, destination };
        if let Some((Kind::Forward { servers, in_turn: true, .. }, rule)) =
            entry.map(|e| (&self.rules[e.rule].kind, e.rule))
        {
            self.turns[rule] = (self.turns[rule] + 1) % servers.len();
        }
        let (state, span) = match p.protocol {
            Protocol::TCP => (State::Opening, OPEN),
            Protocol::UDP => (State::Plain, UDP),
            Protocol::ICMP => (State::Plain, ICMP),
            _ => (State::Plain, OTHER),
        };
        self.made += 1;
        self.sessions.push(Session {
            protocol: p.protocol,
            original: p.ends,
            forwarded,
            mappings: [mapping, entry.and_then(|e| e.mapping)],
            rules: [by, entry.map(|e| e.rule)],
            serial: self.made,
            client_is_initiator: true,
            answered: false,
            state,
            expires: now + span * S,
            holds: Vec::new(),
        });
        Ok(forwarded)
    }

    /// A new mapping comes into being: its external end, its number and its rule.
    fn enlist(&mut self, m: Mapping, p: Packet) -> (Endpoint, Option<u32>, Option<usize>) {
        self.next += 1;
        if m.shape == Shape::Endpoint {
            self.resting.retain(|r| (r.protocol, r.external) != (m.protocol, m.external));
            let class = self.class(m.internal.port).0;
            self.last_port.insert((m.external.address, m.protocol, class), m.external.port);
        }
        if m.picked {
            self.last_picked = Some(m.external.address);
        }
        let listed = (m.end(p), Some(m.id), Some(m.rule));
        self.mappings.push(m);
        listed
    }

    /// Step 4: what the destination is, and whether something holds it but blocks.
    fn enter(&self, inside: bool, p: Packet) -> Result<(Option<Entry>, bool), &'static str> {
        let to = p.destination();
        // a query has its identifier on the side of who asks
        let port = if p.signal == Signal::Query { p.source().port } else { to.port };
        let mut blocked = false;
        for statics in [false, true] {
            for (i, rule) in self.rules.iter().enumerate().filter(|r| r.1.enabled) {
                let (end, open) = match &rule.kind {
                    Kind::Forward { protocol, port, servers, in_turn }
                        if !statics && (*protocol, *port) == (p.protocol, to.port) =>
                    {
                        let IpAddr::V4(sender) = p.source().address else { continue };
                        let chosen = if *in_turn { self.turns[i] } else { sender.to_bits() as usize };
                        let server = servers[chosen % servers.len()];
                        (Endpoint::new(server.0, server.1), ip(self.own[1]) == to.address)
                    }
                    Kind::Static { internal, external, .. } if statics && rule.serves(p.protocol, to.port) => {
                        (Endpoint::new(*internal, to.port), ip(*external) == to.address)
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
                Shape::Endpoint => (m.protocol, m.external.port) == (p.protocol, port),
                Shape::Portless => m.protocol == p.protocol,
            };
            if !holds {
                continue;
            }
            let rule = &self.rules[m.rule];
            let arrives = rule.enabled && (!inside || rule.hairpin);
            let answers_only = m.shape == Shape::Endpoint && p.protocol == Protocol::ICMP;
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
                Ok(Source::Known(id)) => self.known(id).end(p),
                Ok(Source::New(m)) => m.end(p),
                Err(_) => return false,
            },
        };
        if m.shape == Shape::Portless {
            return sender.address == m.peer.address;
        }
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

    fn known(&self, id: u32) -> &Mapping {
        self.mappings.iter().find(|m| m.id == id).expect("the mapping is there")
    }

    /// Sessions under a mapping.
    fn users(&self, m: &Mapping) -> Vec<&Session> {
        self.sessions.iter().filter(|s| s.mappings.contains(&Some(m.id))).collect()
    }

    /// How long a mapping outlasts its last session.
    fn binding(&self, m: &Mapping) -> u64 {
        if m.shape == Shape::Address && self.rules[m.rule].enabled { self.b.binding * S } else { 0 }
    }

    /// A rule takes part from now on, or no longer. A mapping of one that does not ends with its last session.
    pub fn enable(&mut self, now: u64, rule: usize, enabled: bool) {
        self.expire(now);
        self.rules[rule].enabled = enabled;
        let unused = |m: &Mapping| m.rule == rule && self.users(m).is_empty();
        let over: Vec<u32> = self.mappings.iter().filter(|m| !enabled && unused(m)).map(|m| m.id).collect();
        self.mappings.retain(|m| !over.contains(&m.id));
    }

    /// All sessions end, and all dynamic mappings; a restart forgets what sequences and turns remember too.
    pub fn clear(&mut self, now: u64, restart: bool) {
        self.expire(now);
        self.sessions.clear();
        for m in std::mem::take(&mut self.mappings) {
            self.rest(&m, now);
        }
        if restart {
            self.resting.clear();
            self.last_port.clear();
            self.last_picked = None;
            self.turns.fill(0);
        }
    }

    /// Whether an address is an external one of a rule or of a living mapping.
    fn claims(&self, address: IpAddr) -> bool {
        let of_rule = self.rules.iter().filter(|r| !r.retired).any(|r| match &r.kind {
            Kind::Static { external, .. } => ip(*external) == address,
            Kind::Pool(a) | Kind::Overload(a) => a.iter().any(|a| ip(*a) == address),
            _ => false,
        });
        of_rule || self.is_held(address, None) || self.mappings.iter().any(|m| m.external.address == address)
    }

    fn expire(&mut self, now: u64) {
        self.sessions.sort_by_key(|s| s.expires);
        while self.sessions.first().is_some_and(|s| s.expires <= now) {
            let over = self.sessions.remove(0);
            for id in over.mappings.into_iter().flatten() {
                let until = over.expires + self.binding(self.known(id));
                self.mappings.iter_mut().filter(|m| m.id == id).for_each(|m| m.until = until);
            }
        }
        let all = std::mem::take(&mut self.mappings);
        let (alive, over): (Vec<_>, Vec<_>) = all.into_iter().partition(|m| m.until > now || !self.users(m).is_empty());
        self.mappings = alive;
        over.iter().for_each(|m| self.rest(m, m.until));
        self.resting.retain(|r| r.until > now);
    }

    /// The port of a mapping that has ended rests.
    fn rest(&mut self, m: &Mapping, at: u64) {
        if m.shape == Shape::Endpoint && m.protocol != Protocol::TCP {
            let (protocol, external, host) = (m.protocol, m.external, m.internal.address);
            self.resting.push(Resting { protocol, external, host, until: at + self.b.hold_down * S });
        }
    }

    /// The table's dynamic mappings, in some order.
    pub fn rows(&mut self, now: u64) -> Vec<Row> {
        self.expire(now);
        let row = |m: &Mapping| {
            let (sessions, binding) = (self.users(m), self.binding(m));
            let expires = sessions.iter().map(|s| s.expires + binding).max().unwrap_or(m.until);
            let served = self.rules[m.rule].service.map(|s| s.0);
            let protocol = if m.shape == Shape::Address { served } else { Some(m.protocol) };
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
