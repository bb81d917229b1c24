//! Standard output with or without colour, and how wide it is.

use std::io::{self, BufWriter, Write};

use crate::args::{Color, Common};

/// Sets, once, whether standard output and error are coloured.
pub fn set_color(color: Color) {
    match color {
        Color::Auto => {}
        Color::Always => anstream::ColorChoice::Always.write_global(),
        Color::Never => anstream::ColorChoice::Never.write_global(),
    }
}

/// Writes an answer to standard output, colour as wanted.
pub fn answer(write: impl FnOnce(&mut dyn Write) -> io::Result<()>) -> io::Result<()> {
    let mut out = BufWriter::with_capacity(1 << 16, anstream::stdout().lock());
    write(&mut out)?;
    out.flush()
}

/// Writes an answer for scripts, which has no colour: straight through.
pub fn plain(write: impl FnOnce(&mut dyn Write) -> io::Result<()>) -> io::Result<()> {
    let mut out = BufWriter::with_capacity(1 << 18, io::stdout().lock());
    write(&mut out)?;
    out.flush()
}

/// Columns to fit into: as asked for, as the terminal has, or 120.
pub fn width(common: &Common) -> usize {
    let terminal = || terminal_size::terminal_size().map(|(w, _)| usize::from(w.0));
    common.width.or_else(terminal).unwrap_or(120).max(40)
}
