//! What all first packets that come in by an interface show of a device's rules and entries: gone
//! through piece by piece, nothing is sampled.

use std::collections::{BTreeMap, BTreeSet};

use crate::senders::could_send;
use crate::space::{Conditions, Diagram, Steps, decide, packet};
use zarnet_core::Reason;
use zarnet_core::device::{Device, Judged};
use zarnet_core::net::{AddressSet, Packet};
use zarnet_core::observe::{By, Observer, Step};
use zarnet_core::plan::{DeviceId, InterfaceId, RuleId, RuleKind};

/// What was seen of a rule.
#[derive(Default)]
pub(super) struct Seen {
    /// Whether there is a packet that it is applied to.
    pub applied: bool,
    /// Rules that take packets from it, each with one of them that somebody could send: of
    /// destinations, and of sources.
    pub beaten: [BTreeMap<RuleId, Option<Packet>>; 2],
    /// Rules that match wherever it is applied, likewise.
    pub company: [Option<BTreeSet<RuleId>>; 2],
    /// The rule that would do the same wherever it is applied; `None` as soon as there is no such
    /// rule.
    pub double: Option<Option<RuleId>>,
    /// Of a fixed rule: a packet that it leads in and that the policy drops.
    pub refused: Option<Packet>,
    /// Of a fixed rule: whether it leads something in that the policy passes.
    pub passed: bool,
}

/// Of two packets, one that says more to a person: of a protocol with ports, from one that clients
/// have.
fn telling(known: Option<Packet>, other: Packet) -> Packet {
    let rank = |p: &Packet| (p.protocol.has_ports(), p.source().port > 1023);
    known.filter(|k| rank(k) >= rank(&other)).unwrap_or(other)
}

/// Ways of a rule: it translates destinations, or sources.
pub(super) const INBOUND: usize = 0;
const OUTBOUND: usize = 1;

/// Who decided about a packet.
#[derive(Default)]
struct Deciders(Vec<By>);

impl Observer for Deciders {
    fn enters(&mut self, _: DeviceId, _: Option<InterfaceId>, _: Packet) {}

    fn leaves(&mut self, _: zarnet_core::observe::Exit) {}

    fn handed(&mut self, _: std::net::IpAddr, _: Option<zarnet_core::observe::NextHopOwner>) {}

    fn step(&mut self, step: impl FnOnce() -> Step) {
        self.0.push(step().by);
    }
}

impl Seen {
    /// Adds what packets that came later have shown.
    fn add(&mut self, later: Self) {
        self.applied |= later.applied;
        for (known, more) in self.beaten.iter_mut().zip(later.beaten) {
            for (by, sent) in more {
                let example = known.entry(by).or_default();
                *example = sent.map(|sent| telling(*example, sent)).or(*example);
            }
        }
        for (known, more) in self.company.iter_mut().zip(later.company) {
            match (known.as_mut(), more) {
                (Some(known), Some(more)) => known.retain(|r| more.contains(r)),
                (None, more) => *known = more,
                (Some(_), None) => {}
            }
        }
        self.double = match (self.double, later.double) {
            (Some(known), Some(other)) => Some(known.filter(|k| Some(*k) == other)),
            (known, other) => known.or(other),
        };
        self.refused = later.refused.map(|sent| telling(self.refused, sent)).or(self.refused);
        self.passed |= later.passed;
    }
}

/// What was seen on a device.
pub(super) struct Looked {
    /// Of each rule.
    pub rules: Vec<Seen>,
    /// Which policy entries decide about something.
    pub policies: Vec<bool>,
    /// Which entries of each filter do.
    pub entries: Vec<Vec<bool>>,
}

impl Looked {
    /// Adds what packets that came in later, by another interface, have shown.
    pub(super) fn add(&mut self, later: Self) {
        self.rules.iter_mut().zip(later.rules).for_each(|(known, more)| known.add(more));
        let either = |known: &mut [bool], more: &[bool]| {
            known.iter_mut().zip(more).for_each(|(known, more)| *known |= more);
        };
        either(&mut self.policies, &later.policies);
        self.entries.iter_mut().zip(&later.entries).for_each(|(a, b)| either(a, b));
    }
}

/// Goes through every piece of what comes in by an interface. Gives what it shows, and as a diagram
/// the number that `told` gives for what becomes of each packet; `None` if it takes more steps than
/// there are.
pub(super) fn look(
    device: &Device,
    ingress: InterfaceId,
    senders: &AddressSet,
    steps: &mut Steps,
    told: impl Fn(&Judged) -> u32,
) -> Option<(Looked, Diagram)> {
    let plan = device.plan();
    let has_entries = !plan.policies.is_empty() || !plan.acls.is_empty();
    let looked = Looked {
        rules: plan.rules.iter().map(|_| Seen::default()).collect(),
        policies: vec![false; plan.policies.len()],
        entries: plan.acls.iter().map(|a| vec![false; a.entries.len()]).collect(),
    };
    let mut look = Look { device, ingress, has_entries, looked };
    let mut conditions = Conditions::default();
    conditions.add(device, ingress);
    conditions.add_senders(senders);
    let diagram = decide(&conditions, steps, |point| {
        let Some(sent) = packet(point) else { return 0 };
        told(&look.at(sent, could_send(senders, sent)))
    })?;
    Some((look.looked, diagram))
}

