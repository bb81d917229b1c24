//! The edits that make one document of another.

use std::collections::HashMap;

use serde_json::{Map, Value};

use super::edit::{Edit, Operation, Position, key_of};
use super::path::DataPath;
use super::schema::{Kind, NodeId, Schema};
use super::value_type::Type;

/// The edits that make `new` of `old`, in an order in which they can be made. Nodes that the
/// modules do not have stay as they are, and so does state.
pub fn difference(old: &Value, new: &Value) -> Vec<Edit> {
    let mut edits = Vec::new();
    let empty = Map::new();
    let (old, new) = (old.as_object().unwrap_or(&empty), new.as_object().unwrap_or(&empty));
    members(&DataPath::default(), None, old, new, &mut edits);
    edits
}

fn members(
    path: &DataPath,
    at: Option<NodeId>,
    old: &Map<String, Value>,
    new: &Map<String, Value>,
    edits: &mut Vec<Edit>,
) {
    let schema = Schema::get();
    for child in schema.children(at) {
        let node = schema.node(*child);
        if node.state {
            continue;
        }
        let target = path.with(node.member, Vec::new());
        let edit = |operation, value: Option<&Value>| Edit {
            operation,
            target: target.clone(),
            value: value.cloned(),
            position: Position::Last,
        };
        match (old.get(node.member), new.get(node.member)) {
            (None, None) => {}
            (Some(_), None) => edits.push(edit(Operation::Delete, None)),
            // a container may have been made by an edit above
            (None, Some(value)) => edits.push(edit(Operation::Merge, Some(value))),
            (Some(a), Some(b)) => both(&target, *child, a, b, edits),
        }
    }
}

fn both(path: &DataPath, id: NodeId, old: &Value, new: &Value, edits: &mut Vec<Edit>) {
    let schema = Schema::get();
    let node = schema.node(id);
    let replace = |value: &Value| Edit {
        operation: Operation::Replace,
        target: path.clone(),
        value: Some(value.clone()),
        position: Position::Last,
    };
    match (&node.kind, old, new) {
        (Kind::Container | Kind::Presence, Value::Object(a), Value::Object(b)) => {
            members(path, Some(id), a, b, edits);
        }
        (Kind::List(keys), Value::Array(a), Value::Array(b)) => {
            entries(path, id, keys, (a, b), edits);
        }
        (Kind::LeafList(t), Value::Array(a), Value::Array(b)) => {
            let module = schema.module_of(id);
            let has = |list: &[Value], v: &Value| list.iter().any(|o| t.same(o, v, module));
            let equal = match node.ordered {
                true => a.len() == b.len() && a.iter().zip(b).all(|(x, y)| t.same(x, y, module)),
                false => a.iter().all(|v| has(b, v)) && b.iter().all(|v| has(a, v)),
            };
            if !equal {
                edits.push(replace(new));
            }
        }
        (Kind::Leaf(t), a, b) if same(t, a, b, schema.module_of(id)) => {}
        (_, a, b) if a == b => {}
        (_, _, new) => edits.push(replace(new)),
    }
}

fn same(t: &Type, a: &Value, b: &Value, module: &str) -> bool {
    t.same(a, b, module)
}

fn entries(
    path: &DataPath,
    id: NodeId,
    keys: &[&'static str],
    (old, new): (&[Value], &[Value]),
    edits: &mut Vec<Edit>,
) {
    let schema = Schema::get();
    let Some((above, last)) = path.split() else { return };
    let at = |key: &[String]| above.with(&last.member, key.to_vec());
    let keyed = |list: &[Value]| -> Vec<Vec<String>> {
        list.iter().map(|e| key_of(e, keys).unwrap_or_default()).collect()
    };
    let (old_keys, new_keys) = (keyed(old), keyed(new));
    let position = |list: &[Vec<String>]| -> HashMap<Vec<String>, usize> {
        list.iter().cloned().zip(0..).collect()
    };
    let (old_at, new_at) = (position(&old_keys), position(&new_keys));
    for key in old_keys.iter().filter(|k| !new_at.contains_key(*k)) {
        let (operation, target) = (Operation::Delete, at(key));
        edits.push(Edit { operation, target, value: None, position: Position::Last });
    }
    // the order of what stays, as the edits so far leave it
    let mut order: Vec<&Vec<String>> =
        old_keys.iter().filter(|k| new_at.contains_key(*k)).collect();
    for (i, key) in new_keys.iter().enumerate() {
        let place = || match i.checked_sub(1).map(|p| &new_keys[p]) {
            Some(before) => Position::After(before.clone()),
            None => Position::First,
        };
        match old_at.get(key) {
            Some(o) => {
                if schema.node(id).ordered && order.get(i) != Some(&key) {
                    let (operation, target) = (Operation::Move, at(key));
                    edits.push(Edit { operation, target, value: None, position: place() });
                    order.retain(|k| *k != key);
                    order.insert(i.min(order.len()), key);
                }
                if let (Some(a), Some(b)) = (old[*o].as_object(), new[i].as_object()) {
                    members(&at(key), Some(id), a, b, edits);
                }
            }
            None => {
                let ordered = schema.node(id).ordered;
                let operation = if ordered { Operation::Insert } else { Operation::Create };
                let position = if ordered { place() } else { Position::Last };
                let value = Some(new[i].clone());
                edits.push(Edit { operation, target: at(key), value, position });
                order.insert(i.min(order.len()), key);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::super::{apply, parse};
    use super::*;

    fn made(old: &str, new: &str) -> Vec<Edit> {
        let (old, new) = (parse(old).unwrap(), parse(new).unwrap());
        let edits = difference(&old, &new);
        let mut made = old;
        edits.iter().for_each(|e| apply(&mut made, e).unwrap());
        assert!(difference(&made, &new).is_empty(), "{made}");
        assert!(difference(&new, &made).is_empty(), "{made}");
        edits
    }

    #[test]
    fn edits_make_one_document_of_another() {
        let rules = |names: &[&str]| {
            let rules: Vec<String> =
                names.iter().map(|n| format!(r#"{{"name":"{n}","type":"exempt"}}"#)).collect();
            format!(r#"{{"zarnet-policy:edge":{{"rule":[{}]}}}}"#, rules.join(","))
        };
        assert_eq!(made(&rules(&["a", "b", "c"]), &rules(&["a", "b", "c"])), []);
        assert_eq!(made(&rules(&["a", "b", "c"]), &rules(&["c", "a", "b"])).len(), 1);
        made(&rules(&["a", "b", "c", "d"]), &rules(&["d", "x", "b", "a", "y"]));
        made(&rules(&["a"]), "{}");
        made("{}", &rules(&["a", "b"]));
        let instance = |inner: &str| {
            format!(r#"{{"ietf-nat:nat":{{"instances":{{"instance":[{{"id":1,{inner}}}]}}}}}}"#)
        };
        let edits = made(
            &instance(r#""name":"a","policy":[{"id":1,"timers":{"udp-timeout":300}}]"#),
            &instance(r#""name":"a","policy":[{"id":1,"timers":{"udp-timeout":120}}]"#),
        );
        assert_eq!(
            edits[0].target.to_string(),
            "/ietf-nat:nat/instances/instance=1/policy=1/timers/udp-timeout"
        );
        // an identity is the same with and without its module
        assert_eq!(
            made(&instance(r#""type":"napt44""#), &instance(r#""type":"ietf-nat:napt44""#)),
            []
        );
    }
}
