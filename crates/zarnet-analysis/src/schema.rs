//! The JSON Schema of plans, made from the rows of their keys.

use serde_json::{Map, Value, json};
use zarnet_core::plan::field::{Field, FieldValue, PLAN};

/// The schema that editors check a plan by (JSON Schema, draft 2020-12).
pub fn plan_schema() -> Value {
    let mut schema = Map::new();
    schema.insert("$schema".into(), "https://json-schema.org/draft/2020-12/schema".into());
    schema.insert("title".into(), "Zarnet plan".into());
    let about = "Edge devices, their translation rules, and the network around them.";
    schema.insert("description".into(), about.into());
    schema.extend(table(PLAN));
    Value::Object(schema)
}

/// An object with these keys and no others.
fn table(fields: &[Field]) -> Map<String, Value> {
    let properties: Map<String, Value> =
        fields.iter().map(|f| (f.key.to_owned(), property(f))).collect();
    let required: Vec<&str> = fields.iter().filter(|f| f.needed).map(|f| f.key).collect();
    let mut object = Map::new();
    object.insert("type".into(), "object".into());
    object.insert("properties".into(), properties.into());
    object.insert("required".into(), required.into());
    object.insert("additionalProperties".into(), false.into());
    object
}

fn property(field: &Field) -> Value {
    let mut schema = match value(field.value) {
        Value::Object(schema) => schema,
        other => return other,
    };
    let source = if field.source.is_empty() { "" } else { " (" };
    let close = if field.source.is_empty() { "" } else { ")" };
    let about = format!("{}{source}{}{close}", field.meaning, field.source);
    schema.insert("description".into(), about.into());
    if !field.default.is_empty() {
        schema.insert("default".into(), default(field));
    }
    Value::Object(schema)
}

/// A default as JSON has it; those that are no value are told in words.
fn default(field: &Field) -> Value {
    serde_json::from_str(field.default).unwrap_or_else(|_| field.default.into())
}

fn value(value: FieldValue) -> Value {
    let texts = || json!({ "anyOf": [{ "type": "string" }, list(json!({ "type": "string" }))] });
    let time = || json!({ "anyOf": [{ "type": "string" }, { "type": "number", "minimum": 0 }] });
    match value {
        FieldValue::Text | FieldValue::Prose => json!({ "type": "string" }),
        FieldValue::Texts => texts(),
        FieldValue::TextList => list(json!({ "type": "string" })),
        FieldValue::Flag => json!({ "type": "boolean" }),
        FieldValue::Number => json!({ "type": "integer", "minimum": 0 }),
        FieldValue::Time => time(),
        FieldValue::OneOf(names) => json!({ "enum": names }),
        FieldValue::FlagOrOneOf(names) => {
            let all = [false.into(), true.into()].into_iter();
            let all: Vec<Value> = all.chain(names.iter().map(|n| (*n).into())).collect();
            json!({ "enum": all })
        }
        FieldValue::Table(fields) => table(fields).into(),
        FieldValue::Tables(fields) => list(table(fields).into()),
        FieldValue::TableOrTables(fields) => {
            let one = Value::Object(table(fields));
            json!({ "anyOf": [one.clone(), list(one)] })
        }
        FieldValue::OneOfOrTable(names, fields) => {
            json!({ "anyOf": [{ "enum": names }, Value::Object(table(fields))] })
        }
        FieldValue::NamedTexts => json!({ "type": "object", "additionalProperties": texts() }),
        FieldValue::NamedTimes => json!({ "type": "object", "additionalProperties": time() }),
    }
}

fn list(items: Value) -> Value {
    json!({ "type": "array", "items": items })
}
