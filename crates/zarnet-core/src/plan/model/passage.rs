//! What may pass a device: filters, policies, and the sets of realms that they are between.

use std::fmt;

use crate::ids::InterfaceId;
use crate::net::{AddressSet, ServiceSet};
use crate::plan::{Place, Placed};

/// What a filter or policy entry decides.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Verdict {
    /// The packet is let through.
    Accept,
    /// The packet is dropped.
    Drop,
}

impl fmt::Display for Verdict {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(if *self == Self::Accept { "accept" } else { "drop" })
    }
}

/// A filter: first entry that matches, implicit drop at its end.
#[derive(Debug, Clone)]
pub struct Acl {
    /// Name of the filter, unique on its device.
    pub name: String,
    /// The entries; the first that matches decides.
    pub entries: Vec<AclEntry>,
    /// Where it stands in the plan's files.
    pub place: Place,
}

/// An entry of a filter.
#[derive(Debug, Clone)]
pub struct AclEntry {
    /// What happens to a packet that matches.
    pub verdict: Verdict,
    /// Services by destination port.
    pub service: ServiceSet,
    /// Services by source port.
    pub source_service: ServiceSet,
    /// Who and to whom.
    pub parties: Parties,
    /// Only packets of a known session, against its initiator's direction.
    pub answers: bool,
    /// Where it stands in the plan's files.
    pub place: Place,
}

/// The senders and receivers that an entry matches.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Parties {
    /// Senders that are matched.
    pub source: AddressSet,
    /// Receivers that are matched.
    pub destination: AddressSet,
}

/// A policy entry between realms.
#[derive(Debug, Clone)]
pub struct Policy {
    /// Where packets come from; anywhere if `None`.
    pub from: Option<RealmSet>,
    /// Where they go; anywhere if `None`.
    pub into: Option<RealmSet>,
    /// What happens to a packet that matches.
    pub verdict: Verdict,
    /// Services that the entry matches.
    pub service: ServiceSet,
    /// Who and to whom.
    pub parties: Parties,
    /// Where it stands in the plan's files.
    pub place: Place,
}

/// Realms or interfaces by name, and the interfaces that this comes to.
#[derive(Debug, Clone, Default)]
pub struct RealmSet {
    /// The names as written; for a default without a place of their own, the rule's.
    pub names: Vec<Placed<String>>,
    /// The interfaces in them.
    pub interfaces: InterfaceSet,
}

/// A set of interfaces of one device.
#[derive(Debug, Clone, Default, PartialEq, Eq, Hash)]
pub struct InterfaceSet(Vec<u64>);

impl InterfaceSet {
    /// Adds an interface to the set.
    pub fn insert(&mut self, id: InterfaceId) {
        let word = id.index() / 64;
        if self.0.len() <= word {
            self.0.resize(word + 1, 0);
        }
        self.0[word] |= 1 << (id.index() % 64);
    }

    /// Adds the interfaces of another set.
    pub fn extend(&mut self, other: &Self) {
        self.0.resize(self.0.len().max(other.0.len()), 0);
        self.0.iter_mut().zip(&other.0).for_each(|(word, more)| *word |= more);
    }

    /// Whether it holds an interface.
    pub fn contains(&self, id: InterfaceId) -> bool {
        self.0.get(id.index() / 64).is_some_and(|w| w >> (id.index() % 64) & 1 == 1)
    }

    /// Whether the two share an interface.
    pub fn intersects(&self, other: &Self) -> bool {
        self.0.iter().zip(&other.0).any(|(a, b)| a & b != 0)
    }

    /// Whether it holds none.
    pub fn is_empty(&self) -> bool {
        self.0.iter().all(|w| *w == 0)
    }
}
