//! The world around the device, and flows from their first packet to their last, packet by packet:
//! while a flow runs, it sends both ways every second.

mod model;
mod passing;

use std::collections::{HashMap, HashSet};
use std::net::IpAddr;

use zarnet_core::net::{Endpoint, Packet, Protocol, Signal, Tuple};
use zarnet_core::traffic::Ending;

use super::own::Clearing;
use super::{Became, Behaviour, FLOOR, Model, Out, Refused, Rule, S, UPLINK};

/// Who begins a flow.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Who {
    /// Whoever has the address.
    At(IpAddr),
    /// The device, from the address of the interface that it leaves by, or of this one.
    Device(Option<usize>),
}

/// A flow; times in nanoseconds.
#[derive(Debug, Clone, Copy)]
pub struct Sent {
    pub start: u64,
    pub protocol: Protocol,
    pub source: Who,
    pub source_port: Option<u16>,
    pub destination: IpAddr,
    pub destination_port: Option<u16>,
    pub lasts: u64,
    pub ending: Option<Ending>,
    pub round_trip: u64,
}

/// What is done to the device.
#[derive(Debug, Clone, Copy)]
pub enum Act {
    Enable(usize, bool),
    Clear(Clearing),
    Restart,
    Lease(std::net::Ipv4Addr),
}

