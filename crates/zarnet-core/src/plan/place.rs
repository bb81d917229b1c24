//! Where in its source a value stands.

/// A byte span in one of the files of a plan.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Default)]
pub struct Place {
    /// Index of the file, in the order of reading.
    pub file: u16,
    /// Offset of the first octet in the file.
    pub start: u32,
    /// First byte behind it.
    pub end: u32,
}

/// A value and its place.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Placed<T> {
    /// The value as it was read.
    pub value: T,
    /// Where the value stands in the plan's files.
    pub place: Place,
}

impl<T> Placed<T> {
    /// A value at a place.
    pub fn new(value: T, place: Place) -> Self {
        Self { value, place }
    }
}
