//! The contract once more, as plainly as it can be written: lists that are walked from end to end,
//! nothing indexed, nothing shared with the engine but the vocabulary. One device between
//! 10.0.0.0/24 (`floor`) and two lines to the internet: `uplink` in 192.0.2.0/28, which is
//! 192.0.2.1 until it gets another address, and `lane`, 203.0.113.1/28. Times are nanoseconds.
#![allow(dead_code)]

mod choice;
pub mod estate;
pub mod generate;
mod inbound;
pub mod own;
mod rules;
mod session;
mod table;
mod takeover;
mod ways;

use std::collections::HashMap;
use std::net::{IpAddr, Ipv4Addr};

use zarnet_core::device::MappingRow;
use zarnet_core::net::{Endpoint, Packet, Protocol, Signal, Tuple};

pub use rules::{
    Behaviour, Dependence, Exhausted, FLOOR, Kind, LANE, Pick, Rule, To, UPLINK, Ways,
};
pub use session::{AFTER, ICMP, IDLE, OPEN, OTHER, S, UDP};
use session::{Session, State};

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

/// What a table shows of a mapping: rule, protocol, internal, external, peer, sessions, created,
/// expires.
pub type Row = (usize, Option<Protocol>, Endpoint, Endpoint, Option<Endpoint>, usize, u64, u64);

/// The same of the engine's dynamic mappings, in order.
pub fn rows_of<'a>(mappings: impl IntoIterator<Item = &'a MappingRow>) -> Vec<Row> {
    let dynamic = mappings.into_iter().filter(|m| !m.fixed).map(|m| {
        let (created, expires) = (m.created.unwrap().0, m.expires.unwrap().0);
        (
            usize::from(m.rule.0),
            m.protocol,
            m.internal,
            m.external,
            m.peer,
            m.sessions as usize,
            created,
            expires,
        )
    });
    in_order(dynamic.collect())
}

pub fn in_order(mut rows: Vec<Row>) -> Vec<Row> {
    rows.sort_by_key(|r| {
        (
            r.2.address,
            r.2.port,
            r.1.map(|p| p.0),
            r.4.map(|p| (p.address, p.port)),
            r.0,
            r.3.address,
            r.3.port,
        )
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
    /// Whether two hosts left a port that they shared at one instant, so that nobody can say for
    /// whom it rests.
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
            own: [
                Ipv4Addr::new(10, 0, 0, 1),
                Ipv4Addr::new(192, 0, 2, 1),
                Ipv4Addr::new(203, 0, 113, 1),
            ],
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

    /// A packet comes in by an interface. If more than one session has its ends, it belongs to the
    /// one that was made first.
    pub fn receive(&mut self, now: u64, ingress: usize, p: Packet) -> Result<Became, Refused> {
        self.expire(now);
        let became = match self.find(p) {
            Some((n, forth)) => self.known_session(now, Some(ingress), p, n, forth),
            None => self.first(now, ingress, p),
        };
        self.count_refusal(p, became)
    }

    /// Counts a packet that is refused.
    fn count_refusal(
        &mut self,
        p: Packet,
        became: Result<Became, Refused>,
    ) -> Result<Became, Refused> {
        if let Err((reason, rule)) = became {
            self.refused[0] += 1;
            if let Some(rule) = rule {
                self.counts[rule].refused += 1;
                let of_pool =
                    matches!(self.rules[rule].kind, Kind::Pool | Kind::Overload(To::Lines));
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
        let fits = |s: &Session| {
            s.protocol == p.protocol && (s.original == p.ends || s.forwarded.reversed() == p.ends)
        };
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
            Some(interface) => {
                self.way_over(interface, source, ingress, to).ok_or(no("no-route"))?
            }
            None => self.way(source, ingress, to),
        };
        self.sessions[n].take(now, forth, p.signal, self.b.refresh_both);
        Ok(Became::Leaves(Out { ends, egress, session: Some(serial), unchanged }))
    }

    /// Steps 4 to 10 for a packet of no session.
    fn first(&mut self, now: u64, ingress: usize, p: Packet) -> Result<Became, Refused> {
        let (entry, blocked) = self.enter(Some(ingress), p)?;
        let to = p.destination();
        let destination = entry.map_or(to, |e| e.end);
        if self.own.map(ip).contains(&destination.address) {
            return self.for_itself(
                ingress,
                Packet { ends: Tuple { destination, ..p.ends }, ..p },
                blocked,
            );
        }
        if entry.is_none() && self.claims(to.address) {
            return Err(no(if blocked { "filtered" } else { "no-mapping" }));
        }
        let egress = self.way(p.source().address, Some(ingress), destination.address);
        let source = self.source(now, p, (ingress, egress), entry)?;
        if !p.may_begin() {
            let by = entry.map(|e| e.rule).or(self.rule_of(&source));
            let translated = entry.is_some() || !matches!(source, Source::Kept(_));
            let out =
                Out { ends: p.ends, egress, session: None, unchanged: self.reason_of(&source) };
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
        Ok(Became::Answered(Out {
            ends: p.ends.reversed(),
            egress,
            session: None,
            unchanged: None,
        }))
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
}
