//! The answer of `follow`: the way of a flow and of its answer, and what every place sees.

mod words;

use std::io::{self, Write};
use std::net::IpAddr;

use serde::Serialize;
use zarnet_core::Reason;
use zarnet_core::net::{Packet, Tuple};
use zarnet_core::network::{Handover, Hop, Network, Origin, Receiver, Trace};
use zarnet_core::observe::{By, NextHopOwner, StageResult, Step};
use zarnet_core::plan::{DeviceId, Place, RuleId};
use zarnet_core::predict::{Followed, ObservationPoint, SeenEnds};

use super::ends::End;
use super::naming::{Naming, Position};
use super::{Answer, Row, SHAPE};
use crate::diagnose::{disabled_matches, disabled_owners};

pub use words::{label, rounds, without_rounds};

/// A conversation with the names of its plan.
#[derive(Clone, Copy)]
pub struct FollowAnswer<'a> {
    /// Names of the plan's pieces.
    pub naming: Naming<'a>,
    /// What became of the flow.
    pub followed: &'a Followed,
    /// The network that it went through, where it is to be told which disabled rules match.
    pub network: Option<&'a Network>,
}

/// The answer as a shape.
#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct FollowShape<'a> {
    shape: u32,
    flow: String,
    at: f64,
    class: &'static str,
    delivered: bool,
    answered: bool,
    reason: Option<&'static str>,
    device: Option<&'a str>,
    rule: Option<&'a str>,
    place: Option<Position>,
    forth: Vec<HopShape<'a>>,
    back: Vec<HopShape<'a>>,
    /// Disabled rules that have the address for which nobody answers.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    disabled: Vec<DisabledRule<'a>>,
    /// Who took the first packet from its sender, and the answer from whoever sent that.
    handed: [Vec<Handed>; 2],
    views: Vec<View>,
}

#[derive(Serialize)]
struct HopShape<'a> {
    device: &'a str,
    r#in: Option<Side<'a>>,
    steps: Vec<StepShape>,
    /// Rules that would translate it here if they were enabled.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    disabled: Vec<DisabledRule<'a>>,
    out: Option<Side<'a>>,
}

/// A rule that is disabled, and would match.
#[derive(Serialize)]
pub struct DisabledRule<'a> {
    /// The device that has it.
    pub device: &'a str,
    /// Name of the rule.
    pub rule: &'a str,
    /// Where it is written.
    pub place: Option<Position>,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct Side<'a> {
    interface: &'a str,
    source: End,
    destination: End,
    #[serde(skip_serializing_if = "Option::is_none")]
    next_hop: Option<IpAddr>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    handed: Vec<Handed>,
}

/// Who answers for an address.
#[derive(Serialize)]
struct Handed {
    address: IpAddr,
    by: Option<String>,
}

#[derive(Serialize)]
struct StepShape {
    step: &'static str,
    result: &'static str,
    by: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    reason: Option<&'static str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    from: Option<End>,
    #[serde(skip_serializing_if = "Option::is_none")]
    to: Option<End>,
    place: Option<Position>,
}

/// What a place sees of the first packet, and of the answer.
#[derive(Serialize)]
struct View {
    at: String,
    source: Option<End>,
    destination: Option<End>,
    answer: Option<Ends>,
}

#[derive(Serialize)]
struct Ends {
    source: End,
    destination: End,
}

impl<'a> FollowAnswer<'a> {
    /// An interface with its device.
    pub fn interface(self, device: DeviceId, interface: zarnet_core::plan::InterfaceId) -> String {
        format!("{}/{}", self.naming.device(device), self.naming.interface(device, interface))
    }

    fn owner(self, handover: &Handover) -> Option<String> {
        handover.to.map(|taker| match taker {
            NextHopOwner::Host(id) => self.naming.host(id).to_owned(),
            NextHopOwner::Interface(device, interface) => self.interface(device, interface),
            NextHopOwner::Undeclared => format!("{} (not in the plan)", handover.address),
            NextHopOwner::Provider => "the provider's router".to_owned(),
            NextHopOwner::Peer => handover.address.to_string(),
        })
    }

