//! A plan onto a device: read, compare, write once, read back, test, keep or take back.
//!
//! Whatever happens on the way, the device ends as it was before, as it is wanted, or the answer says
//! that nobody knows.

use std::time::{Duration, Instant as WallTime};

use zarnet_formats::data_model::{Edit, difference};
use zarnet_formats::ietf_nat::{Exported, Imported, export};
use zarnet_formats::plan::Loaded;

use super::change::{AGAIN, Change, Outcome, Sending, State};
use super::planned::{comes_to, target, understood};
use super::{ClientError, Device};

/// What was found, and what came of it.
pub struct Sent {
    /// The device's configuration before, as a plan.
    pub before: Loaded,
    /// What of that is in no plan.
    pub imported: Imported,
    /// The plan as the device would hold it, and what it cannot hold.
    pub wanted: Exported,
    /// The edits that lead there.
    pub edits: Vec<Edit>,
    /// What came of it.
    pub outcome: Outcome,
}

/// Sends a plan.
///
/// # Errors
/// The device cannot be read, or what it has is not understood: nothing was written.
pub fn send(device: &mut Device, sending: &mut Sending<'_>) -> Result<Sent, ClientError> {
    let form = device.form();
    let (pending, saves) = settled(device, sending.wait)?;
    let running = device.running()?;
    let wanted = export(sending.plan, sending.device, form);
    let name = &sending.plan.devices[sending.device.index()].name;
    let (imported, before) = understood(&running.document, name)?;
    let target = target(&running.document, &before, &wanted, form);
    let edits = difference(&running.document, &target);
    let mut sent = Sent {
        before,
        imported,
        wanted,
        edits,
        outcome: Outcome {
            state: State::Unchanged,
            why: String::new(),
            version: running.version.clone(),
            saved: None,
        },
    };
    if let Some(until) = pending {
        sent.outcome.state = State::Unknown;
        sent.outcome.why = format!(
            "another edit waits to be confirmed until {until}: whether it stays is not known"
        );
        return Ok(sent);
    }
    if sent.wanted.losses.iter().any(|l| l.kind.changes_traffic()) {
        sent.outcome.state = State::Refused;
        sent.outcome.why =
            "the device cannot hold all of the plan: other packets would pass than planned".into();
        return Ok(sent);
    }
    let change = Change { before: &running, target: &target, edits: &sent.edits, form, saves };
    if sent.edits.is_empty() {
        // a save that failed is made up for
        (sent.outcome.saved, sent.outcome.why) = change.saved(device, sending);
        return Ok(sent);
    }
    if !comes_to(&target, &sent.wanted, form, name) {
        sent.outcome.state = State::Refused;
        sent.outcome.why = "the device lays its configuration out in a way that the change cannot \
                            be merged into"
            .into();
        return Ok(sent);
    }
    if !sending.write {
        sent.outcome.state = State::Differs;
        return Ok(sent);
    }
    sent.outcome = change.make(device, sending);
    Ok(sent)
}

/// Waits until no edit waits to be confirmed, if that ends in time; when the device saves.
fn settled(device: &mut Device, wait: Duration) -> Result<(Option<String>, bool), ClientError> {
    let until = WallTime::now() + wait;
    loop {
        let (pending, saves) = device.pending()?;
        if pending.is_none() || WallTime::now() >= until {
            return Ok((pending, saves));
        }
        std::thread::sleep(AGAIN);
    }
}
