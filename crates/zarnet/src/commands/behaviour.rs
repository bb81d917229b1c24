//! `zarnet behaviour [NAME]`

use std::path::Path;

use zarnet_analysis::answer::behaviour::BehaviourAnswer;
use zarnet_core::plan::Preset;

use crate::args::{BehaviourArgs, Common};
use crate::exit::{FINE, Failure};
use crate::present::{behaviour, present};

pub fn run(args: &BehaviourArgs, common: &Common) -> Result<u8, Failure> {
    let answer = asked_for(args.name.as_deref(), common)?;
    present(&answer, common, |out, width| behaviour::text(&answer, out, width))?;
    Ok(FINE)
}

/// All presets, one of them, or the devices of a plan.
fn asked_for(name: Option<&str>, common: &Common) -> Result<BehaviourAnswer, Failure> {
    let presets = BehaviourAnswer::of_presets(name);
    let Some(name) = name.filter(|_| presets.subjects.is_empty()) else { return Ok(presets) };
    if !Path::new(name).exists() {
        let names: Vec<&str> = Preset::ALL.iter().map(|p| p.0).collect();
        let help = format!("the presets are {}; a plan's path shows its devices", names.join(", "));
        let message = format!("there is no preset or plan `{name}`");
        return Err(Failure::wrong("unknown-name", message, help));
    }
    Ok(BehaviourAnswer::of_plan(&super::plan(Path::new(name), common)?.plan))
}
