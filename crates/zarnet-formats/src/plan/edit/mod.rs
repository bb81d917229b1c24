//! Changes of a plan carried out on its text: comments, order and layout of all the rest stay.

mod alone;
mod arrays;
mod lists;
mod values;

use values::{append, replace, set, to_toml};

use toml_edit::{DocumentMut, InlineTable, Item, TableLike};
use zarnet_core::plan::edit::{Edit, Table};
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
            keep_line_ends(&loaded.sources, &mut sources);
            loaded = build_from(sources, 0, loaded.reach.clone()).map_err(Some)?;
        }
    }
    Ok(loaded)
}

/// Files whose lines all end as some systems write them (CR LF) go on so.
fn keep_line_ends(old: &Sources, new: &mut Sources) {
    let has_return = |line: &str| line.ends_with("\r\n") || !line.ends_with('\n');
    for (old, new) in old.0.iter().zip(&mut new.0) {
        // mostly the first line tells that they do not
        let have_returns = old.text().split_inclusive('\n').all(has_return);
        if have_returns && old.text().contains('\n') && new.text() != old.text() {
            let plain = new.text().replace("\r\n", "\n");
            *new.text_mut() = plain.replace('\n', "\r\n");
        }
    }
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
                let at = before.unwrap_or(entries.len());
                arrays::insert(entries, at, to_toml(value));
                Some(())
            })
        }
        Edit::Clear(..) | Edit::Enable(..) => Some(()),
        Edit::Insert(device, list, before, entries) => {
            lists::insert(sources, &plan.devices[device.index()], *list, *before, entries)
        }
        Edit::RemoveRule(device, rule) => {
            lists::remove(sources, &plan.devices[device.index()], *rule)
        }
        Edit::CloneRule(device, rule, keys, left_out) => {
            lists::copy(sources, &plan.devices[device.index()], *rule, keys, left_out)
        }
        Edit::MoveRule(device, rule, before) => {
            lists::put_before(sources, &plan.devices[device.index()], *rule, *before)
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
    if on_table_alone(sources, plan, table, &mut change).is_some() {
        return Some(());
    }
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
        Table::Route(d, i) => {
            let routes = &device(d).routes;
            let position = position_of(routes[i].place, routes.iter().map(|r| r.place));
            on_device(sources, &device(d).name, |t| change(nth(t.get_mut("route")?, position)?))
        }
        Table::Policy(d, i) => {
            let policies = &device(d).policies;
            let position = position_of(policies[i].place, policies.iter().map(|p| p.place));
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

/// The same where the table has a header of its own.
fn on_table_alone(
    sources: &mut Sources,
    plan: &Plan,
    table: Table,
    change: &mut dyn FnMut(&mut dyn TableLike) -> Option<()>,
) -> Option<()> {
    let device = |d: DeviceId| &plan.devices[d.index()];
    let (place, name) = match table {
        Table::Host(h) => (plan.hosts[h.index()].place, Some(&plan.hosts[h.index()].name)),
        Table::Interface(d, i) => {
            let interface = &device(d).interfaces[i.index()];
            (interface.place, Some(&interface.name))
        }
        Table::Rule(d, r) => {
            (device(d).rules[r.index()].place, Some(&device(d).rules[r.index()].name))
        }
        Table::Pool(d, p) => {
            (device(d).pools[p.index()].place, Some(&device(d).pools[p.index()].name))
        }
        Table::Route(d, i) => (device(d).routes[i].place, None),
        Table::Policy(d, i) => (device(d).policies[i].place, None),
        Table::Segment(_)
        | Table::Routed(..)
        | Table::Device(_)
        | Table::Groups
        | Table::Services
        | Table::Behaviour(_)
        | Table::Timers(_) => return None,
    };
    let text = sources.0.get_mut(usize::from(place.file))?.text_mut();
    alone::on_table(text, place.start as usize, |table| {
        let own = table.get("name").and_then(Item::as_str);
        name.is_none_or(|name| own == Some(name)).then_some(())?;
        change(table)
    })
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
