//! External ends for new rules: what is free, and who has what is not.

use zarnet_core::net::{AddressRange, AddressSet};
use zarnet_core::network::special;
use zarnet_core::plan::{self, AddressUses, DeviceId, RuleKind, blocks, free_ranges};

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
        self.external_for(text, internal, false)
    }

    /// The same; `shares`: ports of the address may be forwarded by other rules.
    pub(super) fn external_for(
        &self,
        text: &str,
        internal: &str,
        shares: bool,
    ) -> Result<String, AskError> {
        let count = AddressRange::parse(internal).map_or(1, |r| r.0.count());
        let next = || {
            let free = self.free();
            // a private link to the next device is no address to the outside
            let fits = |r: &AddressRange| r.count() >= count;
            let public = |r: &AddressRange| !special().contains(r.first());
            let room = free.ranges().find(|r| fits(r) && public(r)).or(free.ranges().find(fits))?;
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
        let uses = AddressUses::of(self.plan);
        for block in blocks(self.plan) {
            let user = uses.of_block(&block).into_iter().find(|(part, what)| {
                let own = match what {
                    plan::Use::Interface(d, _) => *d == self.id,
                    // ports of forwards are left out by an overload onto their address
                    plan::Use::Fixed(d, r) => {
                        let rule = &self.plan.devices[d.index()].rules[r.index()];
                        let is_part = matches!(rule.kind, RuleKind::Forward(_));
                        shares && *d == self.id && (is_part || !rule.service.is_any())
                    }
                    _ => false,
                };
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

    /// Refuses an external end of a forward that another one has for the same senders, with the
    /// next port that is free.
    pub(super) fn check_port(&self, end: &str, any_source: bool) -> Result<(), AskError> {
        let parsed = end.rsplit_once('/').and_then(|(rest, protocol)| {
            let (address, port) = rest.rsplit_once(':')?;
            Some((address, port.parse::<u16>().ok()?, protocol))
        });
        let Some((address, port, protocol)) = parsed else { return Ok(()) };
        let own = self.device.interfaces.iter().find(|i| i.name == address);
        let Some(held) = own.and_then(|i| i.primary()).or(address.parse().ok()) else {
            return Ok(());
        };
        let holder = |port: u16| {
            self.device.rules.iter().find(|r| {
                let RuleKind::Forward(f) = &r.kind else { return false };
                let is_same = self.device.external(f.external).is_some_and(|e| e.contains(held))
                    && f.protocol.to_string() == protocol
                    && f.ports.contains(port);
                is_same && (any_source || r.parties.source.is_all())
            })
        };
        let Some(rule) = holder(port) else { return Ok(()) };
        let next = (port..=u16::MAX).chain(1024..port).find(|p| holder(*p).is_none());
        let help = next.map(|n| format!("the next free port is {address}:{n}/{protocol}"));
        let message = format!("{end} is not free: rule `{}` forwards it", rule.name);
        Err(AskError::new("address-not-free", message, help))
    }

    /// Refuses a whole address that an interface of the device has for itself.
    pub(super) fn check_not_own(&self, external: &str) -> Result<(), AskError> {
        let Ok((range, _)) = AddressRange::parse(external) else { return Ok(()) };
        let whose =
            self.device.interfaces.iter().find(|i| i.primary().is_some_and(|a| range.contains(a)));
        let Some(interface) = whose else { return Ok(()) };
        let message = format!("{external} is the address of interface `{}` itself", interface.name);
        let help = match self.external("next", external) {
            Ok(next) => format!("--service limits the static to some services; {next} is free"),
            Err(_) => "--service limits the static to some services".to_owned(),
        };
        Err(AskError::new("address-not-free", message, help))
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
