//! Notes which flows found nothing left.

use super::holders::holders;
use super::recording::{FirstRefusal, MOST_KEPT, Shortage};
use super::run::Run;
use crate::network::Passage;
use crate::plan::{DeviceId, RuleId};
use crate::reason::Reason;
use crate::traffic::{Flow, Party};

impl Run {
    /// Notes that a flow found nothing left, if that is why it came to nothing.
    pub(super) fn record_shortage(
        &mut self,
        flow: &Flow,
        reason: Reason,
        device: Option<DeviceId>,
        rule: Option<RuleId>,
        passages: &[Passage],
    ) {
        // one that was let pass as it is may have come to nothing further on
        let passed = passages.iter().find_map(|p| match p.unchanged {
            Some((Reason::PassedExhausted, rule)) => Some((p.device, rule)),
            _ => None,
        });
        let (reason, device, rule) = match passed {
            Some((device, rule)) => (Reason::PassedExhausted, Some(device), rule),
            None => (reason, device, rule),
        };
        let (Some(recording), Some(device), true) =
            (&mut self.recording, device, reason.is_shortage())
        else {
            return;
        };
        let host = match flow.source {
            Party::Address(address) => Some(address),
            Party::Host(id) => Some(self.network.plan().hosts[id.index()].address),
            Party::Interface(device, interface) => {
                self.network.plan().devices[device.index()].interfaces[interface.index()].primary()
            }
            Party::Device(id) => {
                self.network.plan().devices[id.index()].interfaces.iter().find_map(|i| i.primary())
            }
        };
        // a port that the host chooses itself lies in the highest class
        let wanted = (flow.protocol, flow.source_port.unwrap_or(u16::MAX));
        let node = self.network.device_mut(device);
        let tried = match host {
            Some(host) => node.record_refusal(self.now, reason, rule, host, wanted),
            None => [None; 3],
        };
        for supply in tried.into_iter().flatten() {
            let known =
                recording.first_refusals.iter().any(|f| f.device == device && f.supply == supply);
            if known || recording.first_refusals.len() >= MOST_KEPT {
                continue;
            }
            let node = &self.network.devices()[device.index()];
            let Some((what, _)) = node.history().and_then(|h| h.supplies().get(supply as usize))
            else {
                continue;
            };
            let block = node.plan().behaviour.block_size;
            let holders = holders(*what, block, node.mappings_on(*what, self.now));
            recording.first_refusals.push(FirstRefusal { device, supply, at: self.now, holders });
        }
        let (flow, again, served, request) = (*flow, None, None, 0);
        recording.refuse(Shortage {
            flow,
            host,
            reason,
            device,
            rule,
            tried,
            again,
            served,
            request,
        });
    }
}
