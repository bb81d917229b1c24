//! Interfaces, addresses and routes (RFC 8343, 8344, 8349).

use std::collections::HashMap;
use std::net::IpAddr;

use serde_json::{Map, Value, json};
use zarnet_core::net::Prefix;
use zarnet_core::plan::{Interface, Route};

use super::super::LossKind;
use super::super::notation::{host_prefix, set_text};
use super::{Export, put};

/// What exported interfaces are said to be (RFC 7224).
const INTERFACE_TYPE: &str = "iana-if-type:ethernetCsmacd";

impl Export<'_> {
    pub(super) fn interfaces(&mut self) -> Value {
        let device = self.device;
        let list: Vec<Value> = device.interfaces.iter().map(|i| self.interface(i)).collect();
        json!({ "interface": list })
    }

    fn interface(&mut self, interface: &Interface) -> Value {
        let mut out = Map::new();
        out.insert("name".into(), json!(interface.name));
        out.insert("type".into(), json!(INTERFACE_TYPE));
        out.insert("enabled".into(), json!(true));
        for (name, is_v4) in [("ietf-ip:ipv4", true), ("ietf-ip:ipv6", false)] {
            put(&mut out, name, self.family(interface, is_v4));
        }
        let with_policy = self.form.has_policy();
        let proxy_arp = set_text(&interface.proxy_arp);
        let services: Vec<String> = interface.services.0.iter().map(ToString::to_string).collect();
        if with_policy {
            put(&mut out, "zarnet-policy:realm", interface.realm.as_ref().map(|r| json!(r)));
            put(&mut out, "zarnet-policy:lease", interface.lease.then(|| json!(true)));
            put(
                &mut out,
                "zarnet-policy:proxy-arp",
                (!proxy_arp.is_empty()).then(|| json!(proxy_arp)),
            );
            put(&mut out, "zarnet-policy:ping", (!interface.ping).then(|| json!(false)));
            put(&mut out, "zarnet-policy:service", (!services.is_empty()).then(|| json!(services)));
            return Value::Object(out);
        }
        let told = [
            (interface.lease, "lease = true".to_owned()),
            (!interface.ping, "ping = false".to_owned()),
            (!services.is_empty(), format!("services = {}", services.join(", "))),
        ];
        for (_, what) in told.into_iter().filter(|t| t.0) {
            self.lose(LossKind::Interface, &interface.name, what);
        }
        if !proxy_arp.is_empty() {
            self.lose(LossKind::AnswersFor, &interface.name, proxy_arp.join(", "));
        }
        Value::Object(out)
    }

    /// The addresses of one family, if it has any.
    fn family(&self, interface: &Interface, is_v4: bool) -> Option<Value> {
        let own: Vec<(IpAddr, Prefix)> =
            interface.addresses.iter().copied().filter(|a| a.0.is_ipv4() == is_v4).collect();
        let also: Vec<IpAddr> =
            interface.also.iter().copied().filter(|a| a.is_ipv4() == is_v4).collect();
        if own.is_empty() && also.is_empty() {
            return None;
        }
        let entry = |(address, prefix): &(IpAddr, Prefix)| json!({ "ip": address.to_string(), "prefix-length": prefix.length() });
        let mut list: Vec<Value> = own.iter().map(entry).collect();
        for address in also {
            let full = host_prefix(address);
            let length: u64 = full.rsplit('/').next().and_then(|l| l.parse().ok()).unwrap_or(32);
            let mut entry = json!({ "ip": address.to_string(), "prefix-length": length });
            if self.form.has_policy() {
                entry["zarnet-policy:also"] = json!(true);
            }
            list.push(entry);
        }
        Some(json!({ "forwarding": self.device.forwarding, "address": list }))
    }

    /// Static routes: the list of the standard has one route to each destination.
    pub(super) fn routing(&mut self) -> Option<Value> {
        let device = self.device;
        let mut v4 = Vec::new();
        let mut v6 = Vec::new();
        for (route, is_held) in device.routes.iter().zip(held_routes(&device.routes)) {
            if !is_held {
                self.lose_without_policy(
                    LossKind::Route,
                    &route.to.to_string(),
                    format!("via {}", route.via),
                );
                continue;
            }
            let list = if route.to.first().is_ipv4() { &mut v4 } else { &mut v6 };
            list.push((route.to, route.via));
        }
        if v4.is_empty() && v6.is_empty() {
            return None;
        }
        let mut routes = Map::new();
        let families =
            [("ietf-ipv4-unicast-routing:ipv4", v4), ("ietf-ipv6-unicast-routing:ipv6", v6)];
        for (name, list) in families {
            let entry = |(to, via): &(Prefix, IpAddr)| {
                json!({
                    "destination-prefix": to.to_string(),
                    "next-hop": { "next-hop-address": via.to_string() },
                })
            };
            let list: Vec<Value> = list.iter().map(entry).collect();
            put(&mut routes, name, (!list.is_empty()).then(|| json!({ "route": list })));
        }
        Some(json!({
            "control-plane-protocols": {
                "control-plane-protocol": [{
                    "type": "ietf-routing:static",
                    "name": "static",
                    "static-routes": routes,
                }],
            },
        }))
    }
}

/// Which routes the list of the standard holds: the last to each destination, if it is for all
/// packets.
pub(super) fn held_routes(routes: &[Route]) -> Vec<bool> {
    let last: HashMap<Prefix, usize> = routes.iter().zip(0..).map(|(r, i)| (r.to, i)).collect();
    let held = |(i, r): (usize, &Route)| last.get(&r.to) == Some(&i) && r.condition.is_none();
    routes.iter().enumerate().map(held).collect()
}
