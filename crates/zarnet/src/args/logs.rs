//! Arguments of the commands about translation logs.

use std::path::PathBuf;

use clap::{Args, ValueEnum};

use super::Reader;

/// What of every rule is logged.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum LogAs {
    /// Every session.
    Sessions,
    /// Every mapping.
    Mappings,
    /// Blocks of ports only.
    Blocks,
}

/// Arguments of the command `log`.
#[derive(Debug, Args)]
pub struct LogArgs {
    /// Path of the plan file.
    pub plan: PathBuf,
    /// Flow lists, scenarios, captures or flows.
    #[arg(required = true)]
    pub traffic: Vec<String>,
    /// Log this of every rule, whatever the plan says: sessions, mappings or blocks.
    #[arg(long = "as", value_enum, hide_possible_values = true, value_name = "WHAT")]
    pub as_: Option<LogAs>,
    /// Log the far end of every session too (RFC 6888 advises against it).
    #[arg(long)]
    pub with_peers: bool,
    /// Show how much log each choice makes, instead of the log.
    #[arg(long, conflicts_with_all = ["as_", "to"])]
    pub summary: bool,
    /// Write the log into this file instead of standard output.
    #[arg(long, value_name = "FILE", conflicts_with_all = ["summary", "to"])]
    pub into: Option<PathBuf>,
    /// Overwrite that file if it exists.
    #[arg(long, requires = "into")]
    pub force: bool,
    /// Send the log there, as IPFIX or with `--format syslog`: udp://HOST:PORT, tcp://HOST:PORT.
    #[arg(long, value_name = "WHERE")]
    pub to: Option<String>,
    /// Send so many events a second at most; 0 for as many as the other end takes.
    #[arg(long, default_value_t = 20_000, value_name = "N", requires = "to")]
    pub rate: u32,
    /// Log only this device.
    #[arg(long, value_name = "NAME")]
    pub device: Option<String>,
    /// How traffic is read.
    #[command(flatten)]
    pub reader: Reader,
    /// Limit the rows in text; 0 for all.
    #[arg(long, default_value_t = 30, value_name = "N")]
    pub rows: usize,
}

/// Arguments of the command `record`.
#[derive(Debug, Args)]
pub struct RecordArgs {
    /// Folder of the store; made if it is not there.
    pub store: PathBuf,
    /// Logs: IPFIX, syslog or CSV, packed or not; `-` for standard input.
    pub logs: Vec<String>,
    /// Take logs here while they come, until a signal ends it: udp://HOST:PORT, tcp://HOST:PORT; may
    /// be repeated.
    #[arg(long, value_name = "WHERE")]
    pub listen: Vec<String>,
    /// Column numbers of CSV, if its header does not use Zarnet's names: time=1,event=2,... or
    /// begun=1,ended=2,...
    #[arg(long, value_name = "NAME=NUMBER,...")]
    pub columns: Option<String>,
    /// Device that a log is of, if it does not say.
    #[arg(long, value_name = "NAME")]
    pub device: Option<String>,
    /// Remove what ended longer ago than this: 180d, 26w.
    #[arg(long, value_name = "SPAN", value_parser = days)]
    pub retain: Option<i64>,
    /// Read every file of the store and report those that are not as they were written.
    #[arg(long, conflicts_with_all = ["logs", "listen", "retain"])]
    pub check: bool,
}

/// A span of days, in milliseconds.
fn days(text: &str) -> Result<i64, String> {
    let (number, times) = match text.strip_suffix('w') {
        Some(number) => (number, 7),
        None => (text.strip_suffix('d').unwrap_or(text), 1),
    };
    let number = number.parse::<i64>().ok().filter(|n| (1..=36_500).contains(n));
    number.map(|n| n * times * 86_400_000).ok_or_else(|| "write days or weeks: 180d, 26w".into())
}

/// Arguments of the command `whose`.
#[derive(Debug, Args)]
pub struct WhoseArgs {
    /// Folder of the store.
    pub store: PathBuf,
    /// External address, with its port and protocol if they are known: 203.0.113.2:49201/tcp.
    #[arg(required_unless_present = "host", conflicts_with = "host")]
    pub endpoint: Option<String>,
    /// Show all that this internal host had, instead.
    #[arg(long, value_name = "ADDRESS")]
    pub host: Option<std::net::IpAddr>,
    /// The moment: 2026-08-01T08:45:00Z, with any offset.
    #[arg(long, value_name = "TIME", required_unless_present = "during")]
    pub at: Option<String>,
    /// A day (UTC), or two moments: 2026-08-01, 2026-08-01T08:00:00Z..2026-08-01T09:00:00Z.
    #[arg(long, value_name = "DAY|FROM..UNTIL", conflicts_with = "at")]
    pub during: Option<String>,
    /// Clocks may differ by this much: 2s, 500ms; by default by as much as was noted when the logs
    /// came.
    #[arg(long, value_name = "SPAN")]
    pub within: Option<String>,
    /// Look only at this device.
    #[arg(long, value_name = "NAME")]
    pub device: Option<String>,
    /// Take names of hosts from this plan.
    #[arg(long, value_name = "PLAN")]
    pub plan: Option<PathBuf>,
    /// Limit the rows in text; 0 for all.
    #[arg(long, default_value_t = 30, value_name = "N")]
    pub rows: usize,
}
