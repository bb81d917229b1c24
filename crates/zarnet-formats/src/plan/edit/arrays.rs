//! Values of an array put in and taken out, with the comments between them kept.

use toml_edit::{Array, Value};

/// Puts a value in at a position, in the layout of those beside it.
pub(super) fn insert(array: &mut Array, at: usize, mut value: Value) {
    let at = at.min(array.len());
    let before = array.get(at).or(array.iter().last()).map(prefix).unwrap_or_default();
    let line = before.rfind('\n').map(|n| before[n..].to_owned());
    let line = line.as_deref().unwrap_or(" ");
    // a comment behind a value stays behind it, and one above a value above it
    if let Some(next) = array.get_mut(at) {
        match before.find('\n') {
            None => {
                next.decor_mut().set_prefix(" ");
                value.decor_mut().set_prefix(before);
            }
            Some(end) => {
                next.decor_mut().set_prefix(&before[end..]);
                value.decor_mut().set_prefix(format!("{}{line}", &before[..end]));
            }
        }
    } else if at > 0 {
        let mut trailing = array.trailing().as_str().unwrap_or("").to_owned();
        if let Some(last) = array.get_mut(at - 1) {
            let suffix = last.decor().suffix().and_then(|s| s.as_str()).unwrap_or("").to_owned();
            trailing.insert_str(0, &suffix);
            last.decor_mut().set_suffix("");
        }
        let (behind, rest) = trailing.split_at(trailing.find('\n').unwrap_or(0));
        value.decor_mut().set_prefix(format!("{behind}{line}"));
        array.set_trailing(rest);
    }
    array.insert_formatted(at, value);
}

/// Takes a value out, with the comments above it and behind it.
pub(super) fn remove(array: &mut Array, at: usize) -> Option<Value> {
    let (above, gone) = (prefix(array.get(at)?), array.remove(at));
    // up to the line end it is about the value before
    let kept = &above[..above.find('\n').unwrap_or(0)];
    let tail = |text: &str| text[text.find('\n').unwrap_or(0)..].to_owned();
    match array.get_mut(at) {
        Some(next) => {
            let own = prefix(next);
            let is_line = own.contains('\n');
            let own = if is_line { format!("{kept}{}", tail(&own)) } else { above };
            next.decor_mut().set_prefix(own);
        }
        None => {
            let behind = gone.decor().suffix().and_then(|s| s.as_str()).unwrap_or("");
            let trailing = format!("{behind}{}", array.trailing().as_str().unwrap_or(""));
            array.set_trailing(format!("{kept}{}", tail(&trailing)));
        }
    }
    Some(gone)
}

fn prefix(value: &Value) -> String {
    value.decor().prefix().and_then(|p| p.as_str()).unwrap_or("").to_owned()
}
