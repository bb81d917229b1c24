//! A plan onto a device: read, compare, write once, read back, test, keep or take back.
//!
//! Whatever happens on the way, the device ends as it was before, as it is wanted, or the answer says
//! that nobody knows.

use std::time::{Duration, Instant as WallTime};

use serde_json::Value;
use zarnet_core::plan::{DeviceId, Plan};
use zarnet_formats::data_model::{Edit, difference};
use zarnet_formats::ietf_nat::{Exported, Imported, ModuleForm, export};
use zarnet_formats::plan::Loaded;

use super::planned::{comes_to, target, understood};
use super::{ClientError, Configuration, Device, Store};

/// How a device came out of it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum State {
    /// It is as planned already.
    Unchanged,
    /// Nothing was changed: it cannot hold the plan, or refused the edit.
    Refused,
    /// It differs, and nothing was to be written.
    Differs,
    /// The edit was made, and stays.
    Kept,
    /// The edit was made, and taken back.
    TakenBack,
    /// Nobody knows.
    Unknown,
}

impl State {
    /// Its name.
    pub fn name(self) -> &'static str {
        match self {
            Self::Unchanged => "unchanged",
            Self::Refused => "refused",
            Self::Differs => "differs",
            Self::Kept => "kept",
            Self::TakenBack => "taken-back",
            Self::Unknown => "unknown",
        }
    }
}

/// What is to be sent, and how.
pub struct Sending<'a> {
    /// The plan.
    pub plan: &'a Plan,
    /// The device of it that is meant.
    pub device: DeviceId,
    /// Whether anything is written.
    pub write: bool,
    /// How long is waited until a device that is silent counts as unknown.
    pub wait: Duration,
    /// Whether what the device has then is as expected: asked with its configuration as a plan.
    pub holds: &'a mut dyn FnMut(&Loaded, &mut Device) -> bool,
}

/// What a device has, and what was to come of it.
#[derive(Debug, Clone)]
pub struct Outcome {
    /// How it came out.
    pub state: State,
    /// Why, in a sentence; empty where the state says it.
    pub why: String,
    /// The version of its configuration, if that is known.
    pub version: Option<String>,
    /// Whether it is saved, where the device does not save with each edit.
    pub saved: Option<bool>,
}

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
    let running = running(device)?;
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
    if sent.edits.is_empty() {
        return Ok(sent);
    }
    if sent.wanted.losses.iter().any(|l| l.kind.changes_traffic()) {
        sent.outcome.state = State::Refused;
        sent.outcome.why =
            "the device cannot hold all of the plan: other packets would pass than planned".into();
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
    let change = Change { before: &running, target: &target, edits: &sent.edits, form, saves };
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
        std::thread::sleep(Duration::from_millis(200));
    }
}

fn running(device: &mut Device) -> Result<Configuration, ClientError> {
    let running = device.configuration(Store::Running)?;
    running.ok_or_else(|| ClientError::NotData("it has no running configuration".into()))
}

/// A change of a device's configuration.
struct Change<'a> {
    before: &'a Configuration,
    target: &'a Value,
    edits: &'a [Edit],
    form: ModuleForm,
    /// Whether it has to be saved by an operation.
    saves: bool,
}

/// What a device has, by what it should have.
#[derive(Debug, PartialEq)]
enum Found {
    Before(Option<String>),
    Target(Option<String>),
    Something(Option<String>),
    Silent(String),
}

