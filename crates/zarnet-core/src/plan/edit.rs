//! Changes of a plan, said in terms of what it declares. Whoever has its text carries them out
//! there.

use std::net::IpAddr;

use super::{AclId, DeviceId, HostId, InterfaceId, PoolId, RuleId, SegmentId};

/// A table of a plan.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Table {
    /// A `[[host]]` of the plan.
    Host(HostId),
    /// A `[[segment]]` of the plan.
    Segment(SegmentId),
    /// A `[[device]]`: the keys of its own table.
    Device(DeviceId),
    /// A `[[device.interface]]` of a device.
    Interface(DeviceId, InterfaceId),
    /// A static route, by its position.
    Route(DeviceId, usize),
    /// A policy entry, by its position.
    Policy(DeviceId, usize),
    /// A routed block of a segment, by its position.
    Routed(SegmentId, usize),
    /// A `[[device.rule]]` of a device.
    Rule(DeviceId, RuleId),
    /// A `[[device.pool]]` of a device.
    Pool(DeviceId, PoolId),
    /// The named sets of addresses.
    Groups,
    /// The named sets of services.
    Services,
    /// How a device behaves.
    Behaviour(DeviceId),
    /// How long state lasts on a device.
    Timers(DeviceId),
}

/// A list of tables of a device.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum List {
    /// The `[[device.rule]]` entries of a device.
    Rules,
    /// The `[[device.policy]]` entries of a device.
    Policies,
    /// The `[[device.route]]` entries of a device.
    Routes,
    /// The `[[device.pool]]` entries of a device.
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

/// The value that an edit writes behind a key.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub enum Value {
    /// A string of text.
    Text(String),
    /// A flag: `true` or `false`.
    Flag(bool),
    /// A whole number, positive or negative.
    Number(i64),
    /// An array of values.
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

/// One change of a plan's text.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub enum Edit {
    /// A key gets a value.
    Set(Table, String, Value),
    /// Removes a key, so that its default counts.
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
    /// No change of the plan: a rule is enabled on a device again when the flow begins.
    Enable(DeviceId, RuleId),
    /// A rule is listed before another.
    MoveRule(DeviceId, RuleId, RuleId),
    /// A rule goes, with the comments right above it.
    RemoveRule(DeviceId, RuleId),
    /// A rule is written once more right behind itself, with some keys otherwise, and some left
    /// out.
    CloneRule(DeviceId, RuleId, Vec<(&'static str, Value)>, Vec<&'static str>),
    /// A named set, of [`Table::Groups`] or [`Table::Services`].
    Group(Table, String, Value),
    /// A text goes from a list.
    Drop(Table, String, String),
}

impl Edit {
    /// Whether it is done on the device, and not to the plan.
    pub fn is_on_device(&self) -> bool {
        matches!(self, Self::Clear(..) | Self::Enable(..))
    }
}
