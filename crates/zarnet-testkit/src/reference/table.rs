//! The table: what comes into it, what it holds, and what goes with time.

use std::net::{IpAddr, Ipv4Addr};

use super::session::Session;
use zarnet_core::net::{Endpoint, Packet, Protocol};

use super::{Dependence, Kind, Mapping, Model, Resting, Row, S, Shape, To, generate, ip};

impl Model {
    /// A new mapping comes into being: its external end, its number and its rule.
    pub(super) fn enlist(
        &mut self,
        m: Mapping,
        p: Packet,
    ) -> (Endpoint, Option<u32>, Option<usize>) {
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

    pub(super) fn known(&self, id: u32) -> &Mapping {
        self.mappings.iter().find(|m| m.id == id).expect("the mapping is there")
    }

    /// Sessions under a mapping.
    pub(super) fn users(&self, m: &Mapping) -> Vec<&Session> {
        self.sessions.iter().filter(|s| s.mappings.contains(&Some(m.id))).collect()
    }

    /// How long a mapping outlasts its last session.
    pub(super) fn binding(&self, m: &Mapping) -> u64 {
        if m.shape == Shape::Address && self.rules[m.rule].enabled { self.b.binding * S } else { 0 }
    }

    /// Whether an address is an external one of a rule or of a living mapping.
    pub(super) fn claims(&self, address: IpAddr) -> bool {
        self.is_end_of(address, false) || self.is_living_end(address)
    }

    /// Whether an address is an external one of a rule; perhaps only of one that takes part.
    pub fn is_end_of(&self, address: IpAddr, enabled: bool) -> bool {
        self.rules.iter().filter(|r| !r.retired && (r.enabled || !enabled)).any(|r| match &r.kind {
            Kind::Static { external, .. } => ip(*external) == address,
            Kind::Pool | Kind::Overload(To::Lines) => {
                self.lines().iter().any(|a| ip(*a) == address)
            }
            _ => false,
        })
    }

    /// Whether a living mapping or session has an external address.
    pub fn is_living_end(&self, address: IpAddr) -> bool {
        self.is_held(address, None) || self.mappings.iter().any(|m| m.external.address == address)
    }

    /// What the pool can hand out.
    pub(super) fn lines(&self) -> [Ipv4Addr; 2] {
        generate::lines(self.b.prefixed)
    }

    pub(super) fn count_end(&mut self, s: &Session, expired: bool) {
        let other = s.rules[1].filter(|r| Some(*r) != s.rules[0]);
        for rule in s.rules[0].into_iter().chain(other) {
            *(if expired {
                &mut self.counts[rule].expired
            } else {
                &mut self.counts[rule].cleared
            }) += 1;
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
        let mut over: Vec<(u64, u32)> =
            self.mappings.iter().filter(unused).map(|m| (m.until, m.id)).collect();
        over.sort_unstable();
        for (until, id) in over {
            let n = self.mappings.iter().position(|m| m.id == id).expect("the mapping is there");
            let m = self.mappings.remove(n);
            self.rest(&m, until);
        }
        self.resting.retain(|r| r.until > now);
    }

    /// The port of a mapping that has ended rests, from its last user on.
    pub(super) fn rest(&mut self, m: &Mapping, at: u64) {
        if m.shape != Shape::Endpoint || m.protocol == Protocol::TCP || self.b.hold_down == 0 {
            return;
        }
        let (protocol, external, host, until) =
            (m.protocol, m.external, m.internal.address, at + self.b.hold_down * S);
        let shares =
            |o: &&Mapping| (o.shape, o.protocol, o.external) == (m.shape, protocol, external);
        let sharing: Vec<&Mapping> = self.mappings.iter().filter(shares).collect();
        // who ends at the same instant may be the last one as well
        let ends =
            |o: &&Mapping| o.internal.address != host && o.until == at && self.users(o).is_empty();
        let rests = |r: &Resting| {
            (r.protocol, r.external, r.until) == (protocol, external, until) && r.host != host
        };
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
