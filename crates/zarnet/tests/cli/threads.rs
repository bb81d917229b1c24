//! The same answer to the octet for any number of threads.

use std::fmt::Write as _;

use super::{estate, text, zarnet};

/// A list of so many flows of the demo's kiosks; `odd` puts a line in the middle.
fn list(flows: usize, odd: &str) -> String {
    let mut text =
        String::from("start,protocol,source,source-port,destination,destination-port,lasts\n");
    for i in 0..flows {
        if i == flows / 2 {
            text += odd;
        }
        let (host, port, at) = (11 + i % 80, 20_000 + i % 30_000, i as f64 / 50.0);
        let _ = writeln!(text, "{at:.2},tcp,10.61.16.{host},{port},198.51.100.80,443,4");
    }
    text
}

/// What a command answers on one thread, which it has to answer on any number.
fn on_any_number(arguments: &[&str], list: &str) -> String {
    let folder = estate();
    std::fs::write(folder.path().join("many.csv"), list).unwrap();
    let of = |threads: &str| {
        text(&zarnet(folder.path(), &[arguments, &["--threads", threads]].concat(), ""))
    };
    let one = of("1");
    for threads in ["2", "3", "64"] {
        assert_eq!(of(threads), one, "{arguments:?} with {threads} threads");
    }
    one
}

#[test]
fn answers_are_the_same_on_any_number_of_threads() {
    let many = list(9_000, "");
    for arguments in [
        &["predict", "harbour.toml", "many.csv"][..],
        &["predict", "harbour.toml", "many.csv", "--format", "json", "--at", "peak"],
        &["predict", "harbour.toml", "many.csv", "--timeline", "--at", "1m"],
        &["predict", "harbour.toml", "saturday.toml", "morning.csv", "--format", "csv"],
        &["predict", "harbour.toml", "quay.pcap.gz", "--seen-at", "harbour-edge/quay"],
        &["follow", "harbour.toml", "10.61.16.13 -> 198.51.100.80:443/tcp", "--during", "many.csv"],
        &["capacity", "harbour.toml", "saturday.toml", "--runs", "4"],
        &["rules", "harbour.toml", "many.csv"],
        &[
            "log",
            "harbour.toml",
            "many.csv",
            "--as",
            "mappings",
            "--format",
            "csv",
            "--begins",
            "2026-08-01T06:00:00Z",
        ],
    ] {
        on_any_number(arguments, &many);
    }
}

/// What is wrong in the middle, passed over or not, out of order, or named twice.
#[test]
fn so_are_faults_and_what_is_passed_over() {
    let predict = ["predict", "harbour.toml", "many.csv"];
    let wrong = list(9_000, "90,tcp,10.61.16.300,1,198.51.100.80,443,4\n");
    let told = on_any_number(&predict, &wrong);
    assert!(told.starts_with("exit 2") && told.contains("many.csv:4502"), "{told}");
    let skipped = on_any_number(&[&predict[..], &["--skip-bad"]].concat(), &wrong);
    assert!(skipped.contains("passed over: 1 lines"), "{skipped}");
    let late = list(9_000, "3,tcp,10.61.16.13,1,198.51.100.80,443,4\n");
    on_any_number(&predict, &late);
    on_any_number(&["predict", "harbour.toml", "many.csv", "many.csv"], &late);
}

#[test]
fn absurd_numbers_of_threads_are_refused() {
    let folder = estate();
    for threads in ["0", "257", "-1", "two", ""] {
        let output = zarnet(folder.path(), &["check", "harbour.toml", "--threads", threads], "");
        assert_eq!(output.status.code(), Some(2), "{threads}");
        assert!(output.stdout.is_empty(), "{threads}");
    }
}
