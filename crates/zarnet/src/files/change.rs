//! What is to be written, and what may be there before.

use std::io;
use std::path::Path;

/// What may be at a place before it is written.
#[derive(Debug, Clone, Copy)]
pub enum Before<'a> {
    /// Nothing, or the same contents.
    Nothing,
    /// Exactly these contents: those that the new ones were made from.
    Exactly(&'a [u8]),
    /// What an earlier run wrote there, by its contents.
    Own(fn(&[u8]) -> bool),
}

/// A file to be written.
#[derive(Debug, Clone, Copy)]
pub struct Change<'a> {
    /// Path of the file to write.
    pub path: &'a Path,
    /// The whole contents of the file.
    pub contents: &'a [u8],
    /// What may be there before.
    pub before: Before<'a>,
}

/// Whether an error of the system says that the user may not, or that there is no such place: wrong
/// input, not a failure.
pub(super) fn is_refusal(error: &io::Error) -> bool {
    use io::ErrorKind::{
        IsADirectory, NotADirectory, NotFound, PermissionDenied, ReadOnlyFilesystem, TimedOut,
    };
    matches!(
        error.kind(),
        IsADirectory | NotADirectory | NotFound | PermissionDenied | ReadOnlyFilesystem | TimedOut
    )
}
