//! The program `zarnet`.

mod args;
mod commands;
mod exit;
mod files;
mod present;

use std::process::ExitCode;

use clap::Parser;
use exit::{FAILED, Failure, WRONG_INPUT};
use present::diagnostic;

fn main() -> ExitCode {
    files::remove_on_signal();
    match args::Arguments::try_parse() {
        Ok(arguments) => finish(commands::run(&arguments)),
        Err(said) => finish(commands::not_a_command(&said)),
    }
}

/// Turns the outcome of a command into an exit code.
fn finish(outcome: Result<u8, Failure>) -> ExitCode {
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
