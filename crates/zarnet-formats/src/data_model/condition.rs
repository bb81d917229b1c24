//! What `must` and `when` of the modules ask: the few forms of XPath that they use.

use std::fmt;

use serde_json::Value;

use super::identities::{derives, with_module};

/// A condition of a module.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Condition {
    text: &'static str,
    form: Form,
}

#[derive(Debug, Clone, PartialEq)]
enum Form {
    /// A value is at least, or at most, another.
    Compare { at_least: bool, with: Operand },
    /// A value somewhere is a text.
    Equals { path: &'static str, text: &'static str },
    /// An identity somewhere is another, or derived from it.
    Derived { path: &'static str, identity: &'static str },
    /// Not understood; the test of the schema finds none.
    Unknown,
}

#[derive(Debug, Clone, PartialEq)]
enum Operand {
    Number(i64),
    Path(&'static str),
}

/// The values from the top of a document to a node of it.
pub(super) type Ancestry<'a> = [&'a Value];

impl Condition {
    pub(super) fn parse(text: &'static str) -> Self {
        Self { text, form: Self::form(text).unwrap_or(Form::Unknown) }
    }

    fn form(text: &'static str) -> Option<Form> {
        if let Some(rest) = text.strip_prefix("derived-from-or-self(") {
            let (path, identity) = rest.strip_suffix(')')?.split_once(',')?;
            return Some(Form::Derived { path, identity: identity.trim().trim_matches('\'') });
        }
        if let Some(rest) = text.strip_prefix(". ") {
            let (at_least, with) = match rest.split_once(' ')? {
                (">=", with) => (true, with),
                ("<=", with) => (false, with),
                _ => return None,
            };
            let with = with.parse().map_or(Operand::Path(with), Operand::Number);
            return Some(Form::Compare { at_least, with });
        }
        let (path, word) = text.split_once('=')?;
        Some(Form::Equals { path: path.trim(), text: word.trim().trim_matches('\'') })
    }

    #[cfg(test)]
    pub(super) fn is_unknown(&self) -> bool {
        self.form == Form::Unknown
    }

    /// Whether it holds of a node, of a module: `from` ends with the node itself.
    pub(super) fn holds(&self, from: &Ancestry<'_>, module: &str) -> bool {
        match &self.form {
            Form::Compare { at_least, with } => {
                let own = from.last().and_then(|v| v.as_i64());
                let other = match with {
                    Operand::Number(n) => Some(*n),
                    Operand::Path(path) => look_up(path, from).first().and_then(|v| v.as_i64()),
                };
                // compared with nothing, nothing holds (XPath 1.0 §3.4)
                matches!((own, other), (Some(a), Some(b)) if if *at_least { a >= b } else { a <= b })
            }
            Form::Equals { path, text } => {
                look_up(path, from).iter().any(|v| v.as_str() == Some(text))
            }
            Form::Derived { path, identity } => look_up(path, from)
                .iter()
                .any(|v| v.as_str().is_some_and(|t| derives(&with_module(t, module), identity))),
            Form::Unknown => true,
        }
    }
}

impl fmt::Display for Condition {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.text)
    }
}

/// The values at a path: from the top if it begins with a slash, else from a node upward.
pub(super) fn look_up<'a>(path: &str, from: &Ancestry<'a>) -> Vec<&'a Value> {
    let (mut at, names): (Vec<&Value>, &str) = match path.strip_prefix('/') {
        Some(rest) => (from.first().copied().into_iter().collect(), rest),
        None => {
            // entries of a list are below the list, which is no step of a path
            let up = path.split('/').take_while(|s| *s == "..").count();
            let rest = path.trim_start_matches("../");
            let nodes: Vec<&Value> = from.iter().copied().filter(|v| !v.is_array()).collect();
            (nodes.len().checked_sub(up + 1).map(|i| nodes[i]).into_iter().collect(), rest)
        }
    };
    for name in names.split('/').filter(|n| !n.is_empty()) {
        let named = at.into_iter().filter_map(Value::as_object).flat_map(|o| {
            o.iter().filter(|(m, _)| m.rsplit(':').next() == Some(name)).map(|m| m.1)
        });
        at = named
            .flat_map(|v| match v {
                Value::Array(entries) => entries.iter().collect(),
                other => vec![other],
            })
            .collect();
    }
    at
}
