//! Interfaces and routes of a document.

use std::net::IpAddr;

use zarnet_core::net::Prefix;

use super::super::member;
use super::Import;
use super::reader::At;
use super::toml::Table;

/// An interface, with what rules need to know of it.
pub(super) struct Interface {
    pub(super) name: String,
    /// Its first IPv4 address.
    pub(super) primary: Option<IpAddr>,
    /// Whether it is of the external realm.
    pub(super) is_external: bool,
    pub(super) table: Table,
}

/// Addresses of an interface, those with a link first.
#[derive(Default)]
struct Addresses {
    own: Vec<(IpAddr, u8)>,
    also: Vec<IpAddr>,
}

impl Import<'_> {
    /// The interfaces, and the segments that they are on.
    pub(super) fn interfaces(
        &mut self,
        instances: &[At<'_>],
        with_policy: bool,
    ) -> (Vec<Interface>, Vec<Table>) {
        let listed = self.reader.top().get(member::INTERFACES).map(|i| i.list("interface"));
        let listed = listed.unwrap_or_default();
        let addresses: Vec<Addresses> = listed.iter().map(addresses).collect();
        let named: Vec<&str> = listed.iter().filter_map(|i| i.text("name")).collect();
        let by_policy: Vec<String> = instances
            .iter()
            .flat_map(|i| i.list("policy"))
            .filter_map(|p| p.get("external-realm")?.text("external-interface").map(str::to_owned))
            .collect();
        let defaults = self.default_next_hops();
        let leads_out = |a: &Addresses| {
            a.own.iter().any(|(address, length)| {
                Prefix::holding(*address, *length)
                    .is_some_and(|p| defaults.iter().any(|hop| p.contains(*hop)))
            })
        };
        let is_external = |i: usize| match by_policy.is_empty() {
            true => leads_out(&addresses[i]),
            false => by_policy.iter().any(|n| n == named[i]),
        };
        if !with_policy && by_policy.is_empty() && !named.is_empty() {
            self.assumed.push(
                "no policy names an external interface: those that the default route leads to are \
                 taken"
                    .into(),
            );
        }
        let forwards = listed.iter().any(|i| {
            ["ietf-ip:ipv4", "ietf-ip:ipv6"]
                .iter()
                .any(|family| i.get(family).and_then(|f| f.flag("forwarding")).unwrap_or(false))
        });
        if !forwards && addresses.iter().any(|a| !a.own.is_empty()) {
            self.device.flag("forwarding", false);
        }
        let mut segments: Vec<Table> = Vec::new();
        let mut interfaces = Vec::new();
        for (i, at) in listed.iter().enumerate() {
            let Addresses { own, also } = &addresses[i];
            // nothing can be said of one without an address
            if own.is_empty() {
                continue;
            }
            let _ = (at.identity("type"), at.flag("enabled"));
            let mut table = Table::default();
            table.text("name", named[i]);
            let realm = match with_policy {
                true => at.text("zarnet-policy:realm"),
                false if is_external(i) => Some("external"),
                false => Some("internal"),
            };
            if let Some(realm) = realm {
                table.text("realm", realm);
            }
            if realm == Some("external") && leads_out(&addresses[i]) {
                let name = match segments.len() {
                    0 => "internet".to_owned(),
                    n => format!("internet-{}", n + 1),
                };
                let mut segment = Table::default();
                segment.text("name", &name);
                segment.flag("internet", true);
                segments.push(segment);
                table.text("segment", &name);
            }
            let written: Vec<String> = own.iter().map(|(a, l)| format!("{a}/{l}")).collect();
            table.list("address", &written);
            if at.flag("zarnet-policy:lease") == Some(true) {
                table.flag("lease", true);
            }
            let also: Vec<String> = also.iter().map(ToString::to_string).collect();
            table.list("also", &also);
            table.list("proxy-arp", &at.texts("zarnet-policy:proxy-arp"));
            if at.flag("zarnet-policy:ping") == Some(false) {
                table.flag("ping", false);
            }
            table.list("services", &at.texts("zarnet-policy:service"));
            for (key, name) in self.attached(named[i]) {
                table.text(key, &name);
            }
            if let Some(note) = at.text("description") {
                table.text("note", note);
            }
            let primary = own.iter().map(|a| a.0).find(IpAddr::is_ipv4);
            let is_external = realm == Some("external");
            interfaces.push(Interface { name: named[i].into(), primary, is_external, table });
        }
        (interfaces, segments)
    }

    fn static_routes(&self) -> Vec<At<'_>> {
        let protocols = self
            .reader
            .top()
            .descend(&[member::ROUTING, "control-plane-protocols"])
            .map(|p| p.list("control-plane-protocol"))
            .unwrap_or_default();
        let mut list = Vec::new();
        for protocol in protocols {
            if protocol.identity("type") != Some("static") {
                continue;
            }
            let _ = protocol.text("name");
            for family in ["ietf-ipv4-unicast-routing:ipv4", "ietf-ipv6-unicast-routing:ipv6"] {
                let routes = protocol.descend(&["static-routes", family]);
                list.extend(routes.map(|r| r.list("route")).unwrap_or_default());
            }
        }
        list
    }

    /// Next hops of routes to everywhere.
    fn default_next_hops(&self) -> Vec<IpAddr> {
        let hop = |r: &At<'_>| -> Option<IpAddr> {
            let to = r.text("destination-prefix")?;
            let via = r.get("next-hop")?.text("next-hop-address")?;
            to.ends_with("/0").then(|| via.parse().ok())?
        };
        let mut hops: Vec<IpAddr> = self.static_routes().iter().filter_map(hop).collect();
        let edge = self.reader.top().get(member::EDGE);
        let more = edge.map(|e| e.list("route")).unwrap_or_default();
        let more_hop = |r: &At<'_>| -> Option<IpAddr> {
            let (to, via) = (r.text("to")?, r.text("via")?);
            to.ends_with("/0").then(|| via.parse().ok())?
        };
        hops.extend(more.iter().filter_map(more_hop));
        hops
    }

    pub(super) fn routes(&mut self, edge: Option<&At<'_>>) -> Vec<Table> {
        let mut list = Vec::new();
        for route in edge.map(|e| e.list("route")).unwrap_or_default() {
            let mut table = Table::default();
            let _ = route.number("index");
            for key in ["to", "via"] {
                table.text(key, route.text(key).unwrap_or_default());
            }
            table.list("source", &route.texts("source"));
            table.list("from", &route.texts("from"));
            list.push(table);
        }
        for route in self.static_routes() {
            // a route by an interface, or into nothing, is left out
            let via = route.get("next-hop").and_then(|h| h.text("next-hop-address"));
            let (Some(to), Some(via)) = (route.text("destination-prefix"), via) else { continue };
            let mut table = Table::default();
            table.text("to", to);
            table.text("via", via);
            if let Some(note) = route.text("description") {
                table.text("note", note);
            }
            list.push(table);
        }
        list
    }
}

fn addresses(interface: &At<'_>) -> Addresses {
    let mut out = Addresses::default();
    for family in ["ietf-ip:ipv4", "ietf-ip:ipv6"] {
        let Some(family) = interface.get(family) else { continue };
        let _ = (family.flag("enabled"), family.flag("forwarding"));
        for address in family.list("address") {
            let Some(ip) = address.text("ip").and_then(|t| t.parse::<IpAddr>().ok()) else {
                continue;
            };
            let full = if ip.is_ipv4() { 32 } else { 128 };
            let mask = |text: &str| {
                let bits = text.parse::<std::net::Ipv4Addr>().ok()?.to_bits();
                (bits.leading_ones() + bits.trailing_zeros() == 32).then(|| bits.leading_ones())
            };
            let length = address
                .number("prefix-length")
                .map(|l| l as u8)
                .or_else(|| address.text("netmask").and_then(mask).map(|l| l as u8));
            let length = length.unwrap_or(full);
            let has_own = out.own.iter().any(|o| o.0.is_ipv4() == ip.is_ipv4());
            let also = address.flag("zarnet-policy:also");
            match also.unwrap_or(length == full && has_own) {
                true => out.also.push(ip),
                false => out.own.push((ip, length)),
            }
        }
    }
    out
}
