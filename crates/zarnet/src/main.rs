//! The program `zarnet`.

mod args;
mod commands;
mod exit;
mod render;

use clap::Parser;

fn main() -> std::process::ExitCode {
    let arguments = args::Arguments::parse();
    exit::finish(commands::run(&arguments))
}
