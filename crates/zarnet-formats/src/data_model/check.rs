//! Everything that is wrong with a document, each fault with its path.

use std::collections::{HashMap, HashSet};

use serde_json::{Map, Value};
use zarnet_core::limits;
use zarnet_core::plan::nearest;

use super::condition::look_up;
use super::fault::{DataFault, DataFaultKind};
use super::identities::knows_module;
use super::path::{Part, written};
use super::schema::{Kind, NodeId, Schema};
use super::value_type::Type;

/// What becomes of members of modules that are not spoken here.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Foreign {
    /// They are wrong: nobody could take them.
    Refused,
    /// They are passed over: a device knows more than we do.
    PassedOver,
}

/// Checks a document: an object with a member for each top-level node. One that holds state is
/// checked as state, else as configuration (RFC 7950 §8.1).
///
/// # Errors
/// Everything that is wrong, up to a limit.
pub fn check(document: &Value, foreign: Foreign) -> Result<(), Vec<DataFault>> {
    let Some(members) = document.as_object() else {
        let kind = DataFaultKind::Malformed("a document is an object".into());
        return Err(vec![DataFault { path: String::new(), kind }]);
    };
    let mut checker = Checker {
        schema: Schema::get(),
        foreign,
        with_state: state_below(None, members),
        faults: Vec::new(),
        path: Vec::new(),
        above: vec![document],
        referenced: HashMap::new(),
    };
    checker.members(None, members);
    if checker.faults.is_empty() { Ok(()) } else { Err(checker.faults) }
}

/// Whether there is state in a document.
pub fn holds_state(document: &Value) -> bool {
    document.as_object().is_some_and(|members| state_below(None, members))
}

fn state_below(at: Option<NodeId>, members: &Map<String, Value>) -> bool {
    let schema = Schema::get();
    members.iter().any(|(name, value)| {
        let Some(id) = schema.child(at, name) else { return false };
        let within = |v: &Value| v.as_object().is_some_and(|m| state_below(Some(id), m));
        schema.node(id).state
            || match value {
                Value::Array(entries) => entries.iter().any(within),
                value => within(value),
            }
    })
}

struct Checker<'a> {
    schema: &'static Schema,
    foreign: Foreign,
    with_state: bool,
    faults: Vec<DataFault>,
    path: Vec<Part<'a>>,
    above: Vec<&'a Value>,
    /// What references may lead to, by path.
    referenced: HashMap<&'static str, HashSet<String>>,
}

static NOTHING: std::sync::LazyLock<Value> = std::sync::LazyLock::new(|| Value::Object(Map::new()));

impl<'a> Checker<'a> {
    fn fault(&mut self, kind: DataFaultKind) {
        if self.faults.len() < limits::BAD_LINES {
            self.faults.push(DataFault { path: written(&self.path), kind });
        }
    }

    /// The members of a node, those that are missing included.
    fn members(&mut self, id: Option<NodeId>, members: &'a Map<String, Value>) {
        let schema = self.schema;
        let mut taken: HashMap<u16, (&'static str, &'static str)> = HashMap::new();
        for (name, value) in members {
            let Some(child) = schema.child(id, name) else {
                self.unknown(id, name);
                continue;
            };
            let node = schema.node(child);
            for (choice, case) in &node.cases {
                match taken.insert(*choice, (case, node.member)) {
                    Some((other, member)) if other != *case => {
                        self.fault(DataFaultKind::Both(member.into(), node.member.into()));
                    }
                    _ => {}
                }
            }
            self.path.push(Part::Member(node.member));
            self.member(child, value);
            self.path.pop();
        }
        for child in schema.children(id) {
            let node = schema.node(*child);
            let case_taken =
                |(choice, case): &(u16, &str)| taken.get(choice).is_some_and(|t| t.0 == *case);
            if members.contains_key(node.member)
                || node.state && !self.with_state
                || !node.cases.iter().all(case_taken)
                || id.is_none()
            {
                continue;
            }
            if node.mandatory {
                self.fault(DataFaultKind::Missing(node.member.into()));
            } else if node.kind == Kind::Container && self.may_be_here(*child, &NOTHING) {
                self.path.push(Part::Member(node.member));
                self.above.push(&NOTHING);
                if let Some(nothing) = NOTHING.as_object() {
                    self.members(Some(*child), nothing);
                }
                self.above.pop();
                self.path.pop();
            }
        }
        if id.is_none() {
            return;
        }
        for (i, choice) in (0..).zip(&schema.choices) {
            let applies = choice.parent == id
                && choice.mandatory
                && (!choice.state || self.with_state)
                && choice.within.iter().all(|(c, case)| taken.get(c).is_some_and(|t| t.0 == *case));
            if applies && !taken.contains_key(&i) {
                self.fault(DataFaultKind::Missing(choice.name.into()));
            }
        }
    }

