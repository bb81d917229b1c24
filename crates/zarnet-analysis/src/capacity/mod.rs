//! What runs out, when, for whom, who has it, and how much would be enough.
//!
//! [`resources`] reads a recorded prediction, [`of_table`] the table of a device; [`erlang`] and
//! [`demand`] make a forecast of it; [`remedies`] proposes changes of the plan, which whoever has
//! its text tries on the same traffic.

mod demand;
pub mod erlang;
mod held;
mod port_remedies;
mod remedy;
mod resource;
mod spread;

pub use demand::{Assumption, Demand, Forecast, MOST_UNITS, demand, of_hour};
pub use held::{listed, of_table};
pub use remedy::{Kind, Remedy, remedies};
pub use resource::{Refused, Resource, resources};
pub use spread::SampleSpread;
pub use zarnet_core::predict::Holder;
