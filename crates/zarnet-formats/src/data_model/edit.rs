//! Edits of a document (RFC 8040 §4.4 to §4.7, RFC 8072 §2).

use serde_json::{Map, Value};

use super::path::{DataPath, Step, bare, has_keys};
use super::schema::{Kind, NodeId, Schema};

/// What an edit does.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Operation {
    /// Adds what must not be there yet.
    Create,
    /// Removes what must be there.
    Delete,
    /// Adds an entry at a place in an ordered list; it must not be there yet.
    Insert,
    /// Adds to what is there, and changes what both have.
    Merge,
    /// Puts an entry of an ordered list at another place.
    Move,
    /// Puts something in place of what is there, if anything.
    Replace,
    /// Removes what may be there.
    Remove,
}

impl Operation {
    /// Every operation with its name.
    pub const ALL: [(&'static str, Self); 7] = [
        ("create", Self::Create),
        ("delete", Self::Delete),
        ("insert", Self::Insert),
        ("merge", Self::Merge),
        ("move", Self::Move),
        ("replace", Self::Replace),
        ("remove", Self::Remove),
    ];

    /// Its name in a patch.
    pub fn name(self) -> &'static str {
        Self::ALL.iter().find(|o| o.1 == self).map_or("", |o| o.0)
    }
}

/// One edit.
#[derive(Debug, Clone, PartialEq)]
pub struct Edit {
    /// What it does.
    pub operation: Operation,
    /// Where.
    pub target: DataPath,
    /// What is there afterwards: of an entry, the entry; of anything else, its value.
    pub value: Option<Value>,
    /// Of an insertion or a move: where in the list.
    pub position: Position,
}

/// A place in an ordered list.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub enum Position {
    /// Before all others.
    First,
    /// Behind all others.
    #[default]
    Last,
    /// Before the entry with these keys.
    Before(Vec<String>),
    /// Behind the entry with these keys.
    After(Vec<String>),
}

/// Why an edit cannot be made.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum EditError {
    /// Something is there already.
    #[error("{0} is there already")]
    Exists(DataPath),
    /// Nothing is there.
    #[error("{0} is not there")]
    Missing(DataPath),
    /// The edit makes no sense at that place.
    #[error("{0}: {1}")]
    Senseless(DataPath, &'static str),
}

/// Makes an edit. If it cannot be made, the document may be changed in part: keep a copy.
///
/// # Errors
/// What it needs is not there, or what it makes is.
pub fn apply(document: &mut Value, edit: &Edit) -> Result<(), EditError> {
    let target = &edit.target;
    let senseless = |why| EditError::Senseless(target.clone(), why);
    let Some((above, last)) = target.split() else {
        return whole(document, edit);
    };
    let exists = target.find(document).is_some();
    let value = || edit.value.clone().ok_or(senseless("there is no value"));
    match edit.operation {
        Operation::Create | Operation::Insert if exists => Err(EditError::Exists(target.clone())),
        Operation::Delete | Operation::Move if !exists => Err(EditError::Missing(target.clone())),
        Operation::Delete | Operation::Remove => {
            remove(document, target);
            Ok(())
        }
        Operation::Create => put(document, &above, last, value()?, &Position::Last),
        Operation::Insert => put(document, &above, last, value()?, &edit.position),
        Operation::Replace => put(document, &above, last, value()?, &Position::Last),
        Operation::Move => {
            let entry = target.find(document).cloned().ok_or(senseless("it is no entry"))?;
            remove(document, target);
            put(document, &above, last, entry, &edit.position)
        }
        Operation::Merge => {
            let new = value()?;
            let node = target.node().ok_or(senseless("the modules have no such place"))?;
            match find_mut(document, target) {
                Some(old) => merge(old, new, node),
                None => return put(document, &above, last, new, &Position::Last),
            }
            Ok(())
        }
    }
}

/// An edit of the whole document.
fn whole(document: &mut Value, edit: &Edit) -> Result<(), EditError> {
    let root = DataPath::default;
    match (edit.operation, &edit.value) {
        (Operation::Merge, Some(Value::Object(members))) => {
            let object = object(document);
            for (name, value) in members {
                match (object.get_mut(name), Schema::get().child(None, name)) {
                    (Some(old), Some(node)) => merge(old, value.clone(), node),
                    _ => {
                        object.insert(name.clone(), value.clone());
                    }
                }
            }
            Ok(())
        }
        (Operation::Replace, Some(value)) => {
            document.clone_from(value);
            Ok(())
        }
        _ => Err(EditError::Senseless(root(), "the whole can only be merged or replaced")),
    }
}

fn object(value: &mut Value) -> &mut Map<String, Value> {
    if !value.is_object() {
        *value = Value::Object(Map::new());
    }
    match value {
        Value::Object(members) => members,
        _ => unreachable!("it was made one"),
    }
}

/// Merges a value into another of the same node (RFC 8040 §4.6.1): entries go by their keys.
fn merge(old: &mut Value, new: Value, node: NodeId) {
    let schema = Schema::get();
    match (&schema.node(node).kind, old, new) {
        (Kind::List(keys), Value::Array(old), Value::Array(new)) => {
            let mut at = index(old, keys);
            for entry in new {
                match key_of(&entry, keys).and_then(|k| at.get(&k).copied()) {
                    Some(i) => merge_members(&mut old[i], entry, node),
                    None => {
                        at.extend(key_of(&entry, keys).map(|k| (k, old.len())));
                        old.push(entry);
                    }
                }
            }
        }
        (Kind::LeafList(_), Value::Array(old), Value::Array(new)) => {
            for value in new {
                if !old.contains(&value) {
                    old.push(value);
                }
            }
        }
        (Kind::Container | Kind::Presence | Kind::List(_), old @ Value::Object(_), new) => {
            merge_members(old, new, node);
        }
        (_, old, new) => *old = new,
    }
}