    fn unknown(&mut self, id: Option<NodeId>, name: &str) {
        let of_others = name.split_once(':').is_some_and(|(m, _)| !knows_module(m));
        if name.starts_with('@') || of_others && self.foreign == Foreign::PassedOver {
            return; // an annotation (RFC 7952), or something of another module
        }
        let known = self.schema.children(id).iter().map(|c| self.schema.node(*c).member);
        let bare = name.rsplit(':').next().unwrap_or(name);
        let meant = self.schema.children(id).iter().map(|c| self.schema.node(*c).member);
        let meant = meant.clone().find(|m| m.rsplit(':').next() == Some(bare));
        let near = meant.map(str::to_owned).or_else(|| nearest(name, known));
        self.fault(DataFaultKind::Unknown { name: name.into(), near });
    }

    /// Whether a node may be where it is.
    fn may_be_here(&self, id: NodeId, value: &'a Value) -> bool {
        let node = self.schema.node(id);
        let module = self.schema.module_of(id);
        let mut own = self.above.clone();
        own.push(value);
        node.when.as_ref().is_none_or(|w| w.holds(&own, module))
            && node.parent_when.as_ref().is_none_or(|w| w.holds(&self.above, module))
    }

    fn member(&mut self, id: NodeId, value: &'a Value) {
        let node = self.schema.node(id);
        if node.when.is_some() || node.parent_when.is_some() {
            let condition = node.when.as_ref().or(node.parent_when.as_ref());
            let told = condition.map(ToString::to_string).unwrap_or_default();
            if !self.may_be_here(id, value) {
                self.fault(DataFaultKind::NotHere(told));
                return;
            }
        }
        match (&node.kind, value) {
            (Kind::Container | Kind::Presence | Kind::Notification, Value::Object(members)) => {
                self.above.push(value);
                self.members(Some(id), members);
                self.above.pop();
            }
            (Kind::List(keys), Value::Array(entries)) => self.entries(id, keys, entries),
            (Kind::Leaf(t), value) => self.leaf(id, t, value),
            (Kind::LeafList(t), Value::Array(values)) => {
                let mut seen = HashSet::new();
                for value in values {
                    self.leaf(id, t, value);
                    if !self.schema.node(id).state && !seen.insert(value.to_string()) {
                        self.fault(DataFaultKind::SameKey);
                    }
                }
                if node.mandatory && values.is_empty() {
                    self.fault(DataFaultKind::Missing(node.member.into()));
                }
            }
            (kind, value) => {
                let wanted = match kind {
                    Kind::List(_) | Kind::LeafList(_) => "a list",
                    _ => "an object",
                };
                self.fault(DataFaultKind::Type { wanted: wanted.into(), got: short(value) });
            }
        }
    }

    fn entries(&mut self, id: NodeId, keys: &'static [&'static str], entries: &'a [Value]) {
        let mut seen = HashSet::new();
        for (i, entry) in entries.iter().enumerate() {
            let Some(members) = entry.as_object() else {
                self.fault(DataFaultKind::Type { wanted: "an object".into(), got: short(entry) });
                continue;
            };
            self.path.push(Part::Entry(entry, keys, i));
            let key: Vec<String> =
                keys.iter().filter_map(|k| members.get(*k)).map(Value::to_string).collect();
            for missing in keys.iter().filter(|k| !members.contains_key(**k)) {
                let told = self.schema.child(Some(id), missing);
                // what is mandatory besides is told as that
                if told.is_none_or(|t| !self.schema.node(t).mandatory) {
                    self.fault(DataFaultKind::Missing((*missing).into()));
                }
            }
            if !keys.is_empty() && key.len() == keys.len() && !seen.insert(key) {
                self.fault(DataFaultKind::SameKey);
            }
            self.above.push(entry);
            self.members(Some(id), members);
            self.above.pop();
            self.path.pop();
        }
    }

    fn leaf(&mut self, id: NodeId, t: &'static Type, value: &'a Value) {
        let node = self.schema.node(id);
        let module = self.schema.module_of(id);
        if !t.takes(value, module) {
            self.fault(DataFaultKind::Type { wanted: t.told(), got: short(value) });
            return;
        }
        if let Type::Reference(path) = t {
            self.reference(path, value);
        }
        self.above.push(value);
        for must in &node.musts {
            if !must.holds(&self.above, module) {
                self.fault(DataFaultKind::Condition(must.to_string()));
            }
        }
        self.above.pop();
    }

    fn reference(&mut self, path: &'static str, value: &Value) {
        let notification = matches!(
            self.path.first(),
            Some(Part::Member(m)) if self.schema.child(None, m)
                .is_some_and(|n| self.schema.node(n).kind == Kind::Notification)
        );
        // what a notification refers to is in another document
        if notification {
            return;
        }
        let above = &self.above;
        let known = self.referenced.entry(path).or_insert_with(|| {
            look_up(path, &above[..1]).into_iter().map(Value::to_string).collect()
        });
        if !known.contains(&value.to_string()) {
            self.fault(DataFaultKind::Dangling { got: short(value), path: path.into() });
        }
    }
}

/// A value as a message shows it.
fn short(value: &Value) -> String {
    let text = match value {
        Value::Object(_) => "an object".to_owned(),
        Value::Array(_) => "a list".to_owned(),
        value => value.to_string(),
    };
    match text.char_indices().nth(60) {
        Some((end, _)) => format!("{}...", &text[..end]),
        None => text,
    }
}
