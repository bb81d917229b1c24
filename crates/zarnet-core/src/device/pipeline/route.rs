//! Step 6: which way a packet leaves.
//!
//! Contract: §D6 of docs/semantics.md.

use std::net::IpAddr;

use super::report::{report_refusal, step_by};
use crate::device::bindings::Context;
use crate::device::compiled::Query;
use crate::device::outcome::Refusal;
use crate::observe::{By, Observer, Stage, StageResult};
use crate::plan::InterfaceId;
use crate::reason::Reason;

impl Context<'_> {
    /// Whether the device forwards between interfaces.
    pub(super) fn forwards<O: Observer>(&self, observer: &mut O) -> Result<(), Refusal> {
        if self.compiled.plan.forwarding {
            return Ok(());
        }
        let refusal = Refusal::new(Reason::NotForwarding, self.compiled.plan.place);
        report_refusal(observer, Stage::Route, refusal);
        Err(refusal)
    }

    /// Step 6: the interface that a packet leaves by, and the next hop.
    pub(super) fn route<O: Observer>(
        &self,
        query: Query<'_>,
        observer: &mut O,
    ) -> Result<(InterfaceId, IpAddr), Refusal> {
        let Some(way) = self.compiled.routes.find(query) else {
            let refusal = Refusal::new(Reason::NoRoute, self.compiled.plan.place);
            report_refusal(observer, Stage::Route, refusal);
            return Err(refusal);
        };
        let (interface, next_hop) = (way.interface, way.via.unwrap_or(query.destination));
        observer.step(|| {
            let (by, place) = match way.route {
                Some(i) => (By::Route(i), self.compiled.plan.routes[i].place),
                None => (
                    By::Interface(interface),
                    self.compiled.plan.interfaces[interface.index()].place,
                ),
            };
            step_by(Stage::Route, StageResult::Routed { interface, next_hop }, by, Some(place))
        });
        Ok((interface, next_hop))
    }
}
