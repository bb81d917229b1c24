//! Flow lists as JSON Lines: one object a line, with the names of the CSV columns.

use std::io::Read;

use serde_json::Value;
use zarnet_core::traffic::Flow;

use super::Fault;
use super::csv_list::{Lines, is_blank};
use super::fields::{Column, Context, Fields};

/// A flow list in JSON Lines.
pub(super) struct JsonList<'a> {
    lines: Lines,
    context: Context<'a>,
}

impl<'a> JsonList<'a> {
    pub(super) fn new(reader: Box<dyn Read + Send>, context: Context<'a>) -> Self {
        Self { lines: Lines::new(reader), context }
    }

    /// Number of the line read last.
    pub(super) fn line(&self) -> u64 {
        self.lines.number
    }
}

impl Iterator for JsonList<'_> {
    type Item = Result<Flow, Fault>;

    fn next(&mut self) -> Option<Self::Item> {
        loop {
            return match self.lines.next()? {
                Ok(line) if is_blank(line) => continue,
                Ok(line) => Some(flow(line, self.context)),
                Err(fault) => Some(Err(fault)),
            };
        }
    }
}

pub(super) fn flow(line: &[u8], context: Context<'_>) -> Result<Flow, Fault> {
    let value: Value = serde_json::from_slice(line).map_err(|_| Fault::Malformed("a JSON object".into()))?;
    let Value::Object(object) = value else { return Err(Fault::Malformed("a JSON object".into())) };
    let mut fields = Fields::EMPTY;
    for (name, value) in &object {
        let text = match value {
            Value::Null => continue,
            Value::String(text) => text.trim().to_owned(),
            Value::Number(number) => number.to_string(),
            _ => return Err(Fault::Malformed(format!("text or a number in `{name}`"))),
        };
        fields.set(Column::named(name)?, &text, context)?;
    }
    fields.flow(context)
}
