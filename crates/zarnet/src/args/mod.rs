//! What may be typed.

mod capacity;
mod define;

use std::path::PathBuf;

use clap::{Args, Parser, Subcommand, ValueEnum};

use zarnet_core::limits;

pub use capacity::Capacity;
pub use define::{Define, Rule, What};

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

/// Options of all commands.
#[derive(Debug, Clone, Args)]
pub struct Common {
    /// Form of the answer.
    #[arg(long, global = true, value_enum, default_value_t = Format::Text, value_name = "FORM")]
    pub format: Format,
    /// When to use colour; `NO_COLOR` is respected.
    #[arg(long, global = true, value_enum, default_value_t = Color::Auto, value_name = "WHEN")]
    pub color: Color,
    /// Say nothing but the answer and errors.
    #[arg(short, long, global = true)]
    pub quiet: bool,
    /// Say more: all counters, all steps.
    #[arg(short, long, global = true)]
    pub verbose: bool,
    /// Where random choices start from.
    #[arg(long, global = true, default_value_t = 0, value_name = "N")]
    pub seed: u64,
    /// Columns to fit the answer into; the terminal's if left out.
    #[arg(long, global = true, value_name = "N", value_parser = width)]
    pub width: Option<usize>,
    /// Read files that a plan or a scenario names outside of its folder, too.
    #[arg(long, global = true)]
    pub allow_outside: bool,
}

/// Form of an answer.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Format {
    /// Text for people, with colour on a terminal.
    Text,
    /// For scripts; its shape is documented and versioned.
    Json,
    /// For spreadsheets and scripts.
    Csv,
}

/// When to use colour.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Color {
    /// In colour on a terminal only.
    Auto,
    /// In colour, also into files and pipes.
    Always,
    /// Without colour, also on a terminal.
    Never,
}

/// The commands of the program.
#[derive(Debug, Subcommand)]
pub enum Command {
    /// Write the demo estate into a folder and walk through the job on it.
    Demo(Demo),
    /// Write a commented starting plan that checks clean.
    New(New),
    /// Report everything that is wrong with a plan, and what is risky.
    Check(Check),
    /// Show how a device behaves: what a preset holds, or what a plan says of its devices.
    Behaviour(BehaviourArgs),
    /// Predict the translation table that traffic will produce.
    Predict(Predict),
    /// Follow one flow hop by hop, there and back, with the view from every place.
    Follow(Follow),
    /// Check what the plan expects of its flows.
    Expect(Expect),
    /// Find out why a flow does not work, and try repairs.
    Why(Why),
    /// Write a rule, a group or a pool into the plan, check it, and show what it changes.
    Define(Define),
    /// List the external addresses of a plan: who uses them, and which are free.
    Addresses(Addresses),
    /// Print the hand-out for the users of forwards: connect to, ends up at.
    Sheet(Sheet),
    /// Explain a finding, reason, cause or error by its name.
    Explain(Explain),
    /// Print the JSON Schema of the plan, for editors.
    Schema,
    /// Print completions for a shell.
    Completions(Completions),
    /// Print the manual, as a page for `man`.
    Man,
    /// Tell what a change of the plan changes, for all possible traffic.
    Impact(Impact),
    /// Find out what runs out, when and for whom, how much is enough, and which remedy helps.
    Capacity(Capacity),
    /// Hold the predicted table against the one that a device really has.
    Compare(Compare),
}

/// Arguments of the command `demo`.
#[derive(Debug, Args)]
pub struct Demo {
    /// Folder to write the estate into.
    #[arg(default_value = "saltmere")]
    pub folder: PathBuf,
    /// Overwrite files of the estate that are there already.
    #[arg(long)]
    pub force: bool,
}

/// Arguments of the command `new`.
#[derive(Debug, Args)]
pub struct New {
    /// File to write; `-` is standard output.
    pub file: PathBuf,
    /// Name of the device.
    #[arg(long, default_value = "edge")]
    pub device: String,
    /// The device's internal address, with prefix length.
    #[arg(long, default_value = "10.20.0.1/24", value_name = "ADDRESS/LENGTH")]
    pub internal: String,
    /// The device's external address, with prefix length.
    #[arg(long, default_value = "203.0.113.2/28", value_name = "ADDRESS/LENGTH")]
    pub external: String,
    /// The provider's router; the first free address of the external prefix if left out.
    #[arg(long, value_name = "ADDRESS")]
    pub gateway: Option<String>,
    /// Overwrite the file if it is there.
    #[arg(long)]
    pub force: bool,
}

