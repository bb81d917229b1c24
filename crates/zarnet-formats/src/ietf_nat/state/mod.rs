//! Rows of a table as a device of the standard tells them (RFC 8512 §2.6), written and read one by
//! one: a table of millions is never there as a tree.

mod read;
mod write;

pub use read::read_rows;
pub use write::RowWriter;

use std::net::IpAddr;

use zarnet_core::net::{Endpoint, Prefix, Protocol};

/// A row of a table.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Row {
    /// Its number in its instance.
    pub index: u32,
    /// Whether it was configured, not made by traffic.
    pub fixed: bool,
    /// Its protocol; `None` is any.
    pub protocol: Option<Protocol>,
    /// Internal addresses.
    pub internal: Option<Prefix>,
    /// The first and the last of its internal ports; none for any.
    pub internal_ports: Option<(u16, u16)>,
    /// External addresses, as many.
    pub external: Option<Prefix>,
    /// The first and the last of its external ports, as many.
    pub external_ports: Option<(u16, u16)>,
    /// The peer, where it is for some only, and the port of that.
    pub peer: Option<(Prefix, Option<u16>)>,
    /// Seconds that it has left.
    pub lifetime: Option<u32>,
    /// What only `zarnet-policy` tells.
    pub told: Told,
}

/// What a device tells of a row that knows `zarnet-policy`.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Told {
    /// The rule that made it.
    pub rule: Option<String>,
    /// State of its session that lasts longest.
    pub state: Option<String>,
    /// When it was made, as RFC 3339 writes it.
    pub created: Option<String>,
    /// Seconds since its last packet.
    pub idle: Option<u32>,
    /// Living sessions under it.
    pub sessions: Option<u32>,
    /// Whether another external end could have been chosen.
    pub chosen_freely: Option<bool>,
}

/// Why rows cannot be read.
#[derive(Debug, thiserror::Error)]
pub enum RowError {
    /// It is not JSON, or ends too early.
    #[error("JSON: {0}")]
    Json(#[from] serde_json::Error),
    /// A row is not what the module says.
    #[error("mapping-entry={index}/{leaf}: {got} is no {leaf}")]
    Row {
        /// Its number, if that could be read.
        index: u64,
        /// The leaf that is wrong.
        leaf: &'static str,
        /// What stands there.
        got: String,
    },
    /// There are more than are taken.
    #[error("there are more than {0} rows")]
    TooMany(usize),
}

/// A fixed row with more pairs than this is not spread out: devices list what is in use of it.
const MOST_PAIRS: u128 = 256;

impl Row {
    /// The single ends that it stands for: itself, or of a range each pair. None of a row that lacks
    /// an end, or stands for too many.
    pub fn pairs(&self) -> Vec<(Endpoint, Endpoint)> {
        let (Some(internal), Some(external)) = (self.internal, self.external) else {
            return Vec::new();
        };
        let (inside, outside) = (internal.range(), external.range());
        let ports = |range: Option<(u16, u16)>| range.unwrap_or((0, 0));
        let (from, into) = (ports(self.internal_ports), ports(self.external_ports));
        let many = u128::from(into.1.saturating_sub(into.0)) + 1;
        if inside.count().saturating_mul(many) > MOST_PAIRS {
            return Vec::new();
        }
        let mut list = Vec::new();
        for n in 0..inside.count() {
            for port in 0..many as u16 {
                let end = |address: Option<IpAddr>, first: u16| {
                    address.map(|a| Endpoint::new(a, first.saturating_add(port)))
                };
                let pair = (end(inside.nth(n), from.0), end(outside.nth(n), into.0));
                list.extend(pair.0.zip(pair.1));
            }
        }
        list
    }

    /// The peer as one end.
    pub fn peer_end(&self) -> Option<Endpoint> {
        self.peer.map(|(prefix, port)| Endpoint::new(prefix.first(), port.unwrap_or(0)))
    }
}
