//! What may be typed.

mod capacity;
mod common;
mod define;
mod examples;
mod exchange;
mod forgotten;
mod listings;
mod live;
mod logs;

use std::path::PathBuf;

use clap::{Args, Parser, Subcommand};

pub use capacity::Capacity;
pub use common::{Color, Common, Format};
pub use define::{Define, Keys, NamedSet, Rule, What};
pub use exchange::{Export, Import};
pub use forgotten::forgotten_word;
pub use listings::{Addresses, Completions, Explain, Exposure, Rules, Sheet};
pub use live::{AccessOptions, DriftArgs, Retrieve, Save, Send, StandInArgs, Watch};
pub use logs::{LogArgs, LogAs, RecordArgs, WhoseArgs};

/// Defines, predicts and troubleshoots address translation on edge devices, offline.
#[derive(Debug, Parser)]
#[command(name = "zarnet", version, arg_required_else_help = true, max_term_width = 100)]
#[command(
    after_help = "Exit codes: 0 fine, 1 the answer is negative, 2 the input or the command line \
                  is wrong, 3 an internal failure.\nStart with `zarnet demo`."
)]
pub struct Arguments {
    /// The command and its arguments.
    #[command(subcommand)]
    pub command: Command,
    /// Options of all commands.
    #[command(flatten)]
    pub common: Common,
}

/// The commands of the program.
#[derive(Debug, Subcommand)]
pub enum Command {
    /// Write the demo estate into a folder and walk through the job.
    #[command(after_help = examples::DEMO)]
    Demo(Demo),
    /// Write a commented starting plan that checks clean.
    #[command(after_help = examples::NEW)]
    New(New),
    /// Report what is wrong or risky in a plan.
    #[command(after_help = examples::CHECK)]
    Check(Check),
    /// Show the behaviour of a preset, or of the devices of a plan.
    #[command(after_help = examples::BEHAVIOUR)]
    Behaviour(BehaviourArgs),
    /// Predict the translation table that traffic will produce.
    #[command(after_help = examples::PREDICT)]
    Predict(Predict),
    /// Follow one flow hop by hop, there and back.
    #[command(after_help = examples::FOLLOW)]
    Follow(Follow),
    /// Test the expectations of a plan.
    #[command(after_help = examples::EXPECT)]
    Expect(Expect),
    /// Find out why a flow does not work, and test repairs.
    #[command(after_help = examples::WHY)]
    Why(Why),
    /// Change a rule, group or pool in a plan, check it, and show the effect.
    #[command(after_help = examples::DEFINE)]
    Define(Define),
    /// List the external addresses of a plan: used and free.
    #[command(after_help = examples::ADDRESSES)]
    Addresses(Addresses),
    /// Show the rules in the order in which they are tried, and how often each was used.
    #[command(after_help = examples::RULES)]
    Rules(Rules),
    /// Show everything that can be reached from outside, or from a realm.
    #[command(after_help = examples::EXPOSURE)]
    Exposure(Exposure),
    /// Print a hand-out for the users of forwards.
    #[command(after_help = examples::SHEET)]
    Sheet(Sheet),
    /// Explain a finding, reason, cause or error by its name.
    #[command(after_help = examples::EXPLAIN)]
    Explain(Explain),
    /// Print the JSON Schema of the plan, for editors.
    Schema,
    /// Print completions for a shell.
    #[command(after_help = examples::COMPLETIONS)]
    Completions(Completions),
    /// Print the manual page.
    Man,
    /// Show what a change of a plan changes, for all possible traffic.
    #[command(after_help = examples::IMPACT)]
    Impact(Impact),
    /// Find out what runs out, how much is enough, and which remedy helps.
    #[command(after_help = examples::CAPACITY)]
    Capacity(Capacity),
    /// Compare the predicted table with the device's actual table.
    #[command(after_help = examples::COMPARE)]
    Compare(Compare),
    /// Write the translation log that the devices would write.
    #[command(after_help = examples::LOG)]
    Log(LogArgs),
    /// Take translation logs into a store, from files or while they come.
    #[command(after_help = examples::RECORD)]
    Record(RecordArgs),
    /// Show who had an external address and port at a time.
    #[command(after_help = examples::WHOSE)]
    Whose(WhoseArgs),
    /// Write a device of a plan in the standard data models.
    #[command(after_help = examples::EXPORT)]
    Export(Export),
    /// Make a plan of documents in the standard data models.
    #[command(after_help = examples::IMPORT)]
    Import(Import),
    /// Take a device's configuration, saved configuration, table and counters into files.
    #[command(after_help = examples::RETRIEVE)]
    Retrieve(Retrieve),
    /// Show what differs between a plan and a device, and with --yes send it.
    #[command(after_help = examples::SEND)]
    Send(Send),
    /// Show what a device runs and has saved beside what is planned.
    #[command(after_help = examples::DRIFT)]
    Drift(DriftArgs),
    /// Watch a device's table, use and refusals as they change.
    #[command(after_help = examples::WATCH)]
    Watch(Watch),
    /// Be a simulated device that speaks the same open protocols, for rehearsal.
    #[command(after_help = examples::STAND_IN)]
    StandIn(StandInArgs),
}

