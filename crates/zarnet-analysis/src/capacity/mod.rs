//! What runs out, when, for whom, who has it, and how much would be enough.
//!
//! [`resources`] reads a recorded prediction, [`of_table`] the table of a device; [`erlang`] and
//! [`demand`] make a forecast of it; [`remedies`] proposes changes of the plan. A
//! [`CapacityQuestion`] does all of that, and tries the remedies on the same traffic.

mod analysis;
mod demand;
pub mod erlang;
mod held;
mod port_remedies;
mod question;
mod remedy;
mod resource;
mod spread;
mod supply_name;
mod trials;

pub use analysis::{CapacityAnalysis, Outcome, Outlook, Simulated, Trial, fill};
pub use demand::{Assumption, Demand, Forecast, MOST_UNITS, demand, of_hour};
pub use held::{listed, of_table};
pub use question::{CapacityQuestion, WatchTrials, of_observed};
pub use remedy::{Kind, Remedy, remedies};
pub use resource::{Refused, Resource, resources};
pub use spread::SampleSpread;
pub use supply_name::supply_name;
pub use zarnet_core::predict::Holder;
