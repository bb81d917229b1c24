//! What the tests of all crates are built with.
//!
//! - [`edge`]: a device between two interfaces, driven packet by packet in a notation of one line.
//! - [`played`]: a small estate, and flows that are played on it.
//! - [`mod@reference`]: a second reading of the contract, plain and slow, that the engine is held
//!   against.
//! - [`town`]: a plan with several devices, hosts and a provider.

pub mod edge;
pub mod played;
pub mod reference;
pub mod town;
