//! A simulated edge device that speaks RESTCONF: configuration that takes effect, a table that
//! traffic makes, events.
//!
//! - `estate`: the network and its clock, on a thread of its own; everybody else asks it.
//! - `datastore`: running and saved configuration, edits, versions. `rows`, `statistics`: state.
//! - `log`: the translation log on its way to a collector. `http`: requests. `tls`: a certificate a run. `misbehave`: faults on purpose.

mod clock;
mod datastore;
mod estate;
mod http;
mod indices;
mod log;
mod misbehave;
mod rows;
mod server;
mod statistics;
mod tls;

pub use clock::Pace;
pub use datastore::Saving;
pub use estate::{Playing, Setup};
pub use http::answer_octets;
pub use log::LogSetup;
pub use misbehave::{Fault, Misbehave};
pub use server::{Listening, StandIn};
