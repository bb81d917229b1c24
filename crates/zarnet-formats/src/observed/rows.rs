//! Rows that a device told over the network, as a table of ours.

use std::io::{self, Write};

use jiff::Timestamp;
use zarnet_core::net::Instant;
use zarnet_core::plan::DeviceId;

use super::Observed;
use crate::ietf_nat::Row;

/// Rows of a device that were read at a time. Their clock begins when the oldest of them was made,
/// or when they were read, if none says. What stands for more pairs than are spread out is left out.
pub fn of_rows(rows: &[Row], device: DeviceId, read_at: Timestamp) -> Vec<Observed> {
    let made = |row: &Row| row.told.created.as_deref()?.parse::<Timestamp>().ok();
    let begins = rows.iter().filter_map(made).min().unwrap_or(read_at).min(read_at);
    let since = |at: Timestamp| {
        let nanoseconds = (at.as_nanosecond() - begins.as_nanosecond()).max(0);
        Instant(nanoseconds.min(u64::MAX.into()) as u64)
    };
    let mut list = Vec::new();
    for row in rows {
        let left = row.lifetime.map(|s| Instant(since(read_at).0 + u64::from(s) * 1_000_000_000));
        for (internal, external) in row.pairs() {
            list.push(Observed {
                device,
                protocol: row.protocol,
                internal,
                external,
                // of a fixed row, the far end is who may send, not a peer
                peer: row.peer_end().filter(|_| !row.fixed),
                created: made(row).map(since),
                expires: left,
                line: u64::from(row.index),
            });
        }
    }
    list
}

/// Writes a table as CSV, with our names.
///
/// # Errors
/// It cannot be written.
pub fn to_csv(table: &[Observed], device: &str, out: &mut dyn Write) -> io::Result<()> {
    writeln!(
        out,
        "device,protocol,internal,internal-port,external,external-port,peer,peer-port,created,expires"
    )?;
    let mut writer = csv::Writer::from_writer(out);
    for row in table {
        let port = |p: u16| if p == 0 { String::new() } else { p.to_string() };
        let seconds = |t: Option<Instant>| t.map(|t| t.seconds().to_string()).unwrap_or_default();
        writer.write_record([
            device,
            &row.protocol.map_or("any".into(), |p| p.to_string()),
            &row.internal.address.to_string(),
            &port(row.internal.port),
            &row.external.address.to_string(),
            &port(row.external.port),
            &row.peer.map(|p| p.address.to_string()).unwrap_or_default(),
            &row.peer.map(|p| port(p.port)).unwrap_or_default(),
            &seconds(row.created),
            &seconds(row.expires),
        ])?;
    }
    writer.flush()
}
