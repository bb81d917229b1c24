//! The configuration of a device: what runs, what is saved, and what may be taken back.

use std::path::Path;
use std::sync::Arc;
use std::time::Instant as WallTime;

use serde_json::Value;
use zarnet_core::plan::Plan;
use zarnet_formats::data_model::{DataFault, Edit, Foreign, apply, check};
use zarnet_formats::ietf_nat::{ImportError, ModuleForm, import};
use zarnet_formats::plan::{LoadError, from_text};

/// When the running configuration is saved.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Saving {
    /// With each edit (RFC 8040 §1.4).
    WithEdit,
    /// Only by the save operation.
    Explicit,
}

/// The configuration of a device.
pub(super) struct Datastore {
    pub(super) running: Arc<Value>,
    pub(super) startup: Arc<Value>,
    pub(super) form: ModuleForm,
    pub(super) saving: Saving,
    /// Counts changes; with the run it tells configurations apart.
    changes: u64,
    run: u64,
    /// When the running configuration was changed last, as HTTP writes dates.
    pub(super) changed: jiff::Timestamp,
    pub(super) unconfirmed: Option<Unconfirmed>,
}

/// An edit that is taken back unless somebody confirms it.
pub(super) struct Unconfirmed {
    pub(super) before: Arc<Value>,
    pub(super) until: WallTime,
    pub(super) told_until: String,
    /// The change that it is.
    pub(super) change: u64,
}

/// Why a configuration is not taken: what RFC 8040 §7.1 calls it, where, and what is wrong.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Refused {
    pub(super) tag: &'static str,
    pub(super) path: Option<String>,
    pub(super) message: String,
}

impl Refused {
    pub(super) fn new(tag: &'static str, message: impl Into<String>) -> Self {
        Self { tag, path: None, message: message.into() }
    }

    pub(super) fn at(self, path: impl Into<String>) -> Self {
        Self { path: Some(path.into()), ..self }
    }
}

impl Datastore {
    pub(super) fn new(document: Value, form: ModuleForm, saving: Saving, run: u64) -> Self {
        let document = Arc::new(document);
        Self {
            running: document.clone(),
            startup: document,
            form,
            saving,
            changes: 1,
            run,
            changed: jiff::Timestamp::now(),
            unconfirmed: None,
        }
    }

    /// What the running configuration is known by (RFC 8040 §3.4.1.2).
    pub(super) fn tag(&self) -> String {
        format!("\"{:08x}-{}\"", self.run as u32, self.changes)
    }

    pub(super) fn change(&self) -> u64 {
        self.changes
    }

    /// The running configuration is another now.
    pub(super) fn set_running(&mut self, document: Arc<Value>) {
        self.running = document;
        self.changes += 1;
        self.changed = jiff::Timestamp::now();
        if self.saving == Saving::WithEdit && self.unconfirmed.is_none() {
            self.save();
        }
    }

    pub(super) fn save(&mut self) {
        self.startup = self.running.clone();
    }
}

/// A document with some edits made, or why one of them cannot be: then none is.
pub(super) fn edited(document: &Value, edits: &[Edit]) -> Result<Value, (usize, Refused)> {
    let mut document = document.clone();
    for (i, edit) in edits.iter().enumerate() {
        apply(&mut document, edit).map_err(|error| {
            use zarnet_formats::data_model::EditError as E;
            let (tag, path) = match &error {
                E::Exists(path) => ("data-exists", path),
                E::Missing(path) => ("data-missing", path),
                E::Senseless(path, _) => ("invalid-value", path),
            };
            (i, Refused::new(tag, error.to_string()).at(path.to_string()))
        })?;
    }
    Ok(document)
}

/// The plan that a document comes to: only what it can be made to do is taken.
pub(super) fn planned(
    document: &Value,
    form: ModuleForm,
    name: &str,
) -> Result<Plan, Vec<Refused>> {
    let of_fault =
        |f: &DataFault| Refused::new("invalid-value", f.kind.to_string()).at(f.path.clone());
    if form == ModuleForm::Standard && document.get("zarnet-policy:edge").is_some() {
        let message = "this device does not know the module zarnet-policy";
        return Err(vec![Refused::new("unknown-namespace", message).at("/zarnet-policy:edge")]);
    }
    check(document, Foreign::Refused)
        .map_err(|faults| faults.iter().map(of_fault).collect::<Vec<_>>())?;
    if zarnet_formats::data_model::holds_state(document) {
        return Err(vec![Refused::new("invalid-value", "state cannot be configured")]);
    }
    let imported = match import(document, name) {
        Ok(imported) => imported,
        Err(ImportError::Faults(faults)) => return Err(faults.iter().map(of_fault).collect()),
        Err(ImportError::NothingThere) => {
            return Err(vec![Refused::new("invalid-value", "there is no configuration in it")]);
        }
    };
    match from_text(Path::new("running"), imported.text) {
        Ok(loaded) => Ok(loaded.plan),
        Err(LoadError::Problems { problems, .. }) => Err(problems
            .kept()
            .iter()
            .map(|p| Refused::new("invalid-value", p.error.to_string()))
            .collect()),
        Err(LoadError::Unreadable { error, .. }) => {
            Err(vec![Refused::new("operation-failed", error.to_string())])
        }
    }
}
