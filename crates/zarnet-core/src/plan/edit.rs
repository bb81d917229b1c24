//! Changes of a plan, said in terms of what it declares. Whoever has its text carries them out there.

use std::net::IpAddr;

use super::{AclId, DeviceId, HostId, InterfaceId, PoolId, RuleId, SegmentId};

/// A table of a plan.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Table {
    /// A host.
    Host(HostId),
    /// A segment.
    Segment(SegmentId),
    /// A device itself.
    Device(DeviceId),
    /// An interface.
    Interface(DeviceId, InterfaceId),
    /// A static route, by its position.
    Route(DeviceId, usize),
    /// A rule.
    Rule(DeviceId, RuleId),
    /// A pool.
    Pool(DeviceId, PoolId),
    /// The named sets of addresses.
    Groups,
    /// How a device behaves.
    Behaviour(DeviceId),
    /// How long state lasts on a device.
    Timers(DeviceId),
}

/// A list of tables of a device.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum List {
    /// Rules.
    Rules,
    /// Policy entries.
    Policies,
    /// Static routes.
    Routes,
    /// Pools.
    Pools,
}

impl List {
    /// The key that it has in a plan.
    pub fn key(self) -> &'static str {
        match self {
            Self::Rules => "rule",
            Self::Policies => "policy",
            Self::Routes => "route",
            Self::Pools => "pool",
        }
    }
}

/// A value.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub enum Value {
    /// Text.
    Text(String),
    /// True or false.
    Flag(bool),
    /// A whole number.
    Number(i64),
    /// Several.
    List(Vec<Value>),
    /// A table in one line.
    Entry(Vec<(&'static str, Value)>),
}

impl From<String> for Value {
    fn from(text: String) -> Self {
        Self::Text(text)
    }
}

impl From<&str> for Value {
    fn from(text: &str) -> Self {
        Self::Text(text.to_owned())
    }
}

/// One change.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub enum Edit {
    /// A key gets a value.
    Set(Table, String, Value),
    /// A key goes.
    Unset(Table, String),
    /// A value is added to a list; a single value becomes a list of two.
    Append(Table, String, Value),
    /// A text in a list, or a single one, becomes another.
    Replace(Table, String, String, String),
    /// A table is added to a list of a device: before the one at a position, or behind all.
    Insert(DeviceId, List, Option<usize>, Vec<(&'static str, Value)>),
    /// An entry is added to a filter: before the one at a position, or behind all.
    InsertEntry(DeviceId, AclId, Option<usize>, Value),
    /// No change of the plan: what a host has on a device is cleared when the flow begins.
    Clear(DeviceId, IpAddr),
    /// A rule is listed before another.
    MoveRule(DeviceId, RuleId, RuleId),
    /// A rule goes, with the comments right above it.
    RemoveRule(DeviceId, RuleId),
    /// A rule is written once more right behind itself, with some keys otherwise.
    CloneRule(DeviceId, RuleId, Vec<(&'static str, Value)>),
    /// A named set of addresses.
    Group(String, Value),
}
