//! Entries of a mapping table as the ends of fixed rules.

use zarnet_core::net::{AddressRange, Prefix};

use super::Import;
use super::filters::protocol_text;
use super::reader::At;

/// An entry that is a fixed rule, or a part of one.
#[derive(Clone)]
pub(super) struct Entry {
    pub(super) index: u64,
    pub(super) protocol: Option<u8>,
    pub(super) internal: Prefix,
    pub(super) external: Prefix,
    /// Internal and external ports, where it is for some.
    pub(super) ports: Option<((u64, u64), (u64, u64))>,
    /// Who may send; everybody if `None`.
    pub(super) source: Option<Prefix>,
    /// What senders become.
    pub(super) becomes: Option<Prefix>,
}

impl Entry {
    /// Whether the next one differs only by who may send, and goes on with that in numeric order: so
    /// the senders of one rule are written.
    pub(super) fn continues(&self, other: &Self) -> bool {
        self.protocol == other.protocol
            && self.internal == other.internal
            && self.external == other.external
            && self.ports == other.ports
            && self.becomes == other.becomes
            && matches!(
                (self.source, other.source),
                (Some(own), Some(next)) if own.last() < next.first()
            )
    }

    /// Its services, of an entry without ports.
    pub(super) fn service(&self) -> Option<String> {
        self.protocol.map(protocol_text)
    }
}

impl Import<'_> {
    /// The fixed entries of an instance.
    pub(super) fn entries(&mut self, instance: &At<'_>) -> Vec<Entry> {
        let table = instance.get("mapping-table").map(|t| t.list("mapping-entry"));
        let mut list = Vec::new();
        for at in table.unwrap_or_default() {
            // what the device made itself is no configuration
            let is_static = at.get("type").is_none_or(|t| t.is_text("static"));
            let own = ["internal-src-address", "external-src-address"];
            if !is_static || own.iter().any(|leaf| at.get(leaf).is_none()) {
                continue;
            }
            list.extend(self.entry_of(&at));
        }
        list
    }

    fn entry_of(&mut self, at: &At<'_>) -> Option<Entry> {
        let prefix = |leaf: &str| at.text(leaf).and_then(|t| t.parse::<Prefix>().ok());
        let ports = |leaf: &str| {
            let ports = at.get(leaf)?;
            let first = ports.number("start-port-number")?;
            Some((first, ports.number("end-port-number").unwrap_or(first)))
        };
        let _ = at.text("type");
        let (internal, external) =
            (prefix("internal-src-address")?, prefix("external-src-address")?);
        if internal.length() != external.length() {
            self.fault(
                format!("{}/external-src-address", at.path),
                "the internal and the external prefix are of different lengths",
            );
            return None;
        }
        let both = match (ports("internal-src-port"), ports("external-src-port")) {
            (None, None) => None,
            (Some(i), Some(e)) if i.1 - i.0 == e.1 - e.0 => Some((i, e)),
            (Some(_), Some(_)) => {
                self.fault(
                    format!("{}/external-src-port", at.path),
                    "internal and external ports are not as many",
                );
                return None;
            }
            _ => {
                self.fault(
                    at.path.clone(),
                    "ports stand on one side only: `internal-src-port` and `external-src-port` \
                     belong together",
                );
                return None;
            }
        };
        let ends = both.map(|(i, e)| [i.0, e.0]);
        if ends.is_some_and(|ends| ends.contains(&0)) {
            self.fault(at.path.clone(), "port 0 is no port of a connection");
            return None;
        }
        let protocol = at.number("transport-protocol").map(|p| p as u8);
        if both.is_some() && protocol.is_none() {
            self.fault(at.path.clone(), "ports need a `transport-protocol`");
            return None;
        }
        let (inside, outside) = (prefix("internal-dst-address"), prefix("external-dst-address"));
        let becomes = inside.filter(|i| Some(*i) != outside);
        Some(Entry {
            index: at.number("index").unwrap_or_default(),
            protocol,
            internal,
            external,
            ports: both,
            source: outside,
            becomes,
        })
    }
}

/// The addresses from the first of some prefixes to the last.
pub(super) fn whole(prefixes: impl Iterator<Item = Prefix>) -> Option<AddressRange> {
    let ranges: Vec<AddressRange> = prefixes.map(Prefix::range).collect();
    AddressRange::new(ranges.first()?.first(), ranges.last()?.last()).ok()
}
