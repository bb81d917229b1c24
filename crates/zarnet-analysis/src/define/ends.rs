//! External ends for new rules: what is free, and who has what is not.

use zarnet_core::net::{AddressRange, AddressSet};
use zarnet_core::plan::{self, DeviceId, blocks, free_ranges, uses};

use super::PlanEditor;
use crate::AskError;

impl PlanEditor<'_> {
    /// The free addresses of the device, lowest first.
    pub(super) fn free(&self) -> AddressSet {
        free_ranges(self.plan, self.id).into_iter().collect()
    }

    /// An external end as it is to be written: `next` becomes the lowest free address, or range of
    /// the size of `internal`.
    pub(super) fn external(&self, text: &str, internal: &str) -> Result<String, AskError> {
        let count = AddressRange::parse(internal).map_or(1, |r| r.0.count());
        let next = || {
            let free = self.free();
            let room = free.ranges().find(|r| r.count() >= count)?;
            let last = room.nth(count - 1)?;
            AddressRange::new(room.first(), last).ok().map(|r| r.to_string())
        };
        if text == "next" {
            return next().ok_or_else(|| {
                let help = "`zarnet addresses` lists who uses them".to_owned();
                AskError::new(
                    "no-free-address",
                    format!("no {count} external addresses in a row are free"),
                    help,
                )
            });
        }
        let Ok((range, _)) = AddressRange::parse(text) else { return Ok(text.to_owned()) };
        // sizes that differ are told with the next that fits
        if !internal.is_empty() && AddressRange::parse(internal).is_ok() && range.count() != count {
            let help = next().map_or("make both ends the same size".to_owned(), |n| {
                format!("the next free one of that size is {n}")
            });
            let message = format!("{internal} has {count} addresses, {text} has {}", range.count());
            return Err(AskError::new("sizes-differ", message, help));
        }
        for block in blocks(self.plan) {
            let user = uses(self.plan, &block).into_iter().find(|(part, what)| {
                let own = matches!(what, plan::Use::Interface(d, _) if *d == self.id);
                !own && part.first() <= range.last() && range.first() <= part.last()
            });
            if let Some((part, what)) = user {
                let help = next().map_or("`zarnet addresses` lists what is free".to_owned(), |n| {
                    format!("the next free one is {n}")
                });
                let message = format!("{text} is not free: {part} is {}", self.user(what));
                return Err(AskError::new("address-not-free", message, help));
            }
        }
        Ok(text.to_owned())
    }

    fn user(&self, what: plan::Use) -> String {
        let of = |d: DeviceId| &self.plan.devices[d.index()];
        match what {
            plan::Use::Network => "the network address of its link".to_owned(),
            plan::Use::Broadcast => "the broadcast address of its link".to_owned(),
            plan::Use::Interface(d, i) => {
                format!("the interface `{}` of `{}`", of(d).interfaces[i.index()].name, of(d).name)
            }
            plan::Use::NextHop => "a next hop".to_owned(),
            plan::Use::Host(h) => format!("the host `{}`", self.plan.hosts[h.index()].name),
            plan::Use::Fixed(d, r) | plan::Use::Overload(d, r) => {
                format!("used by rule `{}`", of(d).rules[r.index()].name)
            }
            plan::Use::Pool(d, p) => format!("in pool `{}`", of(d).pools[p.index()].name),
        }
    }
}