fn merge_members(old: &mut Value, new: Value, node: NodeId) {
    let (schema, members) = (Schema::get(), object(old));
    let Value::Object(new) = new else { return };
    for (name, value) in new {
        let child = schema.child(Some(node), &name);
        if let Some(child) = child {
            drop_other_cases(members, node, child);
        }
        match (members.get_mut(&name), child) {
            (Some(old), Some(child)) => merge(old, value, child),
            _ => {
                members.insert(name, value);
            }
        }
    }
}

/// What belongs to another case of a choice goes when a member of one comes (RFC 7950 §8.3.2).
fn drop_other_cases(members: &mut Map<String, Value>, node: NodeId, child: NodeId) {
    let schema = Schema::get();
    let own = &schema.node(child).cases;
    if own.is_empty() {
        return;
    }
    members.retain(|name, _| {
        schema.child(Some(node), name).is_none_or(|other| {
            let others = &schema.node(other).cases;
            !own.iter().any(|(c, case)| others.iter().any(|(o, other)| o == c && other != case))
        })
    });
}

/// Where the entries of a list are, by their keys.
fn index(entries: &[Value], keys: &[&str]) -> std::collections::HashMap<Vec<String>, usize> {
    entries.iter().enumerate().filter_map(|(i, e)| Some((key_of(e, keys)?, i))).collect()
}

/// The keys of an entry; none if it lacks one.
pub(super) fn key_of(entry: &Value, keys: &[&str]) -> Option<Vec<String>> {
    keys.iter().map(|k| entry.get(*k).map(bare)).collect()
}

fn find_mut<'a>(document: &'a mut Value, path: &DataPath) -> Option<&'a mut Value> {
    let schema = Schema::get();
    let (mut at, mut node) = (document, None);
    for step in &path.steps {
        node = schema.child(node, &step.member);
        at = at.get_mut(&step.member)?;
        if !step.keys.is_empty() {
            let names = node.map_or(&[][..], |n| schema.node(n).keys());
            at = at.as_array_mut()?.iter_mut().find(|e| has_keys(e, names, &step.keys))?;
        }
    }
    Some(at)
}

/// Puts a value below a place, which is made if it is not there.
fn put(
    document: &mut Value,
    above: &DataPath,
    last: &Step,
    value: Value,
    position: &Position,
) -> Result<(), EditError> {
    let schema = Schema::get();
    let target = above.with(&last.member, last.keys.clone());
    let node = target.node().ok_or(EditError::Senseless(target.clone(), "it is not known"))?;
    // containers come to be by what is in them; an entry has to be there
    for n in 0..above.steps.len() {
        let part = DataPath { steps: above.steps[..=n].to_vec() };
        if part.find(document).is_none() {
            let is_container = part
                .node()
                .is_some_and(|id| matches!(schema.node(id).kind, Kind::Container | Kind::Presence));
            if !is_container {
                return Err(EditError::Missing(part));
            }
            if let Some((parent, step)) = part.split()
                && let Some(parent) = find_mut(document, &parent)
            {
                object(parent).insert(step.member.clone(), Value::Object(Map::new()));
            }
        }
    }
    let Some(parent) = find_mut(document, above) else {
        return Err(EditError::Missing(above.clone()));
    };
    let members = object(parent);
    if let Some(parent) = above.node() {
        drop_other_cases(members, parent, node);
    }
    if last.keys.is_empty() {
        members.insert(last.member.clone(), value);
        return Ok(());
    }
    let names = schema.node(node).keys();
    let list = members.entry(last.member.clone()).or_insert_with(|| Value::Array(Vec::new()));
    let Value::Array(entries) = list else {
        return Err(EditError::Senseless(target, "it is no list"));
    };
    if !names.is_empty() && !has_keys(&value, names, &last.keys) {
        return Err(EditError::Senseless(target, "the keys of the value are others"));
    }
    if let Some(old) = entries.iter_mut().find(|e| has_keys(e, names, &last.keys)) {
        *old = value;
        return Ok(());
    }
    let place = |keys: &Vec<String>| entries.iter().position(|e| has_keys(e, names, keys));
    let missing = |keys: &Vec<String>| EditError::Missing(above.with(&last.member, keys.clone()));
    let at = match position {
        Position::First => 0,
        Position::Last => entries.len(),
        Position::Before(keys) => place(keys).ok_or_else(|| missing(keys))?,
        Position::After(keys) => place(keys).ok_or_else(|| missing(keys))? + 1,
    };
    entries.insert(at, value);
    Ok(())
}

/// Removes what is at a place, and the lists and containers that are empty then.
fn remove(document: &mut Value, target: &DataPath) {
    let schema = Schema::get();
    let Some((above, last)) = target.split() else { return };
    let Some(parent) = find_mut(document, &above) else { return };
    let members = object(parent);
    match last.keys.is_empty() {
        true => {
            members.shift_remove(&last.member);
        }
        false => {
            let names = target.node().map_or(&[][..], |n| schema.node(n).keys());
            if let Some(Value::Array(entries)) = members.get_mut(&last.member) {
                entries.retain(|e| !has_keys(e, names, &last.keys));
                if entries.is_empty() {
                    members.shift_remove(&last.member);
                }
            }
        }
    }
    let is_empty = members.is_empty();
    let is_container = above.node().is_some_and(|n| schema.node(n).kind == Kind::Container);
    if is_empty && is_container {
        remove(document, &above);
    }
}
