//! The program itself, on files in a temporary folder. What it prints is held against snapshots that somebody has read:
//! exit code, standard output, standard error. `SNAPSHOTS=overwrite cargo test` writes them anew, to be read again.

use std::io::Write;
use std::path::Path;
use std::process::{Command, Output, Stdio};

use snapbox::{Assert, Data};

/// Runs the program in a folder, with nothing of the environment that could change what it prints.
fn zarnet(folder: &Path, arguments: &[&str], input: &str) -> Output {
    let mut child = Command::new(env!("CARGO_BIN_EXE_zarnet"))
        .args(arguments)
        .current_dir(folder)
        .env_clear()
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    let _ = child.stdin.take().unwrap().write_all(input.as_bytes());
    child.wait_with_output().unwrap()
}

fn text(output: &Output) -> String {
    let part = |bytes: &[u8]| String::from_utf8(bytes.to_vec()).unwrap();
    let code = output.status.code().unwrap();
    format!("exit {code}\n--- out\n{}--- err\n{}", part(&output.stdout), part(&output.stderr))
}

fn snapshot(name: &str, output: &Output) {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/snapshots").join(name);
    Assert::new().action_env("SNAPSHOTS").eq(text(output), Data::read_from(&path, None));
}

/// A folder with the demo estate in it.
fn estate() -> tempfile::TempDir {
    let folder = tempfile::tempdir().unwrap();
    let demo = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/saltmere");
    for name in ["harbour.toml", "morning.csv", "quay.pcap.gz"] {
        std::fs::copy(demo.join(name), folder.path().join(name)).unwrap();
    }
    folder
}

#[test]
fn what_it_prints() {
    let folder = estate();
    let file = |name: &str, text: &str| std::fs::write(folder.path().join(name), text).unwrap();
    file(
        "broken.toml",
        "plan = \"x\"\n[[device]]\nname = \"edge\"\ndefault-polcy = \"drop\"\n  [[device.rule]]\n  name = \"a\"\n  type = \"overload\"\n  as = \"uplnk\"\n",
    );
    file("risky.toml", RISKY);
    file(
        "bad.csv",
        "start,protocol,source,destination,destination-port\n0,tcp,kiosk-9,198.51.100.80,443\n1,tcp,kiosk-1,198.51.100.80,99999\n2,udp,kiosk-1,198.51.100.53,53\n",
    );
    let flow = "kiosk-3 -> 198.51.100.80:443/tcp";
    let capture: &[&str] = &["predict", "harbour.toml", "quay.pcap.gz", "--seen-at", "harbour-edge/quay", "--sessions"];
    let cases: &[(&str, &[&str])] = &[
        ("check-fine.txt", &["check", "harbour.toml"]),
        ("check-errors.txt", &["check", "broken.toml"]),
        ("check-errors-json.txt", &["check", "broken.toml", "--format", "json"]),
        ("check-findings.txt", &["check", "risky.toml"]),
        ("predict-flow.txt", &["predict", "harbour.toml", flow, "--sessions"]),
        ("predict-flow-80.txt", &["predict", "harbour.toml", flow, "--sessions", "--width", "80"]),
        ("predict-flow-json.txt", &["predict", "harbour.toml", flow, "--format", "json"]),
        ("predict-flow-csv.txt", &["predict", "harbour.toml", flow, "--format", "csv"]),
        ("predict-morning.txt", &["predict", "harbour.toml", "morning.csv", "--at", "2h45m", "--rows", "12", "-v"]),
        ("predict-peak.txt", &["predict", "harbour.toml", "morning.csv", "--at", "peak", "--rows", "4"]),
        ("predict-empty.txt", &["predict", "risky.toml", "10.0.0.5 -> 198.51.100.1:1/udp", "--at", "1h"]),
        ("predict-capture.txt", capture),
        ("predict-capture-nowhere.txt", &["predict", "harbour.toml", "quay.pcap.gz"]),
        ("predict-bad-lines.txt", &["predict", "harbour.toml", "bad.csv"]),
        ("predict-skip-bad.txt", &["predict", "harbour.toml", "bad.csv", "--skip-bad", "--rows", "4"]),
        ("predict-no-plan.txt", &["predict", "harbor.toml", "morning.csv"]),
        ("predict-no-interface.txt", &["predict", "harbour.toml", "quay.pcap.gz", "--seen-at", "harbour-edge/key"]),
        ("predict-no-time.txt", &["predict", "harbour.toml", "morning.csv", "--at", "noon"]),
        ("help.txt", &["--help"]),
        ("help-predict.txt", &["predict", "--help"]),
        ("demo.txt", &["demo"]),
    ];
    for (name, arguments) in cases {
        snapshot(name, &zarnet(folder.path(), arguments, ""));
    }
}

