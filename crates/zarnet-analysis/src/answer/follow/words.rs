//! What a followed flow met, in words.

use zarnet_core::Reason;
use zarnet_core::network::{Handover, Hop, Trace};
use zarnet_core::observe::{By, Stage, StageResult, Step};
use zarnet_core::plan::DeviceId;

use super::FollowAnswer;

impl FollowAnswer<'_> {
    /// The way in short: a line a device, and where it ended.
    pub fn brief(self) -> Vec<String> {
        let f = self.followed;
        let mut lines = Vec::new();
        for trace in [&f.forth, &f.back] {
            let (hops, again) = without_rounds(trace);
            lines.extend(hops.iter().map(|hop| self.hop_brief(hop)));
            lines.extend((again > 0).then(|| rounds(again)));
            let last = hops.last().map_or(trace.departure.as_slice(), |h| h.handed.as_slice());
            lines.extend(
                last.iter()
                    .filter(|h| h.to.is_none())
                    .map(|h| format!("no host or device answers for {}", h.address)),
            );
        }
        if let (Some(loss), false) =
            (f.loss, f.answered() || self.is_told(if f.delivered() { &f.back } else { &f.forth }))
        {
            let what = if f.delivered() { "its answer is lost" } else { "it is lost" };
            lines.push(format!("{what}: {}", loss.reason.sentence()));
        }
        lines
    }

    pub(super) fn hop_brief(self, hop: &Hop) -> String {
        let (device, came) = (self.naming.device(hop.device), hop.packet.ends);
        match (&hop.exit, hop.steps.last()) {
            (Some(exit), _) if exit.packet.ends == came => format!("{device} passes {came}"),
            (Some(exit), _) => format!("{device} makes {} of {came}", exit.packet.ends),
            (None, Some(step)) => {
                let place =
                    self.position(step.place).map(|p| format!(" ({p})")).unwrap_or_default();
                let by = self.decider(hop.device, step);
                let text = self.result(hop.device, step);
                format!("{device} has {came}: {} {text}{by}{place}", label(step.stage))
            }
            (None, None) => format!("{device} has {came}"),
        }
    }

    /// Whether a step of a device has said already why the packet goes no further.
    pub fn is_told(self, trace: &Trace) -> bool {
        let step = trace.hops.last().and_then(|h| h.steps.last()).map(|s| s.result);
        self.followed.loss.is_some_and(|loss| step == Some(StageResult::Dropped(loss.reason)))
    }

    /// Who answers for the next address.
    pub fn handover(self, handover: &Handover) -> String {
        let address = handover.address;
        match self.owner(handover) {
            None => format!("no host or device answers for {address}"),
            Some(who) if who.starts_with(&address.to_string()) => format!("to {who}"),
            Some(who) => format!("to {address}, which {who} answers for"),
        }
    }

    /// What decided a step, as the end of its sentence.
    pub fn decider(self, device: DeviceId, step: &Step) -> String {
        match (self.by(device, step.by), step.result) {
            // it is in the sentence already
            (Some(_), StageResult::Known { .. }) | (None, _) => String::new(),
            (Some(_), _) if matches!(step.by, By::Interface(_)) && step.stage == Stage::Route => {
                " (connected)".to_owned()
            }
            (Some(by), _) if step.stage == Stage::Own => format!(" on {by}"),
            (Some(by), _) => format!(" by {by}"),
        }
    }

    /// A step as evidence, in a sentence.
    pub fn evidence(self, device: DeviceId, step: &Step) -> String {
        let text = self.result(device, step);
        format!("{text}{}", self.decider(device, step))
    }

    /// What a step came to.
    pub fn result(self, device: DeviceId, step: &Step) -> String {
        match step.result {
            StageResult::NotAttached => "none attached".into(),
            StageResult::Accepted => "accepted".into(),
            StageResult::New => "none yet".into(),
            StageResult::Known { from_initiator } => {
                let what = if from_initiator { "known" } else { "an answer" };
                let of =
                    self.by(device, step.by).map(|r| format!(", made by {r}")).unwrap_or_default();
                format!("{what}{of}")
            }
            StageResult::Translated { from, to } if from == to => format!("{from} stays"),
            StageResult::Translated { from, to } => format!("{from} becomes {to}"),
            StageResult::Unchanged(Reason::NoRule) => "as it is: no rule matches".into(),
            StageResult::Unchanged(reason) => format!("as it is: {reason}"),
            StageResult::NotOwn => "not for this device".into(),
            StageResult::Answered => "the device answers".into(),
            StageResult::Taken => "the device takes it".into(),
            StageResult::Routed { interface, next_hop } => {
                format!("{} to {next_hop}", self.naming.interface(device, interface))
            }
            StageResult::Committed { mapping: true } => "a new mapping and session".into(),
            StageResult::Committed { mapping: false } => "a new session".into(),
            StageResult::Dropped(reason) => format!("dropped, {reason}"),
        }
    }
}

/// The devices up to where the way repeats itself, and how many there were after that.
pub fn without_rounds(trace: &Trace) -> (&[Hop], usize) {
    let same =
        |a: &Hop, b: &Hop| (a.device, a.ingress, a.packet) == (b.device, b.ingress, b.packet);
    let first =
        (0..trace.hops.len()).find(|i| trace.hops[..*i].iter().any(|h| same(h, &trace.hops[*i])));
    let end = first.unwrap_or(trace.hops.len());
    (&trace.hops[..end], trace.hops.len() - end)
}

/// How often a way repeats itself, in words.
pub fn rounds(again: usize) -> String {
    format!("and again: {again} more devices in the same loop")
}

/// What a step is called for people.
pub fn label(stage: Stage) -> &'static str {
    match stage {
        Stage::IngressAcl => "ingress filter",
        Stage::Session => "session",
        Stage::Destination => "destination",
        Stage::Own => "local delivery",
        Stage::Route => "route",
        Stage::Policy => "policy",
        Stage::Source => "source",
        Stage::EgressAcl => "egress filter",
        Stage::Commit => "commit",
    }
}
