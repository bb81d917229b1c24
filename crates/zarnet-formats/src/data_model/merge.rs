//! Three documents into one: what is there, what we know of it, and what we want of that.

use std::collections::HashMap;

use serde_json::{Map, Value};

use super::edit::key_of;
use super::schema::{Kind, NodeId, Schema};
use super::value_type::Type;

/// `running` with everything changed that differs between `known` and `wanted`; what neither knows
/// stays as it is, and so does how things are written that do not change.
pub fn merged(running: &Value, known: &Value, wanted: &Value) -> Value {
    members(None, Some(running), Some(known), Some(wanted))
}

/// The members of an object, each merged.
fn members(
    at: Option<NodeId>,
    running: Option<&Value>,
    known: Option<&Value>,
    wanted: Option<&Value>,
) -> Value {
    let schema = Schema::get();
    let object = |v: Option<&'_ Value>| v.and_then(Value::as_object).cloned().unwrap_or_default();
    let (running, known, wanted) = (object(running), object(known), object(wanted));
    let mut out = Map::new();
    let mut names: Vec<&String> = running.keys().collect();
    names.extend(wanted.keys().filter(|n| !running.contains_key(*n)));
    for name in names {
        let three = (running.get(name), known.get(name), wanted.get(name));
        let value = match schema.child(at, name) {
            // of what is not known here, nothing can be wanted
            None => three.0.cloned(),
            Some(node) => node_value(node, three),
        };
        if let Some(value) = value {
            out.insert(name.clone(), value);
        }
    }
    Value::Object(out)
}

fn node_value(
    id: NodeId,
    (running, known, wanted): (Option<&Value>, Option<&Value>, Option<&Value>),
) -> Option<Value> {
    let schema = Schema::get();
    let node = schema.node(id);
    if node.state {
        return running.cloned();
    }
    let unchanged = match (known, wanted) {
        (None, None) => true,
        (Some(a), Some(b)) => same(id, a, b),
        _ => false,
    };
    if unchanged {
        return running.cloned();
    }
    match &node.kind {
        Kind::Leaf(_) | Kind::LeafList(_) | Kind::Notification => wanted.cloned(),
        Kind::Container | Kind::Presence => {
            let value = members(Some(id), running, known, wanted);
            let is_empty = value.as_object().is_none_or(Map::is_empty);
            let stays = wanted.is_some() && (node.kind == Kind::Presence || !is_empty);
            (stays || !is_empty).then_some(value)
        }
        Kind::List(keys) => {
            let list = entries(id, keys, running, known, wanted);
            (!list.is_empty()).then_some(Value::Array(list))
        }
    }
}

