//! Changes of a plan carried out on its text: comments, order and layout of all the rest stay.

mod values;

use std::ops::Range;
use values::{append, replace, set, to_toml};

use toml_edit::{DocumentMut, InlineTable, Item, TableLike};
use zarnet_core::plan::edit::{Edit, List, Table, Value};
use zarnet_core::plan::{DeviceId, Place, Plan};

use super::{LoadError, Loaded, build_from};
use crate::source::Sources;

/// Carries changes out, one after the other, and builds the plan anew. Each list of changes speaks
/// of the plan that the list before it leads to.
///
/// # Errors
/// The problems of the plan that comes of it; none if a change cannot be carried out on the text as
/// it is written.
pub fn edited(loaded: &Loaded, changes: &[Vec<Edit>]) -> Result<Loaded, Option<LoadError>> {
    let mut loaded = loaded.clone();
    for list in changes {
        for edit in list.iter().filter(|e| !e.is_on_device()) {
            let mut sources = loaded.sources.clone();
            apply(&mut sources, &loaded.plan, edit).ok_or(None)?;
            loaded = build_from(sources, 0, loaded.reach.clone()).map_err(Some)?;
        }
    }
    Ok(loaded)
}

fn apply(sources: &mut Sources, plan: &Plan, edit: &Edit) -> Option<()> {
    match edit {
        Edit::Set(table, key, value) => {
            on_table(sources, plan, *table, |t| set(t, key, to_toml(value)))
        }
        Edit::Unset(table, key) => on_table(sources, plan, *table, |t| t.remove(key).map(|_| ())),
        Edit::Append(table, key, value) => {
            on_table(sources, plan, *table, |t| append(t, key, to_toml(value)))
        }
        Edit::Replace(table, key, old, new) => {
            on_table(sources, plan, *table, |t| replace(t, key, old, new))
        }
        Edit::InsertEntry(device, acl, before, value) => {
            let device = &plan.devices[device.index()];
            let name = device.acls[acl.index()].name.clone();
            on_device(sources, &device.name, |d| {
                let acl = named(d.get_mut("acl")?, &name)?;
                let entries = acl.get_mut("entries")?.as_array_mut()?;
                let at = before.unwrap_or(entries.len()).min(entries.len());
                let mut entry = to_toml(value);
                let prefix = |v: &toml_edit::Value| {
                    v.decor().prefix().and_then(|p| p.as_str()).unwrap_or("").to_owned()
                };
                // what stands before an entry, a comment behind the one above it too, stays there
                let before =
                    entries.get(at).or(entries.iter().last()).map(prefix).unwrap_or_default();
                let line = before.rfind('\n').map(|n| before[n..].to_owned());
                if let Some(next) = entries.get_mut(at) {
                    next.decor_mut().set_prefix(line.as_deref().unwrap_or(" "));
                    entry.decor_mut().set_prefix(before);
                } else if at > 0 {
                    entry.decor_mut().set_prefix(line.as_deref().unwrap_or(" "));
                }
                entries.insert_formatted(at, entry);
                Some(())
            })
        }
        Edit::Clear(..) | Edit::Enable(..) => Some(()),
        Edit::Insert(device, list, before, entries) => {
            insert(sources, plan, *device, *list, *before, entries)
        }
        Edit::RemoveRule(device, rule) => {
            let place = plan.devices[device.index()].rules[rule.index()].place;
            let text = sources.0.get_mut(usize::from(place.file))?.text_mut();
            let range = block(text, place)?;
            text.replace_range(range, "");
            Some(())
        }
        Edit::CloneRule(device, rule, keys, left_out) => {
            let place = plan.devices[device.index()].rules[rule.index()].place;
            let text = sources.0.get_mut(usize::from(place.file))?.text_mut();
            let range = block(text, place)?;
            let mut copy: DocumentMut = text.get(range.clone())?.parse().ok()?;
            let rules = copy.get_mut("device")?.get_mut("rule")?;
            let table = tables(rules).next()?;
            left_out.iter().for_each(|key| drop(table.remove(key)));
            keys.iter().try_for_each(|(key, value)| set(table, key, to_toml(value)))?;
            let mut copy = copy.to_string();
            if !copy.ends_with("\n\n") {
                copy.push('\n');
            }
            if !text.get(..range.end)?.ends_with("\n\n") {
                copy.insert(0, '\n');
            }
            text.insert_str(range.end, &copy);
            Some(())
        }
        Edit::Group(table, name, value) => {
            let key = if *table == Table::Services { "services" } else { "addresses" };
            // in the file that has it, or else in the first
            let known = in_files(sources, |doc| {
                let table = doc.get_mut(key)?.as_table_like_mut()?;
                table.get(name).is_some().then_some(())?;
                set(table, name, to_toml(value))
            });
            if known.is_some() {
                return known;
            }
            let file = sources.0.first_mut()?.text_mut();
            let mut doc: DocumentMut = file.parse().ok()?;
            if doc.get(key).is_none() {
                doc.insert(key, Item::Table(toml_edit::Table::new()));
            }
            set(doc.get_mut(key)?.as_table_like_mut()?, name, to_toml(value))?;
            *file = doc.to_string();
            Some(())
        }
        Edit::Drop(table, key, text) => {
            on_table(sources, plan, *table, |t| values::drop(t, key, text))
        }
        Edit::MoveRule(device, rule, before) => {
            let rules = &plan.devices[device.index()].rules;
            let (from, to) = (rules[rule.index()].place, rules[before.index()].place);
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
        }
    }
}

