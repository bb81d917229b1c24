//! A document that remembers what was read of it: the rest is told as left out.

use std::cell::RefCell;
use std::collections::HashSet;

use serde_json::Value;

/// Something of a document that a plan does not hold, or that we do not know.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LeftOut {
    /// Where it stands.
    pub path: String,
    /// What stands there.
    pub value: String,
}

/// A document that is being read.
pub(super) struct Reader<'a> {
    document: &'a Value,
    /// Where in memory the values are that were read.
    read: RefCell<HashSet<usize>>,
}

/// A place in it.
#[derive(Clone)]
pub(super) struct At<'a> {
    reader: &'a Reader<'a>,
    value: &'a Value,
    /// Where it is, as answers write it.
    pub(super) path: String,
}

fn place(value: &Value) -> usize {
    std::ptr::from_ref(value) as usize
}

impl<'a> Reader<'a> {
    pub(super) fn new(document: &'a Value) -> Self {
        Self { document, read: RefCell::default() }
    }

    pub(super) fn top(&'a self) -> At<'a> {
        At { reader: self, value: self.document, path: String::new() }
    }

    /// What nobody read, leaf by leaf; a list or container of which nothing was read, as a whole.
    pub(super) fn left_out(&self) -> Vec<LeftOut> {
        let mut list = Vec::new();
        self.unread(self.document, "", &mut list);
        list
    }

    fn is_read(&self, value: &Value) -> bool {
        self.read.borrow().contains(&place(value))
    }

    /// Whether anything in a value was read.
    fn has_read(&self, value: &Value) -> bool {
        self.is_read(value)
            || match value {
                Value::Object(members) => members.values().any(|v| self.has_read(v)),
                Value::Array(values) => values.iter().any(|v| self.has_read(v)),
                _ => false,
            }
    }

    fn unread(&self, value: &Value, path: &str, list: &mut Vec<LeftOut>) {
        if self.is_read(value) {
            return;
        }
        match value {
            Value::Object(members) if path.is_empty() || self.has_read(value) => {
                for (name, value) in members {
                    self.unread(value, &format!("{path}/{name}"), list);
                }
            }
            Value::Array(values) if self.has_read(value) => {
                for (i, value) in values.iter().enumerate() {
                    self.unread(value, &entry_path(path, value, i), list);
                }
            }
            value => list.push(LeftOut { path: path.into(), value: short(value) }),
        }
    }
}

impl<'a> At<'a> {
    /// What is below it by this name.
    pub(super) fn get(&self, name: &str) -> Option<At<'a>> {
        let value = self.value.get(name)?;
        Some(At { reader: self.reader, value, path: format!("{}/{name}", self.path) })
    }

    /// What is several steps below it.
    pub(super) fn descend(&self, names: &[&str]) -> Option<At<'a>> {
        names.iter().try_fold(self.clone(), |at, name| at.get(name))
    }

    /// The entries of a list below it.
    pub(super) fn list(&self, name: &str) -> Vec<At<'a>> {
        let Some(list) = self.get(name) else { return Vec::new() };
        let Value::Array(values) = list.value else { return Vec::new() };
        let entry =
            |(i, value)| At { reader: self.reader, value, path: entry_path(&list.path, value, i) };
        values.iter().enumerate().map(entry).collect()
    }

    /// The names of what is below it.
    pub(super) fn members(&self) -> Vec<String> {
        self.value.as_object().map(|m| m.keys().cloned().collect()).unwrap_or_default()
    }

    /// Notes that all of it was read.
    pub(super) fn note_all_read(&self) {
        self.reader.read.borrow_mut().insert(place(self.value));
    }

    /// Whether it says the same as another.
    pub(super) fn is_same(&self, other: &At<'_>) -> bool {
        self.value == other.value
    }

    pub(super) fn is_text(&self, text: &str) -> bool {
        self.value == text
    }

    pub(super) fn is_zero(&self) -> bool {
        self.value == 0
    }

    fn leaf(&self, name: &str) -> Option<&'a Value> {
        let at = self.get(name)?;
        at.note_all_read();
        Some(at.value)
    }

    pub(super) fn text(&self, name: &str) -> Option<&'a str> {
        self.leaf(name)?.as_str()
    }

    /// An identity without its module.
    pub(super) fn identity(&self, name: &str) -> Option<&'a str> {
        self.text(name).map(|t| t.rsplit(':').next().unwrap_or(t))
    }

    /// A number; of 64 bits it is written as text.
    pub(super) fn number(&self, name: &str) -> Option<u64> {
        let leaf = self.leaf(name)?;
        leaf.as_u64().or_else(|| leaf.as_str()?.parse().ok())
    }

    pub(super) fn flag(&self, name: &str) -> Option<bool> {
        self.leaf(name)?.as_bool()
    }

    /// The values of a leaf-list.
    pub(super) fn texts(&self, name: &str) -> Vec<String> {
        let Some(Value::Array(values)) = self.leaf(name) else { return Vec::new() };
        values.iter().filter_map(Value::as_str).map(str::to_owned).collect()
    }

    /// The numbers of a leaf-list.
    pub(super) fn numbers(&self, name: &str) -> Vec<u64> {
        let Some(Value::Array(values)) = self.leaf(name) else { return Vec::new() };
        values.iter().filter_map(Value::as_u64).collect()
    }
}

fn entry_path(list: &str, entry: &Value, position: usize) -> String {
    // the keys of most lists are one member, by one of these names
    let keys = ["id", "index", "name", "ip", "interface-id", "destination-prefix", "pool-id"];
    let key = keys.iter().find_map(|k| entry.get(k));
    match key {
        Some(Value::String(text)) => format!("{list}={text}"),
        Some(number) => format!("{list}={number}"),
        None => format!("{list}[{}]", position + 1),
    }
}

fn short(value: &Value) -> String {
    let text = value.to_string();
    match text.char_indices().nth(80) {
        Some((end, _)) => format!("{}...", &text[..end]),
        None => text,
    }
}
