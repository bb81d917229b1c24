//! Places in a document: `/ietf-nat:nat/instances/instance=1/policy=2` (RFC 8040 §3.5.3).

use std::fmt;

use serde_json::Value;

use super::schema::{Kind, NodeId, Schema};

/// A step of a path.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Step {
    /// The member.
    pub member: String,
    /// Values of its keys, or of the entry of a leaf-list; none for all entries, or no list.
    pub keys: Vec<String>,
}

/// A place in a document.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct DataPath {
    /// From the top downward.
    pub steps: Vec<Step>,
}

/// Why a path leads nowhere.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum PathError {
    /// Not how paths are written.
    #[error("`{0}` is not a path of data")]
    Malformed(String),
    /// A member that the modules do not have there.
    #[error("`{0}` is not known there")]
    Unknown(String),
    /// More or fewer keys than the list has.
    #[error("`{member}` has {wanted} keys, not {got}")]
    Keys {
        /// The list.
        member: String,
        /// How many it has.
        wanted: usize,
        /// How many are given.
        got: usize,
    },
}

impl DataPath {
    /// Reads a path as URLs have it, still percent-encoded. A module may be named again where it
    /// need not be, and is left out where it would not be in JSON.
    ///
    /// # Errors
    /// It is malformed, or the modules have no such place.
    pub fn parse(text: &str) -> Result<Self, PathError> {
        let schema = Schema::get();
        let malformed = || PathError::Malformed(text.into());
        let trimmed = text.strip_prefix('/').unwrap_or(text);
        let mut path = Self::default();
        let mut at: Option<NodeId> = None;
        if trimmed.is_empty() {
            return Ok(path);
        }
        for part in trimmed.split('/') {
            let (name, keys) = match part.split_once('=') {
                Some((name, keys)) => (name, Some(keys)),
                None => (part, None),
            };
            let name = decoded(name).ok_or_else(malformed)?;
            let child = schema.child(at, &name).or_else(|| {
                let (module, bare) = name.split_once(':')?;
                let child = schema.child(at, bare)?;
                (schema.module_of(child) == module).then_some(child)
            });
            let child = child.ok_or_else(|| PathError::Unknown(name.clone()))?;
            let keys = match keys {
                Some(keys) => keys
                    .split(',')
                    .map(|k| decoded(k).ok_or_else(malformed))
                    .collect::<Result<Vec<_>, _>>()?,
                None => Vec::new(),
            };
            let wanted = match &schema.node(child).kind {
                Kind::List(names) => names.len(),
                Kind::LeafList(_) => 1,
                Kind::Container | Kind::Presence | Kind::Leaf(_) | Kind::Notification => 0,
            };
            if !keys.is_empty() && keys.len() != wanted {
                let member = schema.node(child).member.into();
                return Err(PathError::Keys { member, wanted, got: keys.len() });
            }
            path.steps.push(Step { member: schema.node(child).member.into(), keys });
            at = Some(child);
        }
        Ok(path)
    }

    /// The node of the modules that it leads to; none for the whole document.
    pub fn node(&self) -> Option<NodeId> {
        let schema = Schema::get();
        self.steps.iter().fold(None, |at, step| schema.child(at, &step.member))
    }

    /// The same with a further step.
    pub fn with(&self, member: &str, keys: Vec<String>) -> Self {
        let mut steps = self.steps.clone();
        steps.push(Step { member: member.into(), keys });
        Self { steps }
    }

    /// The place above, and the last step; none of the whole document.
    pub fn split(&self) -> Option<(Self, &Step)> {
        let (last, above) = self.steps.split_last()?;
        Some((Self { steps: above.to_vec() }, last))
    }

    /// The value there.
    pub fn find<'a>(&self, document: &'a Value) -> Option<&'a Value> {
        let schema = Schema::get();
        let (mut at, mut node) = (document, None);
        for step in &self.steps {
            node = schema.child(node, &step.member);
            at = at.get(&step.member)?;
            if !step.keys.is_empty() {
                let names = node.map_or(&[][..], |n| schema.node(n).keys());
                at = at.as_array()?.iter().find(|e| has_keys(e, names, &step.keys))?;
            }
        }
        Some(at)
    }
}

