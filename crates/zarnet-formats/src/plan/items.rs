//! What a plan says of a device, piece by piece, as text: for plans to be held side by side.

use toml_edit::{DocumentMut, Item, Table};

/// A piece of a device: a rule, an interface, its timers.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PlanItem {
    /// What it is, and its name: `rule kiosks-out`.
    pub label: String,
    /// Its keys with their values, as they are written.
    pub keys: Vec<(String, String)>,
}

/// Lists of a device, what an entry of each is called, and what tells entries apart; without such a
/// key, their position.
const LISTS: [(&str, &[&str]); 6] = [
    ("interface", &["name"]),
    ("route", &["to", "via"]),
    ("acl", &["name"]),
    ("policy", &[]),
    ("pool", &["name"]),
    ("rule", &["name"]),
];

/// The pieces of the first device of a plan. Of a text that is no plan, none.
pub fn items(text: &str) -> Vec<PlanItem> {
    let Ok(document) = text.parse::<DocumentMut>() else { return Vec::new() };
    let devices = document.get("device").and_then(Item::as_array_of_tables);
    let Some(device) = devices.and_then(|d| d.get(0)) else { return Vec::new() };
    let mut list = Vec::new();
    for (key, value) in device.iter() {
        if let Some(table) = value.as_inline_table() {
            let keys = table.iter().map(|(k, v)| (k.to_owned(), v.to_string().trim().to_owned()));
            list.push(PlanItem { label: key.into(), keys: keys.collect() });
        } else if value.is_value() {
            let keys = vec![(String::new(), value.to_string().trim().to_owned())];
            list.push(PlanItem { label: key.into(), keys });
        }
    }
    for (name, tell_apart) in LISTS {
        let tables = device.get(name).and_then(Item::as_array_of_tables);
        for (i, table) in tables.into_iter().flatten().enumerate() {
            list.push(entry(name, tell_apart, i, table));
        }
    }
    list
}

fn entry(name: &str, tell_apart: &[&str], position: usize, table: &Table) -> PlanItem {
    let own: Vec<&str> =
        tell_apart.iter().filter_map(|k| table.get(k).and_then(Item::as_str)).collect();
    let label = match own.is_empty() {
        true => format!("{name} {}", position + 1),
        false => format!("{name} {}", own.join(" via ")),
    };
    let keys = table
        .iter()
        .filter(|(k, _)| !tell_apart.contains(k))
        .map(|(k, v)| {
            let text = v.to_string();
            let words: Vec<&str> = text.split_whitespace().collect();
            (k.to_owned(), words.join(" "))
        })
        .collect();
    PlanItem { label, keys }
}
