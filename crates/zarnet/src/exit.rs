//! How the program ends: exit codes, and why a command came to no answer.

use std::io;

use zarnet_analysis::AskError;
use zarnet_store::StoreError;

/// The answer is there.
pub const FINE: u8 = 0;
/// The answer is there, and it is negative.
pub const NEGATIVE: u8 = 1;
/// The input or the command line is wrong.
pub const WRONG_INPUT: u8 = 2;
/// The program failed, for no fault of the input.
pub const FAILED: u8 = 3;

/// Why a command came to no answer.
#[derive(Debug)]
pub enum Failure {
    /// The input is wrong, and what is wrong was told already.
    Told,
    /// The command line or the input is wrong.
    Wrong {
        /// Stable name of the error.
        name: &'static str,
        /// What is wrong, in a sentence.
        message: String,
        /// What to do about it.
        help: Option<String>,
    },
    /// Something could not be written.
    Io(io::Error),
}

impl Failure {
    /// Wrong input, in one sentence.
    pub fn wrong(
        name: &'static str,
        message: impl Into<String>,
        help: impl Into<Option<String>>,
    ) -> Self {
        Self::Wrong { name, message: message.into(), help: help.into() }
    }
}

impl From<io::Error> for Failure {
    fn from(error: io::Error) -> Self {
        Self::Io(error)
    }
}

impl From<StoreError> for Failure {
    /// A store that cannot be written is no fault of the input.
    fn from(error: StoreError) -> Self {
        match error {
            StoreError::Io { error: ref inner, .. } if inner.kind() != io::ErrorKind::NotFound => {
                Self::Io(io::Error::new(inner.kind(), error.to_string()))
            }
            error => {
                let help = error.help().map(str::to_owned);
                Self::wrong(error.name(), error.to_string(), help)
            }
        }
    }
}

impl From<AskError> for Failure {
    fn from(AskError { name, message, help }: AskError) -> Self {
        Self::Wrong { name, message, help }
    }
}
