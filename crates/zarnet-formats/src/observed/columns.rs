//! The columns of tables: those of our own, and which of them say what is there.

use zarnet_core::plan::nearest;

use crate::traffic::Fault;

/// The columns of our own table, in the order in which it is written.
pub const MAPPING_COLUMNS: [&str; 15] = [
    "device",
    "rule",
    "type",
    "protocol",
    "internal",
    "internal-port",
    "external",
    "external-port",
    "peer",
    "peer-port",
    "fixed",
    "chosen-freely",
    "created",
    "expires",
    "sessions",
];

/// The columns of a table that say what is there.
pub const COLUMNS: [&str; 10] = [
    "device",
    "protocol",
    "internal",
    "internal-port",
    "external",
    "external-port",
    "peer",
    "peer-port",
    "created",
    "expires",
];

/// Whether a column is one of our own table that says nothing about what is there.
fn is_other(name: &str) -> bool {
    MAPPING_COLUMNS.contains(&name) && !COLUMNS.contains(&name)
}

/// Which column of a table is what, counted from 0.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct ColumnMap(pub(super) [Option<usize>; COLUMNS.len()]);

impl ColumnMap {
    /// Reads `internal=3,external=4,...`, columns counted from 1.
    ///
    /// # Errors
    /// A name that is no column, or a number that is none.
    pub fn parse(text: &str) -> Result<Self, Fault> {
        let mut map = Self::default();
        for part in text.split(',') {
            let (name, number) =
                part.split_once('=').ok_or_else(|| Fault::Malformed("NAME=NUMBER".into()))?;
            let position = position(name.trim())?;
            let number: usize = number
                .trim()
                .parse()
                .map_err(|_| Fault::Malformed(format!("a number in `{part}`")))?;
            map.0[position] = Some(
                number.checked_sub(1).ok_or_else(|| Fault::Malformed("a number from 1".into()))?,
            );
        }
        map.complete()
    }

    /// The columns of a header with our own names.
    pub(super) fn of_header(header: &csv::StringRecord) -> Result<Self, Fault> {
        let mut map = Self::default();
        for (i, name) in header.iter().enumerate() {
            if is_other(name.trim()) {
                continue;
            }
            let position = position(name.trim())?;
            if map.0[position].replace(i).is_some() {
                return Err(Fault::ColumnTwice(name.into()));
            }
        }
        map.complete()
    }

    fn complete(self) -> Result<Self, Fault> {
        for needed in ["internal", "external"] {
            if self.0[position(needed)?].is_none() {
                return Err(Fault::MissingColumn(needed));
            }
        }
        Ok(self)
    }
}

pub(super) fn position(name: &str) -> Result<usize, Fault> {
    COLUMNS.iter().position(|c| *c == name).ok_or_else(|| {
        let near = nearest(name, COLUMNS.into_iter());
        Fault::UnknownColumn {
            name: name.into(),
            near: COLUMNS.into_iter().find(|c| Some(*c) == near.as_deref()),
        }
    })
}
