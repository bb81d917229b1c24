//! What is kept of a run besides its table where it is to be told what ran out, for whom, and who had it.

use std::net::IpAddr;

use super::run::Run;
use crate::capacity::{Holder, holders};
use crate::net::Instant;
use crate::network::Passage;
use crate::plan::{DeviceId, Renaming, RuleId};
use crate::reason::Reason;
use crate::traffic::{Flow, Party};

/// A flow that found nothing left.
#[derive(Debug, Clone, Copy)]
pub struct Shortage {
    /// The flow.
    pub flow: Flow,
    /// Who sent it.
    pub host: Option<IpAddr>,
    /// Why it was not translated.
    pub reason: Reason,
    /// The device that had nothing left.
    pub device: DeviceId,
    /// The rule.
    pub rule: Option<RuleId>,
    /// What it tried in vain: positions in the device's [`crate::device::History::supplies`].
    pub tried: [Option<u32>; 3],
}

/// Who had a supply of a device when a flow found nothing left of it for the first time.
#[derive(Debug, Clone)]
pub struct FirstRefusal {
    /// The device.
    pub device: DeviceId,
    /// The supply, as above.
    pub supply: u32,
    /// When.
    pub at: Instant,
    /// Who had it.
    pub holders: Vec<Holder>,
}

/// What ran out.
#[derive(Debug, Clone, Default)]
pub struct Recording {
    /// Every flow that found nothing left, in the order in which they were refused.
    pub shortages: Vec<Shortage>,
    /// Who had what at each supply's first refusal; of the first [`MOST_KEPT`] supplies.
    pub first_refusals: Vec<FirstRefusal>,
}

/// Of so many supplies it is kept who had them.
pub const MOST_KEPT: usize = 256;

impl Recording {
    pub(super) fn rename(&mut self, device: DeviceId, renaming: &Renaming) {
        let rename = |rule: &mut RuleId| *rule = renaming.rules[rule.index()];
        self.shortages.iter_mut().for_each(|s| renaming.rename_ends(device, &mut s.flow));
        self.shortages.iter_mut().filter(|s| s.device == device).filter_map(|s| s.rule.as_mut()).for_each(rename);
    }
}

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
        let (Some(recording), Some(device), true) = (&mut self.recording, device, reason.is_shortage()) else { return };
        let host = match flow.source {
            Party::Address(address) => Some(address),
            Party::Host(id) => Some(self.network.plan().hosts[id.index()].address),
            Party::Interface(device, interface) => {
                self.network.plan().devices[device.index()].interfaces[interface.index()].primary()
            }
            Party::Device(id) => self.network.plan().devices[id.index()].interfaces.iter().find_map(|i| i.primary()),
        };
        // a port that the host chooses itself lies in the highest class
        let wanted = (flow.protocol, flow.source_port.unwrap_or(u16::MAX));
        let node = self.network.device_mut(device);
        let tried = match host {
            Some(host) => node.record_refusal(self.now, reason, rule, host, wanted),
            None => [None; 3],
        };
        for supply in tried.into_iter().flatten() {
            let known = recording.first_refusals.iter().any(|f| f.device == device && f.supply == supply);
            if known || recording.first_refusals.len() >= MOST_KEPT {
                continue;
            }
            let node = &self.network.devices()[device.index()];
            let Some((what, _)) = node.history().and_then(|h| h.supplies().get(supply as usize)) else { continue };
            let holders = holders(*what, node.mappings_on(*what, self.now));
            recording.first_refusals.push(FirstRefusal { device, supply, at: self.now, holders });
        }
        recording.shortages.push(Shortage { flow: *flow, host, reason, device, rule, tried });
    }
}
