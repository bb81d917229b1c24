//! Logs recorded while they come, and when recording is killed.

use std::io::{BufRead, BufReader, Read};
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use serde_json::Value;

use super::logs::{BEGINS, json, log, log_arguments};
use super::{estate, text, zarnet};

/// Who had an external end at a moment of the demo's morning.
const WHOSE_AT: [&str; 7] = [
    "whose",
    "log-store",
    "203.0.113.2:49201/tcp",
    "--at",
    "2026-08-01T08:45:00Z",
    "--format",
    "json",
];

/// What a host had that day.
const WHOSE_OF_HOST: [&str; 8] =
    ["whose", "log-store", "--host", "10.61.16.13", "--during", "2026-08-01", "--format", "json"];

/// Sends the log of the demo's morning.
fn send(folder: &Path, form: &str, to: &str) {
    let run = [&log_arguments("morning.csv", form)[..], &["--to", to]].concat();
    let sent = zarnet(folder, &run, "");
    assert_eq!(sent.status.code(), Some(0), "{}", text(&sent));
}

/// A recorder that listens; where, by protocol.
struct Recorder {
    child: Child,
    places: Vec<String>,
}

impl Recorder {
    fn start(folder: &Path, listen: &[&str]) -> Self {
        let mut arguments = vec!["record", "log-store", "--format", "json"];
        listen.iter().for_each(|place| arguments.extend(["--listen", place]));
        let mut child = Command::new(env!("CARGO_BIN_EXE_zarnet"))
            .args(arguments)
            .current_dir(folder)
            .env_clear()
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        let mut told = BufReader::new(child.stderr.take().unwrap()).lines();
        let mut places = Vec::new();
        while places.len() < listen.len() {
            let line = told.next().unwrap().unwrap();
            places.extend(line.split_once("listening on ").map(|(_, place)| place.to_owned()));
        }
        // what it says later must not make it wait
        std::thread::spawn(move || told.for_each(drop));
        Self { child, places }
    }

    fn signal(&self, signal: &str) {
        let id = self.child.id().to_string();
        assert!(Command::new("kill").args([signal, &id]).status().unwrap().success());
    }

    /// Waits until so many events are said to be kept.
    fn wait_for(&mut self, events: u64) {
        let mut lines = BufReader::new(self.child.stdout.as_mut().unwrap()).lines();
        let since = Instant::now();
        loop {
            assert!(since.elapsed() < Duration::from_secs(60), "it does not keep {events} events");
            let line: Value = serde_json::from_str(&lines.next().unwrap().unwrap()).unwrap();
            if line["kept"].as_u64() >= Some(events) {
                return;
            }
        }
    }
}

#[cfg(unix)]
#[test]
fn logs_are_recorded_while_they_come_and_a_signal_ends_it_tidily() {
    let folder = estate();
    let path = folder.path();
    let mut recorder = Recorder::start(path, &["udp://127.0.0.1:0", "tcp://127.0.0.1:0"]);
    for (form, place) in [("ipfix", 0), ("ipfix", 1), ("syslog", 0), ("syslog", 1)] {
        send(path, form, &recorder.places[place]);
    }
    recorder.wait_for(4 * 3864);
    // while it listens
    let answer = json(path, &WHOSE_AT);
    assert_eq!(answer["answers"][0]["internal"]["address"], "10.61.16.11", "{answer}");
    recorder.signal("-TERM");
    let status = recorder.child.wait().unwrap();
    assert_eq!(status.code(), Some(143));
    assert_eq!(json(path, &WHOSE_AT), answer);
    let checked = json(path, &["record", "log-store", "--check", "--format", "json"]);
    assert_eq!(checked["faults"], Value::Array(Vec::new()));
}

#[cfg(unix)]
#[test]
fn a_stand_in_sends_its_log_as_it_is_made() {
    let folder = estate();
    let path = folder.path();
    let mut recorder = Recorder::start(path, &["udp://127.0.0.1:0"]);
    let mut stand_in = Command::new(env!("CARGO_BIN_EXE_zarnet"))
        .args([
            "stand-in",
            "harbour.toml",
            "--play",
            "morning.csv",
            "--at",
            "2h45m",
            "--speed",
            "0",
        ])
        .args(["--listen", "127.0.0.1:0", BEGINS[0], BEGINS[1], "--log-as", "mappings", "--log-to"])
        .arg(&recorder.places[0])
        .current_dir(path)
        .env_clear()
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    recorder.wait_for(2000);
    stand_in.kill().unwrap();
    stand_in.wait().unwrap();
    let answer = json(path, &WHOSE_AT);
    assert_eq!(answer["answers"][0]["internal"]["address"], "10.61.16.11", "{answer}");
    // it lives at that moment: its end is still to come
    assert_eq!(answer["answers"][0]["until"], Value::Null, "{answer}");
    recorder.signal("-TERM");
    recorder.child.wait().unwrap();
}

#[cfg(unix)]
#[test]
fn a_recorder_that_is_killed_loses_nothing_that_it_said_was_kept() {
    let folder = estate();
    let path = folder.path();
    let mut recorder = Recorder::start(path, &["tcp://127.0.0.1:0"]);
    send(path, "ipfix", &recorder.places[0]);
    recorder.wait_for(3864);
    recorder.signal("-KILL");
    recorder.child.wait().unwrap();
    let answer = json(path, &WHOSE_OF_HOST);
    assert_eq!(answer["answers"].as_array().map(Vec::len), Some(86));
    // the next one finds it in the journal
    let again = zarnet(path, &["record", "log-store", "--retain", "36500d"], "");
    assert!(text(&again).contains("3864 events of the journal"), "{}", text(&again));
    assert_eq!(json(path, &WHOSE_OF_HOST)["answers"], answer["answers"]);
}

/// Recording files is killed at any moment, over and over: what is there is whole, and in the end
/// nothing is missing. `KILLS=500` does it as often.
#[cfg(unix)]
#[test]
fn recording_that_is_killed_at_any_moment_leaves_whole_files() {
    let kills: u64 = std::env::var("KILLS").ok().and_then(|n| n.parse().ok()).unwrap_or(12);
    let folder = estate();
    let path = folder.path();
    log(path, "ipfix", "morning.ipfix", &["--as", "mappings"]);
    let record = || {
        Command::new(env!("CARGO_BIN_EXE_zarnet"))
            .args(["record", "log-store", "morning.ipfix", "--quiet"])
            .current_dir(path)
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap()
    };
    let begun = Instant::now();
    record().wait().unwrap();
    let whole = begun.elapsed();
    let answer = json(path, &WHOSE_OF_HOST)["answers"].clone();
    for n in 0..kills {
        let mut child = record();
        std::thread::sleep(whole.mul_f64(1.1 * (n * 7919 % kills) as f64 / kills as f64));
        let _ = child.kill();
        child.wait().unwrap();
        assert_eq!(json(path, &WHOSE_OF_HOST)["answers"], answer, "after {n} kills");
    }
    let mut last = String::new();
    record().wait().unwrap();
    let mut checked = Command::new(env!("CARGO_BIN_EXE_zarnet"))
        .args(["record", "log-store", "--check"])
        .current_dir(path)
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    checked.stdout.take().unwrap().read_to_string(&mut last).unwrap();
    assert_eq!(checked.wait().unwrap().code(), Some(0), "{last}");
}
