//! What a change changes in the files of a plan, as a diff.

use similar::TextDiff;
use zarnet_formats::source::Sources;

/// What a change changes in the files of a plan.
pub fn diff(old: &Sources, new: &Sources) -> String {
    let mut text = String::new();
    for (a, b) in old.0.iter().zip(&new.0).filter(|(a, b)| a.text() != b.text()) {
        let name = a.path.display().to_string();
        let diff = TextDiff::from_lines(a.text(), b.text());
        text += &diff.unified_diff().context_radius(2).header(&name, &name).to_string();
    }
    text
}
