//! What is lost between a plan and a document of the standard data models, and what is wrong with
//! one.

use zarnet_core::limits;
use zarnet_formats::data_model::Fault;
use zarnet_formats::ietf_nat::{Imported, Loss};

use super::diagnostic;
use super::table::count;

/// As many things are told one by one.
const MOST: usize = 20;

/// Tells what a document does not hold of a device.
pub fn tell_losses(losses: &[Loss], quiet: bool) {
    if quiet {
        return;
    }
    let (weighty, others): (Vec<&Loss>, Vec<&Loss>) =
        losses.iter().partition(|l| l.kind.changes_traffic());
    for loss in weighty.iter().take(MOST) {
        let help = Some(loss.kind.advice()).filter(|a| !a.is_empty());
        diagnostic::warn(loss.kind.name(), &format!("not in the document: {loss}"), help);
    }
    if weighty.len() > MOST {
        let more = count((weighty.len() - MOST) as u64, "thing", "things");
        diagnostic::note(false, &format!("... and {more} more that change what passes"));
    }
    for loss in others.iter().take(MOST) {
        diagnostic::note(false, &format!("not in the document: {loss}"));
    }
    if others.len() > MOST {
        diagnostic::note(false, &format!("... and {} more", others.len() - MOST));
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
pub fn tell_faults(faults: &[Fault], files: &str) {
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
