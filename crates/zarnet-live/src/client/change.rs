//! One change of a device's configuration: written once, read back, tested, kept or taken back.
//!
//! What the device says is a hint; what it has when it is read again counts.

use std::time::{Duration, Instant as WallTime};

use serde_json::Value;
use zarnet_core::plan::{DeviceId, Plan};
use zarnet_formats::data_model::{Edit, difference};
use zarnet_formats::ietf_nat::ModuleForm;
use zarnet_formats::plan::Loaded;

use super::planned::understood;
use super::{ClientError, Configuration, Device};

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

/// A device that is silent is asked again after this.
pub(super) const AGAIN: Duration = Duration::from_millis(200);

/// A change of a device's configuration.
pub(super) struct Change<'a> {
    pub(super) before: &'a Configuration,
    pub(super) target: &'a Value,
    pub(super) edits: &'a [Edit],
    pub(super) form: ModuleForm,
    /// Whether it has to be saved by an operation.
    pub(super) saves: bool,
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
            let error = match device.running() {
                Ok(now) => return self.judged(now),
                Err(error) => error,
            };
            if WallTime::now() >= until {
                return Found::Silent(error.to_string());
            }
            device.client.forget();
            std::thread::sleep(AGAIN);
        }
    }

    fn judged(&self, now: Configuration) -> Found {
        if same(&now.document, self.target) {
            Found::Target(now.version)
        } else if same(&now.document, &self.before.document) {
            Found::Before(now.version)
        } else {
            Found::Something(now.version)
        }
    }

    /// Makes the change, looks what the device has then, and keeps it or takes it back.
    pub(super) fn make(&self, device: &mut Device, sending: &mut Sending<'_>) -> Outcome {
        let confirm = device.abilities.confirm.then(|| sending.wait.as_secs().clamp(5, 1_800) * 2);
        let version = self.before.version.as_deref();
        let made = device.edit(self.edits, self.target, version, confirm);
        let told = match &made {
            Ok(()) => None,
            Err(ClientError::ChangedMeanwhile) => {
                let why = "somebody changed the configuration meanwhile: nothing was written";
                return Self::outcome(State::Refused, why, None);
            }
            Err(error) => Some(error.to_string()),
        };
        // what was said may be wrong, or nothing was said: what it has now counts
        let mut found = self.found(device, sending.wait);
        let until = WallTime::now() + sending.wait;
        let unanswered = matches!(made, Err(ClientError::NoAnswer(_)));
        // a device that has not answered may be busy with the edit still
        while unanswered && matches!(found, Found::Before(_)) && WallTime::now() < until {
            std::thread::sleep(AGAIN);
            found = self.found(device, sending.wait);
        }
        let version = match (found, told) {
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
        let now = device.running()?;
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
        if confirms && let Err(why) = confirm(device, sending.wait) {
            return Self::outcome(State::Unknown, why, version);
        }
        let outcome = self.kept(device, sending.wait);
        if outcome.state != State::Kept || !self.saves_by_operation() {
            return outcome;
        }
        let saved = self.save(device, sending.wait);
        // it may have restarted instead of saving
        let mut outcome = self.kept(device, sending.wait);
        if outcome.state == State::Kept {
            outcome.saved = Some(saved.is_ok());
            if let Err(error) = saved {
                outcome.why = format!("it runs, and could not be saved: {error}");
            }
        }
        outcome
    }

    /// Whether the device still has what was sent.
    fn kept(&self, device: &mut Device, wait: Duration) -> Outcome {
        let (state, why, version) = match self.found(device, wait) {
            Found::Target(version) => (State::Kept, String::new(), version),
            Found::Before(version) => {
                let why = "the device took the edit back by itself, or restarted";
                (State::TakenBack, why.into(), version)
            }
            Found::Something(version) => {
                let why = "the edit was made; since then somebody changed the configuration again";
                (State::Unknown, why.into(), version)
            }
            Found::Silent(error) => {
                let why =
                    format!("the edit was made; since then the device cannot be read: {error}");
                (State::Unknown, why, None)
            }
        };
        Self::outcome(state, why, version)
    }

    /// Whether what runs is saved, where the device saves only when told. If it is not, and may be
    /// written, it is saved; why that failed.
    pub(super) fn saved(
        &self,
        device: &mut Device,
        sending: &Sending<'_>,
    ) -> (Option<bool>, String) {
        if !self.saves_by_operation() {
            return (None, String::new());
        }
        match device.saved() {
            Ok(Some(saved)) if same(&saved.document, self.target) => (Some(true), String::new()),
            Ok(Some(_)) if sending.write => match self.save(device, sending.wait) {
                Ok(()) => (Some(true), String::new()),
                Err(error) => (Some(false), format!("it could not be saved: {error}")),
            },
            Ok(Some(_)) => (Some(false), String::new()),
            Ok(None) | Err(_) => (None, String::new()),
        }
    }

    fn saves_by_operation(&self) -> bool {
        self.saves && self.form == ModuleForm::WithPolicy
    }

    /// Saves what runs. It is done when what is saved is that.
    fn save(&self, device: &mut Device, wait: Duration) -> Result<(), String> {
        let until = WallTime::now() + wait;
        loop {
            let told = device.operate("save");
            let error = match (device.saved(), told) {
                (Ok(Some(saved)), _) if same(&saved.document, self.target) => return Ok(()),
                // it does not show what it has saved
                (Ok(None), Ok(())) => return Ok(()),
                (Err(error), _) | (_, Err(error)) => error.to_string(),
                (Ok(_), Ok(())) => "it said that it was, and it is not".into(),
            };
            if WallTime::now() >= until {
                return Err(error);
            }
            std::thread::sleep(AGAIN);
        }
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
        let until = WallTime::now() + sending.wait;
        loop {
            // one that waits to be confirmed the device takes back itself
            let back = match device.abilities.confirm {
                true => device.operate("take-back"),
                false => {
                    let before = &self.before.document;
                    device.edit(&edits, before, version.as_deref(), None)
                }
            };
            match self.found(device, sending.wait) {
                Found::Before(version) => return Self::outcome(State::TakenBack, why, version),
                // nothing has come of it, and nobody else was there: another try harms nobody
                Found::Target(now) if now == version && WallTime::now() < until => {}
                Found::Target(version) => {
                    let said = match back {
                        Ok(()) => "it said that it was taken back, and it is not".into(),
                        Err(error) => error.to_string(),
                    };
                    let why = format!("{why}, and the edit could not be taken back: {said}");
                    return Self::outcome(State::Unknown, why, version);
                }
                Found::Something(version) => {
                    let why = format!(
                        "{why}, and somebody else has changed the configuration since: it was not \
                         taken back"
                    );
                    return Self::outcome(State::Unknown, why, version);
                }
                Found::Silent(error) => {
                    let why =
                        format!("{why}; whether the edit is taken back is not known: {error}");
                    return Self::outcome(State::Unknown, why, version);
                }
            }
            std::thread::sleep(AGAIN);
        }
    }
}

/// Confirms an edit. What the device says of that may be wrong, or get lost: it is done when
/// nothing waits any more.
fn confirm(device: &mut Device, wait: Duration) -> Result<(), String> {
    let until = WallTime::now() + wait;
    loop {
        let told = device.operate("confirm");
        let why = match device.pending() {
            Ok((None, _)) => return Ok(()),
            Ok((Some(_), _)) => {
                let said = told.err().map(|e| format!(" ({e})")).unwrap_or_default();
                format!(
                    "the edit was made, and the device does not take its confirmation{said}: it \
                     takes it back by itself"
                )
            }
            Err(error) => format!(
                "the edit was made; whether it is confirmed is not known: {error}. Without that \
                 the device takes it back by itself"
            ),
        };
        if WallTime::now() >= until {
            return Err(why);
        }
        std::thread::sleep(AGAIN);
    }
}

fn same(a: &Value, b: &Value) -> bool {
    difference(a, b).is_empty() && difference(b, a).is_empty()
}

fn count(edits: usize) -> String {
    if edits == 1 { "1 edit".into() } else { format!("{edits} edits") }
}