/// Does something to a table, in whichever file has it.
fn on_table(
    sources: &mut Sources,
    plan: &Plan,
    table: Table,
    mut change: impl FnMut(&mut dyn TableLike) -> Option<()>,
) -> Option<()> {
    let device = |d: DeviceId| &plan.devices[d.index()];
    let place = match table {
        Table::Host(h) => plan.hosts[h.index()].place,
        Table::Route(d, i) => device(d).routes[i].place,
        Table::Policy(d, i) => device(d).policies[i].place,
        Table::Segment(_)
        | Table::Routed(..)
        | Table::Device(_)
        | Table::Interface(..)
        | Table::Rule(..)
        | Table::Pool(..)
        | Table::Groups
        | Table::Services
        | Table::Behaviour(_)
        | Table::Timers(_) => Place::default(),
    };
    match table {
        Table::Host(h) => {
            let name = plan.hosts[h.index()].name.clone();
            in_files(sources, |doc| change(named(doc.get_mut("host")?, &name)?))
        }
        Table::Segment(s) => {
            let name = plan.segments[s.index()].name.clone();
            in_files(sources, |doc| change(named(doc.get_mut("segment")?, &name)?))
        }
        Table::Groups => {
            in_files(sources, |doc| change(doc.get_mut("addresses")?.as_table_like_mut()?))
        }
        Table::Services => {
            in_files(sources, |doc| change(doc.get_mut("services")?.as_table_like_mut()?))
        }
        Table::Device(d) => on_device(sources, &device(d).name, change),
        Table::Interface(d, i) => {
            let name = device(d).interfaces[i.index()].name.clone();
            on_device(sources, &device(d).name, |t| change(named(t.get_mut("interface")?, &name)?))
        }
        Table::Rule(d, r) => {
            let name = device(d).rules[r.index()].name.clone();
            on_device(sources, &device(d).name, |t| change(named(t.get_mut("rule")?, &name)?))
        }
        Table::Pool(d, p) => {
            let name = device(d).pools[p.index()].name.clone();
            on_device(sources, &device(d).name, |t| change(named(t.get_mut("pool")?, &name)?))
        }
        Table::Behaviour(d) => on_device(sources, &device(d).name, |t| {
            let preset = t.get("behaviour").map(|item| item.as_str().map(str::to_owned));
            // a preset alone becomes a table that begins with it
            if let None | Some(Some(_)) = preset {
                let mut table = InlineTable::new();
                if let Some(Some(preset)) = &preset {
                    table.insert("preset", preset.as_str().into());
                }
                set(t, "behaviour", table.into())?;
            }
            change(t.get_mut("behaviour")?.as_table_like_mut()?)
        }),
        Table::Timers(d) => on_device(sources, &device(d).name, |t| {
            if t.get("timers").is_none() {
                set(t, "timers", InlineTable::new().into())?;
            }
            change(t.get_mut("timers")?.as_table_like_mut()?)
        }),
        // what has no name is told apart by its order in one file
        Table::Route(d, _) => {
            let places = device(d).routes.iter().map(|r| r.place);
            let position = position_of(place, places);
            on_device(sources, &device(d).name, |t| change(nth(t.get_mut("route")?, position)?))
        }
        Table::Policy(d, _) => {
            let places = device(d).policies.iter().map(|p| p.place);
            let position = position_of(place, places);
            on_device(sources, &device(d).name, |t| change(nth(t.get_mut("policy")?, position)?))
        }
        Table::Routed(s, i) => {
            let name = plan.segments[s.index()].name.clone();
            in_files(sources, |doc| {
                let segment = named(doc.get_mut("segment")?, &name)?;
                change(nth(segment.get_mut("routed")?, i)?)
            })
        }
    }
}