/// Arguments of the command `check`.
#[derive(Debug, Args)]
pub struct Check {
    /// Path of the plan file.
    #[arg(required_unless_present = "list")]
    pub plan: Option<PathBuf>,
    /// Do not tell this finding; again for more.
    #[arg(long, value_name = "NAME")]
    pub allow: Vec<String>,
    /// Count this finding as an error; again for more.
    #[arg(long, value_name = "NAME")]
    pub deny: Vec<String>,
    /// List every finding there is, and what it means.
    #[arg(long, conflicts_with = "plan")]
    pub list: bool,
}

/// Arguments of the command `behaviour`.
#[derive(Debug, Args)]
pub struct BehaviourArgs {
    /// A preset (bcp, symmetric, carrier), or a plan file; all presets if left out.
    pub name: Option<String>,
}

/// Arguments of the command `predict`.
#[derive(Debug, Args)]
pub struct Predict {
    /// Path of the plan file.
    pub plan: PathBuf,
    /// Flow lists (CSV, JSON Lines), scenarios, captures, `-` for standard input, or flows:
    /// "kiosk-3 -> 198.51.100.80:443/tcp".
    #[arg(required = true)]
    pub traffic: Vec<String>,
    /// Moment of the table: a time (90, 2m30s), `peak` or `end`.
    #[arg(long, default_value = "end", value_name = "TIME|peak|end")]
    pub at: String,
    /// Show the sessions under the mappings too; with `--format csv`, instead of them.
    #[arg(long)]
    pub sessions: bool,
    /// Show this device only.
    #[arg(long, value_name = "NAME")]
    pub device: Option<String>,
    /// How traffic is read.
    #[command(flatten)]
    pub reader: Reader,
    /// Rows of a table shown as text; 0 is all.
    #[arg(long, default_value_t = 30, value_name = "N")]
    pub rows: usize,
}

/// How traffic is read.
#[derive(Debug, Args)]
pub struct Reader {
    /// Interface at which captures were made.
    #[arg(long, value_name = "DEVICE/INTERFACE")]
    pub seen_at: Option<String>,
    /// Pass over lines and packets that are wrong, and count them.
    #[arg(long)]
    pub skip_bad: bool,
}

/// The middle of a day.
#[derive(Debug, Args)]
pub struct Day {
    /// Traffic that was there before: flow lists, scenarios, captures, flows; again for more.
    #[arg(long, value_name = "TRAFFIC")]
    pub during: Vec<String>,
    /// Moment of that traffic at which the flow begins: a time (90, 2m30s), `peak` or `end`.
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
    /// The flow: "kiosk-3 -> 198.51.100.80:443/tcp".
    pub flow: String,
    /// Traffic around the flow, and the moment when it begins.
    #[command(flatten)]
    pub day: Day,
    /// Write what every place on the way would record into this file (pcapng).
    #[arg(long, value_name = "FILE")]
    pub capture_to: Option<PathBuf>,
    /// Overwrite that file if it is there.
    #[arg(long)]
    pub force: bool,
}

/// A table that a device has.
#[derive(Debug, Args)]
pub struct TableFile {
    /// Which column of the table is what, where it does not have our names:
    /// internal=3,external=4,...
    #[arg(long, value_name = "NAME=NUMBER,...", requires = "observed")]
    pub columns: Option<String>,
    /// Whose table it is, where it does not say.
    #[arg(long, value_name = "NAME")]
    pub device: Option<String>,
}

