//! What a command takes: a process of its own waits for each, so that what the system counts of its
//! children is of that one alone.

use std::error::Error;
use std::process::{Command, Stdio};
use std::time::Instant;

use nix::sys::resource::{UsageWho, getrusage};

/// What one run took.
#[derive(Debug, Clone, Copy)]
pub struct Run {
    /// Seconds of processor time, of all threads and of the system for them.
    pub processor: f64,
    /// Seconds by the clock.
    pub wall: f64,
    /// Octets of memory at the peak.
    pub memory: u64,
}

/// Runs a command, its answer thrown away.
pub fn measured(command: &[String]) -> Result<Run, Box<dyn Error>> {
    let output = Command::new(std::env::current_exe()?)
        .arg("--measure")
        .args(command)
        .stderr(Stdio::inherit())
        .output()?;
    let text = String::from_utf8(output.stdout)?;
    let mut numbers = text.split_whitespace().map(str::parse::<f64>);
    let mut next = || numbers.next().ok_or(format!("{command:?} could not be measured"));
    let (processor, wall, memory) = (next()??, next()??, next()??);
    Ok(Run { processor, wall, memory: memory as u64 })
}

/// Waits for a command and prints what it took. Exit code 1 of the program is an answer.
pub fn child(command: &[String]) -> Result<(), Box<dyn Error>> {
    let (program, arguments) = command.split_first().ok_or("no command")?;
    let started = Instant::now();
    let status = Command::new(program).args(arguments).stdout(Stdio::null()).status()?;
    let wall = started.elapsed().as_secs_f64();
    if !matches!(status.code(), Some(0 | 1)) {
        return Err(format!("{command:?}: {status}").into());
    }
    let usage = getrusage(UsageWho::RUSAGE_CHILDREN)?;
    let seconds = |t: nix::sys::time::TimeVal| t.tv_sec() as f64 + t.tv_usec() as f64 / 1e6;
    let processor = seconds(usage.user_time()) + seconds(usage.system_time());
    println!("{processor} {wall} {}", usage.max_rss() * 1024);
    Ok(())
}
