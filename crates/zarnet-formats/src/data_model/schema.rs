//! The modules that are spoken, read once from `modules.tree`.
//!
//! A line is a node, indented below its parent: `KIND NAME [KEYS] : TYPE ; FLAG ; FLAG`. Names are
//! written as members of JSON are (RFC 7951 §4): with their module where it is not the parent's.
//! Flags are `mandatory`, `user` (ordered by the user), `state`, `default VALUE`, `must EXPRESSION`,
//! `when EXPRESSION` and `parent-when EXPRESSION`, which is asked of the node above.

use std::sync::OnceLock;

use super::condition::Condition;
use super::identities::MODULES;
use super::value_type::Type;

/// A node of the schema.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct NodeId(u16);

/// A module.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Module {
    /// Its name.
    pub name: &'static str,
    /// The date of its revision.
    pub revision: &'static str,
    /// Its XML namespace.
    pub namespace: &'static str,
}

/// What a node holds.
#[derive(Debug, Clone, PartialEq)]
pub enum Kind {
    /// Members; there as soon as one of them is.
    Container,
    /// Members; it means something that it is there.
    Presence,
    /// Entries, told apart by the members that are its keys; none has a key in some state.
    List(Vec<&'static str>),
    /// A value.
    Leaf(Type),
    /// Values.
    LeafList(Type),
    /// Something that a device sends of itself.
    Notification,
}

/// A node of a module, with what is known of it.
#[derive(Debug, Clone, PartialEq)]
pub struct Node {
    /// The name of its member.
    pub member: &'static str,
    /// What it holds.
    pub kind: Kind,
    /// Whether it must be there where its parent is.
    pub mandatory: bool,
    /// Whether the order of its entries means something.
    pub ordered: bool,
    /// Whether it is state, which nobody configures.
    pub state: bool,
    /// What holds where it is left out.
    pub default: Option<&'static str>,
    /// What is above it.
    pub parent: Option<NodeId>,
    /// Members below it.
    pub children: Vec<NodeId>,
    /// Choices that it belongs to, from the outside, and the case of each.
    pub(super) cases: Vec<(u16, &'static str)>,
    /// What must hold of it.
    pub(super) musts: Vec<Condition>,
    /// When it may be there.
    pub(super) when: Option<Condition>,
    /// The same, asked of its parent.
    pub(super) parent_when: Option<Condition>,
}

/// A choice between members, one of which must be taken.
#[derive(Debug, Clone)]
pub(super) struct Choice {
    pub(super) name: &'static str,
    pub(super) mandatory: bool,
    pub(super) state: bool,
    /// The node that it is below.
    pub(super) parent: Option<NodeId>,
    /// The outer choices and cases that it is in.
    pub(super) within: Vec<(u16, &'static str)>,
}

/// All that is known of all modules.
#[derive(Debug)]
pub struct Schema {
    modules: Vec<Module>,
    nodes: Vec<Node>,
    pub(super) choices: Vec<Choice>,
    top: Vec<NodeId>,
}

impl Schema {
    /// The modules of this version.
    pub fn get() -> &'static Self {
        static SCHEMA: OnceLock<Schema> = OnceLock::new();
        SCHEMA.get_or_init(|| Self::read(MODULES))
    }

    /// The modules, by name.
    pub fn modules(&self) -> &[Module] {
        &self.modules
    }

    /// A node.
    pub fn node(&self, id: NodeId) -> &Node {
        &self.nodes[usize::from(id.0)]
    }

    /// The node of a member below another, or at the top.
    pub fn child(&self, parent: Option<NodeId>, member: &str) -> Option<NodeId> {
        self.children(parent).iter().copied().find(|c| self.node(*c).member == member)
    }

    /// The nodes below another, or at the top.
    pub fn children(&self, parent: Option<NodeId>) -> &[NodeId] {
        parent.map_or(&self.top[..], |p| &self.node(p).children)
    }

    /// The module that a node is of.
    pub fn module_of(&self, id: NodeId) -> &'static str {
        let mut at = id;
        loop {
            match (self.node(at).member.split_once(':'), self.node(at).parent) {
                (Some((module, _)), _) => return module,
                (None, Some(parent)) => at = parent,
                (None, None) => return "",
            }
        }
    }

