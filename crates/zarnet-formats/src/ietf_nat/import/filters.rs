//! Access control lists as filters.

use super::super::member;
use super::Import;
use super::reader::At;
use super::toml::Table;

/// What an exported filter ends with: what a plan does anyway.
const ALL_ELSE: &str = "all-else";

impl Import<'_> {
    pub(super) fn filters(&mut self) -> Vec<Table> {
        let acls = self.reader.top().get(member::ACLS).map(|a| a.list("acl")).unwrap_or_default();
        let mut list = Vec::new();
        for acl in acls {
            let _ = acl.identity("type");
            let name = acl.text("name").unwrap_or_default();
            let aces = acl.get("aces").map(|a| a.list("ace")).unwrap_or_default();
            let mut entries = Vec::new();
            for ace in aces {
                if ace.text("name") == Some(ALL_ELSE) && ace.get("matches").is_none() {
                    let _ = ace.get("actions").and_then(|a| a.identity("forwarding"));
                    continue;
                }
                match self.entry(&ace) {
                    Some(entry) => entries.push(entry.inline()),
                    None => self.assumed.push(format!(
                        "{}: it asks for what no filter of a plan asks for, and is left out",
                        ace.path
                    )),
                }
            }
            let mut table = Table::default();
            table.text("name", name);
            table.raw("entries", format!("[\n    {},\n  ]", entries.join(",\n    ")));
            if entries.is_empty() {
                table = Table::default();
                table.text("name", name);
                table.raw("entries", "[{ drop = \"any\" }]".into());
            }
            list.push(table);
        }
        list
    }

    /// The filters of an interface.
    pub(super) fn attached(&self, interface: &str) -> Vec<(&'static str, String)> {
        let points = self
            .reader
            .top()
            .descend(&[member::ACLS, "attachment-points"])
            .map(|p| p.list("interface"))
            .unwrap_or_default();
        let Some(point) = points.iter().find(|p| p.text("interface-id") == Some(interface)) else {
            return Vec::new();
        };
        let set = |side: &str| {
            let sets = point.descend(&[side, "acl-sets"])?.list("acl-set");
            sets.first()?.text("name").map(str::to_owned)
        };
        [("ingress-acl", set("ingress")), ("egress-acl", set("egress"))]
            .into_iter()
            .filter_map(|(key, name)| Some((key, name?)))
            .collect()
    }

    /// An entry; none if it asks for what a plan cannot ask.
    fn entry(&mut self, ace: &At<'_>) -> Option<Table> {
        let action = ace.get("actions")?.identity("forwarding")?;
        let key = match action {
            "accept" => "accept",
            _ => "drop",
        };
        if action == "reject" {
            self.assumed.push(format!("{}: what is rejected is dropped in silence", ace.path));
        }
        let mut table = Table::default();
        let Some(matches) = ace.get("matches") else {
            table.text(key, "any");
            return Some(table);
        };
        let (mut service, mut source_service) = ("any".to_owned(), None);
        let mut ends: [Option<String>; 2] = [None, None];
        for (family, number) in [("ipv4", 4), ("ipv6", 6)] {
            let Some(header) = matches.get(family) else { continue };
            let sides =
                [format!("source-{family}-network"), format!("destination-{family}-network")];
            for (end, side) in ends.iter_mut().zip(&sides) {
                *end = header.text(side).map(str::to_owned);
            }
            if ends.iter().all(Option::is_none) {
                ends[0] = Some(if number == 4 { "0.0.0.0/0" } else { "::/0" }.into());
            }
            if let Some(protocol) = header.number("protocol") {
                service = protocol_text(protocol as u8);
            }
            if asks_more(&header, &["protocol", &sides[0], &sides[1]]) {
                return None;
            }
        }
        for protocol in ["tcp", "udp"] {
            let Some(header) = matches.get(protocol) else { continue };
            if asks_more(&header, &["source-port", "destination-port"]) {
                return None;
            }
            service = protocol.into();
            if let Some(ports) = header.get("destination-port") {
                service = format!("{}/{protocol}", ports_text(&ports)?);
            }
            if let Some(ports) = header.get("source-port") {
                source_service = Some(format!("{}/{protocol}", ports_text(&ports)?));
            }
        }
        let known = ["ipv4", "ipv6", "tcp", "udp", "zarnet-policy:answers"];
        if asks_more(&matches, &known) {
            return None;
        }
        table.text(key, &service);
        let [source, destination] = ends;
        for (key, end) in [("source", source), ("destination", destination)] {
            if let Some(end) = end {
                table.text(key, &end);
            }
        }
        if let Some(service) = source_service {
            table.text("source-service", &service);
        }
        if matches.flag("zarnet-policy:answers") == Some(true) {
            table.flag("answers", true);
        }
        Some(table)
    }
}

/// Whether something is asked besides.
fn asks_more(at: &At<'_>, known: &[&str]) -> bool {
    at.members().iter().any(|m| !known.contains(&m.as_str()))
}

fn ports_text(at: &At<'_>) -> Option<String> {
    if let (Some(lower), Some(upper)) = (at.number("lower-port"), at.number("upper-port")) {
        return Some(if lower == upper { lower.to_string() } else { format!("{lower}-{upper}") });
    }
    let port = at.number("port")?;
    match at.text("operator").unwrap_or("eq") {
        "eq" => Some(port.to_string()),
        "lte" => Some(format!("1-{port}")),
        "gte" => Some(format!("{port}-65535")),
        _ => None,
    }
}

/// A protocol as plans write it.
pub(super) fn protocol_text(number: u8) -> String {
    let protocol = zarnet_core::net::Protocol(number);
    match protocol.name() {
        Some(name) => name.into(),
        None => format!("any/{number}"),
    }
}