impl Change<'_> {
    fn outcome(state: State, why: impl Into<String>, version: Option<String>) -> Outcome {
        Outcome { state, why: why.into(), version, saved: None }
    }

    /// What the device has now; asked again as long as it is silent and there is time.
    fn found(&self, device: &mut Device, wait: Duration) -> Found {
        let until = WallTime::now() + wait;
        loop {
            let error = match running(device) {
                Ok(now) => return self.judged(now),
                Err(error) => error,
            };
            if WallTime::now() >= until {
                return Found::Silent(error.to_string());
            }
            device.client.forget();
            std::thread::sleep(Duration::from_millis(200));
        }
    }

    fn judged(&self, now: Configuration) -> Found {
        let same =
            |a: &Value, b: &Value| difference(a, b).is_empty() && difference(b, a).is_empty();
        if same(&now.document, self.target) {
            Found::Target(now.version)
        } else if same(&now.document, &self.before.document) {
            Found::Before(now.version)
        } else {
            Found::Something(now.version)
        }
    }

    fn make(&self, device: &mut Device, sending: &mut Sending<'_>) -> Outcome {
        let confirm = device.abilities.confirm.then(|| sending.wait.as_secs().clamp(5, 1_800) * 2);
        let version = self.before.version.as_deref();
        let made = device.edit(self.edits, self.target, version, confirm);
        let told = match &made {
            Ok(_) => None,
            Err(ClientError::ChangedMeanwhile) => {
                let why = "somebody changed the configuration meanwhile: nothing was written";
                return Self::outcome(State::Refused, why, None);
            }
            Err(error) => Some(error.to_string()),
        };
        // what was said may be wrong, or nothing was said: what it has now counts
        let version = match (self.found(device, sending.wait), told) {
            (Found::Target(version), _) => version,
            (Found::Before(version), told) => {
                let said = told.unwrap_or_else(|| "it said that the edit was made".into());
                let why = format!("{said}; the configuration is as it was before");
                return Self::outcome(State::Refused, why, version);
            }
            (Found::Something(version), told) => {
                let said = told.map(|t| format!("{t}; ")).unwrap_or_default();
                let why = format!(
                    "{said}the configuration is neither as before nor as planned: somebody else \
                     changed it, or the device made a part of the edit"
                );
                return Self::outcome(State::Unknown, why, version);
            }
            (Found::Silent(error), told) => {
                let said = told.map(|t| format!("{t}; ")).unwrap_or_default();
                let back = match confirm {
                    Some(s) => format!(
                        " If the edit was made, the device takes it back by itself {s} s after."
                    ),
                    None => String::new(),
                };
                let why = format!(
                    "{} were sent; {said}since then the device cannot be read: {error}.{back}",
                    count(self.edits.len())
                );
                return Self::outcome(State::Unknown, why, None);
            }
        };
        let holds = self.holds(device, sending);
        match holds {
            Ok(true) => self.keep(device, sending, version, confirm.is_some()),
            Ok(false) => self.take_back(device, sending, version, "an expectation does not hold"),
            Err(error) => {
                let why = format!("the expectations cannot be tested: {error}");
                self.take_back(device, sending, version, &why)
            }
        }
    }

    fn holds(&self, device: &mut Device, sending: &mut Sending<'_>) -> Result<bool, ClientError> {
        let name = &sending.plan.devices[sending.device.index()].name;
        let now = running(device)?;
        let (_, loaded) = understood(&now.document, name)?;
        Ok((sending.holds)(&loaded, device))
    }

    /// Lets the edit stay, and saves it.
    fn keep(
        &self,
        device: &mut Device,
        sending: &Sending<'_>,
        version: Option<String>,
        confirms: bool,
    ) -> Outcome {
        if confirms {
            let mut confirmed = device.operate("confirm");
            let until = WallTime::now() + sending.wait;
            while confirmed.is_err() {
                // it may have been taken, and the answer lost
                match device.pending() {
                    Ok((None, _)) => break,
                    Ok((Some(_), _)) => confirmed = device.operate("confirm"),
                    Err(error) if WallTime::now() >= until => {
                        let why = format!(
                            "the edit was made; whether it is confirmed is not known: {error}. \
                             Without that the device takes it back by itself"
                        );
                        return Self::outcome(State::Unknown, why, version);
                    }
                    Err(_) => std::thread::sleep(Duration::from_millis(200)),
                }
                if WallTime::now() >= until && confirmed.is_err() {
                    let why = "the edit was made, and the device does not take its confirmation: it \
                               takes it back by itself";
                    return Self::outcome(State::Unknown, why, version);
                }
            }
        }
        let found = self.found(device, sending.wait);
        let mut outcome = match found {
            Found::Target(version) => Self::outcome(State::Kept, "", version),
            Found::Before(version) => Self::outcome(
                State::TakenBack,
                "the device took the edit back by itself, or restarted",
                version,
            ),
            Found::Something(version) => Self::outcome(
                State::Unknown,
                "the edit was made; since then somebody changed the configuration again",
                version,
            ),
            Found::Silent(error) => Self::outcome(
                State::Unknown,
                format!("the edit was made; since then the device cannot be read: {error}"),
                version,
            ),
        };
        if outcome.state == State::Kept && self.saves && self.form == ModuleForm::WithPolicy {
            let saved = device.operate("save").or_else(|_| device.operate("save"));
            outcome.saved = Some(saved.is_ok());
            if let Err(error) = saved {
                outcome.why = format!("it runs, and could not be saved: {error}");
            }
        }
        outcome
    }

    /// Takes the edit back, if nobody else has changed anything since.
    fn take_back(
        &self,
        device: &mut Device,
        sending: &Sending<'_>,
        version: Option<String>,
        why: &str,
    ) -> Outcome {
        let edits = difference(self.target, &self.before.document);
        // one that waits to be confirmed the device takes back itself
        let back = match device.abilities.confirm {
            true => device.operate("take-back"),
            false => {
                device.edit(&edits, &self.before.document, version.as_deref(), None).map(|_| ())
            }
        };
        match self.found(device, sending.wait) {
            Found::Before(version) => Self::outcome(State::TakenBack, why, version),
            Found::Target(version) => {
                let error = back.err().map(|e| e.to_string()).unwrap_or_default();
                let why = format!("{why}, and the edit could not be taken back: {error}");
                Self::outcome(State::Unknown, why, version)
            }
            Found::Something(version) => {
                let why = format!(
                    "{why}, and somebody else has changed the configuration since: it was not taken \
                     back"
                );
                Self::outcome(State::Unknown, why, version)
            }
            Found::Silent(error) => {
                let why = format!("{why}; whether the edit is taken back is not known: {error}");
                Self::outcome(State::Unknown, why, version)
            }
        }
    }
}

fn count(edits: usize) -> String {
    if edits == 1 { "1 edit".into() } else { format!("{edits} edits") }
}
