//! What a change changes in the files of a plan, as a diff.

use diffy::{DiffOptions, PatchFormatter};
use zarnet_formats::source::Sources;

/// What a change changes in the files of a plan.
pub fn diff(old: &Sources, new: &Sources) -> String {
    let mut text = String::new();
    for (a, b) in old.0.iter().zip(&new.0).filter(|(a, b)| a.text() != b.text()) {
        let name = a.path.display().to_string();
        text += &diff_of_texts((&name, a.text()), (&name, b.text()));
    }
    text
}

/// What differs between two texts, each with its name, as a diff; nothing if they are equal.
pub fn diff_of_texts((old_name, old): (&str, &str), (new_name, new): (&str, &str)) -> String {
    if old == new {
        return String::new();
    }
    // a blank line of the context keeps its column, as other lines do
    let format = PatchFormatter::new().suppress_blank_empty(false);
    let mut options = DiffOptions::new();
    options
        .set_context_len(2)
        .set_original_filename(old_name.to_owned())
        .set_modified_filename(new_name.to_owned());
    format.fmt_patch(&options.create_patch(old, new)).to_string()
}
