//! Tables of a plan as they are written.

use std::fmt::Write;

/// A table of a plan in the making.
#[derive(Debug, Clone, Default)]
pub(super) struct Table(Vec<(String, String)>);

impl Table {
    pub(super) fn text(&mut self, key: &str, value: &str) {
        self.0.push((key.into(), quoted(value)));
    }

    pub(super) fn number(&mut self, key: &str, value: u64) {
        self.0.push((key.into(), value.to_string()));
    }

    pub(super) fn flag(&mut self, key: &str, value: bool) {
        self.0.push((key.into(), value.to_string()));
    }

    /// A list; of one value, that value alone.
    pub(super) fn list<T: AsRef<str>>(&mut self, key: &str, values: &[T]) {
        let written = match values {
            [] => return,
            [one] => quoted(one.as_ref()),
            many => {
                let many: Vec<String> = many.iter().map(|v| quoted(v.as_ref())).collect();
                format!("[{}]", many.join(", "))
            }
        };
        self.0.push((key.into(), written));
    }

    /// A value that is written as TOML already.
    pub(super) fn raw(&mut self, key: &str, value: String) {
        self.0.push((key.into(), value));
    }

    pub(super) fn has(&self, key: &str) -> bool {
        self.0.iter().any(|k| k.0 == key)
    }

    /// Takes a key out; its value as it was written.
    pub(super) fn remove(&mut self, key: &str) -> Option<String> {
        let position = self.0.iter().position(|k| k.0 == key)?;
        Some(self.0.remove(position).1)
    }

    pub(super) fn merge(&mut self, other: Self) {
        self.0.extend(other.0);
    }

    pub(super) fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// On one line, in braces.
    pub(super) fn inline(&self) -> String {
        let parts: Vec<String> = self.0.iter().map(|(k, v)| format!("{k} = {v}")).collect();
        format!("{{ {} }}", parts.join(", "))
    }

    /// A line a key.
    pub(super) fn written(&self, indent: &str) -> String {
        let mut out = String::new();
        for (key, value) in &self.0 {
            let _ = writeln!(out, "{indent}{key} = {value}");
        }
        out
    }
}

/// A text as TOML writes it.
pub(super) fn quoted(text: &str) -> String {
    toml_edit::Value::from(text).to_string()
}
