//! Values in the text of a plan: set, replaced and appended with their comments kept.

use toml_edit::{Array, InlineTable, Item, TableLike};
use zarnet_core::plan::edit::Value;

pub(super) fn to_toml(value: &Value) -> toml_edit::Value {
    match value {
        Value::Text(text) => text.as_str().into(),
        Value::Flag(flag) => (*flag).into(),
        Value::Number(number) => (*number).into(),
        Value::List(values) => values.iter().map(to_toml).collect::<Array>().into(),
        Value::Entry(entries) => {
            let mut table = InlineTable::new();
            entries.iter().for_each(|(key, value)| {
                table.insert(*key, to_toml(value));
            });
            table.into()
        }
    }
}

/// Sets a key; what stands behind its value stays.
pub(super) fn set(table: &mut dyn TableLike, key: &str, mut value: toml_edit::Value) -> Option<()> {
    if let Some(item) = table.get_mut(key) {
        *value.decor_mut() = item.as_value()?.decor().clone();
        *item = Item::Value(value);
    } else {
        // the layout of the key before it is that of the new one
        let indent =
            table.iter().last().and_then(|(k, _)| table.key(k)).map(|k| k.leaf_decor().clone());
        // in a table on one line, the space before its end is the last value's
        let last = table.iter().last().map(|(k, _)| k.to_owned());
        if let Some(before) = last.and_then(|k| table.get_mut(&k)).and_then(Item::as_value_mut) {
            let suffix = before.decor().suffix().and_then(|s| s.as_str()).unwrap_or("").to_owned();
            if !suffix.is_empty() && suffix.chars().all(|c| c == ' ') {
                before.decor_mut().set_suffix("");
                value.decor_mut().set_suffix(suffix);
            }
        }
        table.insert(key, Item::Value(value));
        let prefix = indent.as_ref().and_then(|d| d.prefix()?.as_str());
        if let (Some(prefix), Some(mut key)) = (prefix, table.key_mut(key)) {
            let indent = prefix.rsplit('\n').next().unwrap_or("").to_owned();
            key.leaf_decor_mut().set_prefix(indent);
        }
    }
    Some(())
}

pub(super) fn replace(table: &mut dyn TableLike, key: &str, old: &str, new: &str) -> Option<()> {
    let value = table.get_mut(key)?.as_value_mut()?;
    let text = match value.as_array_mut() {
        Some(list) => list.iter_mut().find(|v| v.as_str() == Some(old))?,
        None => Some(value).filter(|v| v.as_str() == Some(old))?,
    };
    let decor = text.decor().clone();
    *text = new.into();
    *text.decor_mut() = decor;
    Some(())
}

/// Takes a text out of a list; the list stays, empty if need be.
pub(super) fn drop(table: &mut dyn TableLike, key: &str, text: &str) -> Option<()> {
    let value = table.get_mut(key)?.as_value_mut()?;
    if let Some(list) = value.as_array_mut() {
        let position = list.iter().position(|v| v.as_str() == Some(text))?;
        let gone = list.remove(position);
        if let (0, Some(first)) = (position, list.get_mut(0)) {
            *first.decor_mut() = gone.decor().clone();
        }
        return Some(());
    }
    (value.as_str() == Some(text)).then_some(())?;
    let decor = value.decor().clone();
    *value = Array::new().into();
    *value.decor_mut() = decor;
    Some(())
}

pub(super) fn append(table: &mut dyn TableLike, key: &str, value: toml_edit::Value) -> Option<()> {
    let Some(item) = table.get_mut(key) else {
        let mut list = Array::new();
        list.push(value);
        return set(table, key, list.into());
    };
    let old = item.as_value_mut()?;
    if let Some(list) = old.as_array_mut() {
        // a list with a line for each goes on so
        let above = list.iter().last().and_then(|v| v.decor().prefix()?.as_str()).unwrap_or("");
        match above.rfind('\n').map(|n| above[n..].to_owned()) {
            Some(line) => list.push_formatted(value.decorated(line, "")),
            None => list.push(value),
        }
        return Some(());
    }
    let decor = old.decor().clone();
    let mut first = old.clone();
    first.decor_mut().clear();
    let mut list = Array::new();
    list.push_formatted(first);
    list.push(value);
    *old = list.into();
    *old.decor_mut() = decor;
    Some(())
}
