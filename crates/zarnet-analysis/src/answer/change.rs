//! What a change changes in the files of a plan, as a diff.

use diffy::{DiffOptions, PatchFormatter};
use zarnet_formats::source::Sources;

/// What a change changes in the files of a plan.
pub fn diff(old: &Sources, new: &Sources) -> String {
    let mut text = String::new();
    // a blank line of the context keeps its column, as other lines do
    let format = PatchFormatter::new().suppress_blank_empty(false);
    for (a, b) in old.0.iter().zip(&new.0).filter(|(a, b)| a.text() != b.text()) {
        let name = a.path.display().to_string();
        let mut options = DiffOptions::new();
        options.set_context_len(2).set_original_filename(name.clone()).set_modified_filename(name);
        let patch = options.create_patch(a.text(), b.text());
        text += &format.fmt_patch(&patch).to_string();
    }
    text
}
