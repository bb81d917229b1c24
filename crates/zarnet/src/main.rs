//! The program `zarnet`.

mod args;
mod commands;
mod exit;
mod files;
mod render;

use std::process::ExitCode;

use clap::Parser;

fn main() -> ExitCode {
    files::remove_on_signal();
    match args::Arguments::try_parse() {
        Ok(arguments) => exit::finish(commands::run(&arguments)),
        Err(said) => exit::finish(commands::not_a_command(&said)),
    }
}
