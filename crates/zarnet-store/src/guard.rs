//! Files that were damaged, and a reader of them that panics where it should report.

use std::cell::Cell;
use std::panic::{AssertUnwindSafe, catch_unwind};

use parquet::errors::{ParquetError, Result};

thread_local! {
    static IS_GUARDED: Cell<bool> = const { Cell::new(false) };
}

/// Whether this thread reads a file, and a panic of it is an error like any other: nothing need be
/// said about it.
pub fn is_guarded() -> bool {
    IS_GUARDED.get()
}

/// Reads of a file, whatever is in it.
pub(crate) fn guarded<T>(read: impl FnOnce() -> Result<T>) -> Result<T> {
    let before = IS_GUARDED.replace(true);
    let outcome = catch_unwind(AssertUnwindSafe(read));
    IS_GUARDED.set(before);
    let damaged = |_| Err(ParquetError::General("it makes no sense".into()));
    outcome.unwrap_or_else(damaged)
}
