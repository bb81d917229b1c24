//! The files that something was read from, and lines and columns in them.

use std::ops::Range;
use std::path::{Path, PathBuf};
use std::sync::OnceLock;

use zarnet_core::plan::Place;

/// A text file that was read.
#[derive(Debug, Clone)]
pub struct SourceFile {
    /// Its path as the user would write it.
    pub path: PathBuf,
    /// Its path without links, where it was read from a file.
    canonical: Option<PathBuf>,
    text: String,
    /// Where its lines begin, once somebody has asked.
    lines: OnceLock<Vec<usize>>,
}

impl SourceFile {
    /// A file with this text.
    pub fn new(path: PathBuf, text: String) -> Self {
        Self { canonical: path.canonicalize().ok(), path, text, lines: OnceLock::new() }
    }

    /// Whether this is the file at a path, by whichever way the path gets there.
    pub(crate) fn is_at(&self, path: &Path, canonical: Option<&Path>) -> bool {
        self.path == path || canonical.is_some() && canonical == self.canonical.as_deref()
    }

    /// The text of the file, as it was read.
    pub fn text(&self) -> &str {
        &self.text
    }

    /// Its text, to be changed.
    pub(crate) fn text_mut(&mut self) -> &mut String {
        self.lines.take();
        &mut self.text
    }

    fn lines(&self) -> &[usize] {
        let ends = || memchr::memchr_iter(b'\n', self.text.as_bytes());
        self.lines.get_or_init(|| std::iter::once(0).chain(ends().map(|n| n + 1)).collect())
    }

    /// The line, from 1, that holds an octet of the text.
    fn line(&self, at: usize) -> usize {
        self.lines().partition_point(|start| *start <= at)
    }

    /// The whole lines that hold a stretch of the text: the number of the first, and where they
    /// begin and end.
    pub fn lines_around(&self, stretch: Range<usize>) -> (usize, Range<usize>) {
        let (first, last) = (self.line(stretch.start), self.line(stretch.end));
        let start = self.lines()[first - 1];
        let end = self.lines().get(last).map_or(self.text.len(), |next| next - 1);
        let lines = &self.text[start..end];
        let length = lines.strip_suffix('\r').unwrap_or(lines).len().max(stretch.end - start);
        (first, start..start + length)
    }
}

/// All files of a plan, in the order of reading.
#[derive(Debug, Clone, Default)]
pub struct Sources(pub Vec<SourceFile>);

/// A line and a column, both from 1; columns count characters.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct LineColumn {
    /// The line, from 1.
    pub line: usize,
    /// The column in characters, from 1.
    pub column: usize,
}

impl Sources {
    /// The file of a place.
    pub fn file(&self, place: Place) -> Option<&SourceFile> {
        self.0.get(usize::from(place.file))
    }

    /// Line and column of a place.
    pub fn line_column(&self, place: Place) -> Option<LineColumn> {
        let file = self.file(place)?;
        let at = (place.start as usize).min(file.text.len());
        let line = file.line(at);
        let before = file.text.get(file.lines()[line - 1]..at)?;
        Some(LineColumn { line, column: before.chars().count() + 1 })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_and_columns_are_found_in_any_text() {
        let text = "eins\nzw\u{f6}lf = 12\r\n\nend";
        let sources = Sources(vec![SourceFile::new("a.toml".into(), text.into())]);
        for (at, c) in text.char_indices().chain([(text.len(), ' ')]) {
            let before = &text[..at];
            let line = before.matches('\n').count() + 1;
            let column = before.rsplit('\n').next().unwrap().chars().count() + 1;
            let place = Place { file: 0, start: at as u32, end: at as u32 + c.len_utf8() as u32 };
            assert_eq!(sources.line_column(place), Some(LineColumn { line, column }), "at {at}");
        }
        let mut changed = sources.clone();
        changed.0[0].text_mut().insert(0, '\n');
        let first = Place { file: 0, start: 1, end: 2 };
        assert_eq!(changed.line_column(first), Some(LineColumn { line: 2, column: 1 }));
        let beyond = Place { file: 0, start: 1000, end: 1001 };
        assert_eq!(sources.line_column(beyond), Some(LineColumn { line: 4, column: 4 }));
    }

    #[test]
    fn whole_lines_are_cut_out_without_their_ends() {
        let file = SourceFile::new("a.toml".into(), "one\ntwo\r\nthree\n".into());
        let around = |from, to| {
            let (line, lines) = file.lines_around(from..to);
            (line, &file.text[lines])
        };
        assert_eq!(around(0, 3), (1, "one"));
        assert_eq!(around(5, 6), (2, "two"));
        assert_eq!(around(1, 10), (1, "one\ntwo\r\nthree"));
        assert_eq!(around(9, 15), (3, "three\n"));
        assert_eq!(around(15, 15), (4, ""));
    }
}
