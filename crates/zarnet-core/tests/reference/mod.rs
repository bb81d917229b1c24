//! The contract once more, as plainly as it can be written: lists that are walked from end to end, nothing indexed, nothing
//! shared with the engine but the vocabulary. One device between 10.0.0.0/24 (`floor`) and two lines to the internet: `uplink`
//! in 192.0.2.0/28, which is 192.0.2.1 until it gets another address, and `lane`, 203.0.113.1/28. Times are nanoseconds.
#![allow(dead_code)]

mod choice;
pub mod estate;
pub mod generate;
mod inbound;
pub mod own;
mod rules;
mod session;
mod takeover;

use std::collections::HashMap;
use std::net::{IpAddr, Ipv4Addr};

use zarnet_core::device::MappingRow;
use zarnet_core::net::{Endpoint, Packet, Protocol, Signal, Tuple};

pub use rules::{Behaviour, Dependence, Exhausted, FLOOR, Kind, LANE, Pick, Rule, To, UPLINK, Ways};
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
    /// Whether its address is one of the pool's, by what the rule said when it was made.
    of_pool: bool,
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

/// The same of the engine's dynamic mappings, in order.
pub fn rows_of<'a>(mappings: impl IntoIterator<Item = &'a MappingRow>) -> Vec<Row> {
    let dynamic = mappings.into_iter().filter(|m| !m.fixed).map(|m| {
        let (created, expires) = (m.created.unwrap().0, m.expires.unwrap().0);
        (usize::from(m.rule.0), m.protocol, m.internal, m.external, m.peer, m.sessions as usize, created, expires)
    });
    in_order(dynamic.collect())
}

pub fn in_order(mut rows: Vec<Row>) -> Vec<Row> {
    rows.sort_by_key(|r| {
        (r.2.address, r.2.port, r.1.map(|p| p.0), r.4.map(|p| (p.address, p.port)), r.0, r.3.address, r.3.port)
    });
    rows
}

/// Why a packet is dropped, and the rule that is to blame, for reasons that a rule causes.
pub type Refused = (&'static str, Option<usize>);

/// What becomes of a packet.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Became {
    Leaves(Out),
    /// The device answers it, and this is the answer.
    Answered(Out),
    /// The device takes it, as it then is; the session that it belongs to, if any.
    Taken(Tuple, Option<u64>),
}

/// A packet as it leaves.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Out {
    pub ends: Tuple,
    pub egress: usize,
    /// Its session, by number.
    pub session: Option<u64>,
    /// Why nothing was changed, and by which rule; `None` if something was.
    pub unchanged: Option<Refused>,
}

/// What is counted of a rule.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Counts {
    pub opened: u64,
    pub expired: u64,
    pub cleared: u64,
    pub refused: u64,
}

pub struct Model {
    /// The device's own addresses, by interface.
    own: [Ipv4Addr; 3],
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
    pub counts: Vec<Counts>,
    /// Packets refused, and those for want of an address of the pool.
    pub refused: [u64; 2],
    /// Whether two hosts left a port that they shared at one instant, so that nobody can say for whom it rests.
    pub is_open: bool,
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
    /// Nowhere: by no rule, or by one that says so.
    Kept(Refused),
    /// To an external end: by a fixed rule, a known mapping, or one that is still to be made.
    Fixed(usize, Endpoint),
    Known(u32),
    New(Mapping),
}

fn ip(a: Ipv4Addr) -> IpAddr {
    a.into()
}

fn no(reason: &'static str) -> Refused {
    (reason, None)
}

const NO_RULE: Refused = ("no-rule", None);

