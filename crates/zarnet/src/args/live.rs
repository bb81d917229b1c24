//! Arguments of what speaks with devices over the network.

use std::net::SocketAddr;
use std::path::PathBuf;
use std::time::Duration;

use clap::{Args, ValueEnum};
use zarnet_core::net::parse_span;
use zarnet_live::stand_in::Fault;

/// How devices are reached.
#[derive(Debug, Clone, Args)]
pub struct AccessOptions {
    /// File with `pin` or `ca`, and `token`, or `user` and `password`, or `certificate` and `key`,
    /// that only its owner may read; otherwise the one that ZARNET_ACCESS names.
    #[arg(long, value_name = "FILE")]
    pub access: Option<PathBuf>,
    /// Believe the certificate of the device this once, and add its fingerprint to that file.
    #[arg(long)]
    pub learn_pin: bool,
    /// Wait so long for an answer.
    #[arg(long, value_name = "TIME", default_value = "30s", value_parser = span)]
    pub wait: Duration,
}

fn span(text: &str) -> Result<Duration, String> {
    match parse_span(text) {
        Ok(span) if (Duration::from_millis(100)..=Duration::from_secs(3_600)).contains(&span) => {
            Ok(span)
        }
        Ok(_) => Err("from 100ms to 1h".into()),
        Err(error) => Err(error.to_string()),
    }
}

/// Arguments of the command `retrieve`.
#[derive(Debug, Args)]
pub struct Retrieve {
    /// Address of the device, such as https://localhost:8443.
    pub url: String,
    /// Folder to write the files into.
    #[arg(long, value_name = "DIR")]
    pub into: PathBuf,
    /// How the device is reached.
    #[command(flatten)]
    pub access: AccessOptions,
    /// Overwrite files that exist.
    #[arg(long)]
    pub force: bool,
}

/// Arguments of the command `send`.
#[derive(Debug, Args)]
pub struct Send {
    /// Path of the plan file.
    pub plan: PathBuf,
    /// Address of the device, such as https://localhost:8443.
    pub url: String,
    /// Device of the plan; may be left out if it has only one.
    #[arg(long, value_name = "NAME")]
    pub device: Option<String>,
    /// Write: without this, what differs is only shown.
    #[arg(long)]
    pub yes: bool,
    /// How the device is reached.
    #[command(flatten)]
    pub access: AccessOptions,
    /// Limit the rows of each table in text; 0 for all.
    #[arg(long, default_value_t = 30, value_name = "N")]
    pub rows: usize,
}

/// Arguments of the command `drift`.
#[derive(Debug, Args)]
pub struct DriftArgs {
    /// Path of the plan file.
    pub plan: PathBuf,
    /// Address of the device, such as https://localhost:8443.
    pub url: String,
    /// Device of the plan; may be left out if it has only one.
    #[arg(long, value_name = "NAME")]
    pub device: Option<String>,
    /// How the device is reached.
    #[command(flatten)]
    pub access: AccessOptions,
    /// Limit the rows of each table in text; 0 for all.
    #[arg(long, default_value_t = 30, value_name = "N")]
    pub rows: usize,
}

/// Arguments of the command `watch`.
#[derive(Debug, Args)]
pub struct Watch {
    /// Path of the plan file.
    pub plan: PathBuf,
    /// Address of the device, such as https://localhost:8443.
    pub url: String,
    /// Device of the plan; may be left out if it has only one.
    #[arg(long, value_name = "NAME")]
    pub device: Option<String>,
    /// Mark what differs from what this traffic makes by prediction.
    #[arg(long, value_name = "TRAFFIC")]
    pub during: Vec<String>,
    /// The moment of the prediction: a time (90, 2m30s), `peak` or `end`.
    #[arg(long, default_value = "end", value_name = "TIME|peak|end", requires = "during")]
    pub at: String,
    /// How traffic is read.
    #[command(flatten)]
    pub reader: super::Reader,
    /// Ask again after so long.
    #[arg(long, value_name = "TIME", default_value = "2s", value_parser = span)]
    pub every: Duration,
    /// Look once, and print what is there.
    #[arg(long)]
    pub once: bool,
    /// How the device is reached.
    #[command(flatten)]
    pub access: AccessOptions,
    /// Limit the rows of the table that is printed once; 0 for all.
    #[arg(long, default_value_t = 30, value_name = "N")]
    pub rows: usize,
}

/// When a stand-in saves its configuration.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Save {
    /// With each edit.
    WithEdit,
    /// By the save operation alone.
    Explicit,
}

/// Arguments of the command `stand-in`.
#[derive(Debug, Args)]
pub struct StandInArgs {
    /// Path of the plan file.
    pub plan: PathBuf,
    /// Play this traffic; may be repeated.
    #[arg(long, value_name = "TRAFFIC")]
    pub play: Vec<String>,
    /// Let time go so many times as fast; 0 lets it stand still.
    #[arg(long, default_value_t = 1.0, value_name = "N", value_parser = speed)]
    pub speed: f64,
    /// Begin at this moment of the traffic: a time (90, 2m30s).
    #[arg(long, default_value = "0", value_name = "TIME")]
    pub at: String,
    /// Send the translation log there as it is made: udp://HOST:PORT, tcp://HOST:PORT.
    #[arg(long, value_name = "WHERE")]
    pub log_to: Option<String>,
    /// Log this of every rule, whatever the plan says: sessions, mappings or blocks.
    #[arg(long, value_enum, hide_possible_values = true, value_name = "WHAT", requires = "log_to")]
    pub log_as: Option<super::LogAs>,
    /// Send it as syslog instead of IPFIX.
    #[arg(long, requires = "log_to")]
    pub log_syslog: bool,
    /// Write where each device is, its fingerprint and its token into this file, for --access.
    #[arg(long, value_name = "FILE")]
    pub access: Option<PathBuf>,
    /// Write the certificate of each device into this file as well (PEM).
    #[arg(long, value_name = "FILE")]
    pub certificate: Option<PathBuf>,
    /// Listen here; further devices at the ports behind it, with port 0 anywhere.
    #[arg(long, default_value = "127.0.0.1:8443", value_name = "ADDRESS:PORT")]
    pub listen: SocketAddr,
    /// Stand in for this device only.
    #[arg(long, value_name = "NAME")]
    pub device: Option<String>,
    /// Be a device that knows the standard modules alone.
    #[arg(long)]
    pub without_policy: bool,
    /// When the running configuration is saved; by default explicit, with each edit without policy.
    #[arg(long, value_enum, value_name = "WHEN")]
    pub save: Option<Save>,
    /// Fail on purpose: late, drop, drop-after, afterwards, conflict, partial, wrong, refuse,
    /// forget, restart, endless, silent.
    #[arg(long, value_name = "FAULT,...", value_delimiter = ',')]
    pub misbehave: Vec<Fault>,
    /// Let one in so many requests fail.
    #[arg(long, default_value_t = 3, value_name = "N", requires = "misbehave")]
    pub one_in: u64,
    /// How traffic is read.
    #[command(flatten)]
    pub reader: super::Reader,
    /// Overwrite those files if they exist.
    #[arg(long)]
    pub force: bool,
}

fn speed(text: &str) -> Result<f64, String> {
    match text.parse::<f64>() {
        Ok(n) if (0.0..=1e6).contains(&n) => Ok(n),
        _ => Err("a number from 0 to 1000000".into()),
    }
}
