//! Our own JSON, entry by entry, without keeping the whole.

use serde::de::{DeserializeSeed, Deserializer, Error, IgnoredAny, MapAccess, SeqAccess, Visitor};
use serde_json::Value;

use crate::traffic::Fault;

/// Takes an entry with its number.
type Take<'a> = &'a mut dyn FnMut(u64, &Value) -> Result<(), ()>;

/// Gives away the mappings of our own JSON one by one, each with its number: a table of millions is
/// never there as a tree.
pub(super) fn of_json_text(
    text: &str,
    take: &mut impl FnMut(u64, &Value) -> Result<(), Fault>,
) -> Result<(), Fault> {
    let mut failed = None;
    let mut seen = false;
    let answer = Answer {
        take: &mut |number, value| take(number, value).map_err(|f| failed = Some(f)),
        seen: &mut seen,
    };
    let mut reader = serde_json::Deserializer::from_str(text);
    let read = answer.deserialize(&mut reader).and_then(|()| reader.end());
    match (failed, read) {
        (Some(fault), _) => Err(fault),
        (None, Err(error)) => Err(Fault::Malformed(format!("JSON: {error}"))),
        (None, Ok(())) if !seen => Err(Fault::MissingColumn("mappings")),
        (None, Ok(())) => Ok(()),
    }
}

/// The object that an answer is.
struct Answer<'a> {
    take: Take<'a>,
    seen: &'a mut bool,
}

impl<'de> DeserializeSeed<'de> for Answer<'_> {
    type Value = ();

    fn deserialize<D: Deserializer<'de>>(self, reader: D) -> Result<(), D::Error> {
        reader.deserialize_map(self)
    }
}

impl<'de> Visitor<'de> for Answer<'_> {
    type Value = ();

    fn expecting(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("an object with `mappings`")
    }

    fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<(), A::Error> {
        while let Some(key) = map.next_key::<String>()? {
            if key == "mappings" {
                *self.seen = true;
                map.next_value_seed(Mappings(&mut *self.take))?;
            } else {
                map.next_value::<IgnoredAny>()?;
            }
        }
        Ok(())
    }
}

/// The list of mappings in an answer.
struct Mappings<'a>(Take<'a>);

impl<'de> DeserializeSeed<'de> for Mappings<'_> {
    type Value = ();

    fn deserialize<D: Deserializer<'de>>(self, reader: D) -> Result<(), D::Error> {
        reader.deserialize_seq(self)
    }
}

impl<'de> Visitor<'de> for Mappings<'_> {
    type Value = ();

    fn expecting(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("a list of mappings")
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut list: A) -> Result<(), A::Error> {
        let mut number = 0;
        while let Some(mapping) = list.next_element::<Value>()? {
            number += 1;
            (self.0)(number, &mapping).map_err(|()| A::Error::custom("stopped"))?;
        }
        Ok(())
    }
}
