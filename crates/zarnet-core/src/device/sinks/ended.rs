//! Dynamic mappings that have ended, by the external end that they had. Kept only where it is asked
//! for.

use std::collections::HashMap;

use foldhash::fast::RandomState;

use crate::device::bindings::{Bindings, Cause, Kind, Sink, TableEvent};
use crate::net::{Endpoint, Instant, Protocol};
use crate::plan::{Renaming, RuleId};

/// The last mapping that was on an external end, and is no more.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct EndedMapping {
    /// The rule that it was made by.
    pub rule: RuleId,
    /// Internal end; port 0 for none.
    pub internal: Endpoint,
    /// External end; port 0 for none.
    pub external: Endpoint,
    /// When it ended.
    pub ended: Instant,
    /// Why it did.
    pub cause: Cause,
}

/// Ended mappings by protocol, which is none for those of whole addresses, and external end.
#[derive(Debug, Clone, Default)]
pub struct EndedMappings(HashMap<(Option<Protocol>, Endpoint), EndedMapping, RandomState>);

impl EndedMappings {
    /// The last one that let packets of a protocol in to an external end.
    pub fn at(&self, protocol: Protocol, external: Endpoint) -> Option<&EndedMapping> {
        let whole = (None, Endpoint { port: 0, ..external });
        let of_end = self.0.get(&(Some(protocol), external));
        of_end.into_iter().chain(self.0.get(&whole)).max_by_key(|m| m.ended)
    }

    pub(super) fn rename(&mut self, renaming: &Renaming) {
        self.0.values_mut().for_each(|m| m.rule = renaming.rules[m.rule.index()]);
    }
}

impl Sink for EndedMappings {
    fn note(&mut self, at: u64, event: TableEvent, bindings: &Bindings) {
        let TableEvent::MappingClosed { mapping, rule, cause, .. } = event else { return };
        let m = bindings.table.mapping(mapping);
        let (external, protocol) = match m.kind() {
            Kind::Endpoint => {
                let (external, protocol) = bindings.externals.owner(m.place());
                (external, Some(protocol))
            }
            Kind::Portless => (m.place(), Some(Protocol(m.internal_port as u8))),
            Kind::Address => (m.place(), None),
        };
        let has_port = m.kind() == Kind::Endpoint;
        let external = bindings.externals.get(external).address.with_port(m.external_port);
        let internal = m.internal.with_port(if has_port { m.internal_port } else { 0 });
        let (rule, ended) = (RuleId(rule), Instant(at));
        let mapping = EndedMapping { rule, internal, external, ended, cause };
        self.0.insert((protocol, external), mapping);
    }
}
