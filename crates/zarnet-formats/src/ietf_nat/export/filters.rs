//! Filters as access control lists (RFC 8519): an entry for each pair of prefixes and each service.

use serde_json::{Map, Value, json};
use zarnet_core::limits;
use zarnet_core::net::{AddressSet, PortRange, Prefix, Protocol, Service};
use zarnet_core::plan::{Acl, AclEntry, AclId, Verdict};

use super::super::LossKind;
use super::super::notation::set_prefixes;
use super::Export;

/// The last entry of an exported filter: what the standard leaves open is said.
const ALL_ELSE: &str = "all-else";

/// What an entry asks of one packet.
#[derive(Clone, Copy)]
struct Asked {
    source: Option<Prefix>,
    destination: Option<Prefix>,
    service: Service,
    source_service: Service,
}

impl Export<'_> {
    pub(super) fn filters(&mut self) -> Option<Value> {
        let device = self.device;
        if device.acls.is_empty() {
            return None;
        }
        let acls: Vec<Value> = device.acls.iter().map(|a| self.filter(a)).collect();
        let mut out = Map::new();
        out.insert("acl".into(), json!(acls));
        let name = |id: AclId| json!({ "acl-sets": { "acl-set": [{ "name": device.acls[id.index()].name }] } });
        let attached = device.interfaces.iter().filter_map(|i| {
            let mut point = Map::new();
            point.insert("interface-id".into(), json!(i.name));
            super::put(&mut point, "ingress", i.ingress_acl.map(name));
            super::put(&mut point, "egress", i.egress_acl.map(name));
            (point.len() > 1).then_some(Value::Object(point))
        });
        let attached: Vec<Value> = attached.collect();
        if !attached.is_empty() {
            out.insert("attachment-points".into(), json!({ "interface": attached }));
        }
        Some(Value::Object(out))
    }

    fn filter(&mut self, acl: &Acl) -> Value {
        let mut aces: Vec<Value> = Vec::new();
        for entry in &acl.entries {
            for asked in self.asked(acl, entry) {
                let name = (aces.len() + 1).to_string();
                let verdict = match entry.verdict {
                    Verdict::Accept => "ietf-access-control-list:accept",
                    Verdict::Drop => "ietf-access-control-list:drop",
                };
                let mut ace = Map::new();
                ace.insert("name".into(), json!(name));
                let mut matches = matches(asked);
                if entry.answers && self.form.has_policy() {
                    matches.insert("zarnet-policy:answers".into(), json!(true));
                }
                if !matches.is_empty() {
                    ace.insert("matches".into(), Value::Object(matches));
                }
                ace.insert("actions".into(), json!({ "forwarding": verdict }));
                aces.push(Value::Object(ace));
            }
            if entry.answers {
                self.lose_without_policy(LossKind::Filter, &acl.name, "answers = true");
            }
        }
        let ends_all = |ace: &Value| {
            ace.get("matches").is_none()
                && ace["actions"]["forwarding"] == "ietf-access-control-list:drop"
        };
        if !aces.last().is_some_and(ends_all) {
            let actions = json!({ "forwarding": "ietf-access-control-list:drop" });
            aces.push(json!({ "name": ALL_ELSE, "actions": actions }));
        }
        json!({
            "name": acl.name,
            "type": "ietf-access-control-list:mixed-eth-ipv4-ipv6-acl-type",
            "aces": { "ace": aces },
        })
    }

    /// What an entry comes to, pair by pair and service by service.
    fn asked(&mut self, acl: &Acl, entry: &AclEntry) -> Vec<Asked> {
        let ends = |set: &AddressSet| match set.is_all() {
            true => vec![None],
            false => set_prefixes(set).into_iter().map(Some).collect(),
        };
        let (sources, destinations) =
            (ends(&entry.parties.source), ends(&entry.parties.destination));
        let services = services(&entry.service);
        let source_services = self::services(&entry.source_service);
        let count = sources.len() * destinations.len() * services.len() * source_services.len();
        if count > limits::EXPORTED_PARTS {
            self.lose(LossKind::Filter, &acl.name, format!("an entry comes to {count}"));
            return Vec::new();
        }
        let mut list = Vec::new();
        for &service in &services {
            for &source_service in &source_services {
                let (a, b) = (service.protocol, source_service.protocol);
                if a.is_some() && b.is_some() && a != b {
                    continue; // nothing is both
                }
                let ports_of_others = [service, source_service].iter().any(|s| {
                    s.ports != PortRange::ALL
                        && !matches!(s.protocol, Some(Protocol::TCP | Protocol::UDP))
                });
                if ports_of_others {
                    self.lose(LossKind::Service, &acl.name, service.to_string());
                    continue;
                }
                for &source in &sources {
                    for &destination in &destinations {
                        let asked = Asked { source, destination, service, source_service };
                        list.extend(by_family(asked));
                    }
                }
            }
        }
        list
    }
}

