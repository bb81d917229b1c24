//! The answer of `sheet`: the hand-out for the users of forwards.

use std::io::{self, Write};

use serde::Serialize;
use zarnet_core::plan::{DeviceId, Plan};

use super::packets::{addresses, ports};
use super::{Answer, Row, SHAPE};
use crate::exposure::{Exposed, exposure};
use crate::space::Intervals;

/// What can be reached from outside.
#[derive(Serialize)]
pub struct SheetAnswer {
    shape: u32,
    /// The ways in, in the order of devices and rules.
    pub forwards: Vec<SheetEntry>,
    /// Devices with more classes of packets than are gone through: of these nothing is known.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub unknown: Vec<String>,
}

/// Something that users outside may connect to.
#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct SheetEntry {
    /// The device that leads it in.
    pub device: String,
    /// The rule that leads it in.
    pub rule: String,
    /// Address and service to connect to.
    pub connect_to: String,
    /// The machines that answer.
    pub ends_up_at: String,
    /// The senders that the rule takes.
    pub who_may: String,
    /// The note of the rule.
    pub note: String,
}

impl SheetAnswer {
    /// The ways into a plan from the internet, by one device or all: what a rule leads in and no
    /// filter or policy on the way refuses.
    pub fn new(plan: &Plan, only: Option<DeviceId>) -> Self {
        let found = exposure(plan, None, only, 0);
        let entries = found.exposed.iter().filter_map(|way| entry(plan, way)).collect();
        Self { shape: SHAPE, forwards: entries, unknown: found.unknown }
    }
}

impl Answer for SheetAnswer {
    type Shape<'s> = &'s Self;

    fn shape(&self) -> &Self {
        self
    }

    fn columns(&self) -> &'static [&'static str] {
        &["device", "rule", "connect-to", "ends-up-at", "who-may", "note"]
    }

    fn rows(&self, out: &mut dyn Write) -> io::Result<()> {
        let mut row = Row::default();
        for l in &self.forwards {
            for text in [&l.device, &l.rule, &l.connect_to, &l.ends_up_at, &l.who_may, &l.note] {
                row.text(text);
            }
            row.write(out)?;
        }
        Ok(())
    }
}

/// A way in as users are told it; `None` if no rule leads it in.
fn entry(plan: &Plan, way: &Exposed) -> Option<SheetEntry> {
    let device = &plan.devices[way.device.index()];
    let rule = device.rules.iter().find(|r| Some(&r.name) == way.rule.as_ref())?;
    let (service, port) = match (way.protocol(), ports(way.ports())) {
        (Some(p), Some(ports)) if p.has_ports() => {
            let offset = way.server.port.wrapping_sub(way.sent.destination().port);
            (format!(":{ports}/{p}"), moved(way.ports(), offset))
        }
        (Some(p), _) => (format!("/{p}"), String::new()),
        (None, _) => (String::new(), String::new()),
    };
    let host = plan.hosts.iter().find(|h| h.address == way.server.address);
    let several = way.address().count() > 1;
    let who = match host {
        _ if several => format!("the address that belongs to it, as {}", way.server.address),
        Some(host) => format!("{} ({})", host.name, host.address),
        None => way.server.address.to_string(),
    };
    // the names that the rule has for them say more than their addresses
    let written: Vec<&str> = rule.written.source.iter().map(|s| s.value.as_str()).collect();
    let all = Intervals::addresses(&rule.parties.source).difference(way.sources()).is_empty();
    let who_may = match (way.everybody, written.is_empty() || !all) {
        (true, _) => "everybody".to_owned(),
        (false, false) => written.join(", "),
        (false, true) => addresses(way.sources()),
    };
    Some(SheetEntry {
        device: device.name.clone(),
        rule: rule.name.clone(),
        connect_to: format!("{}{service}", addresses(way.address())),
        ends_up_at: format!("{who}{port}"),
        who_may,
        note: rule.note.clone().unwrap_or_default(),
    })
}

/// The ports of a server, in words.
fn moved(outside: &Intervals, by: u16) -> String {
    let ends: Vec<String> = outside
        .list()
        .iter()
        .map(|(a, b)| [a, b].map(|n| (*n as u16).wrapping_add(by)))
        .map(|[a, b]| if a == b { a.to_string() } else { format!("{a}-{b}") })
        .collect();
    let word = if outside.count() == 1 { "port" } else { "ports" };
    format!(" {word} {}", ends.join(","))
}
