//! What may be wrong, by how the flow ended, the most likely first.

mod elsewhere;
mod ended;
mod hosts;
mod inbound;
mod inbound_rules;
mod lines;
mod masks;
mod order;
mod outbound;
mod outside;
mod passage;
mod scope;
mod shortage;

use std::net::IpAddr;

use super::cause::Cause;
use super::near::NearMiss;
use super::suspect::Suspect;
use zarnet_core::Reason;
use zarnet_core::network::{Hop, Loss, Origin, Receiver, Trace};
use zarnet_core::observe::{Stage, StageResult};
use zarnet_core::plan::edit::{Edit, Table, Value};
use zarnet_core::plan::{
    DeviceId, DevicePlan, HostId, InterfaceId, Place, Plan, Rule, RuleId, SegmentId,
};
use zarnet_core::predict::{Followed, Scene};

/// A flow that does not work, looked at.
struct Case<'a> {
    scene: &'a Scene,
    followed: &'a Followed,
    plan: &'a Plan,
    /// Whether it is the answer that got lost.
    back: bool,
    list: Vec<Suspect>,
}

/// Everything that may be wrong with a flow that does not do what it should, in the order in which
/// it is to be tried.
pub(super) fn suspects(scene: &Scene) -> Vec<Suspect> {
    let followed = &scene.followed;
    let back = followed.delivered() && !followed.answered();
    let mut case = Case { scene, followed, plan: &followed.plan, back, list: Vec::new() };
    case.old_session();
    match followed.loss {
        Some(loss) => case.lost(loss),
        None => case.works_otherwise(),
    }
    let mut seen = Vec::new();
    case.list.retain(|s| {
        let new = s.edits.is_empty() || !seen.contains(&s.edits);
        seen.push(s.edits.clone());
        new
    });
    case.list
}

impl<'a> Case<'a> {
    fn lost(&mut self, loss: Loss) {
        // an answer that a device knows nothing of has come to the wrong one
        let strange = |hop: &Hop| {
            hop.steps.iter().any(|s| s.stage == Stage::Session && s.result == StageResult::New)
        };
        if self.back && self.last().is_some_and(strange) {
            self.wrong_way_back();
        }
        let is_astray = matches!(
            loss.reason,
            Reason::NoGateway
                | Reason::GatewayUnanswered
                | Reason::NotForThisHost
                | Reason::NobodyAnswers
                | Reason::NoRoute
                | Reason::Unrouted
                | Reason::Looped
                | Reason::PrivateAddressOnInternet
                | Reason::UnexpectedSource
                | Reason::NoMapping
                | Reason::Filtered
        );
        if is_astray || loss.reason == Reason::NoListener {
            self.mapping_ended();
        }
        if is_astray {
            self.masks();
        }
        self.by_reason(loss);
        if is_astray {
            self.segments();
        }
    }

    fn by_reason(&mut self, loss: Loss) {
        match loss.reason {
            Reason::NoGateway | Reason::GatewayUnanswered | Reason::NotForThisHost => {
                self.gateway(loss.reason)
            }
            Reason::IngressAcl | Reason::EgressAcl => self.filter(),
            Reason::NotForwarding => self.not_forwarding(),
            Reason::NoRoute | Reason::Looped => self.no_route(loss.reason),
            Reason::PrivateAddressOnInternet => self.private_outside(),
            Reason::Policy => self.policy(),
            Reason::Filtered | Reason::NoMapping | Reason::NoListener => {
                self.not_let_in(loss.reason)
            }
            Reason::PoolExhausted
            | Reason::PortsExhausted
            | Reason::HostLimit
            | Reason::RuleLimit
            | Reason::DeviceFull
            | Reason::PassedExhausted => self.used_up(loss),
            Reason::UnsupportedProtocol | Reason::UnsupportedFamily => self.unsupported(loss),
            Reason::NobodyAnswers => self.nobody_answers(),
            Reason::Unrouted => self.unrouted(),
            Reason::UnexpectedSource => self.answered_directly(),
            Reason::NoSession => self.no_session(loss),
            Reason::UnknownSource => self.unknown_source(),
            Reason::SourceOfOtherLine => self.of_other_line(),
            Reason::FromDevice => self.starts_at_device(),
            Reason::Exempt
            | Reason::NoRule
            | Reason::OnLink
            | Reason::LinkOnly
            | Reason::ToDevice => self.works_otherwise(),
        }
    }

