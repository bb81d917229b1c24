//! The questions of Zarnet, and their answers: values that can be shown as text, JSON or CSV, and
//! know nothing of any of these.
//!
//! - [`space`]: sets of packets as a whole, exact.
//! - [`impact`]: what a change of a plan changes, for all packets.
//! - [`audit`]: findings on a plan that can be built.
//! - [`exposure`]: what can be reached from a realm, by what, and who answers.
//! - [`compare`]: the table that a device really has against the predicted one.
//! - [`capacity`]: what runs out, who has it, how much would be enough.
//! - [`diagnose`]: why a flow does not work, and which repair was tried and helps.
//! - [`define`]: changes of a plan as edits of its text.
//! - [`drift`]: descriptions of a device side by side: planned, running, saved.
//! - [`play`]: traffic, opened as it is asked for and played as often as it takes.
//! - [`watch`]: a table as it changes.
//! - [`answer`]: all of these as values for JSON and CSV, with the names of their plan.

pub mod answer;
pub mod audit;
pub mod capacity;
pub mod compare;
pub mod define;
pub mod diagnose;
pub mod drift;
mod error;
pub mod exposure;
pub mod impact;
mod line_repair;
pub mod play;
mod schema;
mod senders;
pub mod space;
pub mod watch;

pub use error::{AnalysisError, AskError};
pub use schema::plan_schema;
