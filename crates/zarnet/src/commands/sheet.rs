//! `zarnet sheet PLAN`: the hand-out for the users of forwards.

use zarnet_core::net::Service;
use zarnet_core::plan::{DevicePlan, Plan, RuleKind};

use super::plan;
use super::traffic::device;
use crate::args::{Common, Format, Sheet};
use crate::exit::{FINE, Failure};
use crate::render::csv::Row;
use crate::render::table::{self, BOLD, Cell, Column, DIM, count};
use crate::render::{json, output};

/// What somebody outside may use.
#[derive(serde::Serialize)]
#[serde(rename_all = "kebab-case")]
struct Line {
    device: String,
    rule: String,
    connect_to: String,
    ends_up_at: String,
    who_may: String,
    note: String,
}

pub fn run(args: &Sheet, common: &Common) -> Result<u8, Failure> {
    let loaded = plan(&args.plan, common)?;
    let only = args.device.as_deref().map(|n| device(&loaded.plan, n)).transpose()?;
    let devices = loaded
        .plan
        .devices
        .iter()
        .enumerate()
        .filter(|(i, _)| only.is_none_or(|o| o.index() == *i));
    let lines: Vec<Line> = devices.flat_map(|(_, d)| of_device(&loaded.plan, d)).collect();
    match common.format {
        Format::Json => {
            output::json(|out| {
                json::write(out, &serde_json::json!({ "shape": 1, "forwards": lines }))
            })?;
        }
        Format::Csv => output::csv(|out| {
            writeln!(out, "device,rule,connect-to,ends-up-at,who-may,note")?;
            let mut row = Row::default();
            lines.iter().try_for_each(|l| {
                [&l.device, &l.rule, &l.connect_to, &l.ends_up_at, &l.who_may, &l.note]
                    .into_iter()
                    .for_each(|t| row.text(t));
                row.write(out)
            })
        })?,
        Format::Text => output::answer(|out| {
            writeln!(out, "{BOLD}{}{BOLD:#}: what can be reached from outside", loaded.plan.title)?;
            let columns = [
                Column::text("CONNECT TO"),
                Column::text("ENDS UP AT"),
                Column::text("WHO MAY").expendable(1),
                Column::text("RULE").expendable(2),
                Column::text("NOTE").expendable(3),
            ];
            let row = |l: &Line| -> Vec<Cell> {
                [&l.connect_to, &l.ends_up_at, &l.who_may, &l.rule, &l.note]
                    .into_iter()
                    .map(|t| t.as_str().into())
                    .collect()
            };
            let rows: Vec<Vec<Cell>> = lines.iter().map(row).collect();
            table::write(out, &columns, &rows, output::width(common))?;
            let rules = count(lines.len() as u64, "entry", "entries");
            writeln!(
                out,
                "{DIM}{rules}; what the policy refuses all the same, `zarnet check` tells{DIM:#}"
            )
        })?,
    }
    Ok(FINE)
}

fn of_device(plan: &Plan, device: &DevicePlan) -> Vec<Line> {
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
                let server = |s: &zarnet_core::plan::Server| match f.ports.count() {
                    1 => format!("{} port {}", host(s.address), s.port),
                    _ => format!("{} ports {}-{}", host(s.address), s.port, last(s.port)),
                };
                let ends: Vec<String> = f.servers.iter().map(server).collect();
                (format!("{}:{service}", address.first()), ends.join(" or "))
            }
            RuleKind::Static(s) if s.direction != zarnet_core::plan::Direction::Outbound => {
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
            _ => continue,
        };
        let who: Vec<String> = rule.written.source.iter().map(|s| s.value.clone()).collect();
        lines.push(Line {
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
