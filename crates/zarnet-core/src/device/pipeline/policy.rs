//! Step 7: whether traffic may go from one realm to another.
//!
//! Contract: §D7 of docs/semantics.md.

use super::report::step_by;
use crate::device::bindings::Context;
use crate::device::outcome::Refusal;
use crate::net::Packet;
use crate::observe::{By, Observer, Stage, StageResult};
use crate::plan::{InterfaceId, Verdict};
use crate::reason::Reason;

impl Context<'_> {
    /// Step 7: first entry that matches, else the default. The source is as sent, the destination
    /// as `policy-sees` says.
    pub(super) fn policy<O: Observer>(
        &self,
        ingress: InterfaceId,
        egress: InterfaceId,
        sent: Packet,
        inside: Packet,
        observer: &mut O,
    ) -> Result<(), Refusal> {
        let plan = &self.compiled.plan;
        let entry = self.first_policy((ingress, egress), sent, inside);
        let (verdict, place) = match entry.map(|i| &plan.policies[i]) {
            Some(e) => (e.verdict, e.place),
            None => (plan.default_policy, plan.default_policy_place),
        };
        let accepts = verdict == Verdict::Accept;
        observer.step(|| {
            let result =
                if accepts { StageResult::Accepted } else { StageResult::Dropped(Reason::Policy) };
            step_by(Stage::Policy, result, By::Policy(entry), Some(place))
        });
        if accepts { Ok(()) } else { Err(Refusal::new(Reason::Policy, place)) }
    }

    fn first_policy(
        &self,
        way: (InterfaceId, InterfaceId),
        sent: Packet,
        inside: Packet,
    ) -> Option<usize> {
        let plan = &self.compiled.plan;
        let (from, to) = (sent.source().address, plan.policy_destination(sent, inside));
        self.compiled.passage.first_policy(&plan.policies, way, sent.protocol, from, to)
    }

    /// What the policy says of a first packet from one interface to another.
    pub(in crate::device) fn policy_verdict(
        &self,
        way: (InterfaceId, InterfaceId),
        sent: Packet,
        inside: Packet,
    ) -> Verdict {
        let plan = &self.compiled.plan;
        let entry = self.first_policy(way, sent, inside);
        entry.map_or(plan.default_policy, |i| plan.policies[i].verdict)
    }
}
