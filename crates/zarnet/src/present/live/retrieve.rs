//! The answer of `retrieve`.

use std::io::{self, Write};

use serde::Serialize;
use zarnet_analysis::answer::{Answer, Row};

use crate::present::table::{BOLD, CAUTION, DIM, GOOD, count};

/// What was retrieved.
pub struct Retrieved {
    /// Name of the device.
    pub device: String,
    /// The files that were written.
    pub files: Vec<String>,
    /// The version of its configuration.
    pub version: Option<String>,
    /// Rows of its table.
    pub rows: u64,
    /// Whether what is saved is what runs; none if the device does not tell.
    pub saved_is_running: Option<bool>,
    /// Where things stand that are in no plan.
    pub left_out: Vec<String>,
    /// What was taken where the device leaves it open.
    pub assumed: Vec<String>,
}

/// The answer as a shape.
#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct RetrievedShape<'a> {
    shape: u32,
    device: &'a str,
    files: &'a [String],
    version: Option<&'a str>,
    rows: u64,
    saved_is_running: Option<bool>,
    left_out: &'a [String],
    assumed: &'a [String],
}

impl Answer for Retrieved {
    type Shape<'s> = RetrievedShape<'s>;

    fn shape(&self) -> RetrievedShape<'_> {
        RetrievedShape {
            shape: zarnet_analysis::answer::SHAPE,
            device: &self.device,
            files: &self.files,
            version: self.version.as_deref(),
            rows: self.rows,
            saved_is_running: self.saved_is_running,
            left_out: &self.left_out,
            assumed: &self.assumed,
        }
    }

    fn columns(&self) -> &'static [&'static str] {
        &["file"]
    }

    fn rows(&self, out: &mut dyn Write) -> io::Result<()> {
        let mut row = Row::default();
        for file in &self.files {
            row.text(file);
            row.write(out)?;
        }
        Ok(())
    }
}

/// Writes the answer as text.
pub fn text(answer: &Retrieved, url: &str, out: &mut dyn Write) -> io::Result<()> {
    writeln!(out, "{BOLD}{}{BOLD:#} at {url}", answer.device)?;
    let told = |file: &str| match file.rsplit('/').next().unwrap_or(file) {
        "edge.toml" => "its running configuration, as a plan",
        "saved.toml" => "its saved configuration, as a plan",
        "table.csv" => "its table, for --observed",
        "counters.json" => "its counters",
        _ => "its running configuration, as it tells it",
    };
    let longest = answer.files.iter().map(String::len).max().unwrap_or(0);
    for file in &answer.files {
        writeln!(out, "  {file:longest$}  {DIM}{}{DIM:#}", told(file))?;
    }
    writeln!(out, "{}", count(answer.rows, "row in its table", "rows in its table"))?;
    match answer.saved_is_running {
        Some(true) => writeln!(out, "{GOOD}what runs is saved{GOOD:#}"),
        Some(false) => writeln!(
            out,
            "{CAUTION}what runs is not what is saved{CAUTION:#}: a restart would lose something; \
             `zarnet drift` shows it"
        ),
        None => writeln!(out, "{DIM}it does not tell what is saved{DIM:#}"),
    }
}
