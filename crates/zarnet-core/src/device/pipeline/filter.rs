//! Steps 2 and 9: the filters of interfaces.
//!
//! Contract: §D2 and §D9 of docs/semantics.md.

use super::report::{step, step_by};
use crate::device::bindings::Context;
use crate::device::outcome::Refusal;
use crate::net::Packet;
use crate::observe::{By, Observer, Stage, StageResult};
use crate::plan::{self, Acl, AclId, InterfaceId, Verdict};
use crate::reason::Reason;

/// What a filter says of a packet.
#[derive(Clone, Copy)]
struct Ruling {
    verdict: Verdict,
    by: By,
    place: plan::Place,
}

impl Context<'_> {
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
        let interface = &self.compiled.plan.interfaces[interface.index()];
        let (acl, reason) = match stage {
            Stage::IngressAcl => (interface.ingress_acl, Reason::IngressAcl),
            Stage::Session
            | Stage::Destination
            | Stage::Own
            | Stage::Route
            | Stage::Policy
            | Stage::Source
            | Stage::EgressAcl
            | Stage::Commit => (interface.egress_acl, Reason::EgressAcl),
        };
        let Some(acl) = acl else {
            observer.step(|| step(stage, StageResult::NotAttached));
            return Ok(());
        };
        let ruling = self.ruling(acl, packet, is_answer);
        let (accepts, by, place) =
            (ruling.verdict == Verdict::Accept, ruling.by, Some(ruling.place));
        observer.step(|| {
            let result = if accepts { StageResult::Accepted } else { StageResult::Dropped(reason) };
            step_by(stage, result, by, place)
        });
        if accepts { Ok(()) } else { Err(Refusal::new(reason, ruling.place)) }
    }

    /// Whether a filter, where there is one, drops a packet.
    pub(super) fn drops(
        &self,
        acl: Option<AclId>,
        packet: Packet,
        is_answer: bool,
        reason: Reason,
    ) -> Option<Refusal> {
        let ruling = self.ruling(acl?, packet, is_answer);
        (ruling.verdict == Verdict::Drop).then(|| Refusal::new(reason, ruling.place))
    }

    /// Whether the filters of the interface that a first packet comes in by let it and its answer
    /// pass.
    pub(in crate::device) fn passes_in(&self, interface: InterfaceId, packet: Packet) -> bool {
        let interface = &self.compiled.plan.interfaces[interface.index()];
        self.accepts(interface.ingress_acl, packet, false)
            && self.accepts(interface.egress_acl, packet.answer(), true)
    }

    /// The same of the interface that it leaves by.
    pub(in crate::device) fn passes_out(&self, interface: InterfaceId, packet: Packet) -> bool {
        let interface = &self.compiled.plan.interfaces[interface.index()];
        self.accepts(interface.egress_acl, packet, false)
            && self.accepts(interface.ingress_acl, packet.answer(), true)
    }

    fn accepts(&self, acl: Option<AclId>, packet: Packet, is_answer: bool) -> bool {
        acl.is_none_or(|acl| self.ruling(acl, packet, is_answer).verdict == Verdict::Accept)
    }

    /// The first entry that matches, or the drop at the end.
    fn ruling(&self, id: AclId, packet: Packet, is_answer: bool) -> Ruling {
        let acl: &Acl = &self.compiled.plan.acls[id.index()];
        let entry = self.compiled.passage.first_entry(id, acl, packet, is_answer);
        let (verdict, place) = match entry.map(|i| &acl.entries[i]) {
            Some(e) => (e.verdict, e.place),
            None => (Verdict::Drop, acl.place),
        };
        Ruling { verdict, by: By::Acl(id, entry), place }
    }
}
