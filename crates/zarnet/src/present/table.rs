//! Aligned tables on a terminal: no boxes, one line a row, columns dropped or shortened where there
//! is no room.

use std::io::{self, Write};

use anstyle::{AnsiColor, Effects, Style};
pub use zarnet_analysis::answer::count;

/// A heading, or a title.
pub const BOLD: Style = Style::new().effects(Effects::BOLD);
/// Style of text that explains.
pub const DIM: Style = Style::new().effects(Effects::DIMMED);
/// Something that is as it should be.
pub const GOOD: Style = AnsiColor::Green.on_default();
/// Something to look at.
pub const CAUTION: Style = AnsiColor::Yellow.on_default();
/// Something that is not as it should be.
pub const BAD: Style = AnsiColor::Red.on_default();

/// A column of a table.
#[derive(Clone, Copy)]
pub struct Column {
    /// Heading of the column.
    pub heading: &'static str,
    /// Whether it is aligned to the right, as numbers are.
    pub right: bool,
    /// In which order columns go where there is no room: the highest first; 0 stays.
    pub expendable: u8,
}

impl Column {
    /// A column of text.
    pub const fn text(heading: &'static str) -> Self {
        Self { heading, right: false, expendable: 0 }
    }

    /// A column of numbers.
    pub const fn number(heading: &'static str) -> Self {
        Self { heading, right: true, expendable: 0 }
    }

    /// Goes when there is no room.
    pub const fn expendable(self, order: u8) -> Self {
        Self { expendable: order, ..self }
    }
}

/// A cell of a table.
#[derive(Clone, Default)]
pub struct Cell {
    text: String,
    style: Style,
}

impl Cell {
    /// A cell with a style.
    pub fn styled(text: impl Into<String>, style: Style) -> Self {
        Self { text: clean(text.into()), style }
    }
}

impl<T: Into<String>> From<T> for Cell {
    fn from(text: T) -> Self {
        Self::styled(text, Style::new())
    }
}

/// Names come from files: no control character of theirs reaches the terminal.
fn clean(text: String) -> String {
    if text.chars().any(char::is_control) {
        text.chars().map(|c| if c.is_control() { '\u{fffd}' } else { c }).collect()
    } else {
        text
    }
}

/// Writes a table, `width` columns wide at most, and gives the headings of the columns that had to
/// go.
pub fn write(
    out: &mut dyn Write,
    columns: &[Column],
    rows: &[Vec<Cell>],
    width: usize,
) -> io::Result<Vec<&'static str>> {
    let length = |text: &str| text.chars().count();
    let mut widths: Vec<usize> = columns.iter().map(|c| length(c.heading)).collect();
    for row in rows {
        for (w, cell) in widths.iter_mut().zip(row) {
            *w = (*w).max(length(&cell.text));
        }
    }
    // a column in which no row says anything does not cost room
    let mut shown: Vec<usize> = (0..columns.len())
        .filter(|i| columns[*i].expendable == 0 || rows.iter().any(|r| !r[*i].text.is_empty()))
        .collect();
    let mut gone = Vec::new();
    let total =
        |shown: &[usize]| shown.iter().map(|i| widths[*i] + 2).sum::<usize>().saturating_sub(2);
    while total(&shown) > width {
        let Some(&worst) = shown
            .iter()
            .filter(|i| columns[**i].expendable > 0)
            .max_by_key(|i| columns[**i].expendable)
        else {
            break;
        };
        gone.push(columns[worst].heading);
        shown.retain(|i| *i != worst);
    }
    let pad = |text: &str, i: usize, last: bool| {
        let space = " ".repeat(widths[i].saturating_sub(length(text)));
        match (columns[i].right, last) {
            (true, _) => (space, String::new()),
            (false, true) => (String::new(), String::new()),
            (false, false) => (String::new(), space),
        }
    };
    for (n, &i) in shown.iter().enumerate() {
        let (before, after) = pad(columns[i].heading, i, n + 1 == shown.len());
        let gap = if n == 0 { "" } else { "  " };
        write!(out, "{gap}{before}{BOLD}{}{BOLD:#}{after}", columns[i].heading)?;
    }
    writeln!(out)?;
    for row in rows {
        // a row ends with the last cell that says something
        let end = shown.iter().rposition(|i| !row[*i].text.is_empty()).map_or(0, |n| n + 1);
        for (n, &i) in shown[..end].iter().enumerate() {
            let (cell, gap) = (&row[i], if n == 0 { "" } else { "  " });
            let (before, after) = pad(&cell.text, i, n + 1 == end);
            let style = cell.style;
            write!(out, "{gap}{before}{style}{}{style:#}{after}", cell.text)?;
        }
        writeln!(out)?;
    }
    Ok(gone)
}

/// A length of time, in the largest unit that keeps it short: `6.4 s`, `12 min`, `2 h 4 min`.
pub fn span(span: std::time::Duration) -> String {
    let seconds = span.as_secs();
    match seconds {
        0..10 => format!("{:.1} s", span.as_secs_f64()),
        10..120 => format!("{seconds} s"),
        120..7200 => match seconds % 60 {
            0 => format!("{} min", seconds / 60),
            s => format!("{} min {s} s", seconds / 60),
        },
        _ => match seconds / 60 % 60 {
            0 => format!("{} h", seconds / 3600),
            m => format!("{} h {m} min", seconds / 3600),
        },
    }
}
