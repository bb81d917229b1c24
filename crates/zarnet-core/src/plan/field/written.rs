//! Tables as they are written, to compare what two plans say.

use super::Field;
use crate::plan::Placed;

/// A table of a plan as written.
pub trait WrittenTable {
    /// Every key with what counts for it: what is written, or the default, or nothing.
    fn written(&self) -> Vec<(&'static Field, String)>;

    /// Whether another says the same key by key, wherever it stands.
    fn says_as(&self, other: &Self) -> bool;
}

/// What a member of a draft says; `None` where it is left out.
pub(super) trait Written {
    fn text(&self) -> Option<String>;

    /// Whether another says the same, wherever it stands.
    fn is_as(&self, other: &Self) -> bool;
}

impl<T: ToString + PartialEq> Written for Placed<T> {
    fn text(&self) -> Option<String> {
        Some(self.value.to_string())
    }

    fn is_as(&self, other: &Self) -> bool {
        self.value == other.value
    }
}

impl<T: Written> Written for Vec<T> {
    fn text(&self) -> Option<String> {
        let texts: Vec<String> = self.iter().filter_map(Written::text).collect();
        (!texts.is_empty()).then(|| texts.join(", "))
    }

    fn is_as(&self, other: &Self) -> bool {
        self.len() == other.len() && self.iter().zip(other).all(|(a, b)| a.is_as(b))
    }
}

impl<T: Written> Written for Option<T> {
    fn text(&self) -> Option<String> {
        self.as_ref()?.text()
    }

    fn is_as(&self, other: &Self) -> bool {
        match (self, other) {
            (Some(a), Some(b)) => a.is_as(b),
            (a, b) => a.is_none() && b.is_none(),
        }
    }
}
