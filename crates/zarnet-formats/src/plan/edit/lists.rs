//! Tables of a device's lists: written anew, taken out, copied and moved. They stand under headers
//! of their own, `[[device.rule]]`, or in one array, `rule = [{ ... }]`.

use std::ops::Range;

use toml_edit::{Array, DocumentMut, InlineTable, TableLike};
use zarnet_core::plan::edit::{List, Value};
use zarnet_core::plan::{DevicePlan, Place, RuleId};

use super::alone::{only, table_at};
use super::values::{set, to_toml};
use super::{arrays, on_device};
use crate::source::Sources;

/// Writes a new table, in the layout of those beside it; at the end, or before another.
pub(super) fn insert(
    sources: &mut Sources,
    device: &DevicePlan,
    list: List,
    before: Option<usize>,
    entries: &[(&'static str, Value)],
) -> Option<()> {
    let entry = to_toml(&Value::Entry(entries.to_vec()));
    let done = in_array(sources, device, list, |array| {
        let at = before.unwrap_or(array.len());
        arrays::insert(array, at, entry.clone());
        Some(())
    });
    done.or_else(|| in_line(sources, device, list, &entry))
        .or_else(|| under_header(sources, device, list, before, entries))
}

/// Takes a rule out.
pub(super) fn remove(sources: &mut Sources, device: &DevicePlan, rule: RuleId) -> Option<()> {
    let done = in_array(sources, device, List::Rules, |array| {
        arrays::remove(array, rule.index()).map(|_| ())
    });
    done.or_else(|| {
        let place = device.rules[rule.index()].place;
        let text = sources.0.get_mut(usize::from(place.file))?.text_mut();
        let range = block(text, place)?;
        text.replace_range(range, "");
        Some(())
    })
}

/// Writes a copy of a rule below it, with other keys, and without some.
pub(super) fn copy(
    sources: &mut Sources,
    device: &DevicePlan,
    rule: RuleId,
    keys: &[(&'static str, Value)],
    left_out: &[&'static str],
) -> Option<()> {
    let change = |table: &mut dyn TableLike| {
        left_out.iter().for_each(|key| drop(table.remove(key)));
        keys.iter().try_for_each(|(key, value)| set(table, key, to_toml(value)))
    };
    let done = in_array(sources, device, List::Rules, |array| {
        let mut copy: InlineTable = array.get(rule.index())?.as_inline_table()?.clone();
        copy.decor_mut().clear();
        change(&mut copy)?;
        arrays::insert(array, rule.index() + 1, copy.into());
        Some(())
    });
    done.or_else(|| {
        let place = device.rules[rule.index()].place;
        let text = sources.0.get_mut(usize::from(place.file))?.text_mut();
        let range = block(text, place)?;
        let mut copy: DocumentMut = text.get(range.clone())?.parse().ok()?;
        change(only(copy.as_table_mut())?)?;
        let mut copy = copy.to_string();
        if !copy.ends_with("\n\n") {
            copy.push('\n');
        }
        if !text.get(..range.end)?.ends_with("\n\n") {
            copy.insert(0, '\n');
        }
        text.insert_str(range.end, &copy);
        Some(())
    })
}

/// Moves a rule up, before another.
pub(super) fn put_before(
    sources: &mut Sources,
    device: &DevicePlan,
    rule: RuleId,
    before: RuleId,
) -> Option<()> {
    (before < rule).then_some(())?;
    let done = in_array(sources, device, List::Rules, |array| {
        let mut moved = arrays::remove(array, rule.index())?;
        moved.decor_mut().clear();
        arrays::insert(array, before.index(), moved);
        Some(())
    });
    done.or_else(|| {
        let (from, to) = (device.rules[rule.index()].place, device.rules[before.index()].place);
        (from.file == to.file).then_some(())?;
        let text = sources.0.get_mut(usize::from(from.file))?.text_mut();
        let block = block(text, from)?;
        let target = self::block(text, to)?.start;
        let mut moved = text.get(block.clone())?.to_owned();
        if !moved.ends_with("\n\n") {
            moved.push('\n');
        }
        (target < block.start).then_some(())?;
        text.replace_range(block, "");
        text.insert_str(target, &moved);
        Some(())
    })
}

/// Does something to a list that is written as an array.
fn in_array(
    sources: &mut Sources,
    device: &DevicePlan,
    list: List,
    mut change: impl FnMut(&mut Array) -> Option<()>,
) -> Option<()> {
    on_device(sources, &device.name, |d| change(d.get_mut(list.key())?.as_array_mut()?))
}

/// Writes the first table of a list of a device that itself is written in one line: there can be no
/// header in it.
fn in_line(
    sources: &mut Sources,
    device: &DevicePlan,
    list: List,
    entry: &toml_edit::Value,
) -> Option<()> {
    let header = sources.0.get(usize::from(device.place.file))?;
    block(header.text(), device.place).is_none().then_some(())?;
    on_device(sources, &device.name, |d| {
        d.get(list.key()).is_none().then_some(())?;
        set(d, list.key(), Array::from_iter([entry.clone()]).into())
    })
}

/// Writes a new table with a header of its own.
fn under_header(
    sources: &mut Sources,
    device: &DevicePlan,
    list: List,
    before: Option<usize>,
    entries: &[(&'static str, Value)],
) -> Option<()> {
    let places: Vec<Place> = match list {
        List::Rules => device.rules.iter().map(|r| r.place).collect(),
        List::Policies => device.policies.iter().map(|p| p.place).collect(),
        List::Routes => device.routes.iter().map(|r| r.place).collect(),
        List::Pools => device.pools.iter().map(|p| p.place).collect(),
    };
    let anchor = before.and_then(|i| places.get(i).copied());
    let mut all: Vec<Place> = device.interfaces.iter().map(|i| i.place).collect();
    all.extend(device.routes.iter().map(|r| r.place));
    all.extend(device.acls.iter().map(|a| a.place));
    all.extend(device.policies.iter().map(|p| p.place));
    // rules may refer to pools below them, but a pool that a rule makes up stands where the rule
    // does
    all.extend(device.pools.iter().map(|p| p.place));
    all.extend(device.rules.iter().map(|r| r.place));
    let own_file = sources.0.get(usize::from(device.place.file))?;
    let last = || {
        // lists written as arrays stand above every header
        let has_header = |p: &Place| block(own_file.text(), *p).is_some();
        let of_file = all.iter().copied().filter(|p| p.file == device.place.file);
        let below = || of_file.filter(has_header).max_by_key(|p| p.start);
        places.last().copied().or_else(below)
    };
    let place = anchor.or_else(last).unwrap_or(device.place);
    let text = sources.0.get_mut(usize::from(place.file))?.text_mut();
    let range = block(text, place)?;
    let indent: String = text
        .get(range.clone())?
        .lines()
        .find(|l| l.trim_start().starts_with('['))?
        .chars()
        .take_while(|c| *c == ' ')
        .collect();
    let mut new = format!("{indent}[[device.{}]]\n", list.key());
    for (key, value) in entries {
        new += &format!("{indent}{key} = {}\n", to_toml(value));
    }
    match anchor {
        Some(_) => {
            new.push('\n');
            text.insert_str(range.start, &new);
        }
        None => {
            let body = text.get(range.clone())?;
            let end = range.start + without_next_section(body).len();
            text.insert_str(end, &format!("\n\n{}", new.trim_end()));
        }
    }
    Some(())
}

/// The lines of a table: from the comments right above its header to where the next one's begin.
fn block(text: &str, place: Place) -> Option<Range<usize>> {
    let (Range { start, end }, _) = table_at(text, place.start as usize)?;
    Some(with_comments(text, start)..if end < text.len() { with_comments(text, end) } else { end })
}

/// A table without the comments behind a blank line after it: they are about what follows.
fn without_next_section(body: &str) -> &str {
    let mut kept = body.trim_end();
    loop {
        let last = kept.rfind('\n').map_or(0, |n| n + 1);
        let line = &kept[last..];
        if !line.trim_start().starts_with('#') {
            return kept;
        }
        let above = kept[..last].trim_end_matches([' ', '\t']);
        let is_apart = above.ends_with("\n\n");
        let rest = above.trim_end();
        // a block of comments is judged by its first line
        if !is_apart && !rest.rsplit('\n').next().is_some_and(|l| l.trim_start().starts_with('#')) {
            return body.trim_end();
        }
        kept = rest;
    }
}

/// Where the comments right above a line begin.
fn with_comments(text: &str, line: usize) -> usize {
    let mut start = line;
    for above in text[..line].split_inclusive('\n').rev() {
        if !above.trim_start().starts_with('#') {
            break;
        }
        start -= above.len();
    }
    start
}
