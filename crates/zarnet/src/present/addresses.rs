//! The answer of `addresses` as text.

use std::collections::HashMap;
use std::io::{self, Write};
use std::path::Path;

use zarnet_analysis::answer::addresses::{AddressAnswer, AddressRun};
use zarnet_core::plan::{AddressUses, Block, DeviceId, Plan, blocks};

use super::table::{self, BOLD, Cell, Column, DIM, GOOD};

/// Writes the answer: a table for each block of the device, or of all. A link that several devices
/// share is one.
pub fn text(
    answer: &AddressAnswer,
    (plan, path): (&Plan, &Path),
    only: Option<DeviceId>,
    out: &mut dyn Write,
    width: usize,
) -> io::Result<()> {
    let mut together: Vec<(String, bool, Vec<Block>)> = Vec::new();
    let mut places: HashMap<(String, bool), usize> = HashMap::new();
    for block in blocks(plan).into_iter().filter(|b| only.is_none_or(|o| o == b.device)) {
        let prefix = block.prefix.to_string();
        let at = *places.entry((prefix.clone(), block.routed)).or_insert(together.len());
        if at == together.len() {
            together.push((prefix, block.routed, Vec::new()));
        }
        together[at].2.push(block);
    }
    if together.is_empty() {
        return writeln!(out, "no device has external addresses");
    }
    let mut runs: HashMap<(&str, &str, bool), Vec<&AddressRun>> = HashMap::new();
    for run in &answer.addresses {
        runs.entry((&run.device, &run.block, run.routed)).or_default().push(run);
    }
    let uses = AddressUses::of(plan);
    for (prefix, routed, shared) in &together {
        let Some(block) = shared.first() else { continue };
        let device = &plan.devices[block.device.index()];
        writeln!(out, "{BOLD}{prefix}{BOLD:#} of {}", owners(plan, shared))?;
        let columns = [
            Column::text("ADDRESSES"),
            Column::number("COUNT"),
            Column::text("USED BY"),
            Column::text("NAME"),
        ];
        let own = runs.get(&(device.name.as_str(), prefix.as_str(), *routed));
        let rows: Vec<Vec<Cell>> = own.into_iter().flatten().map(|run| row(run)).collect();
        table::write(out, &columns, &rows, width)?;
        let free = uses.free_in(block).count();
        writeln!(out, "{DIM}{free} of {} free{DIM:#}\n", block.prefix.range().count())?;
    }
    writeln!(out, "{DIM}next: zarnet define {} static HOST next{DIM:#}", path.display())
}

/// Of devices that share a block, so many are named.
const MOST_NAMED: usize = 4;

/// The devices that a block is of, and where.
fn owners(plan: &Plan, shared: &[Block]) -> String {
    let one = |block: &Block| {
        let device = &plan.devices[block.device.index()];
        let interface = &device.interfaces[block.interface.index()].name;
        let how = if block.routed { "routed to" } else { "on" };
        format!("{}, {how} {interface}", device.name)
    };
    let named: Vec<String> = shared.iter().take(MOST_NAMED).map(one).collect();
    match shared.len().saturating_sub(MOST_NAMED) {
        0 => named.join("; "),
        more => format!("{}; and {more} more", named.join("; ")),
    }
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
