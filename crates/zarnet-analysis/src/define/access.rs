//! What a rule needs besides itself: the policy entry that lets its traffic pass, and the address
//! that somebody must answer for.

use std::net::IpAddr;

use zarnet_core::net::{AddressRange, Prefix};
use zarnet_core::plan::edit::{Edit, List, Table, Value};
use zarnet_core::plan::{InterfaceId, Verdict};

use super::{Fields, PlanEditor, one_or_more};
use crate::AskError;
use crate::impact::impact;
use zarnet_formats::plan::{LoadError, Loaded, edited};

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
                let mut senders = match outside {
                    Value::List(list) => list,
                    one => vec![one],
                };
                // hosts that may use the external end from inside pass the policy, too
                senders.extend(match get("hairpin") {
                    Some(Value::List(list)) => list,
                    one => one.into_iter().collect(),
                });
                let from =
                    if senders.len() == 1 { senders.remove(0) } else { Value::List(senders) };
                entry.extend([("from", from), ("into", inside)]);
                entry.extend(self.destination_seen(kind, &get));
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
        if matches!(kind, "static" | "forward") {
            edits.extend(self.through_filters(kind, &get));
        }
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

    /// Service and destination of what a fixed rule leads in, as the policy sees them: translated,
    /// or as they were sent.
    fn destination_seen(
        &self,
        kind: &str,
        get: &impl Fn(&str) -> Option<Value>,
    ) -> Vec<(&'static str, Value)> {
        let any = || get("service").unwrap_or("any".into());
        let external = text_of(get("external"));
        let (end, protocol) = match kind {
            "forward" => external.rsplit_once('/').unwrap_or((&external, "any")),
            _ => (external.as_str(), ""),
        };
        if !self.device.behaviour.policy_sees_translated {
            let (address, port) = match kind {
                "forward" => end.rsplit_once(':').unwrap_or((end, "")),
                _ => (end, ""),
            };
            let service =
                if kind == "forward" { format!("{port}/{protocol}").into() } else { any() };
            return vec![("accept", service), ("destination", self.address_of(address).into())];
        }
        let ends: Vec<String> = match get("internal") {
            Some(Value::List(list)) => list.into_iter().map(|v| text_of(Some(v))).collect(),
            one => vec![text_of(one)],
        };
        // of a forward, ports are those behind it
        let split = |end: &String| match kind {
            "forward" => end.rsplit_once(':').map(|(a, p)| (a.to_owned(), p.to_owned())),
            _ => None,
        };
        let hosts: Vec<String> = ends.iter().map(|e| split(e).map_or(e.clone(), |s| s.0)).collect();
        let port = ends.first().and_then(split).map(|s| s.1);
        let service = port.map_or_else(any, |port| format!("{port}/{protocol}").into());
        let mut seen = vec![("accept", service)];
        seen.extend(one_or_more(&hosts).map(|d| ("destination", d)));
        seen
    }

    /// The external address of an end: of an interface, the one that it has.
    fn address_of(&self, end: &str) -> String {
        let interface = self.device.interfaces.iter().find(|i| i.name == end);
        interface.and_then(|i| i.primary()).map_or(end.to_owned(), |a| a.to_string())
    }

    /// Entries of filters on what comes in from outside, for what a fixed rule is for.
    fn through_filters(&self, kind: &str, get: &impl Fn(&str) -> Option<Value>) -> Vec<Edit> {
        let external = text_of(get("external"));
        let (end, service) = match kind {
            "forward" => {
                let Some((address, service)) = external.rsplit_once(':') else { return Vec::new() };
                (address.to_owned(), Value::from(service))
            }
            _ => (external, get("service").unwrap_or("any".into())),
        };
        let mut fields = vec![("accept", service), ("destination", self.address_of(&end).into())];
        fields.extend(get("source").map(|s| ("source", s)));
        let into = text_of(get("into").or(Some("external".into())));
        let outer = self
            .device
            .interfaces
            .iter()
            .filter(|i| i.realm.as_deref() == Some(&into) || i.name == into);
        let mut acls: Vec<_> = outer.filter_map(|i| i.ingress_acl).collect();
        acls.sort_unstable_by_key(|a| a.index());
        acls.dedup();
        // before the first entry that drops anything
        let drops = |acl: zarnet_core::plan::AclId| {
            let entries = &self.device.acls[acl.index()].entries;
            entries.iter().position(|e| e.verdict == Verdict::Drop)
        };
        let entry = Value::Entry(fields);
        acls.into_iter()
            .map(|acl| Edit::InsertEntry(self.id, acl, drops(acl), entry.clone()))
            .collect()
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

fn text_of(value: Option<Value>) -> String {
    match value {
        Some(Value::Text(text)) => text,
        _ => String::new(),
    }
}

/// The edits without those entries of policies and filters that no first packet needs, because it
/// is let pass already. The first edit is the rule itself.
///
/// # Errors
/// The edits lead to no plan.
pub fn needed(loaded: &Loaded, edits: Vec<Edit>) -> Result<Vec<Edit>, Option<LoadError>> {
    let mut kept = edits;
    let mut n = 1;
    while n < kept.len() {
        let all = edited(loaded, std::slice::from_ref(&kept))?;
        let is_entry =
            matches!(kept[n], Edit::Insert(_, List::Policies, ..) | Edit::InsertEntry(..));
        let mut fewer = kept.clone();
        fewer.remove(n);
        let without = edited(loaded, std::slice::from_ref(&fewer))?;
        if is_entry && impact(&without.plan, &all.plan).classes.is_empty() {
            kept = fewer;
        } else {
            n += 1;
        }
    }
    Ok(kept)
}
