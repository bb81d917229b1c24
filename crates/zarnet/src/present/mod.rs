//! How answers look: text for people, JSON and CSV for scripts.

pub mod addresses;
pub mod behaviour;
pub mod capacity;
pub mod change;
pub mod check;
pub mod compare;
pub mod define;
pub mod diagnostic;
pub mod escape;
pub mod exchange;
pub mod expect;
pub mod explain;
pub mod exposure;
pub mod follow;
pub mod impact;
pub mod junit;
pub mod live;
pub mod log;
pub mod output;
pub mod predict;
pub mod rules;
pub mod sheet;
pub mod table;
pub mod why;

use std::io::{self, Write};

use zarnet_analysis::answer::Answer;

use crate::args::{Common, Format};

/// How much of an answer is shown as text.
#[derive(Clone, Copy)]
pub struct View {
    /// Columns of the terminal to fit into.
    pub width: usize,
    /// Rows of a table at most; 0 for all.
    pub rows: usize,
    /// Whether everything is shown that is known.
    pub verbose: bool,
}

/// Writes an answer to standard output in the form that is asked for. `text` writes it for people,
/// into so many columns.
///
/// # Errors
/// It cannot be written; that nobody reads it any more is none.
pub fn present<A: Answer>(
    answer: &A,
    common: &Common,
    text: impl FnOnce(&mut dyn Write, usize) -> io::Result<()>,
) -> io::Result<()> {
    match common.format {
        Format::Json => output::json(|out| {
            serde_json::to_writer_pretty(&mut *out, &answer.shape()).map_err(io::Error::from)?;
            out.write_all(b"\n")
        }),
        Format::Ipfix | Format::Syslog => {
            Err(io::Error::new(io::ErrorKind::InvalidInput, "this is no translation log"))
        }
        Format::Csv => output::csv(|out| answer.csv(out)),
        Format::Text => output::answer(|out| text(out, output::width(common))),
    }
}
