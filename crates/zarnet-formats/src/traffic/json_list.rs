//! Flow lists as JSON Lines: one object a line, with the names of the CSV columns.

use std::io::Read;

use serde_json::Value;
use zarnet_core::traffic::{Flow, Item};

use super::clock::Clock;
use super::fields::{Column, Context, Fields};
use super::json_fast;
use super::lines::{Lines, is_blank};
use super::source::{Located, Source};
use super::{Fault, Names, Skipped};

/// A flow list in JSON Lines.
pub(super) struct JsonList<'a> {
    lines: Lines,
    /// Whether most lines can be read the short way.
    plain: bool,
    names: &'a Names,
}

impl<'a> JsonList<'a> {
    pub(super) fn new(reader: Box<dyn Read + Send>, names: &'a Names) -> Self {
        Self { lines: Lines::new(reader), plain: names.are_plain(), names }
    }
}

impl Source for JsonList<'_> {
    fn next(&mut self, clock: &mut Clock) -> Option<Result<Item, Located>> {
        loop {
            let flow = match self.lines.next()? {
                Ok(line) if is_blank(line) => continue,
                Ok(line) => careful(line, &mut Context { names: self.names, clock }),
                Err(fault) => Err(fault),
            };
            return Some(flow.map(Item::Flow).map_err(|fault| (self.lines.number, fault)));
        }
    }

    fn fill(&mut self, clock: &mut Clock, batch: &mut Vec<Item>, most: usize) {
        while self.plain && batch.len() < most {
            let Some(flow) = self.lines.next_whole(json_fast::flow) else { return };
            clock.note_plain();
            batch.push(Item::Flow(flow));
        }
    }

    fn skipped(&self) -> Skipped {
        Skipped::default()
    }
}

/// Any line, with what is wrong with it.
pub(super) fn careful(line: &[u8], context: &mut Context<'_>) -> Result<Flow, Fault> {
    let value: Value =
        serde_json::from_slice(line).map_err(|_| Fault::Malformed("a JSON object".into()))?;
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
    fields.flow(context.names)
}
