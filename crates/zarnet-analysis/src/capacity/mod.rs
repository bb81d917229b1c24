//! What runs out, when, for whom, who has it, and how much would be enough.
//!
//! [`resources`] reads a recorded prediction, [`of_table`] the table of a device; [`demand`] and a
//! [`model`] make a forecast of it; [`remedies`] proposes changes of the plan. A
//! [`CapacityQuestion`] does all of that, and tries the remedies on the same traffic.

mod analysis;
mod demand;
mod growth;
mod held;
mod hosts;
mod kind;
mod measured;
pub mod model;
mod outcome;
mod outlook;
mod port_remedies;
mod question;
mod remedy;
mod resample;
mod resource;
mod spread;
mod supply_name;
mod trials;

pub use analysis::{CapacityAnalysis, Loser, Outcome, Trial, fill};
pub use demand::{Assumption, Demand, MOST_UNITS, demand, of_hour};
pub use growth::GrowthRate;
pub use held::{Observation, listed, of_table};
pub use hosts::{BlockUse, Percentiles};
pub use kind::Kind;
pub use measured::Measured;
pub use outlook::{Forecast, Imbalance, Outlook, Simulated, Verdict};
pub use question::{CapacityQuestion, TakenTable, WatchTrials, of_observed};
pub use remedy::{Remedy, remedies};
pub use resource::{Lost, Refused, Resource, resources};
pub use spread::SampleSpread;
pub use supply_name::supply_name;
pub use zarnet_core::predict::Holder;
