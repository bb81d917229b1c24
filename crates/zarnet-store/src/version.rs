//! The version of stores.

/// The version of stores that this program makes.
pub const VERSION: u64 = 1;
