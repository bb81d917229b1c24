//! What must never happen to a user's files and terminal: a lost edit, a file half written,
//! something left behind, text from a file that acts on the terminal. The built program on files in
//! a temporary folder.
#![cfg(unix)]

mod showing;
mod writing;

use std::fs;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};

use tempfile::TempDir;

const PLAN: &str = r#"# what the street sees
plan = "Quay Street"

[[segment]]
name = "world"
internet = true

[[host]]
name = "desk"
address = "10.20.0.11/24"
gateway = "10.20.0.1"

[[device]]
name = "edge"

  [[device.interface]]
  name = "floor"
  realm = "internal"
  address = "10.20.0.1/24"

  [[device.interface]]
  name = "street"
  realm = "external"
  segment = "world"
  address = "203.0.113.2/27"

  [[device.route]]
  to = "0.0.0.0/0"
  via = "203.0.113.1"

  [[device.rule]]
  name = "all"
  type = "overload"
  as = "street"

[[expect]]
flow = "desk -> 198.51.100.80:443/tcp"
becomes = "203.0.113.9"
"#;

struct Place {
    folder: TempDir,
}

impl Place {
    fn new() -> Self {
        let place = Self { folder: tempfile::tempdir().unwrap() };
        place.write("plan.toml", PLAN);
        place
    }