/// Arguments of the command `demo`.
#[derive(Debug, Args)]
pub struct Demo {
    /// Folder to write the estate into.
    #[arg(default_value = "saltmere")]
    pub folder: PathBuf,
    /// Overwrite files that exist.
    #[arg(long)]
    pub force: bool,
}

/// Arguments of the command `new`.
#[derive(Debug, Args)]
pub struct New {
    /// File to write; `-` for standard output.
    pub file: PathBuf,
    /// Name of the device.
    #[arg(long, default_value = "edge")]
    pub device: String,
    /// Internal address of the device, with prefix length.
    #[arg(long, default_value = "10.20.0.1/24", value_name = "ADDRESS/LENGTH")]
    pub internal: String,
    /// External address of the device, with prefix length.
    #[arg(long, default_value = "203.0.113.2/28", value_name = "ADDRESS/LENGTH")]
    pub external: String,
    /// Provider's router; by default the first free external address.
    #[arg(long, value_name = "ADDRESS")]
    pub gateway: Option<String>,
    /// Overwrite the file if it exists.
    #[arg(long)]
    pub force: bool,
}

/// Arguments of the command `check`.
#[derive(Debug, Args)]
pub struct Check {
    /// Path of the plan file.
    #[arg(required_unless_present = "list")]
    pub plan: Option<PathBuf>,
    /// Do not report this finding; may be repeated.
    #[arg(long, value_name = "NAME")]
    pub allow: Vec<String>,
    /// Treat this finding as an error; may be repeated.
    #[arg(long, value_name = "NAME")]
    pub deny: Vec<String>,
    /// List all findings and what they mean.
    #[arg(long, conflicts_with = "plan")]
    pub list: bool,
}

/// Arguments of the command `behaviour`.
#[derive(Debug, Args)]
pub struct BehaviourArgs {
    /// Preset (bcp, symmetric, carrier) or plan file; by default all presets.
    pub name: Option<String>,
}

/// Arguments of the command `predict`.
#[derive(Debug, Args)]
pub struct Predict {
    /// Path of the plan file.
    pub plan: PathBuf,
    /// Flow lists (CSV, JSON Lines), scenarios, captures, `-` for standard input, or flows:
    /// "kiosk-3 -> 198.51.100.80:443/tcp". Without any, the fixed part of the table.
    pub traffic: Vec<String>,
    /// Show the table at this moment: a time (90, 2m30s), `peak` or `end`.
    #[arg(long, default_value = "end", value_name = "TIME|peak|end")]
    pub at: String,
    /// Also show sessions; with `--format csv`, show them instead of mappings.
    #[arg(long)]
    pub sessions: bool,
    /// Show what became of each flow instead of tables: a line for a flow, or for all that one
    /// sender sent to one destination until one of them fared otherwise.
    #[arg(long, conflicts_with = "sessions", requires = "traffic")]
    pub timeline: bool,
    /// Show only this device.
    #[arg(long, value_name = "NAME")]
    pub device: Option<String>,
    /// How traffic is read.
    #[command(flatten)]
    pub reader: Reader,
    /// Limit the rows of each table in text; 0 for all.
    #[arg(long, default_value_t = 30, value_name = "N")]
    pub rows: usize,
}

/// How traffic is read.
#[derive(Debug, Args)]
pub struct Reader {
    /// Name the interface where captures were made.
    #[arg(long, value_name = "DEVICE/INTERFACE")]
    pub seen_at: Option<String>,
    /// Skip invalid lines and packets, and count them.
    #[arg(long)]
    pub skip_bad: bool,
    /// Let the clock of the traffic begin at this time of day (RFC 3339).
    #[arg(long, value_name = "TIME", value_parser = time_of_day)]
    pub begins: Option<jiff::Timestamp>,
}

/// A time of day.
fn time_of_day(text: &str) -> Result<jiff::Timestamp, String> {
    text.parse().map_err(|_| "write a time such as 2026-08-01T06:00:00Z".into())
}