/// Whether an entry of a list has these keys; of a leaf-list, is this value.
pub(super) fn has_keys(entry: &Value, names: &[&str], keys: &[String]) -> bool {
    if names.is_empty() {
        return keys.first().is_some_and(|k| is_key(entry, k));
    }
    let same = |name: &&str, key: &String| entry.get(*name).is_some_and(|v| is_key(v, key));
    names.len() == keys.len() && names.iter().zip(keys).all(|(n, k)| same(n, k))
}

fn is_key(value: &Value, key: &str) -> bool {
    match value {
        // an identity may be written without its module
        Value::String(text) => {
            text == key
                || text.rsplit_once(':').is_some_and(|t| t.1 == key)
                || key.rsplit_once(':').is_some_and(|k| k.1 == text)
        }
        Value::Number(number) => key.parse().is_ok_and(|k: u64| number.as_u64() == Some(k)),
        other => bare(other) == key,
    }
}

/// A value as it stands in a path.
pub(super) fn bare(value: &Value) -> String {
    match value {
        Value::String(text) => text.clone(),
        other => other.to_string(),
    }
}

impl fmt::Display for DataPath {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.steps.is_empty() {
            return f.write_str("/");
        }
        self.steps.iter().try_for_each(|step| {
            write!(f, "/{}", step.member)?;
            let keys: Vec<String> = step.keys.iter().map(|k| encoded(k)).collect();
            if keys.is_empty() { Ok(()) } else { write!(f, "={}", keys.join(",")) }
        })
    }
}

/// Percent-encodes what a key must not have in a URL (RFC 3986 §2.2, RFC 8040 §3.5.3).
fn encoded(text: &str) -> String {
    let mut out = String::new();
    for octet in text.bytes() {
        match octet {
            b'A'..=b'Z' | b'a'..=b'z' | b'0'..=b'9' | b'-' | b'.' | b'_' | b'~' => {
                out.push(char::from(octet));
            }
            other => out.push_str(&format!("%{other:02X}")),
        }
    }
    out
}

fn decoded(text: &str) -> Option<String> {
    let mut out = Vec::with_capacity(text.len());
    let mut octets = text.bytes();
    while let Some(octet) = octets.next() {
        if octet != b'%' {
            out.push(octet);
            continue;
        }
        let digit = |o: Option<u8>| o.and_then(|o| char::from(o).to_digit(16));
        let (high, low) = (digit(octets.next())?, digit(octets.next())?);
        out.push((high * 16 + low) as u8);
    }
    String::from_utf8(out).ok()
}

/// A step on the way to what is being looked at.
pub(super) enum Part<'a> {
    Member(&'static str),
    /// An entry, the names of its keys, and its position.
    Entry(&'a Value, &'a [&'static str], usize),
}

/// A path as answers write it.
pub(super) fn written(parts: &[Part<'_>]) -> String {
    let mut out = String::new();
    for part in parts {
        match part {
            Part::Member(member) => {
                out.push('/');
                out.push_str(member);
            }
            Part::Entry(entry, names, position) => {
                let keys: Vec<String> =
                    names.iter().filter_map(|n| entry.get(*n)).map(|v| encoded(&bare(v))).collect();
                out.push_str(&match keys.len() == names.len() && !keys.is_empty() {
                    true => format!("={}", keys.join(",")),
                    // without its keys, by its position
                    false => format!("[{}]", position + 1),
                });
            }
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_path_is_read_as_urls_have_it() {
        let path = DataPath::parse("/ietf-nat:nat/instances/instance=1/policy=2").unwrap();
        assert_eq!(path.steps[2].keys, ["1"]);
        assert_eq!(path.to_string(), "/ietf-nat:nat/instances/instance=1/policy=2");
        let odd = DataPath::parse("ietf-interfaces:interfaces/interface=a%2Fb%2C%25").unwrap();
        assert_eq!(odd.steps[1].keys, ["a/b,%"]);
        assert_eq!(odd.to_string(), "/ietf-interfaces:interfaces/interface=a%2Fb%2C%25");
        // a module may be named again
        let again = DataPath::parse("/ietf-nat:nat/ietf-nat:instances").unwrap();
        assert_eq!(again.to_string(), "/ietf-nat:nat/instances");
        assert_eq!(
            DataPath::parse("/ietf-nat:nat/insances"),
            Err(PathError::Unknown("insances".into()))
        );
        assert!(matches!(
            DataPath::parse("/ietf-nat:nat/instances/instance=1,2"),
            Err(PathError::Keys { .. })
        ));
        assert!(matches!(DataPath::parse("/%zz"), Err(PathError::Malformed(_))));
    }
}