/// A flow that was not translated: start, reason, whether the device is to blame, and which rule.
pub type Lost = (u64, &'static str, bool, Option<usize>);

/// What a table shows of a session: original and translated ends, created, last active, expires.
pub type SessionRow = (Tuple, Tuple, u64, u64, u64);

/// Who sends.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Origin {
    Host,
    Peer,
    /// Whether its source followed from the route.
    Device(bool),
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Receiver {
    Host,
    Peer,
    Answering(Out),
    Device,
}

#[derive(Debug, Clone, Copy)]
enum Fate {
    Arrived(Receiver, Packet),
    /// The reason, whether the device is to blame, and which rule.
    Lost(&'static str, bool, Option<usize>),
}

/// The device passed: whether it changed the packet, why not, and the session.
#[derive(Debug, Clone, Copy)]
struct Passage {
    changed: bool,
    unchanged: Option<Refused>,
    /// The session, and whether the packet goes as its first one did.
    session: Option<(u64, bool)>,
}

struct Waiting {
    /// Which of the flows it is.
    number: usize,
    at: u64,
    flow: Sent,
    origin: Origin,
    asked: Packet,
    receiver: Receiver,
    arrived: Packet,
    forth: Vec<Passage>,
}

/// A flow that runs on sessions.
struct Running {
    end: u64,
    ending: Ending,
    sessions: Vec<(u64, bool)>,
}

pub struct Estate {
    pub model: Model,
    sources: HashSet<IpAddr>,
    ports: HashMap<IpAddr, u16>,
    waiting: Vec<Waiting>,
    running: Vec<Running>,
    pub translated: u64,
    pub lost: Vec<(usize, Lost)>,
    pub peak: (usize, u64),
    /// The last packet or event.
    pub end: u64,
}

fn is_special(address: IpAddr) -> bool {
    matches!(address, IpAddr::V4(a) if a.is_private())
}

impl Estate {
    pub fn new(rules: Vec<Rule>, b: Behaviour, flows: &[Sent]) -> Self {
        let source = |f: &Sent| if let Who::At(a) = f.source { Some(a) } else { None };
        Self {
            model: Model::new(rules, b),
            sources: flows.iter().filter_map(source).collect(),
            ports: HashMap::new(),
            waiting: Vec::new(),
            running: Vec::new(),
            translated: 0,
            lost: Vec::new(),
            peak: (0, 0),
            end: 0,
        }
    }

    /// Plays flows in the order of their start, and events, up to and with an instant.
    pub fn play(&mut self, flows: &[Sent], acts: &[(u64, Act)], until: u64) {
        let mut instants: Vec<u64> =
            flows.iter().map(|f| f.start).chain(acts.iter().map(|a| a.0)).collect();
        instants.extend(flows.iter().map(|f| f.start + f.round_trip));
        instants.extend((0..=until / S).map(|n| n * S));
        instants.sort_unstable();
        instants.dedup();
        for now in instants.into_iter().filter(|t| *t <= until) {
            self.model.expire(now);
            acts.iter().filter(|a| a.0 == now).for_each(|a| self.act(now, a.1));
            self.end_flows(now);
            let (due, later) =
                std::mem::take(&mut self.waiting).into_iter().partition(|w| w.at == now);
            self.waiting = later;
            let due: Vec<Waiting> = due;
            due.into_iter().for_each(|w| self.answer(now, w));
            self.keep_running(now);
            for (n, flow) in flows.iter().enumerate().filter(|f| f.1.start == now) {
                self.begin(n, now, *flow);
                self.model.expire(now);
                let count = self.model.mapping_count();
                if count > self.peak.0 {
                    self.peak = (count, now);
                }
            }
        }
    }

    fn act(&mut self, now: u64, act: Act) {
        self.end = self.end.max(now);
        match act {
            Act::Enable(rule, on) => self.model.enable(now, rule, on),
            Act::Clear(what) => self.model.clear(now, what),
            Act::Restart => self.model.restart(now),
            Act::Lease(address) => self.model.lease(now, address),
        }
        let model = &self.model;
        self.running.retain(|r| r.sessions.iter().all(|s| model.has_session(s.0)));
    }

    /// The last packets of flows: FIN both ways, or a RST, or nothing special.
    fn end_flows(&mut self, now: u64) {
        let (over, going): (Vec<Running>, Vec<Running>) =
            std::mem::take(&mut self.running).into_iter().partition(|r| r.end == now);
        self.running = going;
        over.iter().for_each(|r| self.last_packets(now, r));
    }

    fn last_packets(&mut self, now: u64, r: &Running) {
        for (session, forth) in &r.sessions {
            let signals: &[(bool, Signal)] = match r.ending {
                Ending::Close => &[(true, Signal::Fin), (false, Signal::Fin)],
                Ending::Reset => &[(true, Signal::Rst)],
                Ending::Silent => &[(true, Signal::Plain), (false, Signal::Plain)],
            };
            signals
                .iter()
                .for_each(|(way, signal)| self.model.pass(now, *session, *way == *forth, *signal));
        }
    }

    fn keep_running(&mut self, now: u64) {
        for r in &self.running {
            for (session, forth) in &r.sessions {
                self.model.pass(now, *session, *forth, Signal::Plain);
                self.model.pass(now, *session, !*forth, Signal::Plain);
            }
        }
    }

    fn begin(&mut self, n: usize, now: u64, flow: Sent) {
        self.end = self.end.max(now);
        let lost = |estate: &mut Self, reason, device, rule| {
            estate.lost.push((n, (now, reason, device, rule)))
        };
        let (origin, source) = match flow.source {
            Who::At(address) => match self.origin(address) {
                Some(origin) => (origin, address),
                None => return lost(self, "unknown-source", false, None),
            },
            Who::Device(Some(i)) => (Origin::Device(false), self.model.own_address(i)),
            Who::Device(None) => {
                let by = self.model.link_of(flow.destination).unwrap_or(UPLINK);
                (Origin::Device(true), self.model.own_address(by))
            }
        };
        let port = flow.source_port.unwrap_or_else(|| {
            if !flow.protocol.is_multiplexed() {
                return 0;
            }
            let next = self.ports.entry(source).or_insert(49_152);
            let port = *next;
            *next += 1;
            port
        });
        let to = Endpoint::new(flow.destination, flow.destination_port.unwrap_or(0));
        let asked = Packet::first(flow.protocol, Endpoint::new(source, port), to);
        if self.stays_on_link(origin, flow.destination) {
            return lost(self, "link-only", false, None);
        }
        let mut forth = Vec::new();
        match self.send(now, origin, asked, source, &mut forth) {
            Fate::Lost(reason, device, rule) => lost(self, reason, device, rule),
            Fate::Arrived(receiver, arrived) => {
                let at = now + flow.round_trip;
                let number = n;
                self.waiting.push(Waiting {
                    number,
                    at,
                    flow,
                    origin,
                    asked,
                    receiver,
                    arrived,
                    forth,
                });
            }
        }
    }

    fn answer(&mut self, now: u64, w: Waiting) {
        self.end = self.end.max(now);
        let (home, answer) = (w.asked.source().address, w.arrived.answer());
        let mut back = Vec::new();
        let fate = match w.receiver {
            Receiver::Host => self.send(now, Origin::Host, answer, home, &mut back),
            Receiver::Peer => self.send(now, Origin::Peer, answer, home, &mut back),
            Receiver::Device if matches!(w.origin, Origin::Device(_)) => {
                Fate::Arrived(Receiver::Device, answer)
            }
            Receiver::Device => self.send(now, Origin::Device(false), answer, home, &mut back),
            Receiver::Answering(out) => {
                self.leave(now, Packet { ends: out.ends, ..answer }, out.egress, home)
            }
        };
        let fate = match fate {
            Fate::Arrived(at, p) => {
                let reached = match (w.origin, at) {
                    (Origin::Host, Receiver::Host) | (Origin::Peer, Receiver::Peer) => {
                        p.destination().address == home
                    }
                    (Origin::Device(_), Receiver::Device) => true,
                    _ => false,
                };
                let expected = p.source() == w.asked.destination()
                    && p.destination().port == w.asked.source().port;
                let by_device = !back.is_empty() || matches!(w.receiver, Receiver::Answering(_));
                if reached && expected {
                    fate
                } else {
                    Fate::Lost("unexpected-source", by_device, None)
                }
            }
            lost => lost,
        };
        if let Fate::Lost(reason, device, rule) = fate {
            self.lost.push((w.number, (w.flow.start, reason, device, rule)));
            return;
        }
        self.run(now, &w);
        let changed = w.forth.iter().chain(&back).any(|p| p.changed);
        if changed {
            self.translated += 1;
            return;
        }
        let by_rule = w.forth.iter().find_map(|p| p.unchanged.filter(|u| u.1.is_some()));
        let (reason, device, rule) = match (w.origin, w.receiver) {
            (Origin::Device(_), _) => ("from-device", true, None),
            (_, Receiver::Answering(_) | Receiver::Device) => ("to-device", true, None),
            _ => {
                match by_rule.or(w.forth.first().map(|p| p.unchanged.unwrap_or(("no-rule", None))))
                {
                    Some((reason, rule)) => (reason, true, rule),
                    None => ("on-link", false, None),
                }
            }
        };
        self.lost.push((w.number, (w.flow.start, reason, device, rule)));
    }

    /// The rest of a flow whose answer has arrived.
    fn run(&mut self, now: u64, w: &Waiting) {
        let tcp = w.flow.protocol == Protocol::TCP;
        let ending = if tcp { w.flow.ending.unwrap_or(Ending::Close) } else { Ending::Silent };
        let end = w.flow.start + w.flow.lasts.max(w.flow.round_trip);
        self.end = self.end.max(end);
        let sessions: Vec<(u64, bool)> = w.forth.iter().filter_map(|p| p.session).collect();
        if tcp {
            // the acknowledgement of who asked
            sessions.iter().for_each(|(s, forth)| self.model.pass(now, *s, *forth, Signal::Plain));
        }
        let running = Running { end, ending, sessions };
        if end <= now {
            self.last_packets(now, &running);
        } else {
            self.running.push(running);
        }
    }

    pub fn session_rows(&mut self, now: u64) -> Vec<SessionRow> {
        self.model.expire(now);
        self.model.session_rows()
    }
}
