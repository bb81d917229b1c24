//! What is lost between a plan and a document of the standard data models, and what is wrong with
//! one.

use zarnet_core::limits;
use zarnet_formats::data_model::DataFault;
use zarnet_formats::ietf_nat::{Imported, Loss, LossKind};

use super::diagnostic;
use super::table::count;

/// As many things are told one by one.
const MOST: usize = 20;

/// Tells what a document does not hold of a device.
pub fn tell_losses(losses: &[Loss], quiet: bool) {
    if quiet {
        return;
    }
    let mut kinds: Vec<LossKind> = Vec::new();
    for loss in losses {
        if !kinds.contains(&loss.kind) {
            kinds.push(loss.kind);
        }
    }
    for kind in kinds {
        let own: Vec<&Loss> = losses.iter().filter(|l| l.kind == kind).collect();
        let mut told: Vec<String> = own.iter().take(MOST).map(|l| l.things()).collect();
        told.retain(|t| !t.is_empty());
        if own.len() > MOST {
            told.push(format!("and {} more", own.len() - MOST));
        }
        let what = if told.is_empty() { String::new() } else { format!(": {}", told.join(", ")) };
        let message = format!("not in the document: {}{what}", kind.sentence());
        let help = Some(kind.advice()).filter(|a| !a.is_empty());
        match kind.changes_traffic() {
            true => diagnostic::warn(kind.name(), &message, help),
            false => diagnostic::note(false, &message),
        }
    }
}

/// Tells what a plan does not hold of a document, and what was taken where the document leaves it
/// open.
pub fn tell_import(imported: &Imported, quiet: bool) {
    if quiet {
        return;
    }
    for left in imported.left_out.iter().take(MOST) {
        diagnostic::note(false, &format!("not in the plan: {} ({})", left.path, left.value));
    }
    if imported.left_out.len() > MOST {
        diagnostic::note(false, &format!("... and {} more", imported.left_out.len() - MOST));
    }
    for told in imported.assumed.iter().take(MOST) {
        diagnostic::note(false, told);
    }
    if imported.assumed.len() > MOST {
        diagnostic::note(false, &format!("... and {} more", imported.assumed.len() - MOST));
    }
}

/// Tells what is wrong with a document, each fault with its path.
pub fn tell_faults(faults: &[DataFault], files: &str) {
    for fault in faults.iter().take(limits::PROBLEMS_SHOWN) {
        diagnostic::say("invalid-data", &fault.to_string(), None, None);
    }
    if faults.len() > limits::PROBLEMS_SHOWN {
        let more = faults.len() - limits::PROBLEMS_SHOWN;
        diagnostic::note(false, &format!("... and {more} more"));
    }
    diagnostic::note(
        false,
        &format!("{} in {files}", count(faults.len() as u64, "fault", "faults")),
    );
}
