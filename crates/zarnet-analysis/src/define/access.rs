//! What a rule needs besides itself: the policy entry that lets its traffic pass, and the address
//! that somebody must answer for.

use std::net::IpAddr;

use zarnet_core::net::{AddressRange, Prefix};
use zarnet_core::plan::InterfaceId;
use zarnet_core::plan::edit::{Edit, List, Table, Value};

use super::{Fields, PlanEditor, one_or_more};
use crate::AskError;

impl PlanEditor<'_> {
    /// The policy entry that lets a rule's traffic pass, and the address that somebody must answer
    /// for.
    pub(super) fn access(
        &self,
        kind: &str,
        fields: &Fields,
        external: Option<&str>,
    ) -> Result<Vec<Edit>, AskError> {
        let get = |key: &str| fields.iter().find(|f| f.0 == key).map(|f| f.1.clone());
        let (inside, outside) =
            (get("from").unwrap_or("internal".into()), get("into").unwrap_or("external".into()));
        let mut entry: Fields = Vec::new();
        match kind {
            "static" | "forward" => {
                entry.extend([("from", outside), ("into", inside)]);
                let ends = match get("internal") {
                    Some(Value::List(list)) => list,
                    one => one.into_iter().collect(),
                };
                // of a forward, ports are those behind it, where the policy looks at what is
                // translated
                let port_of = |v: &Value| {
                    if let Value::Text(t) = v {
                        t.rsplit_once(':').map(|p| p.1.to_owned())
                    } else {
                        None
                    }
                };
                let address = |v: &Value| {
                    if let Value::Text(t) = v {
                        t.rsplit_once(':').map_or(t.clone(), |p| p.0.to_owned())
                    } else {
                        String::new()
                    }
                };
                let protocol = match get("external") {
                    Some(Value::Text(t)) if kind == "forward" => {
                        t.rsplit_once('/').map(|p| p.1.to_owned())
                    }
                    _ => None,
                };
                let ports: Vec<String> = ends.iter().filter_map(port_of).collect();
                let service = match (protocol, ports.first()) {
                    (Some(protocol), Some(port)) => Value::Text(format!("{port}/{protocol}")),
                    _ => get("service").unwrap_or("any".into()),
                };
                entry.push(("accept", service));
                let hosts: Vec<String> = ends.iter().map(address).collect();
                entry.extend(one_or_more(&hosts).map(|d| ("destination", d)));
                entry.extend(get("source").map(|s| ("source", s)));
            }
            _ => {
                entry.extend([
                    ("from", inside),
                    ("into", outside),
                    ("accept", get("service").unwrap_or("any".into())),
                ]);
                entry.extend(get("source").map(|s| ("source", s)));
                entry.extend(get("destination").map(|d| ("destination", d)));
            }
        }
        let mut edits = vec![Edit::Insert(self.id, List::Policies, None, entry)];
        let range = external.and_then(|e| AddressRange::parse(e).ok()).map(|r| r.0);
        if let Some(range) = range
            && let Some(interface) = self.unheld(range)
        {
            edits.push(Edit::Append(
                Table::Interface(self.id, interface),
                "proxy-arp".to_owned(),
                range.to_string().into(),
            ));
        }
        Ok(edits)
    }

    /// The interface that would have to answer for addresses on its link, where it does not.
    fn unheld(&self, range: AddressRange) -> Option<InterfaceId> {
        if self.device.behaviour.answers_arp_for_translated {
            return None;
        }
        let on_link = |p: &(IpAddr, Prefix)| p.1.contains(range.first());
        let position =
            self.device.interfaces.iter().position(|i| i.addresses.iter().any(on_link))?;
        let interface = &self.device.interfaces[position];
        let held = interface.own().any(|a| range.contains(a))
            || interface.proxy_arp.contains(range.first());
        (!held).then_some(InterfaceId(position as u16))
    }
}
