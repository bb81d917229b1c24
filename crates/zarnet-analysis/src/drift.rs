//! Descriptions of one device held side by side, piece by piece: planned, running, saved.

use zarnet_formats::plan::{PlanItem, items};

/// Something that is not the same in all of them.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Drift {
    /// What it is: `rule kiosks-out: source`.
    pub item: String,
    /// What each has of it, in their order; none where it is not there.
    pub values: Vec<Option<String>>,
}

/// What differs between descriptions of a device, each as the text of a plan, in the order of the
/// first that has it.
pub fn drift(texts: &[&str]) -> Vec<Drift> {
    let sides: Vec<Vec<PlanItem>> = texts.iter().map(|t| items(t)).collect();
    let mut labels: Vec<&str> = Vec::new();
    for item in sides.iter().flatten() {
        if !labels.contains(&item.label.as_str()) {
            labels.push(&item.label);
        }
    }
    let mut list = Vec::new();
    for label in labels {
        let of: Vec<Option<&PlanItem>> =
            sides.iter().map(|s| s.iter().find(|i| i.label == label)).collect();
        if of.iter().any(Option::is_none) {
            let values = of.iter().map(|i| i.map(whole)).collect();
            list.push(Drift { item: label.into(), values });
            continue;
        }
        let mut keys: Vec<&str> = Vec::new();
        for (key, _) in of.iter().flatten().flat_map(|i| &i.keys) {
            if !keys.contains(&key.as_str()) {
                keys.push(key);
            }
        }
        for key in keys {
            let values: Vec<Option<String>> = of.iter().map(|i| value(i.as_ref()?, key)).collect();
            if values.windows(2).any(|w| w[0] != w[1]) {
                let item = if key.is_empty() { label.into() } else { format!("{label}: {key}") };
                list.push(Drift { item, values });
            }
        }
    }
    let order = |side: &Vec<PlanItem>| -> Vec<String> {
        let is_common = |i: &&PlanItem| {
            i.label.starts_with("rule ")
                && sides.iter().all(|s| s.iter().any(|o| o.label == i.label))
        };
        side.iter().filter(is_common).map(|i| i.label["rule ".len()..].to_owned()).collect()
    };
    let orders: Vec<Vec<String>> = sides.iter().map(order).collect();
    if orders.windows(2).any(|w| w[0] != w[1]) {
        let values = orders.iter().map(|o| Some(o.join(", "))).collect();
        list.push(Drift { item: "order of rules".into(), values });
    }
    list
}

fn value(item: &PlanItem, key: &str) -> Option<String> {
    item.keys.iter().find(|k| k.0 == key).map(|k| k.1.clone())
}

/// A piece on one line.
fn whole(item: &PlanItem) -> String {
    let parts: Vec<String> = item
        .keys
        .iter()
        .map(|(key, value)| if key.is_empty() { value.clone() } else { format!("{key} = {value}") })
        .collect();
    parts.join(", ")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_differs_is_named_key_by_key() {
        let plan = |rules: &[(&str, &str)], more: &str| {
            let mut text = format!("[[device]]\nname = \"e\"\n{more}\n");
            for (name, source) in rules {
                text += &format!(
                    "[[device.rule]]\nname = \"{name}\"\ntype = \"exempt\"\nsource = \"{source}\"\n"
                );
            }
            text
        };
        let planned = plan(&[("a", "10.0.0.1"), ("b", "10.0.0.2")], "timers = { udp-timeout = 9 }");
        let running = plan(&[("b", "10.0.0.9"), ("a", "10.0.0.1")], "timers = { udp-timeout = 9 }");
        let saved = plan(&[("a", "10.0.0.1")], "timers = { udp-timeout = 8 }");
        let found = drift(&[&planned, &running, &saved]);
        let told: Vec<(String, Vec<Option<&str>>)> = found
            .iter()
            .map(|d| (d.item.clone(), d.values.iter().map(Option::as_deref).collect()))
            .collect();
        assert_eq!(
            told,
            [
                ("timers: udp-timeout".to_owned(), vec![Some("9"), Some("9"), Some("8")]),
                (
                    "rule b".to_owned(),
                    vec![
                        Some("type = \"exempt\", source = \"10.0.0.2\""),
                        Some("type = \"exempt\", source = \"10.0.0.9\""),
                        None
                    ]
                ),
            ]
        );
        let found = drift(&[&planned, &running]);
        assert_eq!(found[0].item, "rule b: source");
        assert_eq!(found[1].item, "order of rules");
        assert_eq!(drift(&[&planned, &planned, &planned]), []);
    }
}
