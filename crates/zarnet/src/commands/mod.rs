//! One file a command.

mod addresses;
mod behaviour;
pub mod capacity;
mod check;
mod compare;
mod define;
mod demo;
mod expect;
mod explain;
mod files;
mod follow;
mod impact;
mod new;
mod predict;
mod schema;
mod sheet;
mod traffic;
mod why;

use std::path::Path;

use zarnet_formats::plan::{LoadError, Loaded, load};

use crate::args::{Arguments, Command};
use crate::exit::Failure;
use crate::render::{diagnostic, output};

/// Runs what was typed, and gives the exit code.
pub fn run(arguments: &Arguments) -> Result<u8, Failure> {
    output::set_color(arguments.common.color);
    dispatch(arguments)
}

fn dispatch(arguments: &Arguments) -> Result<u8, Failure> {
    match &arguments.command {
        Command::Demo(args) => demo::run(args, &arguments.common),
        Command::New(args) => new::run(args, &arguments.common),
        Command::Behaviour(args) => behaviour::run(args, &arguments.common),
        Command::Check(args) => check::run(args, &arguments.common),
        Command::Predict(args) => predict::run(args, &arguments.common),
        Command::Follow(args) => follow::run(args, &arguments.common),
        Command::Expect(args) => expect::run(args, &arguments.common),
        Command::Why(args) => why::run(args, &arguments.common),
        Command::Capacity(args) => capacity::run(args, &arguments.common),
        Command::Define(args) => define::run(args, &arguments.common),
        Command::Addresses(args) => addresses::run(args, &arguments.common),
        Command::Sheet(args) => sheet::run(args, &arguments.common),
        Command::Explain(args) => explain::run(args, &arguments.common),
        Command::Schema => schema::plan(),
        Command::Completions(args) => schema::completions(args.shell),
        Command::Man => schema::manual(),
        Command::Impact(args) => impact::run(args, &arguments.common),
        Command::Compare(args) => compare::run(args, &arguments.common),
    }
}

/// Loads a plan, or tells everything that is wrong with it.
fn plan(path: &Path) -> Result<Loaded, Failure> {
    load(path).map_err(|error| match error {
        LoadError::Io { path, error } => {
            let help = "give the path of a plan; `zarnet new FILE` writes one to start from".to_owned();
            Failure::wrong("unreadable", format!("{}: {error}", path.display()), help)
        }
        LoadError::Problems { problems, sources } => {
            diagnostic::problems(&problems, &sources);
            Failure::Told
        }
    })
}
