//! The answer of `exposure`: what can be reached from a realm, and what lets it in.

use std::io::{self, Write};

use serde::Serialize;
use zarnet_formats::source::Sources;

use super::naming::Position;
use super::packets::{addresses, ports};
use super::{Answer, Row, SHAPE};
use crate::exposure::{Exposed, Exposure};
use zarnet_core::net::Protocol;
use zarnet_core::plan::Plan;

/// What can be reached, with the names of its plan.
#[derive(Serialize)]
pub struct ExposureAnswer {
    shape: u32,
    /// The realm, or `internet`.
    pub from: String,
    /// The ways in, by device and rule.
    pub exposed: Vec<ExposedShape>,
    /// Devices with more classes of packets than are gone through: of these nothing is known.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub unknown: Vec<String>,
}

/// A way in that devices leave open.
#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct ExposedShape {
    /// The protocol; `any` where it does not matter.
    pub protocol: String,
    /// The address, or addresses, to connect to.
    pub address: String,
    /// The port, or ports; `None` for protocols without, and for all.
    pub port: Option<String>,
    /// Who answers behind this way in.
    pub server: ServerShape,
    /// The devices that it passes, in order.
    pub through: Vec<String>,
    /// Who may use this way in.
    pub sources: String,
    /// The rule of the first device that leads it in; `None` where nothing is translated.
    pub rule: Option<String>,
    /// The policy entry of the first device that lets it pass, from 1; `None` for its default.
    pub policy: Option<usize>,
    /// Where the rule stands, or the policy entry.
    pub place: Option<Position>,
}

/// A server behind a way in.
#[derive(Serialize)]
pub struct ServerShape {
    /// Its name, if the plan declares it.
    pub host: Option<String>,
    /// Address of the server itself.
    pub address: String,
    /// The port that it is reached at.
    pub port: Option<u16>,
}

impl ExposureAnswer {
    /// The answer in terms of its plan.
    pub fn new(found: &Exposure, plan: &Plan, sources: &Sources) -> Self {
        let shape = |e: &Exposed| {
            let host = plan.hosts.iter().find(|h| h.address == e.server.address);
            let device = |d: &zarnet_core::plan::DeviceId| plan.devices[d.index()].name.clone();
            let through: Vec<String> = e.through.iter().map(device).collect();
            let own = || e.own.map(|d| device(&d));
            ExposedShape {
                protocol: e.protocol().map_or("any".to_owned(), |p| p.to_string()),
                address: addresses(e.address()),
                port: ports(e.ports()).filter(|_| e.protocol().is_none_or(Protocol::has_ports)),
                server: ServerShape {
                    host: host.map(|h| h.name.clone()).or_else(own),
                    address: e.server.address.to_string(),
                    port: e.protocol().filter(|p| p.has_ports()).map(|_| e.server.port),
                },
                through,
                sources: match e.everybody {
                    true => "everybody".to_owned(),
                    false => addresses(e.sources()),
                },
                rule: e.rule.clone(),
                policy: e.policy.map(|n| n + 1),
                place: e.place.and_then(|p| Position::of(p, sources)),
            }
        };
        Self {
            shape: SHAPE,
            from: found.from.clone(),
            exposed: found.exposed.iter().map(shape).collect(),
            unknown: found.unknown.clone(),
        }
    }
}

impl Answer for ExposureAnswer {
    type Shape<'s> = &'s Self;

    fn shape(&self) -> &Self {
        self
    }

    fn columns(&self) -> &'static [&'static str] {
        &[
            "protocol",
            "address",
            "port",
            "host",
            "server",
            "server-port",
            "through",
            "sources",
            "rule",
            "policy",
        ]
    }

    fn rows(&self, out: &mut dyn Write) -> io::Result<()> {
        let mut row = Row::default();
        for e in &self.exposed {
            row.text(&e.protocol);
            row.text(&e.address);
            row.text(e.port.as_deref().unwrap_or_default());
            row.text(e.server.host.as_deref().unwrap_or_default());
            row.text(&e.server.address);
            row.text(&e.server.port.map_or(String::new(), |p| p.to_string()));
            row.text(&e.through.join(" "));
            row.text(&e.sources);
            row.text(e.rule.as_deref().unwrap_or_default());
            row.text(&e.policy.map_or(String::new(), |p| p.to_string()));
            row.write(out)?;
        }
        Ok(())
    }
}
