//! Why a question cannot be answered as it is asked.

/// A question that cannot be answered as it is asked: what is wrong with it, and a way out.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AskError {
    /// Stable name of the error.
    pub name: &'static str,
    /// What is wrong, in a sentence.
    pub message: String,
    /// What to do about it.
    pub help: Option<String>,
}

impl AskError {
    /// An error with its name, its sentence and a way out.
    pub fn new(
        name: &'static str,
        message: impl Into<String>,
        help: impl Into<Option<String>>,
    ) -> Self {
        Self { name, message: message.into(), help: help.into() }
    }
}
