//! Numbers of one document as another has them: entries that say the same are the same entry,
//! whatever number each side has given it.

use std::collections::{HashMap, HashSet};

use serde_json::Value;

use super::member;

/// New numbers by old ones.
type Renumbered = HashMap<String, Value>;

/// Gives the entries of a document the numbers and names that entries of another have which say the
/// same, or most nearly; others get numbers that are free there.
pub fn align(document: &mut Value, like: &Value) {
    let instances = |d: &Value| d.get(member::NAT)?.get("instances")?.get("instance").cloned();
    let theirs = instances(like);
    let mut renumbered: HashMap<String, (Value, Renumbered, Renumbered, Renumbered)> =
        HashMap::new();
    if let Some(own) = pointer(document, &[member::NAT, "instances", "instance"]) {
        let theirs = theirs.as_ref().and_then(Value::as_array).cloned().unwrap_or_default();
        let before: Vec<Value> = own.iter().map(|i| i["id"].clone()).collect();
        renumber(own, &theirs, "id", &[&|i| text(i, &["type"])], &HashSet::new());
        for (before, own) in before.iter().zip(own) {
            let same = theirs.iter().find(|t| t["id"] == own["id"]).cloned().unwrap_or_default();
            let (policies, entries, passed) = instance(own, &same);
            renumbered.insert(before.to_string(), (own["id"].clone(), policies, entries, passed));
        }
    }
    if let Some(rules) = pointer(document, &[member::EDGE, "rule"]) {
        for rule in rules {
            refer(rule, &renumbered);
        }
    }
    aces(document, like);
    let lists = [
        (vec![member::EDGE, "policy"], "index"),
        (vec![member::EDGE, "route"], "index"),
        (vec![member::ROUTING, "control-plane-protocols", "control-plane-protocol"], "name"),
    ];
    for (path, key) in lists {
        let theirs = path.iter().try_fold(like, |at, name| at.get(name));
        let theirs = theirs.and_then(Value::as_array).cloned().unwrap_or_default();
        if let Some(own) = pointer(document, &path) {
            let by_type = |e: &Value| text(e, &["type"]);
            let all = |e: &Value| without(e, key);
            let signs: Vec<&dyn Fn(&Value) -> String> =
                if key == "name" { vec![&by_type] } else { vec![&all] };
            renumber(own, &theirs, key, &signs, &HashSet::new());
        }
    }
}

/// The lists of an instance: policies, entries, what passes through.
fn instance(own: &mut Value, like: &Value) -> (Renumbered, Renumbered, Renumbered) {
    let list = |v: &Value, path: &[&str]| {
        let found = path.iter().try_fold(v, |at, name| at.get(name));
        found.and_then(Value::as_array).cloned().unwrap_or_default()
    };
    // numbers of pools are those of the instance, whatever the policy
    let pools: HashSet<u64> = list(like, &["policy"])
        .iter()
        .flat_map(|p| list(p, &["external-ip-address-pool"]))
        .filter_map(|p| p["pool-id"].as_u64())
        .collect();
    let parts = |p: &Value, list: &str, leaf: &str| -> String {
        let entries = p.get(list).and_then(Value::as_array).into_iter().flatten();
        entries.map(|e| e[leaf].to_string()).collect::<Vec<_>>().join(",")
    };
    let addresses = |p: &Value| parts(p, "external-ip-address-pool", "external-ip-pool");
    let senders = |p: &Value| parts(p, "subscriber-match", "subnet");
    let prefixes = |p: &Value| parts(p, "nptv6-prefixes", "internal-ipv6-prefix");
    let whole = |p: &Value| format!("{}|{}|{}", addresses(p), senders(p), prefixes(p));
    let mut policies = Renumbered::new();
    if let Some(own) = pointer(own, &["policy"]) {
        let theirs = list(like, &["policy"]);
        let any = |_: &Value| String::new();
        policies =
            renumber(own, &theirs, "id", &[&whole, &addresses, &senders, &any], &HashSet::new());
        let mut taken = pools;
        for policy in own {
            let same = theirs.iter().find(|t| t["id"] == policy["id"]).cloned().unwrap_or_default();
            for (name, key, leaf) in [
                ("external-ip-address-pool", "pool-id", "external-ip-pool"),
                ("subscriber-match", "match-id", "subnet"),
            ] {
                let theirs = list(&same, &[name]);
                if let Some(own) = pointer(policy, &[name]) {
                    let is_pool = key == "pool-id";
                    let none = HashSet::new();
                    let used = if is_pool { &taken } else { &none };
                    renumber(own, &theirs, key, &[&|e| e[leaf].to_string()], used);
                    if is_pool {
                        taken.extend(own.iter().filter_map(|p| p["pool-id"].as_u64()));
                    }
                }
            }
        }
    }
    let outside = |e: &Value| {
        let port = e["external-src-port"].to_string();
        let (protocol, address) = (&e["transport-protocol"], &e["external-src-address"]);
        format!("{protocol} {address} {port} {}", e["external-dst-address"])
    };
    let inside = |e: &Value| {
        let (protocol, address) = (&e["transport-protocol"], &e["internal-src-address"]);
        format!("{protocol} {address} {} {}", e["internal-src-port"], e["external-dst-address"])
    };
    let all = |e: &Value| without(e, "index");
    let path = ["mapping-table", "mapping-entry"];
    let theirs = list(like, &path);
    let entries = pointer(own, &path)
        .map(|own| renumber(own, &theirs, "index", &[&all, &outside, &inside], &HashSet::new()))
        .unwrap_or_default();
    let theirs = list(like, &["nat-pass-through"]);
    let passed = pointer(own, &["nat-pass-through"])
        .map(|own| renumber(own, &theirs, "id", &[&|e| text(e, &["prefix"])], &HashSet::new()))
        .unwrap_or_default();
    (policies, entries, passed)
}

