//! The files that something was read from, and lines and columns in them.

use std::path::PathBuf;

use zarnet_core::plan::Place;

/// A text file that was read.
#[derive(Debug, Clone)]
pub struct SourceFile {
    /// Its path as the user would write it.
    pub path: PathBuf,
    /// Its text.
    pub text: String,
}

/// All files of a plan, in the order of reading.
#[derive(Debug, Clone, Default)]
pub struct Sources(pub Vec<SourceFile>);

/// A line and a column, both from 1; columns count characters.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct LineColumn {
    /// The line.
    pub line: usize,
    /// The column.
    pub column: usize,
}

impl Sources {
    /// The file of a place.
    pub fn file(&self, place: Place) -> Option<&SourceFile> {
        self.0.get(usize::from(place.file))
    }

    /// Line and column of a place.
    pub fn line_column(&self, place: Place) -> Option<LineColumn> {
        let text = &self.file(place)?.text;
        let before = text.get(..(place.start as usize).min(text.len()))?;
        let line_start = before.rfind('\n').map_or(0, |n| n + 1);
        let line = before.bytes().filter(|b| *b == b'\n').count() + 1;
        Some(LineColumn { line, column: before[line_start..].chars().count() + 1 })
    }
}
