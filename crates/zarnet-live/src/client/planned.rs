//! A device's configuration and a plan: each as the other.

use serde_json::Value;
use zarnet_core::plan::DeviceId;
use zarnet_formats::data_model::{difference, merged};
use zarnet_formats::ietf_nat::{
    Exported, ImportError, Imported, ModuleForm, align, export, import,
};
use zarnet_formats::plan::{LoadError, Loaded, from_text};

use super::ClientError;

/// What the device is to have: what it has, with all that is to be another. Entries keep the numbers
/// that the device has given them.
pub(super) fn target(
    running: &Value,
    before: &Loaded,
    wanted: &Exported,
    form: ModuleForm,
) -> Value {
    let mut known = export(&before.plan, DeviceId(0), form).document;
    let mut wanted = wanted.document.clone();
    align(&mut known, running);
    align(&mut wanted, running);
    merged(running, &known, &wanted)
}

/// Whether a configuration means what is wanted, as far as its form can say it.
pub(super) fn comes_to(target: &Value, wanted: &Exported, form: ModuleForm, name: &str) -> bool {
    let normal = |document: &Value| {
        let (_, loaded) = understood(document, name).ok()?;
        Some(export(&loaded.plan, DeviceId(0), form).document)
    };
    let (Some(mut target), Some(wanted)) = (normal(target), normal(&wanted.document)) else {
        return false;
    };
    align(&mut target, &wanted);
    difference(&target, &wanted).is_empty()
}

/// A configuration as a plan.
///
/// # Errors
/// The modules do not allow it, or it comes to no plan.
pub fn understood(document: &Value, name: &str) -> Result<(Imported, Loaded), ClientError> {
    let imported = import(document, name).map_err(|error| match error {
        ImportError::Faults(faults) => {
            let told: Vec<String> = faults.iter().take(3).map(ToString::to_string).collect();
            ClientError::NotData(told.join("; "))
        }
        ImportError::NothingThere => ClientError::NotData("there is no configuration in it".into()),
    })?;
    match from_text(std::path::Path::new("device.toml"), imported.text.clone()) {
        Ok(loaded) => Ok((imported, loaded)),
        Err(LoadError::Problems { problems, .. }) => {
            let told: Vec<String> =
                problems.kept().iter().take(3).map(|p| p.error.to_string()).collect();
            Err(ClientError::NotData(format!("it comes to no plan: {}", told.join("; "))))
        }
        Err(LoadError::Unreadable { error, .. }) => Err(ClientError::NotData(error.to_string())),
    }
}
