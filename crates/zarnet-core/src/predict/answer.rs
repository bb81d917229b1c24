//! An answer to the first packet of a flow.

use crate::net::Packet;
use crate::network::{Origin, Passage, Receiver};
use crate::plan::{DeviceId, RuleId};
use crate::reason::Reason;
use crate::traffic::Flow;

/// An answer that is on its way.
pub(super) struct Answer {
    pub flow: Flow,
    pub asked: Packet,
    pub origin: Origin,
    pub receiver: Receiver,
    pub arrived: Packet,
    pub passages: Vec<Passage>,
    /// How often something had been done to devices when the flow began.
    pub issue: u32,
}

impl Answer {
    /// Why nothing was changed, which device that concerns, and which rule; `None` if something
    /// was. The first `forth` passages are those of the first packet.
    pub(super) fn unchanged(
        &self,
        forth: usize,
    ) -> Option<(Reason, Option<DeviceId>, Option<RuleId>)> {
        if self.passages.iter().any(|p| p.changed) {
            return None;
        }
        match (self.origin, self.receiver) {
            (Origin::Device(d, _), _) => return Some((Reason::FromDevice, Some(d), None)),
            (_, Receiver::Answering(d, _) | Receiver::Device(d)) => {
                return Some((Reason::ToDevice, Some(d), None));
            }
            _ => {}
        }
        let passages = &self.passages[..forth];
        // a rule that decided so says more than that no rule did
        let by_rule = passages.iter().find(|p| p.unchanged.is_some_and(|u| u.1.is_some()));
        Some(by_rule.or(passages.first()).map_or((Reason::OnLink, None, None), |passage| {
            let (reason, rule) = passage.unchanged.unwrap_or((Reason::NoRule, None));
            (reason, Some(passage.device), rule)
        }))
    }
}
