//! How the program ends: exit codes, and what is said on the way out.

use std::io;
use std::process::ExitCode;

use crate::render::diagnostic;

/// The answer is there.
pub const FINE: u8 = 0;
/// The answer is there, and it is negative.
pub const NEGATIVE: u8 = 1;
/// The input or the command line is wrong.
pub const WRONG_INPUT: u8 = 2;
/// The program failed.
pub const FAILED: u8 = 3;

/// Why a command came to no answer.
#[derive(Debug)]
pub enum Failure {
    /// The input is wrong, and what is wrong was told already.
    Told,
    /// The command line or the input is wrong.
    Wrong {
        /// Stable name.
        name: &'static str,
        /// What is wrong.
        message: String,
        /// A way out.
        help: Option<String>,
    },
    /// Something could not be written.
    Io(io::Error),
}

impl Failure {
    /// Wrong input, in one sentence.
    pub fn wrong(name: &'static str, message: impl Into<String>, help: impl Into<Option<String>>) -> Self {
        Self::Wrong { name, message: message.into(), help: help.into() }
    }
}

impl From<io::Error> for Failure {
    fn from(error: io::Error) -> Self {
        Self::Io(error)
    }
}

/// Turns the outcome of a command into an exit code.
pub fn finish(outcome: Result<u8, Failure>) -> ExitCode {
    ExitCode::from(match outcome {
        Ok(code) => code,
        Err(Failure::Told) => WRONG_INPUT,
        Err(Failure::Wrong { name, message, help }) => {
            diagnostic::say(name, &message, None, help.as_deref());
            WRONG_INPUT
        }
        Err(Failure::Io(error)) => {
            diagnostic::say("cannot-write", &error.to_string(), None, None);
            FAILED
        }
    })
}
