//! Options of all commands.

use clap::{Args, ValueEnum};
use zarnet_core::limits;

/// The heading of options that all commands have.
const GLOBAL: &str = "Global options";

/// Options of all commands.
#[derive(Debug, Clone, Args)]
pub struct Common {
    /// Output format: text, json or csv; of `log` also ipfix or syslog.
    #[arg(long, global = true, help_heading = GLOBAL, value_enum, hide_possible_values = true,
        default_value_t = Format::Text, value_name = "FORM")]
    pub format: Format,
    /// Use colour: auto, always or never; `NO_COLOR` is respected.
    #[arg(long, global = true, help_heading = GLOBAL, value_enum, hide_possible_values = true,
        default_value_t = Color::Auto, value_name = "WHEN")]
    pub color: Color,
    /// Print only the answer and errors.
    #[arg(short, long, global = true, help_heading = GLOBAL)]
    pub quiet: bool,
    /// Print more: all counters, all steps.
    #[arg(short, long, global = true, help_heading = GLOBAL)]
    pub verbose: bool,
    /// Seed of random choices.
    #[arg(long, global = true, help_heading = GLOBAL, default_value_t = 0, value_name = "N")]
    pub seed: u64,
    /// Width of text in columns; by default that of the terminal.
    #[arg(long, global = true, help_heading = GLOBAL, value_name = "N", value_parser = width)]
    pub width: Option<usize>,
    /// Threads that work at once; by default one for each processor core. The answer is the same
    /// for any number.
    #[arg(long, global = true, help_heading = GLOBAL, value_name = "N", value_parser = threads)]
    pub threads: Option<usize>,
    /// Also read files that a plan or scenario names outside its folder.
    #[arg(long, global = true, help_heading = GLOBAL)]
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
    /// Translation logs only: messages of RFC 7011.
    Ipfix,
    /// Translation logs only: messages of RFC 5424.
    Syslog,
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

/// Columns of an answer.
impl Common {
    /// How many threads work at once.
    pub fn threads(&self) -> usize {
        let cores = || std::thread::available_parallelism().map_or(1, usize::from);
        self.threads.unwrap_or_else(|| cores().min(limits::THREADS))
    }
}

fn threads(text: &str) -> Result<usize, String> {
    let number = text.parse().ok().filter(|n| (1..=limits::THREADS).contains(n));
    number.ok_or_else(|| format!("write a number of threads from 1 to {}", limits::THREADS))
}

fn width(text: &str) -> Result<usize, String> {
    let number = text.parse().ok().filter(|n| (1..=limits::WIDTH).contains(n));
    number.ok_or_else(|| format!("write a number of columns from 1 to {}", limits::WIDTH))
}
