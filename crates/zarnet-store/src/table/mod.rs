//! Records as Parquet files, in one of two orders.

mod buckets;
mod column;
mod pages;
mod read;
mod sort;
mod summed;
mod write;

pub(crate) use read::{Sought, TableReader};
pub(crate) use sort::Held;
pub(crate) use summed::Summed;

/// How the records of a file are sorted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Order {
    /// By external address, port and beginning.
    External,
    /// By internal address and beginning.
    Internal,
}

impl Order {
    /// Both orders.
    pub const ALL: [Self; 2] = [Self::External, Self::Internal];

    /// The folder of its files.
    pub fn folder(self) -> &'static str {
        match self {
            Self::External => "by-external",
            Self::Internal => "by-internal",
        }
    }
}

/// Rows of a page: what is unpacked to find one record.
pub(crate) const PAGE: usize = 8192;
/// Rows of a row group: what is in memory while a file is written.
pub(crate) const GROUP: usize = 1 << 20;
