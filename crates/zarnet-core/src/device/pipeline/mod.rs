//! What a device does with a packet (docs/semantics.md, §D), a file a step: filters (2 and 9),
//! known session (3), destination (4), the device's own addresses (5), route (6), policy (7),
//! source (8), and what a forwarded first packet leaves behind (10). What was due before (1) ends
//! first.
//!
//! Steps that decide read a [`Context`](super::bindings::Context), and change nothing. What a
//! packet changes goes through an [`Engine`](super::bindings::Engine).

mod begin;
mod conditions;
mod decide;
mod decided;
mod destination;
mod filter;
mod hop;
mod icmp_error;
mod known_session;
mod limits;
mod observed_packet;
mod own;
mod policy;
mod receive;
mod report;
mod route;
mod source;
mod usual_hop;

pub use conditions::Condition;
pub use decide::{Judged, Verdicts};
pub(crate) use decided::Prepared;
pub(crate) use hop::DecidedHop;
pub use icmp_error::ForwardedError;
pub use own::OwnSource;
pub(super) use source::Source;
pub(crate) use usual_hop::{Probe, UsualFlow};
