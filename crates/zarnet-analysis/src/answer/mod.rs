//! Answers as values: one shape for JSON, one list of columns for CSV, and what things are called.
//! How an answer looks as text is the program's business.

pub mod addresses;
pub mod behaviour;
pub mod capacity;
mod change;
pub mod check;
pub mod compare;
mod counters;
pub mod define;
pub mod drift;
mod ends;
pub mod exchange;
pub mod expect;
pub mod explain;
pub mod exposure;
pub mod follow;
pub mod impact;
pub mod log;
mod naming;
pub mod packets;
pub mod predict;
pub mod record;
mod row;
pub mod rules;
pub mod send;
pub mod sheet;
mod timeline;
pub mod watch;
pub mod whose;
pub mod why;

use std::io::{self, Write};

use serde::Serialize;

pub use change::{diff, diff_of_texts};
pub use counters::{AddressCount, CounterShape, DeviceCount, PoolCount, RuleCount};
pub use ends::{End, Pair, ProtocolName};
pub use naming::{Naming, Position};
pub use row::Row;
pub use timeline::Fared;

/// The version of every shape; it changes when a key goes or means something else.
pub const SHAPE: u32 = 1;

/// The answer to a question.
pub trait Answer {
    /// What JSON has of it.
    type Shape<'s>: Serialize
    where
        Self: 's;

    /// The whole answer as JSON has it.
    fn shape(&self) -> Self::Shape<'_>;

    /// The columns that CSV has.
    fn columns(&self) -> &'static [&'static str];

    /// Writes the rows of the CSV, each with a field for every column.
    ///
    /// # Errors
    /// The output cannot be written.
    fn rows(&self, out: &mut dyn Write) -> io::Result<()>;

    /// Writes the answer as CSV: the columns, then the rows.
    ///
    /// # Errors
    /// The output cannot be written.
    fn csv(&self, out: &mut dyn Write) -> io::Result<()> {
        writeln!(out, "{}", self.columns().join(","))?;
        self.rows(out)
    }
}

/// A number and what it counts.
pub fn count(number: u64, one: &str, many: &str) -> String {
    format!("{number} {}", if number == 1 { one } else { many })
}