    fn read(text: &'static str) -> Self {
        let mut schema =
            Self { modules: Vec::new(), nodes: Vec::new(), choices: Vec::new(), top: Vec::new() };
        let mut above: Vec<Above> = Vec::new();
        for line in text.lines().filter(|l| !l.starts_with('#') && !l.is_empty()) {
            let indent = (line.len() - line.trim_start().len()) / 2;
            above.truncate(indent);
            let mut parts = line.trim_start().split(" ; ");
            let head = parts.next().unwrap_or_default();
            let (head, value) = head.split_once(" : ").unwrap_or((head, ""));
            let mut words = head.split(' ');
            let (kind, name) = (words.next().unwrap_or_default(), words.next().unwrap_or_default());
            match kind {
                "module" => {
                    let (revision, namespace) = (words.next(), words.next());
                    schema.modules.push(Module {
                        name,
                        revision: revision.unwrap_or_default(),
                        namespace: namespace.unwrap_or_default(),
                    });
                }
                // those are read elsewhere
                "identity" => {}
                _ => {
                    let keys = head.split_once('[').map_or("", |k| k.1.trim_end_matches(']'));
                    let place = schema.add(kind, name, keys, value, parts, &above);
                    above.push(place);
                }
            }
        }
        schema
    }

    fn add(
        &mut self,
        kind: &'static str,
        name: &'static str,
        keys: &'static str,
        value: &'static str,
        flags: impl Iterator<Item = &'static str>,
        above: &[Above],
    ) -> Above {
        let parent = above.last().and_then(|a| a.node);
        let mut within = above.last().map(|a| a.within.clone()).unwrap_or_default();
        let flags: Vec<&'static str> = flags.collect();
        let has = |flag: &str| flags.contains(&flag);
        let after =
            |prefix: &str| flags.iter().filter_map(|f| f.strip_prefix(prefix)).collect::<Vec<_>>();
        let condition = |text: &&'static str| Condition::parse(text);
        match kind {
            "choice" => {
                let choice = self.choices.len() as u16;
                let (mandatory, state) = (has("mandatory"), has("state"));
                let outer = within.clone();
                self.choices.push(Choice { name, mandatory, state, parent, within: outer });
                within.push((choice, ""));
                return Above { node: parent, within };
            }
            "case" => {
                if let Some(last) = within.last_mut() {
                    last.1 = name;
                }
                return Above { node: parent, within };
            }
            _ => {}
        }
        let kind = match kind {
            "presence" => Kind::Presence,
            "list" => Kind::List(keys.split(' ').filter(|k| !k.is_empty()).collect()),
            "leaf" => Kind::Leaf(Type::parse(value)),
            "leaf-list" => Kind::LeafList(Type::parse(value)),
            "notification" => Kind::Notification,
            _ => Kind::Container,
        };
        let id = NodeId(self.nodes.len() as u16);
        self.nodes.push(Node {
            member: name,
            kind,
            mandatory: has("mandatory"),
            ordered: has("user"),
            state: has("state"),
            default: after("default ").first().copied(),
            parent,
            children: Vec::new(),
            cases: within,
            musts: after("must ").iter().map(condition).collect(),
            when: after("when ").iter().map(condition).next(),
            parent_when: after("parent-when ").iter().map(condition).next(),
        });
        match parent {
            Some(parent) => self.nodes[usize::from(parent.0)].children.push(id),
            None => self.top.push(id),
        }
        // what is below has choices of its own
        Above { node: Some(id), within: Vec::new() }
    }
}

/// What a line is below.
struct Above {
    node: Option<NodeId>,
    within: Vec<(u16, &'static str)>,
}

impl Node {
    /// The members that tell the entries of a list apart.
    pub fn keys(&self) -> &[&'static str] {
        if let Kind::List(keys) = &self.kind { keys } else { &[] }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_line_of_the_modules_is_understood() {
        let schema = Schema::get();
        assert!(
            schema.modules().iter().any(|m| m.name == "ietf-nat" && m.revision == "2019-01-10")
        );
        for node in &schema.nodes {
            let conditions = node.musts.iter().chain(&node.when).chain(&node.parent_when);
            for condition in conditions {
                assert!(!condition.is_unknown(), "{}: {condition}", node.member);
            }
            if let Kind::Leaf(t) | Kind::LeafList(t) = &node.kind {
                assert!(!t.is_unknown(), "{}: {t:?}", node.member);
            }
            for key in node.keys() {
                assert!(node.children.iter().any(|c| schema.node(*c).member == *key), "{key}");
            }
        }
    }

    #[test]
    fn a_member_has_its_module_where_that_changes() {
        let schema = Schema::get();
        let find = |path: &[&str]| {
            path.iter().try_fold(None, |at, name| schema.child(at, name).map(Some)).flatten()
        };
        let ip = find(&["ietf-interfaces:interfaces", "interface", "ietf-ip:ipv4", "address"]);
        assert_eq!(schema.module_of(ip.unwrap()), "ietf-ip");
        assert_eq!(find(&["ietf-nat:nat", "ietf-nat:instances"]), None);
    }
}
