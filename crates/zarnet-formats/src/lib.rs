//! Formats in and out: plan files, flow lists, scenarios, captures, tables, translation logs, documents
//! of the standard data models.
//!
//! Everything that is read here becomes a value of `zarnet-core`, or an error with its place.

pub mod data_model;
pub mod device_errors;
pub mod files;
pub mod ietf_nat;
pub mod log_errors;
pub mod nat_log;
mod observations;
pub mod observed;
pub mod plan;
pub mod source;
mod toml_reader;
pub mod traffic;

pub use observations::capture_of;