/// The entries of a list: those that are wanted in the order in which they are wanted, the others
/// behind those that they are behind.
fn entries(
    id: NodeId,
    keys: &[&'static str],
    running: Option<&Value>,
    known: Option<&Value>,
    wanted: Option<&Value>,
) -> Vec<Value> {
    let list = |v: Option<&Value>| -> Vec<(Vec<String>, Value)> {
        let entries = v.and_then(Value::as_array).into_iter().flatten();
        entries.filter_map(|e| Some((key_of(e, keys)?, e.clone()))).collect()
    };
    let (running, known, wanted) = (list(running), list(known), list(wanted));
    let index = |list: &[(Vec<String>, Value)]| -> HashMap<Vec<String>, Value> {
        list.iter().cloned().collect()
    };
    let (is_running, is_known, is_wanted) = (index(&running), index(&known), index(&wanted));
    let one = |key: &Vec<String>| {
        let three = (is_running.get(key), is_known.get(key), is_wanted.get(key));
        let gone = three.2.is_none() && three.1.is_some();
        // what we only know by another name is not added under ours
        let alias =
            three.0.is_none() && matches!((three.1, three.2), (Some(a), Some(b)) if same(id, a, b));
        match (gone, alias, three.2) {
            (true, _, _) | (_, true, _) => None,
            (_, _, None) => three.0.cloned(),
            _ => Some(members(Some(id), three.0, three.1, three.2)),
        }
    };
    let ordered = Schema::get().node(id).ordered;
    let mut order: Vec<Vec<String>> = match ordered {
        true => wanted.iter().map(|w| w.0.clone()).collect(),
        false => running.iter().map(|r| r.0.clone()).collect(),
    };
    match ordered {
        true => {
            let mut before: Option<Vec<String>> = None;
            for (key, _) in &running {
                if !is_wanted.contains_key(key) {
                    let at = before.as_ref().and_then(|b| order.iter().position(|k| k == b));
                    order.insert(at.map_or(0, |a| a + 1), key.clone());
                }
                before = Some(key.clone());
            }
        }
        false => {
            order.extend(wanted.iter().map(|w| w.0.clone()).filter(|k| !is_running.contains_key(k)))
        }
    }
    order.iter().filter_map(one).collect()
}

/// Whether two values of a node mean the same.
fn same(id: NodeId, a: &Value, b: &Value) -> bool {
    let schema = Schema::get();
    let alike = |t: &Type, a: &Value, b: &Value| t.same(a, b, schema.module_of(id));
    match (&schema.node(id).kind, a, b) {
        (Kind::Leaf(t), a, b) => alike(t, a, b),
        (Kind::LeafList(t), Value::Array(a), Value::Array(b)) => {
            a.len() == b.len() && a.iter().zip(b).all(|(x, y)| alike(t, x, y))
        }
        (Kind::List(_), Value::Array(a), Value::Array(b)) => {
            a.len() == b.len() && a.iter().zip(b).all(|(x, y)| same_members(id, x, y))
        }
        (_, a @ Value::Object(_), b @ Value::Object(_)) => same_members(id, a, b),
        (_, a, b) => a == b,
    }
}

fn same_members(id: NodeId, a: &Value, b: &Value) -> bool {
    let (Some(a), Some(b)) = (a.as_object(), b.as_object()) else { return a == b };
    let schema = Schema::get();
    let alike = |(name, x): (&String, &Value)| {
        b.get(name).is_some_and(|y| match schema.child(Some(id), name) {
            Some(child) => same(child, x, y),
            None => x == y,
        })
    };
    a.len() == b.len() && a.iter().all(alike)
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    fn rules(names: &[&str]) -> Value {
        let list: Vec<Value> =
            names.iter().map(|n| json!({ "name": n, "type": "exempt" })).collect();
        json!({ "zarnet-policy:edge": { "rule": list } })
    }

    fn names(document: &Value) -> Vec<&str> {
        let list = document["zarnet-policy:edge"]["rule"].as_array();
        list.into_iter().flatten().filter_map(|r| r["name"].as_str()).collect()
    }

    #[test]
    fn what_neither_knows_stays_where_it_is() {
        let running = rules(&["a", "mine", "b"]);
        let merge = |wanted: &[&str]| merged(&running, &rules(&["a", "b"]), &rules(wanted));
        assert_eq!(names(&merge(&["a", "b"])), ["a", "mine", "b"]);
        assert_eq!(names(&merge(&["b", "a"])), ["b", "a", "mine"]);
        assert_eq!(names(&merge(&["x", "a"])), ["x", "a", "mine"]);
        assert_eq!(names(&merge(&[])), ["mine"]);
        // what is known by another name there is not added under ours
        let merge = merged(&running, &rules(&["a", "b", "z"]), &rules(&["a", "b", "z"]));
        assert_eq!(names(&merge), ["a", "mine", "b"]);
    }

    #[test]
    fn leaves_are_changed_one_by_one() {
        let timers = |udp: u32, more: Value| {
            let mut timers = json!({ "udp-timeout": udp });
            timers.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
            json!({ "ietf-nat:nat": { "instances": { "instance": [
                { "id": 1, "policy": [{ "id": 1, "timers": timers }] },
            ] } } })
        };
        let running = timers(300, json!({ "hold-down-max": 9 }));
        let (known, wanted) = (timers(300, json!({})), timers(60, json!({})));
        assert_eq!(merged(&running, &known, &wanted), timers(60, json!({ "hold-down-max": 9 })));
        assert_eq!(merged(&running, &known, &known), running);
    }
}
