//! Traffic files: flow lists, scenarios and captures, told apart by what is in them.

mod capture;
mod clock;
mod csv_fast;
mod csv_list;
mod decode;
mod error;
mod fields;

mod input;
mod json_list;
mod merge;
mod names;
mod pcap_fast;
mod scenario;
pub mod single;
mod wire;

pub use capture::Skipped;
pub use error::{Fault, TrafficError};
pub use input::Given;
pub(crate) use input::read_all;
pub use merge::{Attempt, Growth, Items, Reading, Traffic};
pub use names::Names;
