//! Devices over the network: RESTCONF (RFC 8040) on both sides.
//!
//! - `client`: a device that is asked and edited. `stand_in`: a simulated one that speaks the same
//!   protocol, for rehearsal and tests.
//! - `send_log`, `receive_log`: a translation log on its way to a collector, and as it comes in.
//! - `fingerprint`, `protocol`: what both sides must agree on.

pub mod client;
pub mod fingerprint;
pub mod protocol;
pub mod receive_log;
pub mod send_log;
pub mod stand_in;
