//! Sets and ranges as plans write them, and prefixes of one address.

use std::net::IpAddr;

use zarnet_core::net::{AddressRange, AddressSet, Family, Prefix};

/// The prefixes of a set, in numeric order.
pub(super) fn set_prefixes(set: &AddressSet) -> Vec<Prefix> {
    set.ranges().flat_map(AddressRange::prefixes).collect()
}

/// A range as plans write it: an address, a prefix, or both ends.
pub(super) fn range_text(range: AddressRange) -> String {
    if range.first() == range.last() {
        return range.first().to_string();
    }
    match range.prefixes()[..] {
        [one] => one.to_string(),
        _ => format!("{}-{}", range.first(), range.last()),
    }
}

/// The ranges of a set as plans write them.
pub(super) fn set_text(set: &AddressSet) -> Vec<String> {
    set.ranges().map(range_text).collect()
}

/// A prefix of one address.
pub(super) fn host_prefix(address: IpAddr) -> String {
    format!("{address}/{}", Family::of(address).bits())
}
