//! What may stop a packet on its way whatever is translated: filters, the route, policies.

use std::net::IpAddr;

use super::pipeline::{step, tell};
use super::routes::Query;
use super::{Device, Refusal};
use crate::net::{Endpoint, Packet};
use crate::observe::{By, Observer, Stage, StageResult, Step};
use crate::plan::{self, Acl, AclId, InterfaceId, Verdict};
use crate::reason::Reason;

/// What a filter says of a packet.
#[derive(Clone, Copy)]
struct Ruling {
    verdict: Verdict,
    by: By,
    place: plan::Place,
}

impl Device {
    pub(super) fn forwards<O: Observer>(&self, observer: &mut O) -> Result<(), Refusal> {
        if self.config.plan.forwarding {
            return Ok(());
        }
        let refusal = Refusal::new(Reason::NotForwarding, self.config.plan.place);
        tell(observer, Stage::Route, refusal);
        Err(refusal)
    }

    /// Step 6: the interface that a packet leaves by, and the next hop.
    pub(super) fn route<O: Observer>(
        &self,
        query: Query<'_>,
        observer: &mut O,
    ) -> Result<(InterfaceId, IpAddr), Refusal> {
        let Some(way) = self.config.routes.find(query) else {
            let refusal = Refusal::new(Reason::NoRoute, self.config.plan.place);
            tell(observer, Stage::Route, refusal);
            return Err(refusal);
        };
        let (interface, next_hop) = (way.interface, way.via.unwrap_or(query.destination));
        observer.step(|| {
            let (by, place) = match way.route {
                Some(i) => (By::Route(i), self.config.plan.routes[i].place),
                None => (By::Interface(interface), self.config.plan.interfaces[interface.index()].place),
            };
            Step { stage: Stage::Route, result: StageResult::Routed { interface, next_hop }, by, place: Some(place) }
        });
        Ok((interface, next_hop))
    }

    /// Steps 2 and 9: the filter of an interface.
    #[inline]
    pub(super) fn filter<O: Observer>(
        &self,
        stage: Stage,
        interface: InterfaceId,
        packet: Packet,
        is_answer: bool,
        observer: &mut O,
    ) -> Result<(), Refusal> {
        let interface = &self.config.plan.interfaces[interface.index()];
        let (acl, reason) = match stage {
            Stage::IngressAcl => (interface.ingress_acl, Reason::IngressAcl),
            _ => (interface.egress_acl, Reason::EgressAcl),
        };
        let Some(acl) = acl else {
            observer.step(|| step(stage, StageResult::NotAttached));
            return Ok(());
        };
        let ruling = self.ruling(acl, packet, is_answer);
        let (accepts, by, place) = (ruling.verdict == Verdict::Accept, ruling.by, Some(ruling.place));
        observer.step(|| {
            let result = if accepts { StageResult::Accepted } else { StageResult::Dropped(reason) };
            Step { stage, result, by, place }
        });
        if accepts { Ok(()) } else { Err(Refusal::new(reason, ruling.place)) }
    }

    /// Whether a filter, where there is one, drops a packet.
    pub(super) fn drops(&self, acl: Option<AclId>, packet: Packet, is_answer: bool, reason: Reason) -> Option<Refusal> {
        let ruling = self.ruling(acl?, packet, is_answer);
        (ruling.verdict == Verdict::Drop).then(|| Refusal::new(reason, ruling.place))
    }

    /// The first entry that matches, or the drop at the end.
    fn ruling(&self, id: AclId, packet: Packet, is_answer: bool) -> Ruling {
        let acl: &Acl = &self.config.plan.acls[id.index()];
        let (from, to) = (packet.source(), packet.destination());
        let entry = acl.entries.iter().position(|e| {
            (!e.answers || is_answer)
                && e.service.holds(packet.protocol, to.port)
                && e.source_service.holds(packet.protocol, from.port)
                && e.parties.source.contains(from.address)
                && e.parties.destination.contains(to.address)
        });
        let (verdict, place) = match entry.map(|i| &acl.entries[i]) {
            Some(e) => (e.verdict, e.place),
            None => (Verdict::Drop, acl.place),
        };
        Ruling { verdict, by: By::Acl(id, entry), place }
    }

    /// Step 7: first entry that matches, else the default. The source is as sent, the destination as `policy-sees` says.
    pub(super) fn policy<O: Observer>(
        &self,
        ingress: InterfaceId,
        egress: InterfaceId,
        sent: Packet,
        inside: Packet,
        observer: &mut O,
    ) -> Result<(), Refusal> {
        let plan = &self.config.plan;
        let to: Endpoint =
            if plan.behaviour.policy_sees_translated { inside.destination() } else { sent.destination() };
        let from = sent.source().address;
        let side = |zone: &Option<plan::Zone>, id| zone.as_ref().is_none_or(|z| z.interfaces.contains(id));
        let entry = plan.policies.iter().position(|p| {
            side(&p.from, ingress)
                && side(&p.into, egress)
                && p.service.holds(sent.protocol, to.port)
                && p.parties.source.contains(from)
                && p.parties.destination.contains(to.address)
        });
        let (verdict, place) = match entry.map(|i| &plan.policies[i]) {
            Some(e) => (e.verdict, e.place),
            None => (plan.default_policy, plan.default_policy_place),
        };
        let accepts = verdict == Verdict::Accept;
        observer.step(|| {
            let result = if accepts { StageResult::Accepted } else { StageResult::Dropped(Reason::Policy) };
            Step { stage: Stage::Policy, result, by: By::Policy(entry), place: Some(place) }
        });
        if accepts { Ok(()) } else { Err(Refusal::new(Reason::Policy, place)) }
    }
}
