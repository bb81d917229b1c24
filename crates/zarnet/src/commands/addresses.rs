//! `zarnet addresses PLAN`: every external address, who uses it, and which are free.

use zarnet_core::net::AddressRange;
use zarnet_core::plan::{Block, Plan, Use, blocks, free_addresses, uses};

use super::plan;
use super::traffic::device;
use crate::args::{Addresses, Common, Format};
use crate::exit::{FINE, Failure};
use crate::render::csv::Row;
use crate::render::table::{self, BOLD, Cell, Column, DIM, GOOD};
use crate::render::{json, output};

/// A run of addresses of a block.
#[derive(serde::Serialize)]
#[serde(rename_all = "kebab-case")]
struct Line {
    device: String,
    block: String,
    routed: bool,
    addresses: String,
    count: u128,
    used_by: String,
    name: String,
}

pub fn run(args: &Addresses, common: &Common) -> Result<u8, Failure> {
    let loaded = plan(&args.plan, common)?;
    let only = args.device.as_deref().map(|n| device(&loaded.plan, n)).transpose()?;
    let mut list = blocks(&loaded.plan);
    list.retain(|b| only.is_none_or(|o| o == b.device));
    let lines: Vec<Line> = list.iter().flat_map(|b| of_block(&loaded.plan, b)).collect();
    let lines: Vec<Line> =
        lines.into_iter().filter(|l| !args.free || l.used_by == "free").collect();
    match common.format {
        Format::Json => {
            output::json(|out| {
                json::write(out, &serde_json::json!({ "shape": 1, "addresses": lines }))
            })?;
        }
        Format::Csv => output::csv(|out| {
            writeln!(out, "device,block,routed,addresses,count,used-by,name")?;
            let mut row = Row::default();
            lines.iter().try_for_each(|l| {
                let routed = if l.routed { "true" } else { "false" };
                let count = l.count.to_string();
                [l.device.as_str(), &l.block, routed, &l.addresses, &count, &l.used_by, &l.name]
                    .into_iter()
                    .for_each(|t| row.text(t));
                row.write(out)
            })
        })?,
        Format::Text => output::answer(|out| {
            if list.is_empty() {
                return writeln!(out, "no device has external addresses");
            }
            for block in &list {
                let own: Vec<&Line> =
                    lines.iter().filter(|l| l.block == block.prefix.to_string()).collect();
                let device = &loaded.plan.devices[block.device.index()];
                let interface = &device.interfaces[block.interface.index()].name;
                let how = if block.routed {
                    format!("routed to {interface}")
                } else {
                    format!("on {interface}")
                };
                writeln!(out, "{BOLD}{}{BOLD:#} of {}, {how}", block.prefix, device.name)?;
                let columns = [
                    Column::text("ADDRESSES"),
                    Column::number("COUNT"),
                    Column::text("USED BY"),
                    Column::text("NAME"),
                ];
                let row = |l: &&Line| -> Vec<Cell> {
                    let used = if l.used_by == "free" {
                        Cell::styled("free", GOOD)
                    } else {
                        l.used_by.as_str().into()
                    };
                    vec![
                        l.addresses.as_str().into(),
                        l.count.to_string().into(),
                        used,
                        l.name.as_str().into(),
                    ]
                };
                let rows: Vec<Vec<Cell>> = own.iter().map(row).collect();
                table::write(out, &columns, &rows, output::width(common))?;
                let free = free_addresses(&loaded.plan, block).count();
                writeln!(out, "{DIM}{free} of {} free{DIM:#}\n", block.prefix.range().count())?;
            }
            writeln!(
                out,
                "{DIM}next: zarnet define {} static HOST next{DIM:#}",
                args.plan.display()
            )
        })?,
    }
    Ok(FINE)
}

fn of_block(plan: &Plan, block: &Block) -> Vec<Line> {
    let device = plan.devices[block.device.index()].name.clone();
    let line = |part: AddressRange, used_by: &str, name: String| Line {
        device: device.clone(),
        block: block.prefix.to_string(),
        routed: block.routed,
        addresses: part.to_string(),
        count: part.count(),
        used_by: used_by.to_owned(),
        name,
    };
    let mut lines: Vec<(AddressRange, Line)> = Vec::new();
    for (part, what) in uses(plan, block) {
        let of = |d: zarnet_core::plan::DeviceId| &plan.devices[d.index()];
        let (kind, name) = match what {
            Use::Network => ("network", String::new()),
            Use::Broadcast => ("broadcast", String::new()),
            Use::Interface(d, i) => {
                ("interface", format!("{}/{}", of(d).name, of(d).interfaces[i.index()].name))
            }
            Use::NextHop => ("next hop", String::new()),
            Use::Host(h) => ("host", plan.hosts[h.index()].name.clone()),
            Use::Fixed(d, r) => {
                let rule = &of(d).rules[r.index()];
                (rule.kind.name(), rule.name.clone())
            }
            Use::Pool(d, p) => ("pool", of(d).pools[p.index()].name.clone()),
            Use::Overload(d, r) => ("overload", of(d).rules[r.index()].name.clone()),
        };
        lines.push((part, line(part, kind, name)));
    }
    lines.extend(
        free_addresses(plan, block).ranges().map(|part| (part, line(part, "free", String::new()))),
    );
    lines.sort_by_key(|l| (l.0.first(), l.0.last()));
    lines.into_iter().map(|l| l.1).collect()
}
