//! The arguments of `zarnet capacity`.

use super::{Reader, TableFile};
use clap::Args;
use std::path::PathBuf;
use zarnet_core::limits;

/// Arguments of the command `capacity`.
#[derive(Debug, Args)]
pub struct Capacity {
    /// Path of the plan file.
    pub plan: PathBuf,
    /// Flow lists, scenarios, captures, flows.
    #[arg(required_unless_present = "observed")]
    pub traffic: Vec<String>,
    /// A table that a device has, instead of traffic: CSV or JSON; `-` for standard input.
    #[arg(long, value_name = "FILE", conflicts_with = "traffic")]
    pub observed: Option<PathBuf>,
    /// How it is read.
    #[command(flatten)]
    pub table: TableFile,
    /// Moment at which holders are told: a time (90, 2m30s), `peak` or `end`; if left out, when
    /// each supply first refused somebody, or else the peak.
    #[arg(long, value_name = "TIME|peak|end", conflicts_with = "observed")]
    pub at: Option<String>,
    /// Supply to look at: the name of a pool or interface, or an external address; all that ran out
    /// if left out.
    #[arg(long, value_name = "NAME")]
    pub supply: Option<String>,
    /// Share of requests that may be refused in the busiest hour.
    #[arg(long, default_value = "0.1%", value_name = "PERCENT", value_parser = percent)]
    pub target: f64,
    /// Growth of the load a month, to tell when the target will be missed.
    #[arg(long, value_name = "PERCENT", value_parser = percent)]
    pub growth: Option<f64>,
    /// Simulations of each load, where the traffic has load profiles; 0 for none.
    #[arg(long, default_value_t = 5, value_name = "N",
        value_parser = clap::value_parser!(u64).range(0..=limits::RUNS))]
    pub runs: u64,
    /// Only what was in use: no simulations, no remedies.
    #[arg(long)]
    pub brief: bool,
    /// Show the change of the plan that this remedy is, instead of that of the best one.
    #[arg(long, value_name = "REMEDY")]
    pub remedy: Option<String>,
    /// Write this remedy into the plan.
    #[arg(long, value_name = "REMEDY", conflicts_with = "remedy")]
    pub apply: Option<String>,
    /// Draw a picture into this file: .svg or .png.
    #[arg(long, value_name = "FILE")]
    pub chart: Option<PathBuf>,
    /// Overwrite that file if it is there; with --apply, write the plan even if it is read-only,
    /// has several names, or cannot keep its owner.
    #[arg(long)]
    pub force: bool,
    /// Every change of what was in use, instead of the summary; for --format csv or json.
    #[arg(long)]
    pub over_time: bool,
    /// Charts on the terminal in plain ASCII.
    #[arg(long)]
    pub ascii: bool,
    /// How traffic is read.
    #[command(flatten)]
    pub reader: Reader,
    /// Rows of a table shown as text; 0 is all.
    #[arg(long, default_value_t = 8, value_name = "N")]
    pub rows: usize,
}

/// A share: `0.1%`, `5 %`, or `0.001`.
fn percent(text: &str) -> Result<f64, String> {
    let (number, scale) = match text.trim().strip_suffix('%') {
        Some(number) => (number, 100.0),
        None => (text, 1.0),
    };
    match number.trim().parse::<f64>() {
        Ok(n) if n.is_finite() && n >= 0.0 => Ok(n / scale),
        _ => Err("write a share as 0.1% or 0.001".to_owned()),
    }
}