/// Entries of filters have names that mean nothing.
fn aces(document: &mut Value, like: &Value) {
    let theirs =
        like.get(member::ACLS).and_then(|a| a.get("acl")).and_then(Value::as_array).cloned();
    let theirs = theirs.unwrap_or_default();
    for acl in pointer(document, &[member::ACLS, "acl"]).into_iter().flatten() {
        let same = theirs.iter().find(|t| t["name"] == acl["name"]);
        let list = same.and_then(|t| t.get("aces")?.get("ace")?.as_array().cloned());
        let list = list.unwrap_or_default();
        if let Some(own) = pointer(acl, &["aces", "ace"]) {
            renumber(own, &list, "name", &[&|e| without(e, "name")], &HashSet::new());
        }
    }
}

/// What a rule of `zarnet-policy` points at, by the new numbers.
fn refer(
    rule: &mut Value,
    renumbered: &HashMap<String, (Value, Renumbered, Renumbered, Renumbered)>,
) {
    let Some((id, policies, entries, passed)) = renumbered.get(&rule["instance"].to_string())
    else {
        return;
    };
    let is_exempt = rule["type"] == "exempt";
    let Some(members) = rule.as_object_mut() else { return };
    if members.contains_key("instance") {
        members.insert("instance".into(), id.clone());
    }
    if let Some(policy) = members.get_mut("policy-id")
        && let Some(new) = policies.get(&policy.to_string())
    {
        *policy = new.clone();
    }
    let numbers = if is_exempt { passed } else { entries };
    for entry in members.get_mut("entry").and_then(Value::as_array_mut).into_iter().flatten() {
        if let Some(new) = numbers.get(&entry.to_string()) {
            *entry = new.clone();
        }
    }
}

fn pointer<'v>(value: &'v mut Value, path: &[&str]) -> Option<&'v mut Vec<Value>> {
    path.iter().try_fold(value, |at, name| at.get_mut(name))?.as_array_mut()
}

fn text(value: &Value, path: &[&str]) -> String {
    let found = path.iter().try_fold(value, |at, name| at.get(name));
    let text = found.and_then(Value::as_str).unwrap_or_default();
    text.rsplit(':').next().unwrap_or(text).to_owned()
}

/// An entry without its key, as text; members in an order that does not matter.
fn without(entry: &Value, key: &str) -> String {
    let Some(members) = entry.as_object() else { return entry.to_string() };
    let mut parts: Vec<String> = members
        .iter()
        .filter(|(name, _)| name.as_str() != key && *name != "zarnet-policy:row")
        .map(|(name, value)| format!("{name}={value}"))
        .collect();
    parts.sort();
    parts.join(" ")
}

/// Gives entries the keys of those that have the same sign, sign by sign; the rest get keys that
/// are free.
fn renumber(
    own: &mut [Value],
    theirs: &[Value],
    key: &str,
    signs: &[&dyn Fn(&Value) -> String],
    taken_elsewhere: &HashSet<u64>,
) -> Renumbered {
    let mut given: Vec<Option<Value>> = vec![None; own.len()];
    let mut is_free = vec![true; theirs.len()];
    for sign in signs {
        let mut by_sign: HashMap<String, Vec<usize>> = HashMap::new();
        for (i, entry) in theirs.iter().enumerate().rev().filter(|(i, _)| is_free[*i]) {
            by_sign.entry(sign(entry)).or_default().push(i);
        }
        for (given, entry) in given.iter_mut().zip(own.iter()).filter(|(g, _)| g.is_none()) {
            if let Some(i) = by_sign.get_mut(&sign(entry)).and_then(Vec::pop) {
                is_free[i] = false;
                *given = Some(theirs[i][key].clone());
            }
        }
    }
    let mut used: HashSet<String> = theirs.iter().map(|t| t[key].to_string()).collect();
    used.extend(taken_elsewhere.iter().map(u64::to_string));
    let mut next = 1 + theirs
        .iter()
        .filter_map(|t| t[key].as_u64())
        .chain(taken_elsewhere.iter().copied())
        .max()
        .unwrap_or(0);
    let mut renumbered = Renumbered::new();
    for (entry, given) in own.iter_mut().zip(given) {
        let before = entry[key].clone();
        let new = match given {
            Some(key) => key,
            None if !used.contains(&before.to_string()) => before.clone(),
            None if before.is_number() => {
                while used.contains(&next.to_string()) {
                    next += 1;
                }
                Value::from(next)
            }
            None => {
                let text = before.as_str().unwrap_or_default();
                let mut n = 2;
                while used.contains(&Value::from(format!("{text}-{n}")).to_string()) {
                    n += 1;
                }
                Value::from(format!("{text}-{n}"))
            }
        };
        used.insert(new.to_string());
        renumbered.insert(before.to_string(), new.clone());
        entry[key] = new;
    }
    renumbered
}
