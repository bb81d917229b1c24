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
