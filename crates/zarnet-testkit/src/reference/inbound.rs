//! Step 4: what the destination is, and who is let in.

use std::net::IpAddr;

use zarnet_core::net::{Endpoint, Packet, Protocol, Signal};

use super::{
    Dependence, Entry, FLOOR, Kind, Mapping, Model, Refused, Rule, Session, Shape, Source, ip,
};

impl Model {
    /// What the destination is, and whether something holds it but blocks. Nothing lets in a packet
    /// that came in nowhere.
    pub(super) fn enter(
        &self,
        ingress: Option<usize>,
        p: Packet,
    ) -> Result<(Option<Entry>, bool), Refused> {
        let to = p.destination();
        if self.b.lacks_icmp && p.protocol == Protocol::ICMP {
            return Ok((None, false));
        }
        // a query has its identifier on the side of who asks
        let port = if p.signal == Signal::Query { p.source().port } else { to.port };
        let mut blocked = false;
        let arrives =
            |rule: &Rule| ingress.is_some_and(|i| rule.is_into(i) || rule.hairpin && i == FLOOR);
        for statics in [false, true] {
            for (i, rule) in self.rules.iter().enumerate().filter(|r| r.1.enabled) {
                let (end, open) = match &rule.kind {
                    Kind::Forward { on, protocol, port, servers, in_turn, .. }
                        if !statics && (*protocol, *port) == (p.protocol, to.port) =>
                    {
                        let IpAddr::V4(sender) = p.source().address else { continue };
                        let chosen =
                            if *in_turn { self.turns[i] } else { sender.to_bits() as usize };
                        let server = servers[chosen % servers.len()];
                        (Endpoint::new(server.0, server.1), ip(self.own[*on]) == to.address)
                    }
                    Kind::Static { internal, external, .. }
                        if statics && rule.serves(p.protocol, to.port) =>
                    {
                        (Endpoint::new(*internal, to.port), ip(*external) == to.address)
                    }
                    _ => continue,
                };
                if !open {
                    continue;
                }
                let inbound = !matches!(rule.kind, Kind::Static { direction: "outbound", .. });
                if arrives(rule)
                    && inbound
                    && rule.source.is_none_or(|s| ip(s) == p.source().address)
                {
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
            let answers_only = m.shape == Shape::Endpoint && p.protocol == Protocol::ICMP;
            let lets = rule.enabled && arrives(rule) && !answers_only && p.signal != Signal::Reply;
            if let (true, Some(ingress)) = (lets, ingress)
                && self.admits(m, ingress, p)
            {
                let port = if m.shape == Shape::Endpoint { m.internal.port } else { to.port };
                let end = Endpoint { port, ..m.internal };
                return Ok((Some(Entry { end, rule: m.rule, mapping: Some(m.id) }), blocked));
            }
            blocked = true;
        }
        Ok((None, blocked))
    }

    /// Whether a fixed rule may have one more session.
    pub(super) fn has_room(&self, rule: usize) -> Result<(), Refused> {
        let has = self.sessions.iter().filter(|s| s.rules.contains(&Some(rule))).count();
        let full = self.rules[rule].limit.is_some_and(|most| has >= most);
        if full { Err(("rule-limit", Some(rule))) } else { Ok(()) }
    }

    /// Whether a session came in from inside to an external end of a rule that allows that.
    fn is_hairpin(&self, s: &Session) -> bool {
        s.ingress == Some(FLOOR) && s.rules[1].is_some_and(|r| self.rules[r].hairpin)
    }

    /// Whether a dynamic mapping lets a sender in. In a hairpin that is the end that it has or
    /// would get.
    fn admits(&self, m: &Mapping, ingress: usize, p: Packet) -> bool {
        let hairpins = ingress == FLOOR && self.rules[m.rule].hairpin;
        let sender = match hairpins && !self.b.keep {
            false => p.source(),
            true => {
                let port =
                    if m.shape == Shape::Endpoint { m.internal.port } else { p.destination().port };
                let entry = Entry {
                    end: Endpoint { port, ..m.internal },
                    rule: m.rule,
                    mapping: Some(m.id),
                };
                let egress = self.way(p.source().address, Some(ingress), m.internal.address);
                match self.source(0, p, (ingress, egress), Some(entry)) {
                    Ok(Source::Kept(_)) => p.source(),
                    Ok(Source::Fixed(_, end)) => end,
                    Ok(Source::Known(id)) => self.known(id).end(p),
                    Ok(Source::New(m)) => m.end(p),
                    Err(_) => return false,
                }
            }
        };
        if m.shape == Shape::Portless {
            return sender.address == m.peer.address;
        }
        // an end that several peers share is for its own ones
        let shared = self.b.overloading && m.shape == Shape::Endpoint;
        let asked = match (self.b.filtering, self.b.mapping) {
            (Dependence::Port, _) => Dependence::Port,
            (_, Dependence::Port) if shared => Dependence::Port,
            (Dependence::None, _) if shared => Dependence::Address,
            (filtering, _) => filtering,
        };
        let addressed = |s: &&Session| {
            let hairpin = self.is_hairpin(s);
            let there = if hairpin { s.original.destination } else { s.forwarded.destination };
            let there = (s.mappings[0] == Some(m.id)).then_some(there);
            // of a hairpin the external end of who asked, of others who asked as it is
            let here = if hairpin { s.forwarded.source } else { s.original.source };
            let here = (s.mappings[1] == Some(m.id) && s.answered).then_some(here);
            there.into_iter().chain(here).any(|peer| match asked {
                Dependence::None => true,
                Dependence::Address => peer.address == sender.address,
                Dependence::Port => peer == sender,
            })
        };
        asked == Dependence::None || self.sessions.iter().find(addressed).is_some()
    }
}
