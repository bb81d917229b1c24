//! What ordinary plans cost: the program on made-up traffic, each case in turn with a floor that is
//! measured in the same run. What counts is the ratio.
//!
//! `cargo bench -p zarnet --bench plans -- [--runs N] [--flows N] [--against PROGRAM] [CASE...]`
//! prints the whole table, or some of its lines. `--against` puts another build of the program in
//! place of the floors: `benches/compare` does that with another version.

mod cases;
mod floor;
mod measure;
mod rules;
mod traffic;

use std::error::Error;
use std::path::{Path, PathBuf};
use std::process::ExitCode;

use cases::{Case, Floor};
use measure::{Run, measured};
use traffic::Traffic;

/// The program that is measured.
const PROGRAM: &str = env!("CARGO_BIN_EXE_zarnet");

/// What was asked for.
struct Asked {
    runs: usize,
    flows: u64,
    against: Option<PathBuf>,
    cases: Vec<String>,
}

impl Asked {
    fn read(arguments: impl Iterator<Item = String>) -> Result<Self, Box<dyn Error>> {
        let mut asked = Self { runs: 5, flows: 1_000_000, against: None, cases: Vec::new() };
        let mut arguments = arguments.filter(|a| a != "--bench");
        while let Some(argument) = arguments.next() {
            let mut value = || arguments.next().ok_or(format!("{argument} needs a value"));
            match argument.as_str() {
                "--runs" => asked.runs = value()?.parse()?,
                "--flows" => asked.flows = value()?.parse()?,
                "--against" => asked.against = Some(value()?.into()),
                _ => asked.cases.push(argument),
            }
        }
        Ok(asked)
    }
}

fn main() -> ExitCode {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let done = match arguments.first().map(String::as_str) {
        Some("--floor") => floor::run(&arguments[1..]),
        Some("--measure") => measure::child(&arguments[1..]),
        _ => Asked::read(arguments.into_iter()).and_then(|asked| table(&asked)),
    };
    match done {
        Ok(()) => ExitCode::SUCCESS,
        Err(error) => {
            eprintln!("{error}");
            ExitCode::FAILURE
        }
    }
}

/// Measures every case that was asked for, and prints a line of each as it is known.
fn table(asked: &Asked) -> Result<(), Box<dyn Error>> {
    let folder = tempfile::tempdir()?;
    let traffic = Traffic::new(folder.path(), asked.flows);
    println!(
        "{:<28} {:>7} {:>15} {:>6} {:>6} {:>8} {:>8} {:>7}",
        "CASE", "RATIO", "[LEAST-MOST]", "GATE", "WALL", "FLOOR", "ZARNET", "MB"
    );
    let wanted = |c: &Case| asked.cases.is_empty() || asked.cases.iter().any(|n| n == c.name);
    for case in cases::all().into_iter().filter(wanted) {
        let line = line(&case, asked, &traffic, folder.path())?;
        println!("{line}");
    }
    Ok(())
}

fn line(
    case: &Case,
    asked: &Asked,
    traffic: &Traffic,
    folder: &Path,
) -> Result<String, Box<dyn Error>> {
    let plan = folder.join(format!("{}.toml", case.name.replace(' ', "-")));
    // an external address for a hundred thousand flows
    let addresses = (asked.flows / 100_000).clamp(1, 200).to_string();
    let text =
        case.plan.replace("192.0.2.1-192.0.2.10\"", &format!("192.0.2.1-192.0.2.{addresses}\""));
    std::fs::write(&plan, text)?;
    let new = plan.with_extension("new.toml");
    if let Some(text) = &case.new_plan {
        std::fs::write(&new, text)?;
    }
    let list = traffic.file(case.traffic)?;
    let command = |program: &str| {
        let [plan, new, list] = [&plan, &new, &list].map(|p| p.display().to_string());
        let words = case.command.iter().map(|w| match *w {
            "PLAN" => plan.clone(),
            "NEW" => new.clone(),
            "TRAFFIC" => list.clone(),
            word => word.to_owned(),
        });
        std::iter::once(program.to_owned()).chain(words).collect::<Vec<_>>()
    };
    let own = std::env::current_exe()?.display().to_string();
    let floor = match (&asked.against, case.floor) {
        (Some(program), _) => command(&program.display().to_string()),
        (None, Floor::Flows) => {
            vec![own, "--floor".into(), "flows".into(), traffic.plain()?, addresses]
        }
        (None, Floor::Packets) => {
            vec![own, "--floor".into(), "packets".into(), list.display().to_string(), "1".into()]
        }
        (None, Floor::Plan) => {
            vec![own, "--floor".into(), "plan".into(), plan.display().to_string()]
        }
        (None, Floor::Prediction) => {
            let words = ["predict", "--format", "csv"].map(str::to_owned);
            let files = [plan.display().to_string(), traffic.plain()?];
            std::iter::once(PROGRAM.to_owned()).chain(words).chain(files).collect()
        }
    };
    let mut pairs: Vec<(Run, Run)> = Vec::new();
    for _ in 0..asked.runs.max(1) {
        pairs.push((measured(&floor)?, measured(&command(PROGRAM))?));
    }
    Ok(told(case, &pairs))
}

/// A line of the table: the median of the ratios pair by pair, for times scatter more than ratios.
fn told(case: &Case, pairs: &[(Run, Run)]) -> String {
    let median = |mut list: Vec<f64>| {
        list.sort_by(f64::total_cmp);
        list[list.len() / 2]
    };
    let mut ratios: Vec<f64> = pairs.iter().map(|(a, b)| b.processor / a.processor).collect();
    ratios.sort_by(f64::total_cmp);
    let wall = median(pairs.iter().map(|(a, b)| b.wall / a.wall).collect());
    let floor = median(pairs.iter().map(|p| p.0.processor).collect());
    let program = median(pairs.iter().map(|p| p.1.processor).collect());
    let most = pairs.iter().map(|p| p.1.memory).max().unwrap_or(0);
    let spread = format!("[{:.1}-{:.1}]", ratios[0], ratios[ratios.len() - 1]);
    format!(
        "{:<28} {:>7.2} {:>15} {:>6} {:>6.2} {:>7.3}s {:>7.3}s {:>7}",
        case.name,
        ratios[ratios.len() / 2],
        spread,
        case.gate,
        wall,
        floor,
        program,
        most >> 20,
    )
}
