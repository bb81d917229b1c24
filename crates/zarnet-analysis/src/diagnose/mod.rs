//! Why a flow does not work: what is suspected, in the order in which an experienced engineer would
//! look, and which repair was tried and found to make it work.
//!
//! Nothing here knows what a rule means: suspicions come from the trace of the engine and from its
//! own conditions, and each is tried by changing the plan and following the flow again.

mod cause;
mod names;
mod near;
mod question;
mod search;
mod steps;
mod suspect;
mod suspects;
mod weight;

pub use cause::Cause;
pub use near::{NearMiss, disabled_matches, disabled_owners, near_misses};
pub use question::{FlowQuestion, SideEffect, TriedRepair, of_flow};
pub use search::{Diagnosis, Repair, RepairTrial, diagnose, satisfied};
pub use steps::{SearchStep, StepOutcome, steps};
pub use suspect::Suspect;
pub use weight::{Weight, held};
