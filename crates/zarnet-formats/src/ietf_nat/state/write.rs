//! Rows as a stream of JSON.

use std::io::{self, Write};
use std::net::IpAddr;

use serde::{Serialize, Serializer};
use zarnet_core::net::{Family, Prefix};

use super::Row;

/// Writes rows, instance by instance.
pub struct RowWriter<W: Write> {
    out: W,
    instance: Option<u64>,
    any: bool,
}

impl<W: Write> RowWriter<W> {
    /// Begins a document that holds a table and nothing else.
    ///
    /// # Errors
    /// It cannot be written.
    pub fn begin(mut out: W) -> io::Result<Self> {
        out.write_all(b"{\"ietf-nat:nat\":{\"instances\":{\"instance\":[")?;
        Ok(Self { out, instance: None, any: false })
    }

    /// Writes a row. Rows of an instance come one behind the other.
    ///
    /// # Errors
    /// It cannot be written.
    pub fn row(&mut self, instance: u64, row: &Row) -> io::Result<()> {
        if self.instance != Some(instance) {
            if self.instance.is_some() {
                self.out.write_all(b"]}},")?;
            }
            let begin = "\"mapping-table\":{\"mapping-entry\":[";
            write!(self.out, "{{\"id\":{instance},{begin}")?;
            (self.instance, self.any) = (Some(instance), false);
        }
        self.out.write_all(if self.any { b",\n" } else { b"\n" })?;
        self.any = true;
        serde_json::to_writer(&mut self.out, &Written::of(row)).map_err(io::Error::from)
    }

    /// Ends the document.
    ///
    /// # Errors
    /// It cannot be written.
    pub fn end(mut self) -> io::Result<W> {
        if self.instance.is_some() {
            self.out.write_all(b"]}}")?;
        }
        self.out.write_all(b"]}}}\n")?;
        Ok(self.out)
    }
}

impl Row {
    /// The row as JSON.
    pub fn to_value(&self) -> serde_json::Value {
        serde_json::to_value(Written::of(self)).unwrap_or_default()
    }
}

/// A row as its members.
#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct Written<'a> {
    index: u32,
    r#type: &'static str,
    #[serde(skip_serializing_if = "Option::is_none")]
    transport_protocol: Option<u8>,
    #[serde(skip_serializing_if = "Option::is_none", serialize_with = "prefix")]
    internal_src_address: Option<Prefix>,
    #[serde(skip_serializing_if = "Option::is_none")]
    internal_src_port: Option<Ports>,
    #[serde(skip_serializing_if = "Option::is_none", serialize_with = "prefix")]
    external_src_address: Option<Prefix>,
    #[serde(skip_serializing_if = "Option::is_none")]
    external_src_port: Option<Ports>,
    #[serde(skip_serializing_if = "Option::is_none", serialize_with = "prefix")]
    internal_dst_address: Option<Prefix>,
    #[serde(skip_serializing_if = "Option::is_none")]
    internal_dst_port: Option<Ports>,
    #[serde(skip_serializing_if = "Option::is_none", serialize_with = "prefix")]
    external_dst_address: Option<Prefix>,
    #[serde(skip_serializing_if = "Option::is_none")]
    external_dst_port: Option<Ports>,
    #[serde(skip_serializing_if = "Option::is_none")]
    lifetime: Option<u32>,
    #[serde(rename = "zarnet-policy:row", skip_serializing_if = "Option::is_none")]
    told: Option<Told<'a>>,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct Ports {
    start_port_number: u16,
    #[serde(skip_serializing_if = "Option::is_none")]
    end_port_number: Option<u16>,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct Told<'a> {
    #[serde(skip_serializing_if = "Option::is_none")]
    rule: Option<&'a str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    state: Option<&'a str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    created: Option<&'a str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    idle: Option<u32>,
    #[serde(skip_serializing_if = "Option::is_none")]
    sessions: Option<u32>,
    #[serde(skip_serializing_if = "Option::is_none")]
    chosen_freely: Option<bool>,
}

fn prefix<S: Serializer>(prefix: &Option<Prefix>, out: S) -> Result<S::Ok, S::Error> {
    match prefix {
        Some(prefix) => out.collect_str(prefix),
        None => out.serialize_none(),
    }
}

impl<'a> Written<'a> {
    fn of(row: &'a Row) -> Self {
        let ports = |range: Option<(u16, u16)>| {
            range.map(|(first, last)| Ports {
                start_port_number: first,
                end_port_number: (first != last).then_some(last),
            })
        };
        let peer = row.peer.map(|p| p.0);
        let peer_port = || row.peer.and_then(|p| p.1).map(|p| (p, p));
        let t = &row.told;
        let told = Told {
            rule: t.rule.as_deref(),
            state: t.state.as_deref(),
            created: t.created.as_deref(),
            idle: t.idle,
            sessions: t.sessions,
            chosen_freely: t.chosen_freely,
        };
        Self {
            index: row.index,
            r#type: if row.fixed { "static" } else { "dynamic-implicit" },
            transport_protocol: row.protocol.map(|p| p.0),
            internal_src_address: row.internal,
            internal_src_port: ports(row.internal_ports),
            external_src_address: row.external,
            external_src_port: ports(row.external_ports),
            internal_dst_address: peer,
            internal_dst_port: ports(peer_port()),
            external_dst_address: peer,
            external_dst_port: ports(peer_port()),
            lifetime: row.lifetime,
            told: (*t != super::Told::default()).then_some(told),
        }
    }
}

/// A prefix of one address.
pub(super) fn host(address: IpAddr) -> Option<Prefix> {
    Prefix::holding(address, Family::of(address).bits())
}

impl Row {
    /// A row between two ends; port 0 for none.
    pub fn between(
        internal: zarnet_core::net::Endpoint,
        external: zarnet_core::net::Endpoint,
        peer: Option<zarnet_core::net::Endpoint>,
    ) -> Self {
        let ports =
            |end: zarnet_core::net::Endpoint| (end.port != 0).then_some((end.port, end.port));
        Self {
            internal: host(internal.address),
            internal_ports: ports(internal),
            external: host(external.address),
            external_ports: ports(external),
            peer: peer.and_then(|p| Some((host(p.address)?, (p.port != 0).then_some(p.port)))),
            ..Self::default()
        }
    }
}
