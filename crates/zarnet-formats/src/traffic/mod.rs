//! Traffic files: flow lists, scenarios and captures, told apart by what is in them.
//!
//! - `input` and `kind`: what was named, and its format; `lines`, `wire`: what formats are made of.
//! - `csv_list`, `json_list`, `capture`, `scenario`: a format each, as a `Source` of items.
//! - `opened`: all that was named; `merge`: in the order of the clock; `kept`: what had to be read
//!   before that was known.

mod capture;
mod clock;
mod csv_fast;
mod csv_list;
mod decode;
mod error;
mod error_kinds;
mod fields;
mod input;
mod json_fast;
mod json_list;
mod kept;
mod kind;
mod lines;
mod merge;
mod names;
mod opened;
mod pcap_fast;
mod scenario;
pub mod single;
mod skipped;
mod source;
mod stretch;
mod typed_flow;
mod v6_fast;
mod wire;

use zarnet_core::plan::{DeviceId, InterfaceId};

pub use clock::{date_of, days_of};
pub use error::{Fault, TrafficError};
pub use error_kinds::TRAFFIC_ERRORS;
pub use input::Given;
pub(crate) use input::{Input, read_all, read_up_to};
pub use merge::Items;
pub use names::Names;
pub use opened::{Attempt, Begun, Growth, Reading, Traffic};
pub use skipped::Skipped;

/// Where a capture was made: a device and one of its interfaces.
pub(crate) type ObservedAt = (DeviceId, InterfaceId);
