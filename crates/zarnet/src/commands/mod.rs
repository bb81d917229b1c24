//! One file a command.

mod addresses;
mod behaviour;
pub mod capacity;
mod check;
mod compare;
mod define;
mod demo;
mod edits;
mod expect;
mod explain;
mod export;
mod exposure;
mod follow;
mod impact;
mod import;
mod live;
mod log;
mod new;
mod predict;
mod record;
mod rules;
mod schema;
mod sheet;
mod traffic;
mod whose;
mod why;

use std::mem::ManuallyDrop;
use std::path::Path;

use zarnet_core::plan::{DeviceId, Plan};
use zarnet_formats::files::Reach;
use zarnet_formats::plan::{LoadError, Loaded, load};

use crate::args::{Arguments, Command, Common, Format};
use crate::exit::{FINE, Failure, WRONG_INPUT};
use crate::present::{diagnostic, output};

/// Runs what was typed, and gives the exit code.
pub fn run(arguments: &Arguments) -> Result<u8, Failure> {
    output::set_color(arguments.common.color);
    dispatch(arguments)
}

/// Prints help or the version, which somebody may be waiting for in a file, or what is wrong with
/// the command line.
pub fn not_a_command(said: &clap::Error) -> Result<u8, Failure> {
    if said.use_stderr() {
        diagnostic::command_line(said);
        return Ok(WRONG_INPUT);
    }
    output::answer(|out| write!(out, "{}", said.render().ansi()))?;
    Ok(FINE)
}

fn dispatch(arguments: &Arguments) -> Result<u8, Failure> {
    let is_of_logs = matches!(arguments.common.format, Format::Ipfix | Format::Syslog);
    if is_of_logs && !matches!(arguments.command, Command::Log(_)) {
        let help = "text, json or csv; `zarnet log` writes ipfix and syslog".to_owned();
        return Err(Failure::wrong("not-a-log", "the answer is no translation log", help));
    }
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
        Command::Rules(args) => rules::run(args, &arguments.common),
        Command::Exposure(args) => exposure::run(args, &arguments.common),
        Command::Sheet(args) => sheet::run(args, &arguments.common),
        Command::Explain(args) => explain::run(args, &arguments.common),
        Command::Schema => schema::plan(),
        Command::Completions(args) => schema::completions(args.shell),
        Command::Man => schema::manual(),
        Command::Impact(args) => impact::run(args, &arguments.common),
        Command::Compare(args) => compare::run(args, &arguments.common),
        Command::Log(args) => log::run(args, &arguments.common),
        Command::Record(args) => record::run(args, &arguments.common),
        Command::Whose(args) => whose::run(args, &arguments.common),
        Command::Export(args) => export::run(args, &arguments.common),
        Command::Import(args) => import::run(args, &arguments.common),
        Command::Retrieve(args) => live::retrieve::run(args, &arguments.common),
        Command::Send(args) => live::send::run(args, &arguments.common),
        Command::Drift(args) => live::drift::run(args, &arguments.common),
        Command::Watch(args) => live::watch::run(args, &arguments.common),
        Command::StandIn(args) => live::stand_in::run(args, &arguments.common),
    }
}

/// The device that is meant: the only one of the plan where none is named.
fn only_device(plan: &Plan, name: Option<&str>) -> Result<DeviceId, Failure> {
    match name {
        Some(name) => traffic::device(plan, name),
        None if plan.devices.len() == 1 => Ok(DeviceId(0)),
        None if plan.devices.is_empty() => {
            Err(Failure::wrong("no-device", "the plan has no device", None))
        }
        None => {
            let names: Vec<&str> = plan.devices.iter().map(|d| d.name.as_str()).collect();
            let help = format!("--device NAME; the plan has {}", names.join(", "));
            Err(Failure::wrong("which-device", "the plan has several devices", help))
        }
    }
}

/// Where the files lie that a file named by the user may name.
fn reach(path: &Path, common: &Common) -> Reach {
    if common.allow_outside { Reach::anywhere() } else { Reach::below_folder_of(path) }
}

/// Loads a plan, or reports everything that is wrong with it.
fn plan(path: &Path, common: &Common) -> Result<Kept, Failure> {
    load(path, reach(path, common)).map(Kept::new).map_err(told)
}

/// A plan that is there until the program ends, and need not be taken apart before: of very many
/// rules that is a tenth of what reading them takes.
type Kept = ManuallyDrop<Loaded>;

/// Loads two plans side by side, or reports everything that is wrong with the first that is.
fn two_plans(one: &Path, other: &Path, common: &Common) -> Result<(Kept, Kept), Failure> {
    let (one, other) = std::thread::scope(|scope| {
        let other = scope.spawn(|| load(other, reach(other, common)));
        (load(one, reach(one, common)), other.join())
    });
    let broken = |_| Failure::Io(std::io::Error::other("a plan could not be read to its end"));
    let other = other.map_err(broken)?;
    Ok((one.map(Kept::new).map_err(told)?, other.map(Kept::new).map_err(told)?))
}

/// Reports why a plan could not be loaded.
fn told(error: LoadError) -> Failure {
    match error {
        LoadError::Unreadable { path, error } => {
            let help =
                "give the path of a plan; `zarnet new FILE` writes one to start from".to_owned();
            Failure::wrong("unreadable", format!("{}: {error}", path.display()), help)
        }
        LoadError::Problems { problems, sources } => {
            diagnostic::problems(&problems, &sources);
            Failure::Told
        }
    }
}
