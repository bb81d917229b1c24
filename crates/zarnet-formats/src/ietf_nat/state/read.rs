//! Rows out of a stream of JSON, wherever in it a `mapping-entry` stands.

use std::fmt;
use std::io::Read;

use serde::Deserialize;
use serde::de::{DeserializeSeed, Deserializer, Error, IgnoredAny, MapAccess, SeqAccess, Visitor};
use serde_json::Value;
use zarnet_core::limits;
use zarnet_core::net::{Prefix, Protocol};

use super::{Row, RowError, Told};

/// Reads rows one by one and gives them away; tells how many there were. What else the document
/// holds is passed over.
///
/// # Errors
/// It is not JSON, a row is wrong, or there are too many.
pub fn read_rows(input: impl Read, take: &mut dyn FnMut(Row)) -> Result<u64, RowError> {
    let mut reader = serde_json::Deserializer::from_reader(input);
    let mut state = State { take, count: 0, failed: None };
    let read = Anything(&mut state, false).deserialize(&mut reader);
    if let Some(failed) = state.failed {
        return Err(failed);
    }
    read?;
    reader.end()?;
    Ok(state.count)
}

struct State<'a> {
    take: &'a mut dyn FnMut(Row),
    count: u64,
    failed: Option<RowError>,
}

/// Any value; whether it is the list of entries.
struct Anything<'s, 't>(&'s mut State<'t>, bool);

impl<'de> DeserializeSeed<'de> for Anything<'_, '_> {
    type Value = ();

    fn deserialize<D: Deserializer<'de>>(self, reader: D) -> Result<(), D::Error> {
        reader.deserialize_any(self)
    }
}

impl<'de> Visitor<'de> for Anything<'_, '_> {
    type Value = ();

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("JSON")
    }

    fn visit_unit<E>(self) -> Result<(), E> {
        Ok(())
    }

    fn visit_bool<E>(self, _: bool) -> Result<(), E> {
        Ok(())
    }

    fn visit_i64<E>(self, _: i64) -> Result<(), E> {
        Ok(())
    }

    fn visit_u64<E>(self, _: u64) -> Result<(), E> {
        Ok(())
    }

    fn visit_f64<E>(self, _: f64) -> Result<(), E> {
        Ok(())
    }

    fn visit_str<E>(self, _: &str) -> Result<(), E> {
        Ok(())
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut list: A) -> Result<(), A::Error> {
        let Self(state, are_entries) = self;
        if !are_entries {
            while list.next_element_seed(Anything(state, false))?.is_some() {}
            return Ok(());
        }
        while let Some(entry) = list.next_element::<Entry>()? {
            state.count += 1;
            let read = match state.count > limits::OBSERVED_ROWS as u64 {
                true => Err(RowError::TooMany(limits::OBSERVED_ROWS)),
                false => entry.row(),
            };
            match read {
                Ok(row) => (state.take)(row),
                Err(error) => {
                    state.failed = Some(error);
                    return Err(A::Error::custom("stopped"));
                }
            }
        }
        Ok(())
    }

    fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<(), A::Error> {
        let Self(state, _) = self;
        while let Some(name) = map.next_key::<String>()? {
            match name.rsplit(':').next() {
                // configuration has lists of other things, which may be long
                Some("policy" | "interface" | "rule") => {
                    map.next_value::<IgnoredAny>()?;
                }
                Some(bare) => map.next_value_seed(Anything(state, bare == "mapping-entry"))?,
                None => {}
            }
        }
        Ok(())
    }
}

/// An entry as it stands there; leaves that are not known are passed over.
#[derive(Deserialize, Default)]
#[serde(rename_all = "kebab-case", default)]
struct Entry {
    index: Value,
    r#type: Option<Value>,
    transport_protocol: Option<Value>,
    internal_src_address: Option<Value>,
    internal_src_port: Option<Ports>,
    external_src_address: Option<Value>,
    external_src_port: Option<Ports>,
    internal_dst_address: Option<Value>,
    external_dst_address: Option<Value>,
    external_dst_port: Option<Ports>,
    lifetime: Option<Value>,
    #[serde(rename = "zarnet-policy:row")]
    told: Option<ToldEntry>,
}

#[derive(Deserialize, Default)]
#[serde(rename_all = "kebab-case", default)]
struct Ports {
    start_port_number: Option<Value>,
    end_port_number: Option<Value>,
}

#[derive(Deserialize, Default)]
#[serde(rename_all = "kebab-case", default)]
struct ToldEntry {
    rule: Option<String>,
    state: Option<String>,
    created: Option<String>,
    idle: Option<u32>,
    sessions: Option<u32>,
    chosen_freely: Option<bool>,
}

impl Entry {
    fn row(self) -> Result<Row, RowError> {
        let index = self.index.as_u64().unwrap_or_default();
        let wrong = |leaf: &'static str, got: &Value| RowError::Row {
            index,
            leaf,
            got: got.to_string().chars().take(60).collect(),
        };
        let number = |leaf: &'static str, value: &Option<Value>, most: u64| match value {
            None => Ok(None),
            Some(v) => match v.as_u64().filter(|n| *n <= most) {
                Some(n) => Ok(Some(n)),
                None => Err(wrong(leaf, v)),
            },
        };
        let prefix = |leaf: &'static str, value: &Option<Value>| match value {
            None => Ok(None),
            Some(v) => match v.as_str().and_then(|t| t.parse::<Prefix>().ok()) {
                Some(prefix) => Ok(Some(prefix)),
                None => Err(wrong(leaf, v)),
            },
        };
        let ports = |leaf: &'static str, value: &Option<Ports>| -> Result<_, RowError> {
            let Some(ports) = value else { return Ok(None) };
            let first = number(leaf, &ports.start_port_number, u16::MAX.into())?;
            let last = number(leaf, &ports.end_port_number, u16::MAX.into())?;
            Ok(first.map(|f| (f as u16, last.unwrap_or(f).max(f) as u16)))
        };
        let peer = match prefix("external-dst-address", &self.external_dst_address)? {
            Some(peer) => Some(peer),
            None => prefix("internal-dst-address", &self.internal_dst_address)?,
        };
        let peer_ports = ports("external-dst-port", &self.external_dst_port)?;
        let protocol = number("transport-protocol", &self.transport_protocol, u8::MAX.into())?;
        let told = self.told.unwrap_or_default();
        Ok(Row {
            index: number("index", &Some(self.index.clone()), u32::MAX.into())?.unwrap_or(0) as u32,
            fixed: self.r#type.as_ref().is_some_and(|t| t == "static"),
            protocol: protocol.map(|p| Protocol(p as u8)),
            internal: prefix("internal-src-address", &self.internal_src_address)?,
            internal_ports: ports("internal-src-port", &self.internal_src_port)?,
            external: prefix("external-src-address", &self.external_src_address)?,
            external_ports: ports("external-src-port", &self.external_src_port)?,
            peer: peer.map(|p| (p, peer_ports.map(|ports| ports.0))),
            lifetime: number("lifetime", &self.lifetime, u32::MAX.into())?.map(|l| l as u32),
            told: Told {
                rule: told.rule,
                state: told.state,
                created: told.created,
                idle: told.idle,
                sessions: told.sessions,
                chosen_freely: told.chosen_freely,
            },
        })
    }
}
