//! What stands around rules: named sets, policy entries, interfaces, routes, forwarding.

use std::net::IpAddr;

use zarnet_core::net::Prefix;
use zarnet_core::plan::edit::{Edit, List, Table, Value};
use zarnet_core::plan::{InterfaceId, nearest};

use super::{Fields, PlanEditor, one_or_more};
use crate::AskError;

/// A policy entry as it is asked for.
#[derive(Debug, Clone, Default)]
pub struct PolicyOptions {
    /// Realms or interfaces of the sender.
    pub from: Vec<String>,
    /// Realms or interfaces of the receiver.
    pub into: Vec<String>,
    /// Services that the entry accepts.
    pub accept: Vec<String>,
    /// Services that the entry drops.
    pub drop: Vec<String>,
    /// Senders that it is for.
    pub source: Vec<String>,
    /// Receivers that it is for.
    pub destination: Vec<String>,
    /// The entry that it is placed before, counted from 1; last if left out.
    pub before: Option<usize>,
}

/// Keys of an interface with new values. Empty means that the key stays as it is.
#[derive(Debug, Clone, Default)]
pub struct InterfaceOptions {
    /// The realm it faces.
    pub realm: Option<String>,
    /// The segment it is on.
    pub segment: Option<String>,
    /// Addresses with prefix lengths.
    pub address: Vec<String>,
    /// Whether the address may change by a lease.
    pub lease: Option<bool>,
    /// Whether it answers echo requests.
    pub ping: Option<bool>,
    /// Filter on what comes in; `none` takes it off.
    pub ingress_acl: Option<String>,
    /// Filter on what goes out; `none` takes it off.
    pub egress_acl: Option<String>,
}