/// How many of a list stand before one in its file.
fn position_of(place: Place, all: impl Iterator<Item = Place>) -> usize {
    all.filter(|p| p.file == place.file).take_while(|p| *p != place).count()
}

fn on_device(
    sources: &mut Sources,
    name: &str,
    mut change: impl FnMut(&mut dyn TableLike) -> Option<()>,
) -> Option<()> {
    in_files(sources, |doc| change(named(doc.get_mut("device")?, name)?))
}

/// Tries a change on one file after the other, and keeps the first in which it finds its table.
fn in_files(
    sources: &mut Sources,
    mut change: impl FnMut(&mut DocumentMut) -> Option<()>,
) -> Option<()> {
    sources.0.iter_mut().find_map(|file| {
        let mut doc: DocumentMut = file.text().parse().ok()?;
        change(&mut doc)?;
        *file.text_mut() = doc.to_string();
        Some(())
    })
}

/// The table of a list that has a name.
fn named<'a>(list: &'a mut Item, name: &str) -> Option<&'a mut dyn TableLike> {
    tables(list).find(|t| t.get("name").and_then(Item::as_str) == Some(name))
}

fn nth(list: &mut Item, position: usize) -> Option<&mut dyn TableLike> {
    tables(list).nth(position)
}

fn tables(list: &mut Item) -> Box<dyn Iterator<Item = &mut dyn TableLike> + '_> {
    match list {
        Item::ArrayOfTables(tables) => Box::new(tables.iter_mut().map(|t| t as &mut dyn TableLike)),
        Item::Value(toml_edit::Value::Array(array)) => Box::new(
            array
                .iter_mut()
                .filter_map(|v| v.as_inline_table_mut())
                .map(|t| t as &mut dyn TableLike),
        ),
        _ => Box::new(std::iter::empty()),
    }
}

/// Writes a new table into the text, in the layout of those beside it.
fn insert(
    sources: &mut Sources,
    plan: &Plan,
    device: DeviceId,
    list: List,
    before: Option<usize>,
    entries: &[(&'static str, Value)],
) -> Option<()> {
    let device = &plan.devices[device.index()];
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
    let last = || {
        places.last().copied().or(all
            .iter()
            .copied()
            .filter(|p| p.file == device.place.file)
            .max_by_key(|p| p.start))
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
    let header = text.get(..place.start as usize)?.rfind('\n').map_or(0, |n| n + 1);
    let own = text.get(header..)?;
    own.trim_start().starts_with("[[").then_some(())?;
    let next = own.split_inclusive('\n').scan(0, |at, line| {
        let start = *at;
        *at += line.len();
        Some((start, line))
    });
    let end = next
        .skip(1)
        .find(|(_, line)| line.trim_start().starts_with('['))
        .map_or(text.len(), |(at, _)| header + at);
    Some(with_comments(text, header)..if end < text.len() { with_comments(text, end) } else { end })
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