const RISKY: &str = r#"
[[segment]]
name = "internet"
internet = true
routed = [{ to = "198.51.100.16/30", via = "192.0.2.1" }]

[[device]]
name = "edge"
behaviour = "bcp"
timers = { udp-timeout = 30 }

  [[device.interface]]
  name = "inside"
  realm = "internal"
  address = "10.0.0.1/24"

  [[device.interface]]
  name = "outside"
  realm = "external"
  segment = "internet"
  address = "192.0.2.1/28"

  [[device.interface]]
  name = "spare"
  address = "10.9.0.1/24"

  [[device.route]]
  to = "0.0.0.0/0"
  via = "192.0.2.14"

  [[device.acl]]
  name = "forgotten"
  entries = [{ drop = "any" }]

  [[device.pool]]
  name = "lines"
  addresses = ["192.0.2.0/29"]

  [[device.rule]]
  name = "offices"
  type = "pool"
  source = "10.0.0.128/25"
  as = "lines"

  [[device.rule]]
  name = "all"
  type = "overload"
  as = "outside"
  into = "exterior"

  [[device.rule]]
  name = "mail"
  type = "static"
  internal = "10.0.0.130"
  external = "203.0.113.77"
"#;

/// `-` is standard input; a list that is not in order is sorted; JSON, CSV and text tell the same.
#[test]
fn lists_come_from_anywhere_in_any_order() {
    let folder = estate();
    let sorted = "start,protocol,source,source-port,destination,destination-port\n0,udp,kiosk-1,5000,198.51.100.53,53\n1,udp,kiosk-2,5000,198.51.100.53,53\n";
    let shuffled = "start,protocol,source,source-port,destination,destination-port\n1,udp,kiosk-2,5000,198.51.100.53,53\n0,udp,kiosk-1,5000,198.51.100.53,53\n";
    let run = |input| zarnet(folder.path(), &["predict", "harbour.toml", "-", "--format", "csv"], input);
    assert_eq!(text(&run(sorted)), text(&run(shuffled)));
    let out = text(&run(sorted));
    assert!(out.contains("udp,10.61.16.12,5000,203.0.113.2,5001,"), "{out}");
}

/// A host that only the traffic knows answers from the beginning.
#[test]
fn an_undeclared_host_is_there_before_it_first_sends() {
    let folder = estate();
    let list = "start,protocol,source,destination,destination-port\n0,udp,kiosk-1,10.61.17.77,9\n5,udp,10.61.17.77,198.51.100.53,53\n";
    let output = zarnet(folder.path(), &["predict", "harbour.toml", "-", "--format", "json"], list);
    let out = text(&output);
    assert!(out.contains("\"on-link\"") && out.contains("\"translated\": 1"), "{out}");
}

#[test]
fn a_new_plan_checks_clean_and_stays_whole() {
    let folder = tempfile::tempdir().unwrap();
    let run = |arguments: &[&str]| zarnet(folder.path(), arguments, "");
    snapshot("new.txt", &run(&["new", "edge.toml", "--internal", "10.7.0.1/22", "--external", "198.51.100.2/29"]));
    snapshot("new-check.txt", &run(&["check", "edge.toml"]));
    let written = std::fs::read_to_string(folder.path().join("edge.toml")).unwrap();
    snapshot("new-again.txt", &run(&["new", "edge.toml"]));
    assert_eq!(std::fs::read_to_string(folder.path().join("edge.toml")).unwrap(), written);
    assert_eq!(run(&["new", "edge.toml", "--force"]).status.code(), Some(0));
    snapshot("new-wrong.txt", &run(&["new", "other.toml", "--internal", "10.7.0.1"]));
    assert!(!folder.path().join("other.toml").exists());
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

/// Every stable name has an entry in the documentation.
#[test]
fn every_name_is_documented() {
    let read = |name: &str| {
        std::fs::read_to_string(Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs").join(name)).unwrap()
    };
    let missing = |page: &str, names: Vec<&str>| {
        let text = read(page);
        let missing: Vec<&str> = names.into_iter().filter(|n| !text.contains(&format!("`{n}`"))).collect();
        assert!(missing.is_empty(), "docs/{page} lacks {missing:?}");
    };
    missing("reasons.md", zarnet_core::Reason::ALL.iter().map(|r| r.name()).collect());
    missing("errors.md", zarnet_core::plan::PlanError::NAMES.to_vec());
    missing("errors.md", zarnet_formats::traffic::Fault::NAMES.to_vec());
    missing("findings.md", zarnet_core::audit::FINDINGS.iter().map(|f| f.0).collect());
    missing("plan.md", zarnet_core::plan::Timers::NAMES.to_vec());
}
