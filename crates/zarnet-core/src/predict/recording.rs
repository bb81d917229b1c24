//! What is kept of a run besides its table where it is to be told what ran out, for whom, and who
//! had it.

use std::collections::HashMap;
use std::net::IpAddr;

use foldhash::fast::RandomState;

use super::holders::Holder;
use crate::net::{Instant, Protocol};
use crate::plan::{DeviceId, Renaming, RuleId};
use crate::reason::Reason;
use crate::traffic::{Flow, Party};

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
    /// When the same was asked for in vain the next time: by the same sender of the same
    /// destination.
    pub again: Option<Instant>,
    /// When the same was asked for and had, before it was asked for in vain again.
    pub served: Option<Instant>,
    /// Which request it is a try of: a position in [`Recording::requests`].
    pub request: u32,
}

/// A request of which a try was refused.
#[derive(Debug, Clone, Copy)]
pub struct RequestUse {
    /// When a try was first refused.
    pub since: Instant,
    /// How many tries were served since.
    pub served: u32,
    /// How many tries were refused.
    pub refused: u32,
    /// The last try that was refused, if none was served since.
    open: Option<u32>,
}

/// Sender, destination, protocol and ports: a flow that does not differ in them may be another try.
type Request = (Party, Party, Protocol, Option<u16>, Option<u16>);

fn request(flow: &Flow) -> Request {
    (flow.source, flow.destination, flow.protocol, flow.source_port, flow.destination_port)
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
    /// Every request of which a try was refused.
    pub requests: Vec<RequestUse>,
    known: HashMap<Request, u32, RandomState>,
}

/// Of so many supplies it is kept who had them.
pub const MOST_KEPT: usize = 256;

impl Recording {
    /// Adds a flow that found nothing left.
    pub(super) fn refuse(&mut self, shortage: Shortage) {
        let at = shortage.flow.start;
        let number = *self.known.entry(request(&shortage.flow)).or_insert_with(|| {
            self.requests.push(RequestUse { since: at, served: 0, refused: 0, open: None });
            self.requests.len() as u32 - 1
        });
        let known = &mut self.requests[number as usize];
        known.refused += 1;
        if let Some(before) = known.open.replace(self.shortages.len() as u32) {
            self.shortages[before as usize].again = Some(at);
        }
        self.shortages.push(Shortage { request: number, ..shortage });
    }

    /// A flow got what it wanted: if one like it was refused before, that was not in vain.
    #[inline]
    pub(super) fn serve(&mut self, flow: &Flow) {
        if !self.known.is_empty()
            && let Some(number) = self.known.get(&request(flow))
        {
            let known = &mut self.requests[*number as usize];
            known.served += 1;
            if let Some(before) = known.open.take() {
                self.shortages[before as usize].served = Some(flow.start);
            }
        }
    }

    pub(super) fn rename(&mut self, device: DeviceId, renaming: &Renaming) {
        let rename = |rule: &mut RuleId| *rule = renaming.rules[rule.index()];
        self.known.clear();
        self.shortages.iter_mut().for_each(|s| renaming.rename_ends(device, &mut s.flow));
        self.shortages
            .iter_mut()
            .filter(|s| s.device == device)
            .filter_map(|s| s.rule.as_mut())
            .for_each(rename);
        let firsts = self.first_refusals.iter_mut().filter(|f| f.device == device);
        firsts.flat_map(|f| &mut f.holders).flat_map(|h| &mut h.rules).for_each(rename);
    }
}
