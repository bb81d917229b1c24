//! What can be wrong with data of a module.

use std::fmt;

/// One fault of a document.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DataFault {
    /// Where it is: `/ietf-nat:nat/instances/instance=1/policy=2/timers`.
    pub path: String,
    /// What it is.
    pub kind: DataFaultKind,
}

/// What is wrong.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum DataFaultKind {
    /// It is not JSON at all, or not what RFC 7951 makes of data.
    #[error("{0}")]
    Malformed(String),
    /// A member that the module does not have there.
    #[error("`{name}` is not known here{}", nearest(.near))]
    Unknown {
        /// As it is written.
        name: String,
        /// What may have been meant.
        near: Option<String>,
    },
    /// A value that its type does not allow.
    #[error("{got} is not {wanted}")]
    Type {
        /// What the type is.
        wanted: String,
        /// What stands there.
        got: String,
    },
    /// Something that must be there is not.
    #[error("`{0}` is missing")]
    Missing(String),
    /// An entry of a list with the key of another.
    #[error("another entry has the same key")]
    SameKey,
    /// A condition of the module does not hold.
    #[error("it does not hold that {0}")]
    Condition(String),
    /// It may only be there under a condition.
    #[error("it may only be there if {0}")]
    NotHere(String),
    /// A reference to what is not there.
    #[error("{got} is not one of {path}")]
    Dangling {
        /// What stands there.
        got: String,
        /// What it should be one of.
        path: String,
    },
    /// Two members that exclude each other.
    #[error("`{0}` and `{1}` exclude each other")]
    Both(String, String),
    /// State stands where configuration is wanted.
    #[error("it is state, not configuration")]
    State,
}

fn nearest(near: &Option<String>) -> String {
    near.as_ref().map(|n| format!("; did you mean `{n}`?")).unwrap_or_default()
}

impl fmt::Display for DataFault {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}: {}", if self.path.is_empty() { "/" } else { &self.path }, self.kind)
    }
}
