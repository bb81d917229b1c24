//! The answer of `addresses`: every external address, who uses it, and which are free.

use std::io::{self, Write};

use serde::Serialize;
use zarnet_core::net::AddressRange;
use zarnet_core::plan::{AddressUses, Block, DeviceId, Plan, Use, blocks};

use super::{Answer, Row, SHAPE};

/// External addresses of a plan, run by run.
#[derive(Serialize)]
pub struct AddressAnswer {
    shape: u32,
    /// The runs, in the order of their blocks.
    pub addresses: Vec<AddressRun>,
}

/// A run of addresses of a block that are used alike.
#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct AddressRun {
    /// The device that has the block.
    pub device: String,
    /// The prefix that the run lies in.
    pub block: String,
    /// Whether the block is routed to the device, and not on a link of it.
    pub routed: bool,
    /// The addresses: one, or a range.
    pub addresses: String,
    /// Number of the addresses.
    pub count: u128,
    /// What uses them; `free` for nothing.
    pub used_by: String,
    /// Name of what uses them.
    pub name: String,
}

impl AddressAnswer {
    /// The addresses of a plan, of one device or all, and only the free ones if that is asked.
    pub fn new(plan: &Plan, only: Option<DeviceId>, free: bool) -> Self {
        let (list, uses) = (blocks(plan), AddressUses::of(plan));
        let list = list.iter().filter(|b| only.is_none_or(|o| o == b.device));
        let runs = list.flat_map(|b| of_block(plan, &uses, b));
        let addresses = runs.filter(|l| !free || l.used_by == "free").collect();
        Self { shape: SHAPE, addresses }
    }
}

impl Answer for AddressAnswer {
    type Shape<'s> = &'s Self;

    fn shape(&self) -> &Self {
        self
    }

    fn columns(&self) -> &'static [&'static str] {
        &["device", "block", "routed", "addresses", "count", "used-by", "name"]
    }

    fn rows(&self, out: &mut dyn Write) -> io::Result<()> {
        let mut row = Row::default();
        for l in &self.addresses {
            row.text(&l.device);
            row.text(&l.block);
            row.flag(l.routed);
            row.text(&l.addresses);
            row.text(&l.count.to_string());
            row.text(&l.used_by);
            row.text(&l.name);
            row.write(out)?;
        }
        Ok(())
    }
}

fn of_block(plan: &Plan, uses: &AddressUses, block: &Block) -> Vec<AddressRun> {
    let device = plan.devices[block.device.index()].name.clone();
    let line = |part: AddressRange, used_by: &str, name: String| AddressRun {
        device: device.clone(),
        block: block.prefix.to_string(),
        routed: block.routed,
        addresses: part.to_string(),
        count: part.count(),
        used_by: used_by.to_owned(),
        name,
    };
    let mut lines: Vec<(AddressRange, AddressRun)> = Vec::new();
    for (part, what) in uses.of_block(block) {
        let of = |d: DeviceId| &plan.devices[d.index()];
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
    lines
        .extend(uses.free_in(block).ranges().map(|part| (part, line(part, "free", String::new()))));
    lines.sort_by_key(|l| (l.0.first(), l.0.last()));
    lines.into_iter().map(|l| l.1).collect()
}