    fn at(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    fn write(&self, name: &str, text: &str) {
        fs::write(self.at(name), text).unwrap();
    }

    fn read(&self, name: &str) -> String {
        fs::read_to_string(self.at(name)).unwrap()
    }

    fn command(&self, arguments: &[&str]) -> Command {
        let mut command = Command::new(env!("CARGO_BIN_EXE_zarnet"));
        command.args(arguments).current_dir(self.folder.path()).env_clear().stdin(Stdio::null());
        command.stdout(Stdio::piped()).stderr(Stdio::piped());
        command
    }

    fn run(&self, arguments: &[&str]) -> Output {
        self.command(arguments).output().unwrap()
    }

    /// Names of all files, but for the plan.
    fn others(&self) -> Vec<String> {
        let name = |e: fs::DirEntry| e.file_name().into_string().unwrap();
        let all = fs::read_dir(self.folder.path()).unwrap().map(|e| name(e.unwrap()));
        let mut others: Vec<String> = all.filter(|n| n != "plan.toml").collect();
        others.sort();
        others
    }
}

fn code(output: &Output) -> i32 {
    output.status.code().unwrap_or(-1)
}

fn said(output: &Output) -> String {
    String::from_utf8_lossy(&output.stderr).into_owned()
}

const GROUP: [&str; 5] = ["define", "plan.toml", "addresses", "quay", "10.20.0.128/25"];

/// What standard input holds is kept in a file without a name: no kill can leave it behind.
#[test]
fn standard_input_is_kept_without_a_name() {
    let place = Place::new();
    let temporary = tempfile::tempdir().unwrap();
    let mut command =
        place.command(&["why", "plan.toml", "desk -> 198.51.100.80:443/tcp", "--during", "-"]);
    let mut child = command.env("TMPDIR", temporary.path()).stdin(Stdio::piped()).spawn().unwrap();
    let mut input = child.stdin.take().unwrap();
    input
        .write_all("start,protocol,source,destination,destination-port\n".repeat(10_000).as_bytes())
        .unwrap();
    assert_eq!(fs::read_dir(temporary.path()).unwrap().count(), 0);
    child.kill().unwrap();
    child.wait().unwrap();
    assert_eq!(fs::read_dir(temporary.path()).unwrap().count(), 0);
}

/// A pipe is read once, whatever the command does with its contents afterwards.
#[test]
fn pipes_can_be_given_as_traffic() {
    let place = Place::new();
    let list = "start,protocol,source,destination,destination-port\n5,udp,desk,198.51.100.53,53\n\
                0,udp,desk,198.51.100.53,53\n";
    let output = |arguments: &[&str]| {
        let mut child = place.command(arguments).stdin(Stdio::piped()).spawn().unwrap();
        child.stdin.take().unwrap().write_all(list.as_bytes()).unwrap();
        let output = child.wait_with_output().unwrap();
        (code(&output), String::from_utf8_lossy(&output.stdout).into_owned())
    };
    place.write("list.csv", list);
    let (wanted, text) = output(&["capacity", "plan.toml", "list.csv", "--runs", "2"]);
    for named in ["-", "/dev/stdin"] {
        assert_eq!(
            output(&["capacity", "plan.toml", named, "--runs", "2"]),
            (wanted, text.clone()),
            "{named}"
        );
    }
}

#[test]
fn arguments_are_bounded() {
    let place = Place::new();
    let flow = "desk -> 198.51.100.80:443/tcp";
    for arguments in [
        &["capacity", "plan.toml", flow, "--runs", "1000000000"][..],
        &["capacity", "plan.toml", flow, "--runs", "18446744073709551615"],
        &["predict", "plan.toml", flow, "--width", "18446744073709551615"],
        &["predict", "plan.toml", flow, "--width", "0"],
        &["capacity", "plan.toml", flow, "--growth", "inf"],
        &["capacity", "plan.toml", flow, "--target", "nan"],
        &["predict", "plan.toml", flow, "--at", "40000d"],
    ] {
        let output = place.run(arguments);
        assert_eq!(code(&output), 2, "{arguments:?}: {}", said(&output));
    }
    for arguments in [
        &[
            "predict",
            "plan.toml",
            flow,
            "--rows",
            "18446744073709551615",
            "--seed",
            "18446744073709551615",
        ][..],
        &["capacity", "plan.toml", flow, "--growth", "1e300%", "--rows", "18446744073709551615"],
    ] {
        assert!(code(&place.run(arguments)) <= 1, "{arguments:?}");
    }
}

#[test]
fn an_empty_plan_is_an_error_and_an_empty_part_is_none() {
    let place = Place::new();
    for text in ["", "# later\n", "plan = \"x\"\n"] {
        place.write("empty.toml", text);
        let output = place.run(&["check", "empty.toml"]);
        assert_eq!(code(&output), 2);
        assert!(said(&output).contains("empty-plan"));
    }
    place.write(
        "plan.toml",
        &format!("include = \"empty.toml\"\n{}", PLAN.replace("plan = \"Quay Street\"", "")),
    );
    assert_eq!(
        code(&place.run(&["check", "plan.toml"])),
        1,
        "its expectation fails, and nothing else"
    );
}

#[test]
fn files_outside_of_the_folder_need_leave() {
    let place = Place::new();
    fs::create_dir(place.at("plans")).unwrap();
    place.write("part.toml", PLAN);
    place.write("plans/plan.toml", "include = \"../part.toml\"\n");
    let output = place.run(&["predict", "plans/plan.toml", "desk -> 198.51.100.80:443/tcp"]);
    assert_eq!(code(&output), 2);
    assert!(
        said(&output).contains("include-outside") && !said(&output).contains("street sees"),
        "{}",
        said(&output)
    );
    let allowed =
        ["predict", "plans/plan.toml", "desk -> 198.51.100.80:443/tcp", "--allow-outside"];
    assert_eq!(code(&place.run(&allowed)), 0);
}

#[test]
fn folders_and_devices_are_refused_at_once() {
    let place = Place::new();
    for path in [Path::new("/dev/zero"), Path::new("/dev/null"), place.folder.path()] {
        let path = path.to_str().unwrap();
        for arguments in [
            &["check", path][..],
            &["predict", "plan.toml", path],
            &["compare", "plan.toml", "desk -> 198.51.100.80:443/tcp", "--observed", path],
        ] {
            let output = place.run(arguments);
            assert_eq!(code(&output), 2, "{arguments:?}");
            assert!(said(&output).contains("not a file"), "{arguments:?}: {}", said(&output));
        }
    }
}