impl Model {
    pub fn new(rules: Vec<Rule>, b: Behaviour) -> Self {
        Self {
            own: [Ipv4Addr::new(10, 0, 0, 1), Ipv4Addr::new(192, 0, 2, 1), Ipv4Addr::new(203, 0, 113, 1)],
            turns: vec![0; rules.len()],
            counts: vec![Counts::default(); rules.len()],
            refused: [0; 2],
            is_open: false,
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

    /// A packet comes in by an interface. If more than one session has its ends, it belongs to the one that was made first.
    pub fn receive(&mut self, now: u64, ingress: usize, p: Packet) -> Result<Became, Refused> {
        self.expire(now);
        let became = match self.find(p) {
            Some((n, forth)) => self.known_session(now, Some(ingress), p, n, forth),
            None => self.first(now, ingress, p),
        };
        self.count_refusal(p, became)
    }

    /// Counts a packet that is refused.
    fn count_refusal(&mut self, p: Packet, became: Result<Became, Refused>) -> Result<Became, Refused> {
        if let Err((reason, rule)) = became {
            self.refused[0] += 1;
            if let Some(rule) = rule {
                self.counts[rule].refused += 1;
                let of_pool = matches!(self.rules[rule].kind, Kind::Pool | Kind::Overload(To::Lines));
                let used_up = ["pool-exhausted", "ports-exhausted"].contains(&reason);
                if of_pool && used_up && !self.stays(rule, p.source().address) {
                    self.refused[1] += 1;
                }
            }
        }
        became
    }

    /// The session of a packet, by its position, and whether it goes as the first one did.
    fn find(&self, p: Packet) -> Option<(usize, bool)> {
        let fits = |s: &Session| s.protocol == p.protocol && (s.original == p.ends || s.forwarded.reversed() == p.ends);
        let all = self.sessions.iter().enumerate().filter(|s| fits(s.1));
        all.min_by_key(|s| s.1.serial).map(|(n, s)| (n, s.original == p.ends))
    }

    fn known_session(
        &mut self,
        now: u64,
        ingress: Option<usize>,
        p: Packet,
        n: usize,
        forth: bool,
    ) -> Result<Became, Refused> {
        let s = &self.sessions[n];
        let (serial, ends) = (s.serial, if forth { s.forwarded } else { s.original.reversed() });
        let same = s.original == s.forwarded;
        let unchanged = same.then(|| if s.ingress.is_none() { no("from-device") } else { NO_RULE });
        let to = ends.destination.address;
        if self.own.map(ip).contains(&to) {
            self.sessions[n].take(now, forth, p.signal, self.b.refresh_both);
            return Ok(Became::Taken(ends, Some(serial)));
        }
        let came = s.ingress.filter(|_| !forth && self.b.as_came);
        let source = p.source().address;
        let egress = match came {
            Some(interface) => self.way_over(interface, source, ingress, to).ok_or(no("no-route"))?,
            None => self.way(source, ingress, to),
        };
        self.sessions[n].take(now, forth, p.signal, self.b.refresh_both);
        Ok(Became::Leaves(Out { ends, egress, session: Some(serial), unchanged }))
    }

    /// Step 6: the interface that leads to a destination.
    fn way(&self, source: IpAddr, ingress: Option<usize>, to: IpAddr) -> usize {
        self.link_of(to).unwrap_or(if self.leads_over_lane(source, ingress) { LANE } else { UPLINK })
    }

    /// The same over one interface only, if it leads there at all.
    fn way_over(&self, interface: usize, source: IpAddr, ingress: Option<usize>, to: IpAddr) -> Option<usize> {
        let leads = self.link_of(to) == Some(interface)
            || match interface {
                FLOOR => false,
                UPLINK => true,
                _ => self.b.ways.plain || self.leads_over_lane(source, ingress),
            };
        leads.then_some(interface)
    }

    /// Whether a route over the lane that is for some packets only is for this one.
    fn leads_over_lane(&self, source: IpAddr, ingress: Option<usize>) -> bool {
        let Ways { of_source, from, .. } = self.b.ways;
        of_source.is_some_and(|s| ip(s) == source) || from.is_some() && from == ingress
    }

    /// The interface whose prefix holds an address.
    fn link_of(&self, to: IpAddr) -> Option<usize> {
        let IpAddr::V4(to) = to else { return None };
        match to.octets() {
            [10, 0, 0, _] => Some(FLOOR),
            [192, 0, 2, 0..16] => Some(UPLINK),
            [203, 0, 113, 0..16] => Some(LANE),
            _ => None,
        }
    }

    /// Steps 4 to 10 for a packet of no session.
    fn first(&mut self, now: u64, ingress: usize, p: Packet) -> Result<Became, Refused> {
        let (entry, blocked) = self.enter(Some(ingress), p)?;
        let to = p.destination();
        let destination = entry.map_or(to, |e| e.end);
        if self.own.map(ip).contains(&destination.address) {
            return self.for_itself(ingress, Packet { ends: Tuple { destination, ..p.ends }, ..p }, blocked);
        }
        if entry.is_none() && self.claims(to.address) {
            return Err(no(if blocked { "filtered" } else { "no-mapping" }));
        }
        let egress = self.way(p.source().address, Some(ingress), destination.address);
        let source = self.source(now, p, (ingress, egress), entry)?;
        if !p.may_begin() {
            let by = entry.map(|e| e.rule).or(self.rule_of(&source));
            let translated = entry.is_some() || !matches!(source, Source::Kept(_));
            let out = Out { ends: p.ends, egress, session: None, unchanged: self.reason_of(&source) };
            return if translated { Err(("no-session", by)) } else { Ok(Became::Leaves(out)) };
        }
        self.commit(now, Some(ingress), egress, p, entry, source)
    }

    /// Step 5, for one of its own addresses.
    fn for_itself(&mut self, ingress: usize, p: Packet, blocked: bool) -> Result<Became, Refused> {
        if p.signal != Signal::Query {
            return Err(no(if blocked { "filtered" } else { "no-listener" }));
        }
        let (to, from) = (p.source().address, p.destination().address);
        let egress = match self.b.as_came {
            true => self.way_over(ingress, from, None, to).ok_or(no("no-route"))?,
            false => self.way(from, None, to),
        };
        Ok(Became::Answered(Out { ends: p.ends.reversed(), egress, session: None, unchanged: None }))
    }

    /// Step 10. The device's own packets come in nowhere.
    fn commit(
        &mut self,
        now: u64,
        ingress: Option<usize>,
        egress: usize,
        p: Packet,
        entry: Option<Entry>,
        source: Source,
    ) -> Result<Became, Refused> {
        if self.b.max_sessions.is_some_and(|most| self.sessions.len() >= most) {
            return Err(no("device-full"));
        }
        let reason = self.reason_of(&source);
        let (source, mapping, by) = match source {
            Source::Kept(_) => (p.source(), None, None),
            Source::Fixed(rule, end) => (end, None, Some(rule)),
            Source::Known(id) => (self.known(id).end(p), Some(id), Some(self.known(id).rule)),
            Source::New(m) => self.enlist(m, p),
        };
        let forwarded = Tuple { source, destination: entry.map_or(p.destination(), |e| e.end) };
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
        let rules = [by, entry.map(|e| e.rule)];
        let other = rules[1].filter(|r| Some(*r) != rules[0]);
        rules[0].into_iter().chain(other).for_each(|r| self.counts[r].opened += 1);
        self.sessions.push(Session {
            protocol: p.protocol,
            original: p.ends,
            forwarded,
            mappings: [mapping, entry.and_then(|e| e.mapping)],
            rules,
            ingress,
            serial: self.made,
            client_is_initiator: true,
            answered: false,
            state,
            created: now,
            last: now,
            expires: now + span * S,
            holds: Vec::new(),
        });
        let unchanged = reason.filter(|_| forwarded == p.ends);
        Ok(Became::Leaves(Out { ends: forwarded, egress, session: Some(self.made), unchanged }))
    }

    fn reason_of(&self, source: &Source) -> Option<Refused> {
        if let Source::Kept(reason) = source { Some(*reason) } else { None }
    }

    fn rule_of(&self, source: &Source) -> Option<usize> {
        match source {
            Source::Kept(_) => None,
            Source::Fixed(rule, _) => Some(*rule),
            Source::Known(id) => Some(self.known(*id).rule),
            Source::New(m) => Some(m.rule),
        }
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

    /// Whether an address is an external one of a rule or of a living mapping.
    fn claims(&self, address: IpAddr) -> bool {
        self.is_end_of(address, false) || self.is_living_end(address)
    }

    /// Whether an address is an external one of a rule; perhaps only of one that takes part.
    pub fn is_end_of(&self, address: IpAddr, enabled: bool) -> bool {
        self.rules.iter().filter(|r| !r.retired && (r.enabled || !enabled)).any(|r| match &r.kind {
            Kind::Static { external, .. } => ip(*external) == address,
            Kind::Pool | Kind::Overload(To::Lines) => self.lines().iter().any(|a| ip(*a) == address),
            _ => false,
        })
    }

    /// Whether a living mapping or session has an external address.
    pub fn is_living_end(&self, address: IpAddr) -> bool {
        self.is_held(address, None) || self.mappings.iter().any(|m| m.external.address == address)
    }

    /// What the pool can hand out.
    fn lines(&self) -> [Ipv4Addr; 2] {
        generate::lines(self.b.prefixed)
    }

    fn count_end(&mut self, s: &Session, expired: bool) {
        let other = s.rules[1].filter(|r| Some(*r) != s.rules[0]);
        for rule in s.rules[0].into_iter().chain(other) {
            *(if expired { &mut self.counts[rule].expired } else { &mut self.counts[rule].cleared }) += 1;
        }
    }

    pub fn expire(&mut self, now: u64) {
        self.sessions.sort_by_key(|s| s.expires);
        while self.sessions.first().is_some_and(|s| s.expires <= now) {
            let over = self.sessions.remove(0);
            self.count_end(&over, true);
            for id in over.mappings.into_iter().flatten() {
                let until = over.expires + self.binding(self.known(id));
                self.mappings.iter_mut().filter(|m| m.id == id).for_each(|m| m.until = until);
            }
        }
        let unused = |m: &&Mapping| m.until <= now && self.users(m).is_empty();
        let mut over: Vec<(u64, u32)> = self.mappings.iter().filter(unused).map(|m| (m.until, m.id)).collect();
        over.sort_unstable();
        for (until, id) in over {
            let n = self.mappings.iter().position(|m| m.id == id).expect("the mapping is there");
            let m = self.mappings.remove(n);
            self.rest(&m, until);
        }
        self.resting.retain(|r| r.until > now);
    }

    /// The port of a mapping that has ended rests, from its last user on.
    fn rest(&mut self, m: &Mapping, at: u64) {
        if m.shape != Shape::Endpoint || m.protocol == Protocol::TCP || self.b.hold_down == 0 {
            return;
        }
        let (protocol, external, host, until) = (m.protocol, m.external, m.internal.address, at + self.b.hold_down * S);
        let shares = |o: &&Mapping| (o.shape, o.protocol, o.external) == (m.shape, protocol, external);
        let sharing: Vec<&Mapping> = self.mappings.iter().filter(shares).collect();
        // who ends at the same instant may be the last one as well
        let ends = |o: &&Mapping| o.internal.address != host && o.until == at && self.users(o).is_empty();
        let rests = |r: &Resting| (r.protocol, r.external, r.until) == (protocol, external, until) && r.host != host;
        let is_open = sharing.iter().any(&ends) || self.resting.iter().any(rests);
        if sharing.is_empty() {
            self.resting.push(Resting { protocol, external, host, until });
        }
        self.is_open |= is_open;
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

    /// How many dynamic mappings there are.
    pub fn mapping_count(&self) -> usize {
        self.mappings.len()
    }
}
