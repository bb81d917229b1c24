//! The computation of Zarnet.
pub mod audit;
pub mod device;
pub mod net;
pub mod network;
pub mod plan;
pub mod predict;
mod reason;
pub mod traffic;
pub use reason::{Class, Reason};
