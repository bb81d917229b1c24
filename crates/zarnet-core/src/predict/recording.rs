//! What is kept of a run besides its table where it is to be told what ran out, for whom, and who
//! had it.

use std::net::IpAddr;

use super::holders::Holder;
use crate::net::Instant;
use crate::plan::{DeviceId, Renaming, RuleId};
use crate::reason::Reason;
use crate::traffic::Flow;

/// A flow that found nothing left.
#[derive(Debug, Clone, Copy)]
pub struct Shortage {
    /// The flow that was refused.
    pub flow: Flow,
    /// Address of the host that sent it.
    pub host: Option<IpAddr>,
    /// Why it was not translated.
    pub reason: Reason,
    /// The device that had nothing left.
    pub device: DeviceId,
    /// The rule that had nothing left.
    pub rule: Option<RuleId>,
    /// What it tried in vain: positions in the device's [`crate::device::History::supplies`].
    pub tried: [Option<u32>; 3],
}

/// Who had a supply of a device when a flow found nothing left of it for the first time.
#[derive(Debug, Clone)]
pub struct FirstRefusal {
    /// The device that had nothing left.
    pub device: DeviceId,
    /// The supply, as above.
    pub supply: u32,
    /// When it was refused.
    pub at: Instant,
    /// The hosts that held the supply then.
    pub holders: Vec<Holder>,
}

/// What a run recorded about supplies that ran out.
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
        self.shortages
            .iter_mut()
            .filter(|s| s.device == device)
            .filter_map(|s| s.rule.as_mut())
            .for_each(rename);
    }
}
