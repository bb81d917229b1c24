//! Standard output with or without colour, and how wide it is.

use std::io::{self, BufWriter, ErrorKind, Write};

use super::escape::{Escaping, Form};
use crate::args::{Color, Common};

/// Columns where there is no terminal.
const ROOM: usize = 1_000;

/// Sets, once, whether standard output and error are coloured.
pub fn set_color(color: Color) {
    match color {
        Color::Auto => {}
        Color::Always => anstream::ColorChoice::Always.write_global(),
        Color::Never => anstream::ColorChoice::Never.write_global(),
    }
}

/// Writes an answer to standard output, colour as wanted.
///
/// # Errors
/// It cannot be written; that nobody reads it any more is none.
pub fn answer(write: impl FnOnce(&mut dyn Write) -> io::Result<()>) -> io::Result<()> {
    through(BufWriter::with_capacity(1 << 16, anstream::stdout().lock()), Form::Text, write)
}

/// Writes an answer in CSV, which has no colour: straight through.
///
/// # Errors
/// As for [`answer`].
pub fn csv(write: impl FnOnce(&mut dyn Write) -> io::Result<()>) -> io::Result<()> {
    through(BufWriter::with_capacity(1 << 18, io::stdout().lock()), Form::Plain, write)
}

/// Writes an answer in JSON.
///
/// # Errors
/// As for [`answer`].
pub fn json(write: impl FnOnce(&mut dyn Write) -> io::Result<()>) -> io::Result<()> {
    through(BufWriter::with_capacity(1 << 18, io::stdout().lock()), Form::Json, write)
}

/// Writes a text of our own as it is.
///
/// # Errors
/// As for [`answer`].
pub fn verbatim(text: &[u8]) -> io::Result<()> {
    let mut out = io::stdout().lock();
    unless_closed(out.write_all(text).and_then(|()| out.flush()))
}

/// Copies octets to standard output as they are.
///
/// # Errors
/// As for [`answer`].
pub fn copy(from: &mut impl io::Read) -> io::Result<()> {
    let mut out = io::stdout().lock();
    unless_closed(io::copy(from, &mut out).and_then(|_| out.flush()))
}

fn through(
    out: impl Write,
    form: Form,
    write: impl FnOnce(&mut dyn Write) -> io::Result<()>,
) -> io::Result<()> {
    // many rows at once: what needs no escape is then seen soonest
    let mut out = BufWriter::with_capacity(1 << 16, Escaping::new(out, form));
    unless_closed(write(&mut out).and_then(|()| out.flush()))
}

/// A reader that went away is no failure: what was to be done is done, and the exit code says how
/// it came out.
fn unless_closed(written: io::Result<()>) -> io::Result<()> {
    match written {
        Err(error) if error.kind() == ErrorKind::BrokenPipe => Ok(()),
        written => written,
    }
}

/// Columns to fit into: as asked for, as the terminal has, or as many as it takes, because a file
/// or a pipe has room for every column.
pub fn width(common: &Common) -> usize {
    let terminal = || terminal_size::terminal_size().map(|(w, _)| usize::from(w.0));
    common.width.or_else(terminal).unwrap_or(ROOM).max(40)
}
