//! Fixed rules as entries of the mapping table.

use std::net::IpAddr;

use serde_json::{Map, Value, json};
use zarnet_core::limits;
use zarnet_core::net::{AddressRange, Prefix};
use zarnet_core::plan::{Direction, External, Forward, Rule, Static, Target};

use super::super::notation::{host_prefix, set_prefixes};
use super::super::{LossKind, instance};
use super::Export;
use super::standing::{SoFar, Standing};

/// Who may send by an entry, and what such a sender becomes (RFC 8512 §2.6: `dst` is the far end).
struct FarEnd {
    internal: Option<String>,
    external: Option<String>,
}

/// Internal and external ports of an entry, the first and the last of each.
type Ports = ((u16, u16), (u16, u16));

/// The ends of an entry, without ports.
struct NearEnd {
    internal: String,
    external: String,
}

impl Export<'_> {
    pub(super) fn static_entries(
        &mut self,
        rule: &Rule,
        s: &Static,
        so_far: SoFar,
    ) -> (Vec<Value>, Option<Standing>) {
        self.told_of_fixed(rule, Some(s.external));
        if s.direction != Direction::Both {
            self.lose_without_policy(LossKind::Direction, &rule.name, "");
        }
        let protocol = match rule.service.0[..] {
            [one] if one.ports == zarnet_core::net::PortRange::ALL => one.protocol,
            _ => None,
        };
        let says_service = rule.service.is_any() || protocol.is_some();
        if !says_service {
            let what = rule.service.to_string();
            self.lose_without_policy(LossKind::Service, &rule.name, what);
        }
        let Some(external) = self.device.external(s.external) else {
            // an interface without an address holds nothing yet
            self.lose_without_policy(LossKind::Leased, &rule.name, "");
            return (Vec::new(), None);
        };
        let near = pairs(s.internal, external);
        let near: Vec<NearEnd> = near
            .into_iter()
            .map(|(i, e)| NearEnd { internal: i.to_string(), external: e.to_string() })
            .collect();
        let protocol = protocol.map(|p| p.0);
        let ends = near.iter().map(|n| (n, None)).collect();
        let mut written =
            self.entries(rule, protocol, ends, s.translate_as, (instance::BASIC.0, so_far));
        if let Some(stands) = &mut written.1 {
            stands.says_service = says_service;
            stands.says_external = matches!(s.external, External::Range(_));
        }
        written
    }

    pub(super) fn forward_entries(
        &mut self,
        rule: &Rule,
        f: &Forward,
        so_far: SoFar,
    ) -> (Vec<Value>, Option<Standing>) {
        self.told_of_fixed(rule, Some(f.external));
        if f.servers.len() > 1 {
            let what = format!("{} servers", f.servers.len());
            self.lose_without_policy(LossKind::Servers, &rule.name, what);
        }
        let (Some(server), Some(external)) = (f.servers.first(), self.device.external(f.external))
        else {
            self.lose_without_policy(LossKind::Leased, &rule.name, "");
            return (Vec::new(), None);
        };
        let near = NearEnd {
            internal: host_prefix(server.address),
            external: host_prefix(external.first()),
        };
        let count = f.ports.last - f.ports.first;
        let ports =
            ((server.port, server.port.saturating_add(count)), (f.ports.first, f.ports.last));
        let ends = vec![(&near, Some(ports))];
        let protocol = Some(f.protocol.0);
        let mut written =
            self.entries(rule, protocol, ends, f.translate_as, (instance::NAPT.0, so_far));
        if let Some(stands) = &mut written.1 {
            stands.says_service = true;
            stands.says_external = matches!(f.external, External::Range(_));
        }
        written
    }

    fn told_of_fixed(&mut self, rule: &Rule, external: Option<External>) {
        self.told_of(rule);
        if !rule.parties.destination.is_all() {
            self.lose_without_policy(LossKind::Destination, &rule.name, "");
        }
        if let Some(External::Interface(i)) = external
            && self.device.interfaces[i.index()].lease
        {
            let name = self.device.interfaces[i.index()].name.clone();
            self.lose_without_policy(LossKind::Leased, &rule.name, name);
        }
    }

    /// An entry for each near end and each sender.
    fn entries(
        &mut self,
        rule: &Rule,
        protocol: Option<u8>,
        near: Vec<(&NearEnd, Option<Ports>)>,
        translate_as: Option<Target>,
        (id, so_far): (u64, SoFar),
    ) -> (Vec<Value>, Option<Standing>) {
        let becomes = match translate_as {
            None => None,
            Some(Target::Address(address)) => Some(address),
            Some(Target::Interface(i)) => self.device.interfaces[i.index()].primary(),
            Some(Target::Pool(_)) => {
                self.lose_without_policy(LossKind::Target, &rule.name, "");
                None
            }
        };
        let mut far = self.far_ends(rule, becomes);
        let says_source = near.len() * far.len() <= limits::EXPORTED_PARTS;
        if !says_source {
            let what = format!("{} entries", near.len() * far.len());
            self.lose_without_policy(LossKind::Source, &rule.name, what);
            far = vec![FarEnd { internal: None, external: None }];
        }
        let mut stands = Standing { instance: id, says_source, ..Standing::default() };
        let mut list = Vec::new();
        for (near, ports) in &near {
            for far in &far {
                let index = so_far.entries + list.len() as u64 + 1;
                stands.entries.push(index);
                let mut entry = Map::new();
                entry.insert("index".into(), json!(index));
                entry.insert("type".into(), json!("static"));
                super::put(&mut entry, "transport-protocol", protocol.map(|p| json!(p)));
                entry.insert("internal-src-address".into(), json!(near.internal));
                super::put(&mut entry, "internal-src-port", ports.map(|p| port_range(p.0)));
                entry.insert("external-src-address".into(), json!(near.external));
                super::put(&mut entry, "external-src-port", ports.map(|p| port_range(p.1)));
                let (internal, external) = (far.internal.as_ref(), far.external.as_ref());
                super::put(&mut entry, "internal-dst-address", internal.map(|a| json!(a)));
                super::put(&mut entry, "external-dst-address", external.map(|a| json!(a)));
                list.push(Value::Object(entry));
            }
        }
        (list, Some(stands))
    }

    fn far_ends(&self, rule: &Rule, becomes: Option<IpAddr>) -> Vec<FarEnd> {
        let becomes = becomes.map(host_prefix);
        if rule.parties.source.is_all() {
            return vec![FarEnd { internal: becomes, external: None }];
        }
        let prefixes = set_prefixes(&rule.parties.source);
        let end = |p: &Prefix| FarEnd {
            internal: becomes.clone().or_else(|| Some(p.to_string())),
            external: Some(p.to_string()),
        };
        prefixes.iter().map(end).collect()
    }
}

fn port_range((first, last): (u16, u16)) -> Value {
    match first == last {
        true => json!({ "start-port-number": first }),
        false => json!({ "start-port-number": first, "end-port-number": last }),
    }
}

/// Two ranges of one length as pairs of prefixes of one length.
fn pairs(internal: AddressRange, external: AddressRange) -> Vec<(Prefix, Prefix)> {
    let bits = u32::from(internal.family().bits());
    let (mut at, count) = (0u128, internal.count());
    let mut list = Vec::new();
    while at < count {
        let (Some(inside), Some(outside)) = (internal.nth(at), external.nth(at)) else { break };
        let free = |address: IpAddr| match address {
            IpAddr::V4(a) => a.to_bits().trailing_zeros(),
            IpAddr::V6(a) => a.to_bits().trailing_zeros(),
        };
        let mut size = free(inside).min(free(outside)).min(bits).min(127);
        while 1u128 << size > count - at {
            size -= 1;
        }
        let length = (bits - size) as u8;
        list.extend(Prefix::holding(inside, length).zip(Prefix::holding(outside, length)));
        at += 1 << size;
    }
    list
}
