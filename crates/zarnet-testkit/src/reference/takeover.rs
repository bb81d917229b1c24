//! Another plan takes over: sessions stay, and hold what they have. Another address is leased: what
//! was on the old one ends.

use std::net::{IpAddr, Ipv4Addr};

use zarnet_core::net::{Endpoint, Protocol};

use super::session::Session;
use super::{Kind, Model, Rule, ip};

impl Model {
    /// Other rules from now on. Those that are no more stand behind them, for what they made.
    pub fn take_over(&mut self, now: u64, mut rules: Vec<Rule>) {
        self.expire(now);
        let fixed = |rule: Option<usize>, old: &[Rule]| {
            rule.is_some_and(|r| matches!(old[r].kind, Kind::Static { .. } | Kind::Forward { .. }))
        };
        let planned = rules.len();
        let mut moved = Vec::new();
        for old in &self.rules {
            let place = rules[..planned].iter().position(|new| new.is(old)).unwrap_or(rules.len());
            if place == rules.len() {
                rules.push(Rule { enabled: false, retired: true, ..old.clone() });
            }
            moved.push(place);
        }
        for s in &mut self.sessions {
            let [source, destination] = s.rules.map(|r| fixed(r, &self.rules));
            let ends = [
                (source, s.original.source, s.forwarded.source),
                (destination, s.forwarded.destination, s.original.destination),
            ];
            s.holds =
                ends.iter().filter(|(by_rule, a, b)| *by_rule && a != b).map(|e| e.2).collect();
            s.rules = s.rules.map(|r| r.map(|r| moved[r]));
        }
        self.mappings.iter_mut().for_each(|m| m.rule = moved[m.rule]);
        let counts = std::mem::replace(&mut self.counts, vec![Default::default(); rules.len()]);
        moved.iter().zip(counts).for_each(|(place, count)| self.counts[*place] = count);
        let turns = std::mem::replace(&mut self.turns, vec![0; rules.len()]);
        for (place, turn) in moved.into_iter().zip(turns) {
            if let Kind::Forward { servers, .. } = &rules[place].kind {
                self.turns[place] = turn % servers.len();
            }
        }
        self.rules = rules;
        let over: Vec<usize> = (0..self.rules.len()).filter(|r| !self.rules[*r].enabled).collect();
        over.into_iter().for_each(|rule| self.enable(now, rule, false));
    }

    /// The address of the uplink.
    pub fn uplink(&self) -> IpAddr {
        ip(self.own[1])
    }

    /// The uplink has another address from now on.
    pub fn lease(&mut self, now: u64, address: Ipv4Addr) {
        self.expire(now);
        let old = ip(std::mem::replace(&mut self.own[1], address));
        if old == ip(address) {
            return;
        }
        let in_use: Vec<u32> =
            self.mappings.iter().filter(|m| !self.users(m).is_empty()).map(|m| m.id).collect();
        let lost = |s: &Session| {
            let ends = [
                s.original.source,
                s.original.destination,
                s.forwarded.source,
                s.forwarded.destination,
            ];
            ends.iter().any(|end| end.address == old)
        };
        let (over, going): (Vec<Session>, Vec<Session>) =
            self.sessions.iter().cloned().partition(lost);
        self.sessions = going;
        over.iter().for_each(|s| self.count_end(s, false));
        let (mut gone, mut stay) = (Vec::new(), Vec::new());
        for mut m in std::mem::take(&mut self.mappings) {
            let left = in_use.contains(&m.id) && self.users(&m).is_empty();
            if left {
                m.until = now + self.binding(&m);
            }
            if left && m.until == now { gone.push(m) } else { stay.push(m) }
        }
        self.mappings = stay;
        gone.iter().for_each(|m| self.rest(m, now));
    }

    /// Whether a session from before the present plan holds an external end; without a protocol and
    /// port, any on the address.
    pub(super) fn is_held(&self, address: IpAddr, end: Option<(Protocol, u16)>) -> bool {
        let same = |s: &Session, h: &Endpoint| {
            h.address == address && end.is_none_or(|e| e == (s.protocol, h.port))
        };
        self.sessions.iter().any(|s| s.holds.iter().any(|h| same(s, h)))
    }
}
