//! What a device does with every first packet, gone through piece by piece: which rules, policy
//! entries and filter entries ever decide, and which are hidden by those above them. Nothing is
//! sampled: a rule that is told to be shadowed is.

use std::collections::{BTreeMap, BTreeSet};

use super::{Finding, finding};
use crate::senders::{could_send, senders};
use crate::space::{Conditions, Cuts, Steps, decide, packet};
use zarnet_core::Reason;
use zarnet_core::device::{Device, Judged};
use zarnet_core::net::{AddressSet, Packet};
use zarnet_core::observe::{By, Observer, Step};
use zarnet_core::plan::edit::Edit;
use zarnet_core::plan::{self, DeviceId, InterfaceId, RuleId, RuleKind};

/// What was seen of a rule.
#[derive(Default)]
struct Seen {
    /// A packet that it is applied to.
    applied: bool,
    /// Rules that take packets from it, each with one of them that somebody could send: of
    /// destinations, and of sources.
    beaten: [BTreeMap<RuleId, Option<Packet>>; 2],
    /// Rules that match wherever it is applied, likewise.
    company: [Option<BTreeSet<RuleId>>; 2],
    /// The rule that would do the same wherever it is applied; `None` as soon as there is no such
    /// rule.
    double: Option<Option<RuleId>>,
    /// Of a fixed rule: a packet that it leads in and that the policy drops.
    refused: Option<Packet>,
    /// Of a fixed rule: whether it leads something in that the policy passes.
    passed: bool,
}

/// Of two packets, one that says more to a person: of a protocol with ports, from one that clients
/// have.
fn telling(known: Option<Packet>, other: Packet) -> Packet {
    let rank = |p: &Packet| (p.protocol.has_ports(), p.source().port > 1023);
    known.filter(|k| rank(k) >= rank(&other)).unwrap_or(other)
}

/// Ways of a rule: it translates destinations, or sources.
const INBOUND: usize = 0;
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

/// All that is found so on a device; nothing where there is too much to go through.
pub(super) fn find(
    whole: &plan::Plan,
    device: &Device,
    id: DeviceId,
    steps: &mut Steps,
    findings: &mut Vec<Finding>,
) -> Option<()> {
    let plan = device.plan();
    let mut proof = Proof {
        device,
        id,
        rules: plan.rules.iter().map(|_| Seen::default()).collect(),
        policies: vec![false; plan.policies.len()],
        entries: plan.acls.iter().map(|a| vec![false; a.entries.len()]).collect(),
    };
    for i in 0..plan.interfaces.len() {
        let ingress = InterfaceId(i as u16);
        let senders = senders(whole, plan, ingress);
        proof.go_through(ingress, &senders, steps)?;
    }
    proof.tell_rules(findings);
    proof.tell_policies(findings);
    proof.tell_filters(findings);
    Some(())
}

/// That nothing can be said of a device, for there would be too much to go through.
pub(super) fn unproved(plan: &plan::DevicePlan) -> Finding {
    let message = format!(
        "`{}` has more classes of packets than are searched: nothing is proved about it",
        plan.name
    );
    let help = "docs/limits.md says why there is a limit; fewer addresses on interfaces, or fewer \
         different conditions, \
                bring it below"
        .to_owned();
    finding("not-proved", message, vec![plan.place], help)
}

struct Proof<'a> {
    device: &'a Device,
    id: DeviceId,
    rules: Vec<Seen>,
    policies: Vec<bool>,
    entries: Vec<Vec<bool>>,
}

