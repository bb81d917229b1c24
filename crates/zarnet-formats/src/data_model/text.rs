//! JSON in which every member is said once (RFC 7951 §4, RFC 8259 §4), and JSON as it is written.

use std::fmt;

use serde::de::{DeserializeSeed, Deserializer, Error, MapAccess, SeqAccess, Visitor};
use serde_json::{Map, Value};

use super::fault::{DataFault, DataFaultKind};

/// Reads JSON.
///
/// # Errors
/// It is none, nests deeper than 128, or says a member twice.
pub fn parse(text: &str) -> Result<Value, DataFault> {
    let wrong = |error: serde_json::Error| DataFault {
        path: String::new(),
        kind: DataFaultKind::Malformed(format!("JSON: {error}")),
    };
    let mut reader = serde_json::Deserializer::from_str(text);
    let value = Once.deserialize(&mut reader).map_err(wrong)?;
    reader.end().map_err(wrong)?;
    Ok(value)
}

/// A document as it is written: indented by two, members in their order, a line at its end.
pub fn canonical(document: &Value) -> String {
    let mut text = serde_json::to_string_pretty(document).unwrap_or_default();
    text.push('\n');
    text
}

/// A value whose objects have every member once.
struct Once;

impl<'de> DeserializeSeed<'de> for Once {
    type Value = Value;

    fn deserialize<D: Deserializer<'de>>(self, reader: D) -> Result<Value, D::Error> {
        reader.deserialize_any(self)
    }
}

impl<'de> Visitor<'de> for Once {
    type Value = Value;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("JSON")
    }

    fn visit_unit<E>(self) -> Result<Value, E> {
        Ok(Value::Null)
    }

    fn visit_bool<E>(self, value: bool) -> Result<Value, E> {
        Ok(value.into())
    }

    fn visit_i64<E>(self, value: i64) -> Result<Value, E> {
        Ok(value.into())
    }

    fn visit_u64<E>(self, value: u64) -> Result<Value, E> {
        Ok(value.into())
    }

    fn visit_f64<E>(self, value: f64) -> Result<Value, E> {
        Ok(value.into())
    }

    fn visit_str<E>(self, value: &str) -> Result<Value, E> {
        Ok(value.into())
    }

    fn visit_string<E>(self, value: String) -> Result<Value, E> {
        Ok(value.into())
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut list: A) -> Result<Value, A::Error> {
        let mut values = Vec::new();
        while let Some(value) = list.next_element_seed(Once)? {
            values.push(value);
        }
        Ok(Value::Array(values))
    }

    fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<Value, A::Error> {
        let mut members = Map::new();
        while let Some(name) = map.next_key::<String>()? {
            if members.contains_key(&name) {
                return Err(A::Error::custom(format!("`{name}` is said twice")));
            }
            members.insert(name, map.next_value_seed(Once)?);
        }
        Ok(Value::Object(members))
    }
}
