//! Translation logs: written, recorded, asked.

use std::path::Path;

use serde_json::Value;

use super::{estate, snapshot, text, zarnet};

pub(super) const BEGINS: [&str; 2] = ["--begins", "2026-08-01T06:00:00Z"];

/// Writes the log of the demo's morning.
pub(super) fn log(folder: &Path, form: &str, name: &str, more: &[&str]) {
    let mut arguments = vec!["log", "harbour.toml", "morning.csv", "--format", form];
    arguments.extend(BEGINS);
    arguments.extend(more);
    let output = zarnet(folder, &arguments, "");
    assert_eq!(output.status.code(), Some(0), "{}", text(&output));
    std::fs::write(folder.join(name), output.stdout).unwrap();
}

/// Logs the mappings of traffic of the demo's morning.
pub(super) fn log_arguments<'a>(traffic: &'a str, form: &'a str) -> [&'a str; 9] {
    let [option, begins] = BEGINS;
    ["log", "harbour.toml", traffic, option, begins, "--as", "mappings", "--format", form]
}

/// What the program prints as JSON.
pub(super) fn json(folder: &Path, arguments: &[&str]) -> Value {
    let output = zarnet(folder, arguments, "");
    serde_json::from_slice(&output.stdout).unwrap_or_else(|_| panic!("{}", text(&output)))
}

#[test]
fn the_log_of_a_morning_is_shown_and_summed_up() {
    let folder = estate();
    let arguments = ["log", "harbour.toml", "morning.csv", BEGINS[0], BEGINS[1]];
    let with = |more: &[&str]| zarnet(folder.path(), &[&arguments[..], more].concat(), "");
    snapshot("log.txt", &with(&["--as", "mappings", "--rows", "12", "--width", "120"]));
    snapshot("log-summary.txt", &with(&["--summary"]));
    snapshot("log-summary-json.txt", &with(&["--summary", "--format", "json"]));
    let flow = "kiosk-3 -> 198.51.100.80:443/tcp";
    let one = ["log", "harbour.toml", flow, BEGINS[0], BEGINS[1], "--as", "sessions"];
    let more = ["--with-peers", "--format", "syslog"];
    let sessions = zarnet(folder.path(), &[&one[..], &more].concat(), "");
    snapshot("log-syslog.txt", &sessions);
}

#[test]
fn what_is_wrong_with_a_log_is_said_before_it_is_written() {
    let folder = estate();
    let run = |arguments: &[&str]| zarnet(folder.path(), arguments, "");
    let told = [
        run(&["log", "harbour.toml", "morning.csv", "--as", "mappings"]),
        run(&["log", "harbour.toml", "morning.csv", BEGINS[0], BEGINS[1]]),
        run(&["log", "harbour.toml", "morning.csv", BEGINS[0], BEGINS[1], "--as", "blocks"]),
        run(&["predict", "harbour.toml", "--format", "ipfix"]),
        run(&["log", "harbour.toml", "morning.csv", "--begins", "yesterday"]),
        run(&[
            "log",
            "harbour.toml",
            "morning.csv",
            BEGINS[0],
            BEGINS[1],
            "--as",
            "mappings",
            "--to",
            "127.0.0.1:4739",
        ]),
        run(&["whose", "nowhere", "203.0.113.2:49201/tcp", "--at", "2026-08-01T08:45:00Z"]),
        run(&["whose", "nowhere", "harbour:1", "--at", "2026-08-01T08:45:00Z"]),
        run(&["whose", "nowhere", "203.0.113.2", "--at", "2026-08-01T08:45"]),
        run(&["record", "store"]),
        run(&["record", "store", "harbour.toml"]),
        run(&["record", ".", "morning.csv"]),
    ];
    let told: Vec<String> = told.iter().map(text).collect();
    super::snapshot_of("log-errors.txt", told.join("\n"));
}

