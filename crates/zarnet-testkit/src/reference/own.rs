//! What the device sends itself, and what is done to it.

use std::net::IpAddr;

use zarnet_core::net::{Packet, Protocol, Signal};

use super::session::Session;
use super::{Became, FLOOR, Model, Out, Refused, Source, UPLINK, ip, no};

/// Which sessions are cleared; what is `None` does not matter.
#[derive(Debug, Clone, Copy, Default)]
pub struct Clearing {
    pub host: Option<IpAddr>,
    pub rule: Option<usize>,
    /// Those on addresses of the pool.
    pub pool: bool,
    pub protocol: Option<Protocol>,
}

impl Model {
    /// The device sends a packet of its own. `alone`: its source followed from the route, which
    /// then stands.
    pub fn originate(&mut self, now: u64, alone: bool, p: Packet) -> Result<Became, Refused> {
        self.expire(now);
        let became = match self.find(p) {
            Some((n, forth)) => self.known_session(now, None, p, n, forth),
            None => self.begin(now, alone, p),
        };
        self.count_refusal(p, became)
    }

    fn begin(&mut self, now: u64, alone: bool, p: Packet) -> Result<Became, Refused> {
        let (from, to) = (p.source().address, p.destination().address);
        let (_, blocked) = self.enter(None, p)?;
        if self.own.map(ip).contains(&to) {
            return match p.signal {
                Signal::Query => Ok(Became::Taken(p.ends, None)),
                _ => Err(no(if blocked { "filtered" } else { "no-listener" })),
            };
        }
        if self.claims(to) {
            return Err(no(if blocked { "filtered" } else { "no-mapping" }));
        }
        let egress = match alone {
            true => self.link_of(to).unwrap_or(UPLINK),
            false => self.way(from, None, to),
        };
        let as_if =
            self.own.iter().position(|own| ip(*own) == from).filter(|_| self.b.translates_own);
        let source = match as_if {
            Some(ingress) if p.may_begin() => self.source(now, p, (ingress, egress), None)?,
            _ => Source::Kept(no("from-device")),
        };
        if !p.may_begin() {
            let unchanged = Some(no("from-device"));
            return Ok(Became::Leaves(Out { ends: p.ends, egress, session: None, unchanged }));
        }
        // what a rule leaves as it is, is from the device too
        let source =
            if let Source::Kept(_) = source { Source::Kept(no("from-device")) } else { source };
        let became = self.commit(now, None, egress, p, None, source)?;
        Ok(match became {
            Became::Leaves(out) if out.ends == p.ends => {
                Became::Leaves(Out { unchanged: Some(no("from-device")), ..out })
            }
            became => became,
        })
    }

    /// A rule takes part from now on, or no longer. A mapping of one that does not ends with its
    /// last session.
    pub fn enable(&mut self, now: u64, rule: usize, enabled: bool) {
        self.expire(now);
        self.rules[rule].enabled = enabled;
        let unused = |m: &super::Mapping| m.rule == rule && self.users(m).is_empty();
        let over: Vec<u32> =
            self.mappings.iter().filter(|m| !enabled && unused(m)).map(|m| m.id).collect();
        self.mappings.retain(|m| !over.contains(&m.id));
    }

    /// All sessions that fit end, and dynamic mappings that are left without one, or had none.
    pub fn clear(&mut self, now: u64, what: Clearing) {
        self.expire(now);
        let on_pool = |m: &super::Mapping| m.of_pool;
        let meant = |s: &Session| {
            let listed = s.mappings[0].or(s.mappings[1]).map(|id| self.known(id));
            what.host.is_none_or(|h| {
                s.original.source.address == h || s.forwarded.destination.address == h
            }) && what.rule.is_none_or(|r| s.rules.contains(&Some(r)))
                && (!what.pool || listed.is_some_and(on_pool))
                && what.protocol.is_none_or(|p| s.protocol == p)
        };
        let lingers = |m: &super::Mapping| {
            self.users(m).is_empty()
                && what.host.is_none_or(|h| m.internal.address == h)
                && what.rule.is_none_or(|r| m.rule == r)
                && (!what.pool || on_pool(m))
                && what.protocol.is_none()
        };
        let (over, going): (Vec<Session>, Vec<Session>) =
            self.sessions.iter().cloned().partition(meant);
        let had: Vec<u32> =
            self.mappings.iter().filter(|m| !self.users(m).is_empty()).map(|m| m.id).collect();
        let lingering: Vec<u32> =
            self.mappings.iter().filter(|m| lingers(m)).map(|m| m.id).collect();
        over.iter().for_each(|s| self.count_end(s, false));
        self.sessions = going;
        let ends = |m: &super::Mapping| {
            had.contains(&m.id) && self.users(m).is_empty() || lingering.contains(&m.id)
        };
        let (gone, stay): (Vec<_>, Vec<_>) = self.mappings.iter().cloned().partition(ends);
        self.mappings = stay;
        gone.iter().for_each(|m| self.rest(m, now));
    }

    /// Everything dynamic ends, and what sequences and turns remember.
    pub fn restart(&mut self, now: u64) {
        self.clear(now, Clearing::default());
        self.resting.clear();
        self.last_port.clear();
        self.last_picked = None;
        self.turns.fill(0);
    }

    /// Whether somebody on an interface's link is answered by the device for an address: its own,
    /// or one that rules need.
    pub fn answers_for(&self, interface: usize, address: IpAddr) -> bool {
        let own = ip(self.own[interface]) == address;
        own || self.link_of(address) == Some(interface)
            && (self.is_end_of(address, true)
                || self.is_living_end(address)
                || self.has_session_end(address))
    }

    /// Whether a living session of a fixed rule has an external address.
    fn has_session_end(&self, address: IpAddr) -> bool {
        let ends = |s: &Session| {
            s.original != s.forwarded
                && (s.original.destination.address == address
                    || s.forwarded.source.address == address)
        };
        self.is_end_of(address, false) && self.sessions.iter().any(ends)
    }

    /// The device's address on the floor.
    pub fn gateway(&self) -> IpAddr {
        ip(self.own[FLOOR])
    }
}
