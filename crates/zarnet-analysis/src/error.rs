//! Why a question has no answer.

use zarnet_formats::traffic::TrafficError;

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

/// Why an analysis that reads traffic came to no answer.
#[derive(Debug)]
pub enum AnalysisError {
    /// The question cannot be answered as it is asked.
    Ask(AskError),
    /// The traffic is wrong: what is wrong, up to a limit, and how much there is of it.
    Traffic(Vec<TrafficError>, usize),
    /// Something that must not happen.
    Internal(&'static str),
}

impl From<AskError> for AnalysisError {
    fn from(error: AskError) -> Self {
        Self::Ask(error)
    }
}