impl PlanEditor<'_> {
    /// Writes a named set: of addresses, or of services. `add` and `drop` change the one that is
    /// there; otherwise it becomes `elements`.
    ///
    /// # Errors
    /// Nothing is given.
    pub fn named_set(
        self,
        table: Table,
        name: &str,
        elements: &[String],
        (add, drop): (&[String], &[String]),
    ) -> Result<Vec<Edit>, AskError> {
        if elements.is_empty() && add.is_empty() && drop.is_empty() {
            let help = "name elements, or --add and --drop some".to_owned();
            return Err(AskError::new("nothing-to-do", "no element is given", help));
        }
        let mut edits = Vec::new();
        if !elements.is_empty() {
            let values = Value::List(elements.iter().map(|e| e.as_str().into()).collect());
            edits.push(Edit::Group(table, name.to_owned(), values));
        }
        let is_new = table == Table::Groups && !self.plan.groups.contains_key(name);
        if is_new && elements.is_empty() && !add.is_empty() {
            let empty = Value::List(Vec::new());
            edits.push(Edit::Group(table, name.to_owned(), empty));
        }
        edits.extend(add.iter().map(|e| Edit::Append(table, name.to_owned(), e.as_str().into())));
        edits.extend(drop.iter().map(|e| Edit::Drop(table, name.to_owned(), e.clone())));
        Ok(edits)
    }

    /// Adds a policy entry.
    ///
    /// # Errors
    /// It neither accepts nor drops, or does both, or there is no entry to stand before.
    pub fn policy(self, entry: &PolicyOptions) -> Result<Vec<Edit>, AskError> {
        if entry.accept.is_empty() == entry.drop.is_empty() {
            let help = "give --accept SERVICE or --drop SERVICE, one of them".to_owned();
            return Err(AskError::new("options-contradict", "the entry has no verdict", help));
        }
        let count = self.device.policies.len();
        let before = match entry.before {
            Some(n) if n == 0 || n > count => {
                let help = format!("`{}` has {count}, counted from 1", self.device.name);
                return Err(AskError::new("unknown-name", format!("there is no entry {n}"), help));
            }
            before => before.map(|n| n - 1),
        };
        let lists = [
            ("from", &entry.from),
            ("into", &entry.into),
            ("accept", &entry.accept),
            ("drop", &entry.drop),
            ("source", &entry.source),
            ("destination", &entry.destination),
        ];
        let fields: Fields =
            lists.into_iter().filter_map(|(k, l)| Some((k, one_or_more(l)?))).collect();
        Ok(vec![Edit::Insert(self.id, List::Policies, before, fields)])
    }

    /// Changes keys of an interface.
    ///
    /// # Errors
    /// The device has no such interface, or nothing is changed.
    pub fn interface(self, name: &str, keys: &InterfaceOptions) -> Result<Vec<Edit>, AskError> {
        let table = Table::Interface(self.id, self.interface_named(name)?);
        let mut edits = Vec::new();
        let mut set = |key: &str, value: Value| edits.push(Edit::Set(table, key.to_owned(), value));
        let texts = [("realm", &keys.realm), ("segment", &keys.segment)];
        for (key, text) in texts.into_iter().filter_map(|(k, t)| Some((k, t.as_deref()?))) {
            set(key, text.into());
        }
        if let Some(address) = one_or_more(&keys.address) {
            set("address", address);
        }
        for (key, flag) in [("lease", keys.lease), ("ping", keys.ping)] {
            if let Some(flag) = flag {
                set(key, Value::Flag(flag));
            }
        }
        for (key, acl) in [("ingress-acl", &keys.ingress_acl), ("egress-acl", &keys.egress_acl)] {
            match acl.as_deref() {
                None => {}
                Some("none") => edits.push(Edit::Unset(table, key.to_owned())),
                Some(acl) => edits.push(Edit::Set(table, key.to_owned(), acl.into())),
            }
        }
        if edits.is_empty() {
            let help = "`zarnet define interface --help` lists the keys".to_owned();
            return Err(AskError::new("nothing-to-do", "no key is given", help));
        }
        Ok(edits)
    }

    /// Switches forwarding between interfaces on or off.
    pub fn forwarding(self, on: bool) -> Vec<Edit> {
        let table = Table::Device(self.id);
        vec![match on {
            true => Edit::Set(table, "forwarding".to_owned(), Value::Flag(true)),
            false => Edit::Set(table, "forwarding".to_owned(), Value::Flag(false)),
        }]
    }

    /// A static route: the one to this prefix leads to another next hop, or it is added.
    ///
    /// # Errors
    /// The destination is no prefix, or the next hop no address.
    pub fn route(
        self,
        to: &str,
        via: &str,
        (source, from): (&[String], &[String]),
    ) -> Result<Vec<Edit>, AskError> {
        let wrong = |e: String| AskError::new("notation", e, None);
        let prefix: Prefix = to.parse().map_err(|e| wrong(format!("{to}: {e}")))?;
        let _: IpAddr = via.parse().map_err(|_| wrong(format!("{via} is no address")))?;
        let same = |r: &zarnet_core::plan::Route| r.to == prefix && r.condition.is_none();
        let known = self.device.routes.iter().position(same);
        if let (Some(i), true) = (known, source.is_empty() && from.is_empty()) {
            return Ok(vec![Edit::Set(Table::Route(self.id, i), "via".to_owned(), via.into())]);
        }
        let mut fields: Fields = vec![("to", to.into()), ("via", via.into())];
        fields.extend(one_or_more(source).map(|s| ("source", s)));
        fields.extend(one_or_more(from).map(|f| ("from", f)));
        Ok(vec![Edit::Insert(self.id, List::Routes, None, fields)])
    }

    pub(super) fn interface_named(&self, name: &str) -> Result<InterfaceId, AskError> {
        let found = self.device.interfaces.iter().position(|i| i.name == name);
        found.map(|n| InterfaceId(n as u16)).ok_or_else(|| {
            let names = self.device.interfaces.iter().map(|i| i.name.as_str());
            let near = nearest(name, names.clone()).map(|n| format!("did you mean `{n}`?"));
            let all = names.collect::<Vec<_>>().join(", ");
            let help = near.unwrap_or_else(|| format!("`{}` has {all}", self.device.name));
            AskError::new("unknown-name", format!("there is no interface `{name}`"), help)
        })
    }
}
