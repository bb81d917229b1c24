//! Answers as JSON.

use std::io::{self, Write};

use serde::Serialize;

/// Writes a value, indented, with a line end.
pub fn write(out: &mut dyn Write, value: &impl Serialize) -> io::Result<()> {
    serde_json::to_writer_pretty(&mut *out, value).map_err(io::Error::from)?;
    out.write_all(b"\n")
}