#[test]
fn a_morning_is_recorded_and_asked() {
    let folder = estate();
    let path = folder.path();
    log(path, "ipfix", "morning.ipfix", &["--as", "mappings"]);
    let run = |arguments: &[&str]| zarnet(path, arguments, "");
    snapshot("record.txt", &run(&["record", "log-store", "morning.ipfix"]));
    let asked = ["whose", "log-store", "203.0.113.2:49201/tcp", "--at", "2026-08-01T08:45:00Z"];
    snapshot("whose.txt", &run(&[&asked[..], &["--width", "140"]].concat()));
    snapshot(
        "whose-json.txt",
        &run(&[&asked[..], &["--plan", "harbour.toml", "--format", "json"]].concat()),
    );
    snapshot(
        "whose-csv.txt",
        &run(&[
            "whose",
            "log-store",
            "--host",
            "10.61.16.13",
            "--during",
            "2026-08-01T06:00:00Z..2026-08-01T06:30:00Z",
            "--format",
            "csv",
        ]),
    );
    snapshot(
        "whose-nobody.txt",
        &run(&["whose", "log-store", "203.0.113.2:49201/tcp", "--at", "2026-08-01T14:45:00+02:00"]),
    );
    snapshot("record-check.txt", &run(&["record", "log-store", "--check"]));
}

/// The logs that decoders by others have judged (`.ci/judges`): as they are written now.
#[test]
fn the_judged_logs_are_what_is_written() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../judged/logs");
    let folder = tempfile::tempdir().unwrap();
    for name in ["edge.toml", "edge.csv"] {
        std::fs::copy(root.join(name), folder.path().join(name)).unwrap();
    }
    for what in ["sessions", "mappings", "blocks"] {
        for form in ["ipfix", "csv"] {
            let mut arguments =
                vec!["log", "edge.toml", "edge.csv", "--as", what, "--format", form];
            arguments.extend(BEGINS);
            arguments.extend((what == "sessions").then_some("--with-peers"));
            let written = zarnet(folder.path(), &arguments, "").stdout;
            let judged = root.join(format!("{what}.{form}"));
            if std::env::var("SNAPSHOTS").is_ok_and(|v| v == "overwrite") {
                std::fs::write(&judged, &written).unwrap();
            }
            assert!(written == std::fs::read(&judged).unwrap(), "{}", judged.display());
        }
    }
}

#[test]
fn a_list_that_is_out_of_order_is_logged_in_order() {
    let folder = estate();
    let path = folder.path();
    let morning = std::fs::read_to_string(path.join("morning.csv")).unwrap();
    let (head, rows) = morning.split_once('\n').unwrap();
    let mut rows: Vec<&str> = rows.lines().collect();
    // the last of them, in the middle
    let last = rows.pop().unwrap();
    rows.insert(rows.len() / 2, last);
    std::fs::write(path.join("mixed.csv"), format!("{head}\n{}\n", rows.join("\n"))).unwrap();
    for form in ["ipfix", "csv", "json", "syslog"] {
        let [sorted, mixed] = ["morning.csv", "mixed.csv"]
            .map(|traffic| zarnet(path, &log_arguments(traffic, form), "").stdout);
        assert!(!sorted.is_empty() && sorted == mixed, "{form}");
    }
}

#[test]
fn the_three_formats_say_the_same() {
    let folder = estate();
    let path = folder.path();
    let mut answers = Vec::new();
    for form in ["ipfix", "syslog", "csv"] {
        log(path, form, form, &["--as", "sessions"]);
        let recorded = json(path, &["record", &format!("{form}-store"), form, "--format", "json"]);
        assert_eq!(recorded["logs"][0]["format"], form);
        let mut counts = recorded.clone();
        counts.as_object_mut().unwrap().remove("logs");
        let asked = [
            "whose",
            &format!("{form}-store"),
            "--host",
            "10.61.16.13",
            "--during",
            "2026-08-01",
            "--format",
            "csv",
        ];
        answers.push((counts, text(&zarnet(path, &asked, ""))));
    }
    assert_eq!(answers[0], answers[1]);
    assert_eq!(answers[1], answers[2]);
}

#[test]
fn a_log_at_a_moment_is_the_table_of_that_moment() {
    let folder = estate();
    let path = folder.path();
    log(path, "ipfix", "morning.ipfix", &["--as", "mappings"]);
    log(path, "syslog", "morning.log", &["--as", "mappings"]);
    for (file, at) in [
        ("morning.ipfix", "2h45m"),
        ("morning.log", "2h45m"),
        ("morning.ipfix", "end"),
        ("morning.ipfix", "1h"),
    ] {
        let arguments = ["compare", "harbour.toml", "morning.csv", BEGINS[0], BEGINS[1]];
        let more = ["--observed", file, "--at", at, "--format", "json"];
        let compared = json(path, &[&arguments[..], &more].concat());
        assert_eq!(compared["differences"].as_array().map(Vec::len), Some(0), "{compared}");
    }
}
