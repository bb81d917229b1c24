//! Traffic from files, standard input and scenarios; a reader that goes away.

use std::path::Path;
use std::process::{Command, Stdio};

use super::plans::FLOOD;
use super::{estate, text, zarnet};

/// `-` is standard input; a list that is not in order is sorted; JSON, CSV and text tell the same.
#[test]
fn lists_come_from_anywhere_in_any_order() {
    let folder = estate();
    let sorted = "start,protocol,source,source-port,destination,destination-port\n\
                  0,udp,kiosk-1,5000,198.51.100.53,53\n1,udp,kiosk-2,5000,198.51.100.53,53\n";
    let shuffled = "start,protocol,source,source-port,destination,destination-port\n\
                    1,udp,kiosk-2,5000,198.51.100.53,53\n0,udp,kiosk-1,5000,198.51.100.53,53\n";
    let run =
        |input| zarnet(folder.path(), &["predict", "harbour.toml", "-", "--format", "csv"], input);
    assert_eq!(text(&run(sorted)), text(&run(shuffled)));
    let out = text(&run(sorted));
    assert!(out.contains("udp,10.61.16.12,5000,203.0.113.2,5001,"), "{out}");
}

/// A host that only the traffic knows answers from the beginning.
#[test]
fn an_undeclared_host_is_there_before_it_first_sends() {
    let folder = estate();
    let list = "start,protocol,source,destination,destination-port\n0,udp,kiosk-1,10.61.17.77,9\n\
                5,udp,10.61.17.77,198.51.100.53,53\n";
    let output = zarnet(folder.path(), &["predict", "harbour.toml", "-", "--format", "json"], list);
    let out = text(&output);
    assert!(out.contains("\"on-link\"") && out.contains("\"translated\": 1"), "{out}");
}

/// A plan with one fault each: its expectation fails for the reason that its head tells, and `demo`
/// writes all of them.
#[test]
fn every_fault_shows_as_it_says() {
    let folder = tempfile::tempdir().unwrap();
    assert_eq!(zarnet(folder.path(), &["demo", "-q"], "").status.code(), Some(0));
    let here = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/faults");
    let mut names: Vec<_> =
        std::fs::read_dir(here).unwrap().map(|f| f.unwrap().file_name()).collect();
    names.sort();
    names.retain(|n| n.to_string_lossy().ends_with(".toml"));
    assert!(names.len() >= 40);
    for name in names {
        let path = folder.path().join("saltmere/faults").join(&name);
        let text = std::fs::read_to_string(&path)
            .unwrap_or_else(|e| panic!("demo does not write {name:?}: {e}"));
        let shows = text.lines().find_map(|l| l.strip_prefix("# Shows as: ")).unwrap();
        let flow = text.split("[[expect]]").nth(1).unwrap().split('"').nth(1).unwrap();
        let with = text.lines().find_map(|l| l.strip_prefix("# With: ")).unwrap_or("");
        // words, of which one in quotes may hold spaces
        let with = with.split('"').enumerate().flat_map(|(i, part)| match i % 2 {
            0 => part.split_whitespace().collect(),
            _ => vec![part],
        });
        let with: Vec<&str> = with.collect();
        let answer = |command: &str| -> serde_json::Value {
            let words =
                [&[command, path.to_str().unwrap(), flow, "--format", "json"], &with[..]].concat();
            let output = zarnet(path.parent().unwrap(), &words, "");
            serde_json::from_slice(&output.stdout)
                .unwrap_or_else(|e| panic!("{name:?}: {e} {}", self::text(&output)))
        };
        let followed = answer("follow");
        assert_eq!(followed["reason"].as_str().unwrap_or("answered"), shows, "{name:?}");
        let why = answer("why");
        let causes: Vec<&str> =
            why["causes"].as_array().unwrap().iter().map(|c| c.as_str().unwrap()).collect();
        let wanted = text.lines().find_map(|l| l.strip_prefix("# Cause: ")).unwrap();
        assert_eq!(
            (why["works"].as_bool(), causes.join(" + ").as_str()),
            (Some(false), wanted),
            "{name:?}"
        );
        for repair in why["repairs"].as_array().unwrap() {
            assert_eq!(repair["works"], true, "{name:?}");
        }
    }
}

/// The day is played again for each repair, also where it comes from standard input.
#[test]
fn a_day_from_standard_input_is_played_for_every_repair() {
    let faults = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/faults");
    let list =
        "start,protocol,source,destination,destination-port\n0,tcp,till-2,198.51.100.80,443\n";
    let words = [
        "why",
        "pool-exhausted.toml",
        "till -> 198.51.100.80:443/tcp",
        "--format",
        "json",
        "--during",
    ];
    let answer = |during: &str, input: &str| -> serde_json::Value {
        serde_json::from_slice(&zarnet(&faults, &[&words[..], &[during]].concat(), input).stdout)
            .unwrap()
    };
    let typed = answer("till-2 -> 198.51.100.80:443/tcp", "");
    assert_eq!(typed["repairs"].as_array().unwrap().len(), 3);
    assert_eq!(answer("-", list), typed);
}

/// What no machine has room for is said before, not found out after an hour.
#[test]
fn more_than_there_is_memory_for_is_refused() {
    let folder = estate();
    std::fs::write(folder.path().join("flood.toml"), FLOOD.replace("RATE", "9000000")).unwrap();
    for command in ["capacity", "predict"] {
        let output = zarnet(folder.path(), &[command, "terminal.toml", "flood.toml"], "");
        assert_eq!(output.status.code(), Some(2));
        let said = String::from_utf8(output.stderr).unwrap();
        assert!(
            said.contains("error[too-much-memory]: the load profiles need about 1134.0 GB"),
            "{said}"
        );
    }
}

/// A reader that goes away is no failure.
#[test]
fn a_closed_pipe_is_silent() {
    let folder = estate();
    let mut child = Command::new(env!("CARGO_BIN_EXE_zarnet"))
        .args(["predict", "harbour.toml", "morning.csv", "--rows", "0", "--at", "peak"])
        .current_dir(folder.path())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    drop(child.stdout.take());
    let output = child.wait_with_output().unwrap();
    assert_eq!(String::from_utf8_lossy(&output.stderr), "");
    assert!(matches!(output.status.code(), Some(0 | 1)));
}
