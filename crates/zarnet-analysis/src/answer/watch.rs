//! The answer of `watch`: a device's table at one look.

use std::io::{self, Write};

use serde::Serialize;

use super::ends::{End, ProtocolName};
use super::{Answer, Row, SHAPE};
use crate::watch::{WatchedRow, Watching};

/// What is seen of a device at one look.
pub struct WatchAnswer<'a> {
    /// The device.
    pub device: &'a str,
    /// What is seen.
    pub watching: &'a Watching,
}

/// The answer as a shape.
#[derive(Serialize)]
pub struct WatchShape<'a> {
    shape: u32,
    device: &'a str,
    rows: Vec<RowShape<'a>>,
    usage: Vec<UsageShape<'a>>,
    refused: Vec<RefusedShape<'a>>,
    missing: Option<Vec<MissingShape>>,
    unpredicted: Option<usize>,
}

#[derive(Serialize)]
struct RowShape<'a> {
    protocol: ProtocolName,
    internal: End,
    external: End,
    peer: Option<End>,
    rule: Option<&'a str>,
    state: Option<&'a str>,
    idle: Option<u32>,
    expires: Option<u32>,
    sessions: Option<u32>,
    fixed: bool,
    change: &'static str,
    predicted: Option<bool>,
}

#[derive(Serialize)]
struct UsageShape<'a> {
    name: &'a str,
    used: u64,
    usable: u64,
}

#[derive(Serialize)]
struct RefusedShape<'a> {
    counter: &'a str,
    all: u64,
    new: u64,
}

#[derive(Serialize)]
struct MissingShape {
    protocol: ProtocolName,
    internal: End,
    external: End,
}

impl<'a> WatchAnswer<'a> {
    fn whole(&self) -> WatchShape<'a> {
        let w = self.watching;
        let row = |r: &'a WatchedRow| RowShape {
            protocol: ProtocolName(r.protocol),
            internal: r.internal.into(),
            external: r.external.into(),
            peer: r.peer.map(End::from),
            rule: r.rule.as_deref(),
            state: r.state.as_deref(),
            idle: r.idle,
            expires: r.expires,
            sessions: r.sessions,
            fixed: r.fixed,
            change: r.change.name(),
            predicted: r.predicted,
        };
        WatchShape {
            shape: SHAPE,
            device: self.device,
            rows: w.rows.iter().map(row).collect(),
            usage: w
                .usage
                .iter()
                .map(|u| UsageShape { name: &u.name, used: u.used, usable: u.usable })
                .collect(),
            refused: w
                .refused
                .iter()
                .map(|(counter, (all, new))| RefusedShape { counter, all: *all, new: *new })
                .collect(),
            missing: w.missing.as_ref().map(|list| {
                let one = |(p, i, e): &(_, _, _)| MissingShape {
                    protocol: ProtocolName(*p),
                    internal: End::from(*i),
                    external: End::from(*e),
                };
                list.iter().map(one).collect()
            }),
            unpredicted: w.missing.is_some().then(|| w.unpredicted()),
        }
    }
}

impl Answer for WatchAnswer<'_> {
    type Shape<'s>
        = WatchShape<'s>
    where
        Self: 's;

    fn shape(&self) -> Self::Shape<'_> {
        self.whole()
    }

    fn columns(&self) -> &'static [&'static str] {
        &[
            "protocol",
            "internal",
            "internal-port",
            "external",
            "external-port",
            "peer",
            "peer-port",
            "rule",
            "state",
            "idle",
            "expires",
            "sessions",
            "change",
            "predicted",
        ]
    }

    fn rows(&self, out: &mut dyn Write) -> io::Result<()> {
        let mut row = Row::default();
        let number = |n: Option<u32>| n.map(|n| n.to_string()).unwrap_or_default();
        for r in &self.watching.rows {
            row.text(&ProtocolName(r.protocol).to_string());
            row.end(Some(r.internal));
            row.end(Some(r.external));
            row.end(r.peer);
            row.text(r.rule.as_deref().unwrap_or_default());
            row.text(r.state.as_deref().unwrap_or_default());
            [r.idle, r.expires, r.sessions].iter().for_each(|n| row.text(&number(*n)));
            row.text(r.change.name());
            row.text(match r.predicted {
                Some(true) => "true",
                Some(false) => "false",
                None => "",
            });
            row.write(out)?;
        }
        Ok(())
    }
}
