//! The arguments of `zarnet capacity`.

use super::{Reader, TableFile};
use clap::Args;
use std::path::PathBuf;
use std::time::Duration;
use zarnet_core::limits;
use zarnet_core::net::parse_span;

/// Arguments of the command `capacity`.
#[derive(Debug, Args)]
pub struct Capacity {
    /// Path of the plan file.
    pub plan: PathBuf,
    /// Flow lists, scenarios, captures or flows.
    #[arg(required_unless_present = "observed")]
    pub traffic: Vec<String>,
    /// Read a device's actual table instead of traffic, from a file (CSV or JSON; `-` for standard
    /// input) or from the device itself; may be repeated, the oldest first.
    #[arg(long, value_name = "FILE|https://...", conflicts_with = "traffic")]
    pub observed: Vec<String>,
    /// Say when each of several tables was taken, in their order (2026-08-01 or RFC 3339): growth
    /// is found by it.
    #[arg(long, value_name = "DATE", requires = "observed")]
    pub taken: Vec<String>,
    /// How it is read.
    #[command(flatten)]
    pub table: TableFile,
    /// List holders at this moment: a time (90, 2m30s), `peak` or `end`; by default the first
    /// refusal, or else the peak.
    #[arg(long, value_name = "TIME|peak|end", conflicts_with = "observed")]
    pub at: Option<String>,
    /// Look at this supply: a pool, an interface or an external address; by default all that ran
    /// out.
    #[arg(long, value_name = "NAME")]
    pub supply: Option<String>,
    /// Accept this share of refused requests in the busiest hour.
    #[arg(long, default_value = "0.1%", value_name = "PERCENT", value_parser = percent)]
    pub target: f64,
    /// Expect the load to grow by this much a month, and show when the target is missed.
    #[arg(long, value_name = "PERCENT", value_parser = percent)]
    pub growth: Option<f64>,
    /// Show what so many users need, and how many are refused with what there is.
    #[arg(long, value_name = "N", conflicts_with = "observed",
        value_parser = clap::value_parser!(u64).range(1..))]
    pub users: Option<u64>,
    /// Show from how much in use on an alert leaves this much time (90, 15m).
    #[arg(long, value_name = "TIME", conflicts_with = "observed", value_parser = span)]
    pub alert: Option<Duration>,
    /// Simulate each load this many times: load profiles with other draws, or the busiest hour of a
    /// list in other orders; 0 for none, 5 if they are soon played.
    #[arg(long, value_name = "N",
        value_parser = clap::value_parser!(u64).range(0..=limits::RUNS))]
    pub runs: Option<u64>,
    /// Show only what was in use: no simulations, no remedies.
    #[arg(long)]
    pub brief: bool,
    /// Show the change of this remedy instead of that of the best one.
    #[arg(long, value_name = "REMEDY", conflicts_with = "brief")]
    pub remedy: Option<String>,
    /// Write this remedy into the plan.
    #[arg(long, value_name = "REMEDY", conflicts_with_all = ["remedy", "brief", "observed"])]
    pub apply: Option<String>,
    /// Draw a chart into this file (.svg or .png).
    #[arg(long, value_name = "FILE")]
    pub chart: Option<PathBuf>,
    /// Overwrite that file if it exists; with --apply, also write a plan that is read-only, has
    /// several names, or cannot keep its owner.
    #[arg(long)]
    pub force: bool,
    /// Print every change of use instead of the summary; for --format csv or json.
    #[arg(long)]
    pub over_time: bool,
    /// Draw charts in the terminal in plain ASCII.
    #[arg(long)]
    pub ascii: bool,
    /// How traffic is read.
    #[command(flatten)]
    pub reader: Reader,
    /// Limit the rows of each table in text; 0 for all.
    #[arg(long, default_value_t = 8, value_name = "N")]
    pub rows: usize,
}

/// A share: `0.1%`, `5 %`. A bare number could be meant either way.
fn percent(text: &str) -> Result<f64, String> {
    let number = text.trim().strip_suffix('%').map(|n| n.trim().parse::<f64>());
    match (number, text.trim().parse::<f64>()) {
        (Some(Ok(n)), _) if n.is_finite() && n >= 0.0 => Ok(n / 100.0),
        (None, Ok(n)) => Err(format!("write the sign: {n}%")),
        _ => Err("write a share as 0.1%".to_owned()),
    }
}

/// A length of time above 0.
fn span(text: &str) -> Result<Duration, String> {
    match parse_span(text) {
        Ok(span) if !span.is_zero() => Ok(span),
        _ => Err("write seconds (90) or units (15m, 1h)".to_owned()),
    }
}