struct Look<'a> {
    device: &'a Device,
    ingress: InterfaceId,
    /// Whether policies or filters have entries that decide about packets.
    has_entries: bool,
    looked: Looked,
}

impl Look<'_> {
    /// What becomes of a packet. `may_be`: whether somebody behind the interface could send it;
    /// what nobody sends shows that a rule or an entry decides, and is no example of harm.
    fn at(&mut self, sent: Packet, may_be: bool) -> Judged {
        let ingress = self.ingress;
        let judged = match self.has_entries {
            true => self.watched(sent),
            false => self.device.judge(ingress, sent),
        };
        if matches!(judged, Judged::Dropped(r) if r.reason == Reason::IngressAcl) {
            return judged;
        }
        let inbound = self.device.inbound_matches(ingress, sent);
        self.note(INBOUND, &inbound, sent, may_be);
        if let Some(first) = inbound.first() {
            let seen = &mut self.looked.rules[first.index()];
            match judged {
                Judged::Dropped(r) if r.reason == Reason::Policy && may_be => {
                    seen.refused = Some(telling(seen.refused, sent));
                }
                Judged::Forwarded(_) => seen.passed = true,
                Judged::Dropped(_) | Judged::ToDevice => {}
            }
        }
        if let Judged::Forwarded(verdicts) = &judged {
            let outbound = self.device.outbound_matches(ingress, verdicts.egress, sent);
            // in a hairpin, and where one rule does both ends, it is another that is applied
            let by = verdicts.source;
            let in_hairpin = verdicts.entry.is_some_and(|r| {
                self.device.plan().rules[r.index()].hairpin.interfaces.contains(ingress)
            });
            if !in_hairpin && (by.is_none() || outbound.first() == by.as_ref()) {
                self.note(OUTBOUND, &outbound, sent, may_be);
                self.note_double(&outbound);
            } else if let Some(rule) = by {
                self.looked.rules[rule.index()].applied = true;
                self.looked.rules[rule.index()].double = Some(None);
            }
        }
        judged
    }

    /// The same, noting which entries decide.
    fn watched(&mut self, sent: Packet) -> Judged {
        let mut deciders = Deciders::default();
        let judged = self.device.judge_watched(self.ingress, sent, &mut deciders);
        for by in deciders.0 {
            match by {
                By::Policy(Some(entry)) => self.looked.policies[entry] = true,
                By::Acl(acl, Some(entry)) => self.looked.entries[acl.index()][entry] = true,
                By::Nothing
                | By::Acl(..)
                | By::Policy(_)
                | By::Rule(_)
                | By::Rules(_)
                | By::Interface(_)
                | By::Route(_) => {}
            }
        }
        judged
    }

    /// Of the rules that match a packet, the first is applied.
    fn note(&mut self, way: usize, matches: &[RuleId], sent: Packet, may_be: bool) {
        let Some((first, others)) = matches.split_first() else { return };
        let seen = &mut self.looked.rules[first.index()];
        seen.applied = true;
        match &mut seen.company[way] {
            Some(company) => company.retain(|r| others.contains(r)),
            None => seen.company[way] = Some(others.iter().copied().collect()),
        }
        for other in others.iter().take(64) {
            let beaten = &mut self.looked.rules[other.index()].beaten[way];
            let known = beaten.entry(*first).or_default();
            *known = if may_be { Some(telling(*known, sent)) } else { *known };
        }
    }

    fn note_double(&mut self, matches: &[RuleId]) {
        let Some(first) = matches.first() else { return };
        let next = matches.get(1).copied().filter(|next| do_the_same(self.device, *first, *next));
        let double = &mut self.looked.rules[first.index()].double;
        *double = match double {
            None => Some(next),
            Some(known) if *known == next => Some(next),
            Some(_) => Some(None),
        };
    }
}

/// Whether two rules translate alike.
pub(super) fn do_the_same(device: &Device, a: RuleId, b: RuleId) -> bool {
    let rules = &device.plan().rules;
    match (&rules[a.index()].kind, &rules[b.index()].kind) {
        (RuleKind::Exempt, RuleKind::Exempt) => true,
        (RuleKind::Pool { pool: a, fallback: x }, RuleKind::Pool { pool: b, fallback: y }) => {
            a == b && x == y
        }
        (
            RuleKind::Overload { target: a, fallback: x },
            RuleKind::Overload { target: b, fallback: y },
        ) => a == b && x == y,
        _ => false,
    }
}
