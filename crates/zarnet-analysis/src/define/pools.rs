//! Address pools, and addresses that an interface answers for.

use zarnet_core::net::AddressRange;
use zarnet_core::plan::InterfaceId;
use zarnet_core::plan::edit::{Edit, List, Table};

use super::{Fields, PlanEditor, fresh_name, one_or_more};
use crate::AskError;

impl PlanEditor<'_> {
    /// Adds an address pool. Of `addresses`, a number takes so many of the lowest free ones.
    ///
    /// # Errors
    /// The name is taken, or an address is.
    pub fn address_pool(
        &self,
        name: &str,
        addresses: &[String],
        pick: Option<&str>,
    ) -> Result<Vec<Edit>, AskError> {
        let taken = |n: &str| {
            self.device.pools.iter().any(|p| p.name == n)
                || self.device.interfaces.iter().any(|i| i.name == n)
        };
        if taken(name) {
            let help = format!("`{}` is free", fresh_name(name, taken));
            return Err(AskError::new(
                "duplicate-name",
                format!("`{}` has a pool or interface `{name}` already", self.device.name),
                help,
            ));
        }
        let mut list = Vec::new();
        for text in addresses {
            match text.parse::<u128>() {
                // a number is so many of what is free
                Ok(mut wanted) => {
                    for range in self.free().ranges() {
                        let part = range.count().min(wanted);
                        if let (true, Some(last)) = (part > 0, range.nth(part.saturating_sub(1))) {
                            list.extend(
                                AddressRange::new(range.first(), last).map(|r| r.to_string()),
                            );
                            wanted -= part;
                        }
                    }
                    if wanted > 0 {
                        let help = "`zarnet addresses` lists who uses them".to_owned();
                        return Err(AskError::new(
                            "no-free-address",
                            format!("{wanted} of {text} addresses are not free"),
                            help,
                        ));
                    }
                }
                Err(_) => list.push(self.external(text, "")?),
            }
        }
        let mut fields: Fields = vec![("name", name.into())];
        fields.extend(one_or_more(&list).map(|a| ("addresses", a)));
        fields.extend(pick.map(|p| ("pick", p.into())));
        Ok(vec![Edit::Insert(self.id, List::Pools, None, fields)])
    }

    /// Lets an interface answer for an address besides its own; without a name, the one in whose
    /// prefix it lies. `by`: `also`, as an address of its own, or `proxy-arp`.
    ///
    /// # Errors
    /// It is no address, or a next hop or somebody else's, or no interface is meant.
    pub fn answers_for(
        &self,
        address: &str,
        interface: Option<&str>,
        by: &str,
    ) -> Result<Vec<Edit>, AskError> {
        let parsed = AddressRange::parse(address)
            .map_err(|e| AskError::new("notation", e.to_string(), None))?;
        self.unused_elsewhere(parsed.0)?;
        let position = match interface {
            Some(name) => self.device.interfaces.iter().position(|i| i.name == name),
            None => self
                .device
                .interfaces
                .iter()
                .position(|i| i.addresses.iter().any(|p| p.1.contains(parsed.0.first()))),
        };
        let Some(position) = position else {
            let names: Vec<&str> = self.device.interfaces.iter().map(|i| i.name.as_str()).collect();
            let help = format!("--interface NAME; `{}` has {}", self.device.name, names.join(", "));
            return Err(AskError::new(
                "unknown-name",
                format!("no interface is meant for {address}"),
                help,
            ));
        };
        let table = Table::Interface(self.id, InterfaceId(position as u16));
        Ok(vec![Edit::Append(table, by.to_owned(), address.into())])
    }

    /// Addresses that a next hop, a host or another interface has are not to be answered for.
    fn unused_elsewhere(&self, range: AddressRange) -> Result<(), AskError> {
        let taken = zarnet_core::network::taken(self.plan);
        let Some(part) = taken.overlapping(range).next() else { return Ok(()) };
        let own = self.device.interfaces.iter().any(|i| i.own().any(|a| range.contains(a)));
        let whose = if own {
            "the device has it already"
        } else {
            "it is a next hop, a host's, or \
             another interface's"
        };
        let help = "`zarnet addresses` lists what is free".to_owned();
        Err(AskError::new(
            "address-not-free",
            format!("{} is not free: {whose}", part.first()),
            help,
        ))
    }
}
