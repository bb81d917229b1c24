//! The answer of `sheet`: the hand-out for the users of forwards.

use std::io::{self, Write};

use serde::Serialize;
use zarnet_core::net::Service;
use zarnet_core::plan::{DeviceId, DevicePlan, Direction, Plan, RuleKind, Server};

use super::{Answer, Row, SHAPE};

/// What can be reached from outside.
#[derive(Serialize)]
pub struct SheetAnswer {
    shape: u32,
    /// The ways in, in the order of devices and rules.
    pub forwards: Vec<SheetEntry>,
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
    /// The ways into a plan, by one device or all.
    pub fn new(plan: &Plan, only: Option<DeviceId>) -> Self {
        let devices = plan.devices.iter().enumerate();
        let devices = devices.filter(|(i, _)| only.is_none_or(|o| o.index() == *i));
        Self { shape: SHAPE, forwards: devices.flat_map(|(_, d)| of_device(plan, d)).collect() }
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

fn of_device(plan: &Plan, device: &DevicePlan) -> Vec<SheetEntry> {
    let host = |a: std::net::IpAddr| {
        plan.hosts
            .iter()
            .find(|h| h.address == a)
            .map_or_else(|| a.to_string(), |h| format!("{} ({a})", h.name))
    };
    let mut lines = Vec::new();
    for rule in device.rules.iter().filter(|r| r.enabled) {
        let (to, ends) = match &rule.kind {
            RuleKind::Forward(f) => {
                let Some(address) = device.external(f.external) else { continue };
                let service = Service { protocol: Some(f.protocol), ports: f.ports };
                let last = |first: u16| first + (f.ports.last - f.ports.first);
                let server = |s: &Server| match f.ports.count() {
                    1 => format!("{} port {}", host(s.address), s.port),
                    _ => format!("{} ports {}-{}", host(s.address), s.port, last(s.port)),
                };
                let ends: Vec<String> = f.servers.iter().map(server).collect();
                (format!("{}:{service}", address.first()), ends.join(" or "))
            }
            RuleKind::Static(s) if s.direction != Direction::Outbound => {
                let Some(range) = device.external(s.external) else { continue };
                let services = if rule.service.is_any() {
                    String::new()
                } else {
                    format!(" {}", rule.service)
                };
                let inside = if s.internal.count() == 1 {
                    host(s.internal.first())
                } else {
                    s.internal.to_string()
                };
                (format!("{range}{services}"), inside)
            }
            RuleKind::Exempt
            | RuleKind::Static(_)
            | RuleKind::Pool { .. }
            | RuleKind::Overload { .. } => continue,
        };
        let who: Vec<String> = rule.written.source.iter().map(|s| s.value.clone()).collect();
        lines.push(SheetEntry {
            device: device.name.clone(),
            rule: rule.name.clone(),
            connect_to: to,
            ends_up_at: ends,
            who_may: if who.is_empty() { "everybody".to_owned() } else { who.join(", ") },
            note: rule.note.clone().unwrap_or_default(),
        });
    }
    lines
}
