//! The program `zarnet`: arguments are parsed, a question is asked, the answer is shown.
//!
//! - `args`: what can be typed. `commands`: a file each, which parses, asks and presents.
//! - `present`: how answers look as text; JSON and CSV come from the answers themselves.
//! - `files`: what is written, whole and with care. `exit`: exit codes. `large_pages`: how memory
//!   is asked for.

mod args;
mod commands;
mod exit;
mod files;
mod large_pages;
mod present;

use std::process::ExitCode;

use clap::Parser;
use exit::{FAILED, Failure, WRONG_INPUT};
use present::diagnostic;

/// Runs what the command line asks for, and gives the exit code of the process.
pub fn run() -> ExitCode {
    large_pages::begin_with_them();
    files::remove_on_signal();
    say_nothing_of_damaged_files();
    match args::Arguments::try_parse() {
        Ok(arguments) => finish(commands::run(&arguments)),
        Err(said) => finish(commands::not_a_command(&said)),
    }
}

/// A damaged file of a store is an error that is told in our own words.
fn say_nothing_of_damaged_files() {
    let tell = std::panic::take_hook();
    std::panic::set_hook(Box::new(move |panic| {
        if !zarnet_store::is_guarded() {
            tell(panic);
        }
    }));
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