/// The middle of a day.
#[derive(Debug, Args)]
pub struct Day {
    /// Play this traffic around the flow; may be repeated.
    #[arg(long, value_name = "TRAFFIC")]
    pub during: Vec<String>,
    /// Start the flow at this moment of the traffic: a time (90, 2m30s), `peak` or `end`.
    #[arg(long, default_value = "end", value_name = "TIME|peak|end", requires = "during")]
    pub at: String,
    /// How traffic is read.
    #[command(flatten)]
    pub reader: Reader,
}

/// Arguments of the command `follow`.
#[derive(Debug, Args)]
pub struct Follow {
    /// Path of the plan file.
    pub plan: PathBuf,
    /// Flow, such as "kiosk-3 -> 198.51.100.80:443/tcp".
    pub flow: String,
    /// Traffic around the flow, and the moment when it begins.
    #[command(flatten)]
    pub day: Day,
    /// Write what each place on the way would capture into this file (pcapng).
    #[arg(long, value_name = "FILE")]
    pub capture_to: Option<PathBuf>,
    /// Overwrite that file if it exists.
    #[arg(long)]
    pub force: bool,
}

/// A table that a device has.
#[derive(Debug, Args)]
pub struct TableFile {
    /// Column numbers, if the header does not use Zarnet's names: internal=3,external=4,...
    #[arg(long, value_name = "NAME=NUMBER,...", requires = "observed")]
    pub columns: Option<String>,
    /// Device that the table belongs to, if the table does not say.
    #[arg(long, value_name = "NAME")]
    pub device: Option<String>,
    /// How a device is reached that is asked itself.
    #[command(flatten)]
    pub access: AccessOptions,
}

/// Arguments of the command `compare`.
#[derive(Debug, Args)]
pub struct Compare {
    /// Path of the plan file.
    pub plan: PathBuf,
    /// Flow lists, scenarios, captures or flows.
    #[arg(required = true)]
    pub traffic: Vec<String>,
    /// Read the device's actual table from this file (CSV or JSON; `-` for standard input), or from
    /// the device itself.
    #[arg(long, value_name = "FILE|https://...", required = true)]
    pub observed: String,
    /// How it is read.
    #[command(flatten)]
    pub table: TableFile,
    /// Moment of the traffic when the table was saved, or that now is on the device: a time (90,
    /// 2m30s), `peak` or `end`.
    #[arg(long, default_value = "end", value_name = "TIME|peak|end")]
    pub at: String,
    /// How traffic is read.
    #[command(flatten)]
    pub reader: Reader,
    /// Limit the differences shown in text; 0 for all.
    #[arg(long, default_value_t = 30, value_name = "N")]
    pub rows: usize,
}

/// Arguments of the command `why`.
#[derive(Debug, Args)]
pub struct Why {
    /// Path of the plan file.
    pub plan: PathBuf,
    /// Flow, such as "kiosk-3 -> 198.51.100.80:443/tcp".
    pub flow: String,
    /// Traffic around the flow, and the moment when it begins.
    #[command(flatten)]
    pub day: Day,
    /// Read the device's actual table at that moment from this file (CSV or JSON), or from the
    /// device itself.
    #[arg(long, value_name = "FILE|https://...")]
    pub observed: Option<String>,
    /// How it is read.
    #[command(flatten)]
    pub table: TableFile,
    /// Write this repair into the plan.
    #[arg(long, value_name = "N")]
    pub apply: Option<usize>,
    /// Write even if the file is read-only, has several names, or cannot keep its owner.
    #[arg(long, requires = "apply")]
    pub force: bool,
}

/// Arguments of the command `expect`.
#[derive(Debug, Args)]
pub struct Expect {
    /// Path of the plan file.
    pub plan: PathBuf,
    /// Also write the results to this file as JUnit XML.
    #[arg(long, value_name = "FILE")]
    pub junit: Option<PathBuf>,
    /// Overwrite that file even if it is no such report.
    #[arg(long, requires = "junit")]
    pub force: bool,
}

/// Arguments of the command `impact`.
#[derive(Debug, Args)]
pub struct Impact {
    /// Path of the plan file.
    pub plan: PathBuf,
    /// Path of the new plan file.
    pub new_plan: PathBuf,
    /// Play this traffic and list the live sessions that linger or break; may be repeated.
    #[arg(long, value_name = "TRAFFIC")]
    pub during: Vec<String>,
    /// Make the change at this moment: a time (90, 2m30s), `peak` or `end`.
    #[arg(long, default_value = "end", value_name = "TIME|peak|end", requires = "during")]
    pub at: String,
    /// How traffic is read.
    #[command(flatten)]
    pub reader: Reader,
    /// Show only this device.
    #[arg(long, value_name = "NAME")]
    pub device: Option<String>,
    /// Limit the rows of each table in text; 0 for all.
    #[arg(long, default_value_t = 30, value_name = "N")]
    pub rows: usize,
}
