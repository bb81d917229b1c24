//! The answer of `addresses` as text.

use std::io::{self, Write};
use std::path::Path;

use zarnet_analysis::answer::addresses::{AddressAnswer, AddressRun};
use zarnet_core::plan::{DeviceId, Plan, blocks, free_addresses};

use super::table::{self, BOLD, Cell, Column, DIM, GOOD};

/// Writes the answer: a table for each block of the device, or of all.
pub fn text(
    answer: &AddressAnswer,
    (plan, path): (&Plan, &Path),
    only: Option<DeviceId>,
    out: &mut dyn Write,
    width: usize,
) -> io::Result<()> {
    let mut list = blocks(plan);
    list.retain(|b| only.is_none_or(|o| o == b.device));
    if list.is_empty() {
        return writeln!(out, "no device has external addresses");
    }
    for block in &list {
        let own = answer.addresses.iter().filter(|l| l.block == block.prefix.to_string());
        let device = &plan.devices[block.device.index()];
        let interface = &device.interfaces[block.interface.index()].name;
        let how =
            if block.routed { format!("routed to {interface}") } else { format!("on {interface}") };
        writeln!(out, "{BOLD}{}{BOLD:#} of {}, {how}", block.prefix, device.name)?;
        let columns = [
            Column::text("ADDRESSES"),
            Column::number("COUNT"),
            Column::text("USED BY"),
            Column::text("NAME"),
        ];
        let rows: Vec<Vec<Cell>> = own.map(row).collect();
        table::write(out, &columns, &rows, width)?;
        let free = free_addresses(plan, block).count();
        writeln!(out, "{DIM}{free} of {} free{DIM:#}\n", block.prefix.range().count())?;
    }
    writeln!(out, "{DIM}next: zarnet define {} static HOST next{DIM:#}", path.display())
}

fn row(run: &AddressRun) -> Vec<Cell> {
    let used = match run.used_by.as_str() {
        "free" => Cell::styled("free", GOOD),
        other => other.into(),
    };
    vec![
        run.addresses.as_str().into(),
        run.count.to_string().into(),
        used,
        run.name.as_str().into(),
    ]
}