/// Arguments of the command `compare`.
#[derive(Debug, Args)]
pub struct Compare {
    /// Path of the plan file.
    pub plan: PathBuf,
    /// Flow lists, scenarios, captures, flows.
    #[arg(required = true)]
    pub traffic: Vec<String>,
    /// The table as the device has it: CSV or JSON; `-` for standard input.
    #[arg(long, value_name = "FILE", required = true)]
    pub observed: PathBuf,
    /// How it is read.
    #[command(flatten)]
    pub table: TableFile,
    /// Moment at which the table was taken: a time (90, 2m30s), `peak` or `end`.
    #[arg(long, default_value = "end", value_name = "TIME|peak|end")]
    pub at: String,
    /// How traffic is read.
    #[command(flatten)]
    pub reader: Reader,
    /// Differences shown as text; 0 is all.
    #[arg(long, default_value_t = 30, value_name = "N")]
    pub rows: usize,
}

/// Arguments of the command `why`.
#[derive(Debug, Args)]
pub struct Why {
    /// Path of the plan file.
    pub plan: PathBuf,
    /// The flow: "kiosk-3 -> 198.51.100.80:443/tcp".
    pub flow: String,
    /// Traffic around the flow, and the moment when it begins.
    #[command(flatten)]
    pub day: Day,
    /// The device's own table at that moment: CSV or JSON.
    #[arg(long, value_name = "FILE")]
    pub observed: Option<PathBuf>,
    /// How it is read.
    #[command(flatten)]
    pub table: TableFile,
    /// Write this repair into the plan.
    #[arg(long, value_name = "N")]
    pub apply: Option<usize>,
    /// Write it even if the file is read-only, has several names, or cannot keep its owner.
    #[arg(long, requires = "apply")]
    pub force: bool,
}

/// Columns of an answer.
fn width(text: &str) -> Result<usize, String> {
    let number = text.parse().ok().filter(|n| (1..=limits::WIDTH).contains(n));
    number.ok_or_else(|| format!("write a number of columns from 1 to {}", limits::WIDTH))
}

/// Arguments of the command `expect`.
#[derive(Debug, Args)]
pub struct Expect {
    /// Path of the plan file.
    pub plan: PathBuf,
    /// Write the results into this file too, as JUnit XML.
    #[arg(long, value_name = "FILE")]
    pub junit: Option<PathBuf>,
    /// Overwrite that file if it is there and is no such report.
    #[arg(long, requires = "junit")]
    pub force: bool,
}

/// Arguments of the command `impact`.
#[derive(Debug, Args)]
pub struct Impact {
    /// Path of the plan file.
    pub plan: PathBuf,
    /// The plan that is to take its place.
    pub new_plan: PathBuf,
    /// Traffic of the day: which live sessions linger or break.
    #[arg(long, value_name = "TRAFFIC")]
    pub during: Vec<String>,
    /// Moment of the change: a time (90, 2m30s), `peak` or `end`.
    #[arg(long, default_value = "end", value_name = "TIME|peak|end", requires = "during")]
    pub at: String,
    /// How traffic is read.
    #[command(flatten)]
    pub reader: Reader,
    /// Show this device only.
    #[arg(long, value_name = "NAME")]
    pub device: Option<String>,
    /// Rows of a table shown as text; 0 is all.
    #[arg(long, default_value_t = 30, value_name = "N")]
    pub rows: usize,
}

/// Arguments of the command `addresses`.
#[derive(Debug, Args)]
pub struct Addresses {
    /// Path of the plan file.
    pub plan: PathBuf,
    /// Show this device only.
    #[arg(long, value_name = "NAME")]
    pub device: Option<String>,
    /// Show only what is free.
    #[arg(long)]
    pub free: bool,
}

/// Arguments of the command `sheet`.
#[derive(Debug, Args)]
pub struct Sheet {
    /// Path of the plan file.
    pub plan: PathBuf,
    /// Show this device only.
    #[arg(long, value_name = "NAME")]
    pub device: Option<String>,
}

/// Arguments of the command `explain`.
#[derive(Debug, Args)]
pub struct Explain {
    /// The name, as it stands in brackets behind an error or finding, or in a table; all names if
    /// left out.
    pub name: Option<String>,
}

/// Arguments of the command `completions`.
#[derive(Debug, Args)]
pub struct Completions {
    /// The shell that the completions are for.
    #[arg(value_enum)]
    pub shell: clap_complete::Shell,
}