    /// What decided a step, in words.
    pub fn by(self, device: DeviceId, by: By) -> Option<String> {
        let plan = &self.followed.plan.devices[device.index()];
        let rule = |id| self.naming.rule(device, id).to_owned();
        Some(match by {
            By::Nothing => return None,
            By::Acl(id, Some(entry)) => {
                format!("{}, entry {}", plan.acls[id.index()].name, entry + 1)
            }
            By::Acl(id, None) => format!("{}, no entry matches", plan.acls[id.index()].name),
            By::Policy(Some(entry)) => {
                let entry = &plan.policies[entry];
                let side = |realm_set: &Option<zarnet_core::plan::RealmSet>| {
                    let names = realm_set
                        .as_ref()
                        .map(|z| z.names.iter().map(|n| n.value.as_str()).collect::<Vec<_>>());
                    names.map_or("any".to_owned(), |n| n.join(", "))
                };
                format!("{} -> {}", side(&entry.from), side(&entry.into))
            }
            By::Policy(None) => "default-policy".to_owned(),
            By::Rule(id) => rule(id),
            By::Rules([a, b]) => distinct_names(a.map(rule), b.map(rule)),
            By::Interface(id) => self.naming.interface(device, id).to_owned(),
            By::Route(i) => format!("{} via {}", plan.routes[i].to, plan.routes[i].via),
        })
    }

    /// File, line and column of a place.
    pub fn position(self, place: Option<Place>) -> Option<Position> {
        place.and_then(|p| self.naming.position(p))
    }

    /// What a place is called.
    pub fn observation_point(self, at: ObservationPoint, ends: Option<Tuple>) -> String {
        let plan = self.naming;
        match at {
            ObservationPoint::Interface(device, interface) => self.interface(device, interface),
            ObservationPoint::Client => match self.followed.sent {
                Some((Origin::Host(id), _)) => plan.host(id).to_owned(),
                Some((Origin::Device(id, _), _)) => plan.device(id).to_owned(),
                Some((_, packet)) => packet.source().address.to_string(),
                None => String::new(),
            },
            ObservationPoint::Server => match self.followed.arrived {
                Some((Receiver::Host(id), _)) => plan.host(id).to_owned(),
                Some((Receiver::Device(id) | Receiver::Answering(id, _), _)) => {
                    plan.device(id).to_owned()
                }
                _ => ends.map(|e| e.destination.address.to_string()).unwrap_or_default(),
            },
        }
    }