impl Proof<'_> {
    /// Every piece of what comes in by an interface.
    fn go_through(
        &mut self,
        ingress: InterfaceId,
        senders: &AddressSet,
        steps: &mut Steps,
    ) -> Option<()> {
        let mut conditions = Conditions::default();
        conditions.add(self.device, ingress);
        conditions.add_senders(senders);
        let gone_through = decide(&conditions, steps, |cuts: Cuts<'_>| {
            if let Some(sent) = packet(cuts.point) {
                self.look(ingress, sent, could_send(senders, sent));
            }
            0
        });
        gone_through.map(|_| ())
    }

    /// What becomes of a packet. `may_be`: whether somebody behind the interface could send it;
    /// what nobody sends shows that a rule or an entry decides, and is no example of harm.
    fn look(&mut self, ingress: InterfaceId, sent: Packet, may_be: bool) {
        let mut deciders = Deciders::default();
        let judged = self.device.judge_watched(ingress, sent, &mut deciders);
        for by in deciders.0 {
            match by {
                By::Policy(Some(entry)) => self.policies[entry] = true,
                By::Acl(acl, Some(entry)) => self.entries[acl.index()][entry] = true,
                By::Nothing
                | By::Acl(..)
                | By::Policy(_)
                | By::Rule(_)
                | By::Rules(_)
                | By::Interface(_)
                | By::Route(_) => {}
            }
        }
        if matches!(judged, Judged::Dropped(r) if r.reason == Reason::IngressAcl) {
            return;
        }
        let inbound = self.device.inbound_matches(ingress, sent);
        self.note(INBOUND, &inbound, sent, may_be);
        if let Some(first) = inbound.first() {
            let seen = &mut self.rules[first.index()];
            match judged {
                Judged::Dropped(r) if r.reason == Reason::Policy && may_be => {
                    seen.refused = Some(telling(seen.refused, sent));
                }
                Judged::Forwarded(_) => seen.passed = true,
                Judged::Dropped(_) | Judged::ToDevice => {}
            }
        }
        if let Judged::Forwarded(verdicts) = judged {
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
                self.rules[rule.index()].applied = true;
                self.rules[rule.index()].double = Some(None);
            }
        }
    }

    /// Of the rules that match a packet, the first is applied.
    fn note(&mut self, way: usize, matches: &[RuleId], sent: Packet, may_be: bool) {
        let Some((first, others)) = matches.split_first() else { return };
        let seen = &mut self.rules[first.index()];
        seen.applied = true;
        match &mut seen.company[way] {
            Some(company) => company.retain(|r| others.contains(r)),
            None => seen.company[way] = Some(others.iter().copied().collect()),
        }
        for other in others.iter().take(64) {
            let beaten = &mut self.rules[other.index()].beaten[way];
            let known = beaten.entry(*first).or_default();
            *known = if may_be { Some(telling(*known, sent)) } else { *known };
        }
    }

    fn note_double(&mut self, matches: &[RuleId]) {
        let Some(first) = matches.first() else { return };
        let next = matches.get(1).copied().filter(|next| self.do_the_same(*first, *next));
        let double = &mut self.rules[first.index()].double;
        *double = match double {
            None => Some(next),
            Some(known) if *known == next => Some(next),
            Some(_) => Some(None),
        };
    }

    fn do_the_same(&self, a: RuleId, b: RuleId) -> bool {
        let rules = &self.device.plan().rules;
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

    fn name(&self, rule: RuleId) -> &str {
        &self.device.plan().rules[rule.index()].name
    }

    fn tell_rules(&self, findings: &mut Vec<Finding>) {
        let plan = self.device.plan();
        for (i, seen) in self.rules.iter().enumerate() {
            let (id, rule) = (RuleId(i as u16), &plan.rules[i]);
            let lost = [&rule.from, &rule.into].iter().any(|z| z.interfaces.is_empty());
            if !rule.enabled || lost {
                continue;
            }
            match (seen.applied, seen.beaten.iter().flatten().next()) {
                (false, Some((by, witness))) => {
                    findings.push(self.shadowed(id, *by, *witness, seen))
                }
                (false, None) => {
                    let message = format!(
                        "rule `{}` has no effect: no packet meets all its conditions",
                        rule.name
                    );
                    let help = "look at its `from`, `into`, `source` and `service`, and at \
                                routes, filters and policy before it"
                        .to_owned();
                    findings.push(finding("rule-never-matches", message, vec![rule.place], help));
                }
                (true, _) => self.tell_overlaps(id, seen, findings),
            }
            let fixed = rule.kind.is_fixed();
            if let Some(witness) = seen.refused.filter(|_| fixed) {
                let (name, message, help) = if seen.passed {
                    (
                        "translation-wider-than-policy",
                        format!("rule `{}` leads more in than the policy passes", rule.name),
                        "narrow the rule by `service` or `source` to what is meant, or widen the \
                         policy",
                    )
                } else {
                    (
                        "refused-by-policy",
                        format!(
                            "rule `{}` leads packets in, and the policy drops every one of them",
                            rule.name
                        ),
                        "a rule alone opens nothing: add a policy entry for it",
                    )
                };
                findings.push(
                    finding(name, message, vec![rule.place], help.to_owned()).with_witness(witness),
                );
            }
        }
    }

    fn shadowed(&self, id: RuleId, by: RuleId, witness: Option<Packet>, seen: &Seen) -> Finding {
        let plan = self.device.plan();
        let names: Vec<String> = seen
            .beaten
            .iter()
            .flatten()
            .map(|b| b.0)
            .take(3)
            .map(|r| format!("`{}`", self.name(*r)))
            .collect();
        let more = if seen.beaten.iter().map(BTreeMap::len).sum::<usize>() > 3 {
            " and others"
        } else {
            ""
        };
        let message = format!(
            "rule `{}` is never applied: {}{more} takes all that it is for",
            self.name(id),
            names.join(", ")
        );
        // what a fixed rule takes would be lost to it above
        let is_fixed = plan.rules[by.index()].kind.is_fixed();
        let help = match is_fixed {
            true => format!("take it out, or narrow `{}`", self.name(by)),
            false => format!("list it above `{}`, or take it out", self.name(by)),
        };
        let places = vec![plan.rules[id.index()].place, plan.rules[by.index()].place];
        let move_up = (by < id && !is_fixed).then_some(Edit::MoveRule(self.id, id, by));
        Finding { witness, ..finding("rule-shadowed", message, places, help) }
            .with_edits(move_up.into_iter().collect())
    }

    /// Rules above that take part of what a rule is for, and are no mere exceptions from it.
    fn tell_overlaps(&self, id: RuleId, seen: &Seen, findings: &mut Vec<Finding>) {
        let plan = self.device.plan();
        let rule = &plan.rules[id.index()];
        if let Some(Some(double)) = seen.double {
            let message = format!(
                "rule `{}` changes nothing: `{}` would do the same for all that it is for",
                rule.name,
                self.name(double)
            );
            let places = vec![rule.place, plan.rules[double.index()].place];
            findings.push(finding("rule-redundant", message, places, "take it out".to_owned()));
        }
        let fixed = |r: RuleId| plan.rules[r.index()].kind.is_fixed();
        let all =
            seen.beaten.iter().enumerate().flat_map(|(way, b)| b.iter().map(move |b| (way, b)));
        // what a fixed rule does on the way out is an exception, or told as `static-below-overload`
        let all = all.filter(|(way, (by, _))| *way == INBOUND || !fixed(id) && !fixed(**by));
        let mut conflicts = all.filter(|(way, (by, _))| {
            let inside =
                self.rules[by.index()].company[*way].as_ref().is_some_and(|c| c.contains(&id));
            !inside && !self.do_the_same(**by, id)
        });
        let conflict = conflicts.next().map(|c| c.1);
        if let Some((by, witness)) = conflict {
            let message = format!(
                "rule `{}` is not applied to all that it is for: `{}` takes some of it",
                rule.name,
                self.name(*by)
            );
            let help = format!(
                "if that is not meant, narrow `{}`, or list `{}` above it",
                self.name(*by),
                rule.name
            );
            let places = vec![rule.place, plan.rules[by.index()].place];
            let found = finding("rule-partly-shadowed", message, places, help);
            findings.push(Finding { witness: *witness, ..found });
        }
    }

    fn tell_policies(&self, findings: &mut Vec<Finding>) {
        let plan = self.device.plan();
        for (entry, _) in plan.policies.iter().zip(&self.policies).filter(|(_, seen)| !**seen) {
            let message =
                format!("this policy entry of `{}` has no effect: no packet reaches it", plan.name);
            let help = "entries above it, or filters and routes before the policy, decide about \
                        all that it is for: move it up, or take it out"
                .to_owned();
            findings.push(finding("policy-entry-shadowed", message, vec![entry.place], help));
        }
    }

    fn tell_filters(&self, findings: &mut Vec<Finding>) {
        let plan = self.device.plan();
        for (i, acl) in plan.acls.iter().enumerate() {
            let attached =
                plan.interfaces.iter().flat_map(|f| [f.ingress_acl, f.egress_acl]).flatten();
            if !attached.into_iter().any(|a| a.index() == i) {
                continue;
            }
            for (entry, _) in
                acl.entries.iter().zip(&self.entries[i]).filter(|(e, seen)| !**seen && !e.answers)
            {
                let message = format!(
                    "this entry of filter `{}` has no effect: no packet reaches it",
                    acl.name
                );
                let help =
                    "entries above it decide about all that it is for: move it up, or take it out"
                        .to_owned();
                findings.push(finding(
                    "filter-entry-shadowed",
                    message,
                    vec![entry.place, acl.place],
                    help,
                ));
            }
        }
    }
}