/// The services of a list; of one that matches everything, just that.
fn services(set: &zarnet_core::net::ServiceSet) -> Vec<Service> {
    if set.is_any() { vec![Service::ANY] } else { set.0.clone() }
}

/// A protocol without ports is asked for in the header of a family: where none is named, in both.
fn by_family(asked: Asked) -> Vec<Asked> {
    let family = |prefix: Option<Prefix>| prefix.map(|p| p.first().is_ipv4());
    let all = |is_v4: bool| {
        let text = if is_v4 { "0.0.0.0/0" } else { "::/0" };
        text.parse::<Prefix>().ok()
    };
    match (family(asked.source), family(asked.destination)) {
        (Some(a), Some(b)) if a != b => Vec::new(),
        (None, None) if asked.number().is_some() => {
            [true, false].map(|is_v4| Asked { source: all(is_v4), ..asked }).to_vec()
        }
        _ => vec![asked],
    }
}

impl Asked {
    /// The protocol, where it has to be asked for by its number.
    fn number(self) -> Option<Protocol> {
        let protocol = self.service.protocol.or(self.source_service.protocol)?;
        let with_ports =
            self.service.ports != PortRange::ALL || self.source_service.ports != PortRange::ALL;
        (!with_ports).then_some(protocol)
    }
}

fn matches(asked: Asked) -> Map<String, Value> {
    let mut out = Map::new();
    let end = asked.source.or(asked.destination);
    if let Some(end) = end {
        let family = if end.first().is_ipv4() { "ipv4" } else { "ipv6" };
        let mut header = Map::new();
        if let Some(protocol) = asked.number() {
            header.insert("protocol".into(), json!(protocol.0));
        }
        // with a protocol, the header alone says the family
        let is_all = |p: Prefix| p.length() == 0 && asked.number().is_some();
        for (side, prefix) in [("destination", asked.destination), ("source", asked.source)] {
            if let Some(prefix) = prefix.filter(|p| !is_all(*p)) {
                header.insert(format!("{side}-{family}-network"), json!(prefix.to_string()));
            }
        }
        out.insert(family.into(), Value::Object(header));
    }
    let with_ports = [("source-port", asked.source_service), ("destination-port", asked.service)];
    let protocol = asked.service.protocol.or(asked.source_service.protocol);
    let name = if protocol == Some(Protocol::TCP) { "tcp" } else { "udp" };
    let mut ports = Map::new();
    for (member, service) in with_ports.into_iter().filter(|p| p.1.ports != PortRange::ALL) {
        let PortRange { first, last } = service.ports;
        let value = match first == last {
            true => json!({ "operator": "eq", "port": first }),
            false => json!({ "lower-port": first, "upper-port": last }),
        };
        ports.insert(member.into(), value);
    }
    if !ports.is_empty() {
        out.insert(name.into(), Value::Object(ports));
    }
    out
}