    fn hop(self, hop: &Hop) -> HopShape<'a> {
        let side = |interface, packet: Packet| {
            let (source, destination) = (packet.source().into(), packet.destination().into());
            let interface = self.naming.interface(hop.device, interface);
            Side { interface, source, destination, next_hop: None, handed: Vec::new() }
        };
        HopShape {
            device: self.naming.device(hop.device),
            r#in: hop.ingress.map(|i| side(i, hop.packet)),
            steps: hop.steps.iter().map(|s| self.step(hop.device, s)).collect(),
            disabled: self.disabled(hop),
            out: hop.exit.map(|out| {
                let (next_hop, handed) = (Some(out.next_hop), self.handed(&hop.handed));
                Side { next_hop, handed, ..side(out.interface, out.packet) }
            }),
        }
    }

    /// Rules that would translate a packet at a hop if they were enabled.
    pub fn disabled(self, hop: &Hop) -> Vec<DisabledRule<'a>> {
        let rules = self.network.map(|n| disabled_matches(n, hop)).unwrap_or_default();
        rules.into_iter().map(|rule| self.disabled_rule(hop.device, rule)).collect()
    }

    /// Disabled rules that would make a device answer for the address for which nobody does.
    pub fn disabled_owners(self) -> Vec<DisabledRule<'a>> {
        let f = self.followed;
        let is_lost = f.loss.is_some_and(|l| l.reason == Reason::NobodyAnswers);
        let trace = if f.delivered() { &f.back } else { &f.forth };
        let handed = trace.hops.last().map_or(&trace.departure, |h| &h.handed);
        let unanswered = handed.last().filter(|h| is_lost && h.to.is_none());
        let Some((network, unanswered)) = self.network.zip(unanswered) else { return Vec::new() };
        let owners = disabled_owners(network, unanswered.address);
        owners.into_iter().map(|(device, rule)| self.disabled_rule(device, rule)).collect()
    }

    fn disabled_rule(self, device: DeviceId, rule: RuleId) -> DisabledRule<'a> {
        let plan = &self.naming.plan.devices[device.index()];
        let rule = &plan.rules[rule.index()];
        let place = self.naming.position(rule.place);
        DisabledRule { device: &plan.name, rule: &rule.name, place }
    }

    fn handed(self, list: &[Handover]) -> Vec<Handed> {
        list.iter().map(|h| Handed { address: h.address, by: self.owner(h) }).collect()
    }

    fn step(self, device: DeviceId, step: &Step) -> StepShape {
        let (mut reason, mut from, mut to) = (None, None, None);
        match step.result {
            StageResult::Translated { from: was, to: is } => {
                (from, to) = (Some(was.into()), Some(is.into()))
            }
            StageResult::Unchanged(why) | StageResult::Dropped(why) => reason = Some(why.name()),
            StageResult::NotAttached
            | StageResult::Accepted
            | StageResult::New
            | StageResult::Known { .. }
            | StageResult::NotOwn
            | StageResult::Answered
            | StageResult::Taken
            | StageResult::Routed { .. }
            | StageResult::Committed { .. } => {}
        }
        let by = self.by(device, step.by);
        let place = self.position(step.place);
        StepShape {
            step: step.stage.name(),
            result: step.result.name(),
            by,
            reason,
            from,
            to,
            place,
        }
    }

    fn whole(self) -> FollowShape<'a> {
        let f = self.followed;
        let hops = |trace: &Trace| trace.hops.iter().map(|h| self.hop(h)).collect();
        let view = |s: SeenEnds| View {
            at: self.observation_point(s.at, s.forth),
            source: s.forth.map(|e| e.source.into()),
            destination: s.forth.map(|e| e.destination.into()),
            answer: s
                .back
                .map(|e| Ends { source: e.source.into(), destination: e.destination.into() }),
        };
        let device = f.loss.and_then(|l| l.device);
        FollowShape {
            shape: SHAPE,
            flow: self.naming.flow(&f.flow),
            at: f.at.seconds(),
            class: f.class.name(),
            delivered: f.delivered(),
            answered: f.answered(),
            reason: f.loss.map(|l| l.reason.name()),
            device: device.map(|d| self.naming.device(d)),
            rule: device.zip(f.loss.and_then(|l| l.rule)).map(|(d, r)| self.naming.rule(d, r)),
            place: self.position(f.loss.and_then(|l| l.place)),
            forth: hops(&f.forth),
            back: hops(&f.back),
            disabled: self.disabled_owners(),
            handed: [self.handed(&f.forth.departure), self.handed(&f.back.departure)],
            views: f.views().into_iter().map(view).collect(),
        }
    }
}

/// Two names, or one if they are the same.
fn distinct_names(a: Option<String>, b: Option<String>) -> String {
    let b = b.filter(|b| Some(b) != a.as_ref());
    a.into_iter().chain(b).collect::<Vec<_>>().join(", ")
}

impl Answer for FollowAnswer<'_> {
    type Shape<'s>
        = FollowShape<'s>
    where
        Self: 's;

    fn shape(&self) -> Self::Shape<'_> {
        self.whole()
    }

    fn columns(&self) -> &'static [&'static str] {
        &["way", "hop", "device", "step", "result", "reason", "by", "file", "line"]
    }

    fn rows(&self, out: &mut dyn Write) -> io::Result<()> {
        let mut row = Row::default();
        let f = self.followed;
        for (way, trace) in [("forth", &f.forth), ("back", &f.back)] {
            for (number, hop) in trace.hops.iter().enumerate() {
                let lead = |row: &mut Row| {
                    row.text(way);
                    row.number(number as u64 + 1);
                    row.text(self.naming.device(hop.device));
                };
                for step in hop.steps.iter().map(|s| self.step(hop.device, s)) {
                    lead(&mut row);
                    row.text(step.step);
                    row.text(step.result);
                    row.text(step.reason.unwrap_or(""));
                    row.text(step.by.as_deref().unwrap_or(""));
                    row.place(step.place.as_ref());
                    row.write(out)?;
                }
                for rule in self.disabled(hop) {
                    lead(&mut row);
                    row.text("disabled");
                    row.text("would-match");
                    row.text("");
                    row.text(rule.rule);
                    row.place(rule.place.as_ref());
                    row.write(out)?;
                }
            }
        }
        Ok(())
    }
}