    fn trace(&self) -> &'a Trace {
        if self.back { &self.followed.back } else { &self.followed.forth }
    }

    /// The device at which the way ended.
    fn last(&self) -> Option<&'a Hop> {
        self.trace().hops.last()
    }

    fn device(&self, id: DeviceId) -> &'a DevicePlan {
        &self.plan.devices[id.index()]
    }

    fn rule(&self, device: DeviceId, id: RuleId) -> &'a Rule {
        &self.device(device).rules[id.index()]
    }

    /// The host that is at the other end of the way that failed: who sent the packet that got lost.
    fn sender(&self) -> Option<HostId> {
        if self.back {
            return match self.followed.arrived?.0 {
                Receiver::Host(id) => Some(id),
                Receiver::Undeclared(_)
                | Receiver::Peer
                | Receiver::Device(_)
                | Receiver::Answering(..) => None,
            };
        }
        match self.followed.sent?.0 {
            Origin::Host(id) => Some(id),
            Origin::Device(..) | Origin::Peer | Origin::Undeclared(_) => None,
        }
    }

    /// What the packet that got lost was like when its sender sent it.
    fn sent(&self) -> Option<zarnet_core::net::Packet> {
        let forth = self.followed.sent.map(|s| s.1);
        if self.back { self.followed.arrived.map(|a| a.1.answer()) } else { forth }
    }

    /// Interfaces of devices on a segment.
    fn on_segment(&self, segment: SegmentId) -> impl Iterator<Item = (DeviceId, InterfaceId)> + 'a {
        let same = move |i: &zarnet_core::plan::Interface| i.segment == segment;
        let plan = self.plan;
        plan.devices.iter().enumerate().flat_map(move |(d, device)| {
            let interfaces = device.interfaces.iter().enumerate().filter(move |(_, i)| same(i));
            interfaces.map(move |(i, _)| (DeviceId(d as u16), InterfaceId(i as u16)))
        })
    }

    fn addresses(
        &self,
        device: DeviceId,
        interface: InterfaceId,
    ) -> impl Iterator<Item = IpAddr> + 'a {
        self.device(device).interfaces[interface.index()].addresses.iter().map(|a| a.0)
    }

    fn is_internet(&self, segment: SegmentId) -> bool {
        self.plan.segments[segment.index()].internet
    }

    /// The forward or static that a device translated a destination by.
    fn entered(&self, hop: &Hop) -> Option<RuleId> {
        let step = hop.steps.iter().find(|s| s.stage == Stage::Destination)?;
        match (step.result, step.by) {
            (StageResult::Translated { .. }, zarnet_core::observe::By::Rule(id)) => Some(id),
            _ => None,
        }
    }

    fn suspect(&mut self, cause: Cause, at: At, verdict: String, title: String, edits: Vec<Edit>) {
        let At { device, rule, place } = at;
        let rule_name = device.zip(rule).map(|(d, r)| self.rule(d, r).name.clone());
        let besides = None;
        let suspect =
            Suspect { cause, besides, device, rule, rule_name, place, verdict, title, edits };
        self.list.push(suspect);
    }

    /// A rule that was meant and lacks two things, with the repair of each, if both have one.
    /// `does`: what it does not do.
    fn two_faults(
        &mut self,
        hop: &Hop,
        miss: &NearMiss,
        faults: Option<Vec<(Cause, Edit)>>,
        does: &str,
    ) {
        let Some(faults) = faults else { return };
        let (causes, edits): (Vec<Cause>, Vec<Edit>) = faults.into_iter().unzip();
        let names: Vec<&str> = miss.unmet.iter().map(|c| c.name()).collect();
        let rule = &self.rule(hop.device, miss.rule).name;
        let verdict = format!(
            "rule {rule} was meant, and does not {does} for two reasons: {}",
            names.join(" and ")
        );
        let title = format!("let rule {rule} {does}");
        let at = self.at_rule(hop.device, miss.rule);
        self.suspect(causes[0], at, verdict, title, edits);
        if let (Some(last), [first, second]) = (self.list.last_mut(), &causes[..]) {
            last.besides = Some(*second).filter(|s| s != first);
        }
    }

    fn at_rule(&self, device: DeviceId, rule: RuleId) -> At {
        At { device: Some(device), rule: Some(rule), place: Some(self.rule(device, rule).place) }
    }

    fn at_host(&self, host: HostId) -> At {
        At { device: None, rule: None, place: Some(self.plan.hosts[host.index()].place) }
    }
}

/// Where something is wrong.
#[derive(Clone, Copy, Default)]
struct At {
    device: Option<DeviceId>,
    rule: Option<RuleId>,
    place: Option<Place>,
}

impl At {
    fn device(device: DeviceId, place: Place) -> Self {
        Self { device: Some(device), rule: None, place: Some(place) }
    }

    fn nowhere() -> Self {
        Self::default()
    }
}

fn set(table: Table, key: &str, value: impl Into<Value>) -> Edit {
    Edit::Set(table, key.to_owned(), value.into())
}

fn append(table: Table, key: &str, value: impl Into<Value>) -> Edit {
    Edit::Append(table, key.to_owned(), value.into())
}
