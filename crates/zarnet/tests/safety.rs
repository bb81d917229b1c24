//! What must never happen to a user's files and terminal: a lost edit, a file half written, something left behind, text from
//! a file that acts on the terminal. The built program on files in a temporary folder.
#![cfg(unix)]

use std::fs::{self, File};
use std::io::Write;
use std::os::unix::fs::{MetadataExt, PermissionsExt, symlink};
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

// edits

#[test]
fn an_edit_is_written_before_it_is_shown() {
    for format in ["text", "json"] {
        let place = Place::new();
        let mut child = place.command(&[&GROUP[..], &["--format", format]].concat()).spawn().unwrap();
        drop(child.stdout.take());
        drop(child.stderr.take());
        assert_eq!(child.wait().unwrap().code(), Some(0), "{format}");
        assert!(place.read("plan.toml").contains("quay = [\"10.20.0.128/25\"]"), "{format}");
    }
}

#[test]
fn a_closed_pipe_changes_no_exit_code() {
    let place = Place::new();
    for (arguments, wanted) in [
        (&["expect", "plan.toml"][..], 1),
        (&["expect", "plan.toml", "--format", "json"], 1),
        (&["predict", "plan.toml", "desk -> 198.51.100.80:443/tcp", "--format", "csv"], 0),
        (&["check", "missing.toml"], 2),
        (&["--help"], 0),
    ] {
        let mut child = place.command(arguments).spawn().unwrap();
        drop(child.stdout.take());
        drop(child.stderr.take());
        assert_eq!(child.wait().unwrap().code(), Some(wanted), "{arguments:?}");
    }
}

#[test]
fn a_full_disk_is_reported() {
    let place = Place::new();
    for arguments in [&["--help"][..], &["--version"], &["check", "plan.toml"], &["schema"], &["man"]] {
        let full = File::options().write(true).open("/dev/full").unwrap();
        let output = place.command(arguments).stdout(full).output().unwrap();
        assert_eq!(code(&output), 3, "{arguments:?}");
        assert!(said(&output).contains("cannot-write"), "{arguments:?}");
    }
}

#[test]
fn of_two_writers_none_loses_a_change_in_silence() {
    for round in 0..20 {
        let place = Place::new();
        let names = ["left", "right"].map(|n| format!("{n}{round}"));
        let edit =
            |name: &String| place.command(&["define", "plan.toml", "addresses", name, "10.0.0.1"]).spawn().unwrap();
        let writers = names.each_ref().map(edit);
        let outputs = writers.map(|w| w.wait_with_output().unwrap());
        let text = place.read("plan.toml");
        for (name, output) in names.iter().zip(&outputs) {
            let there = text.contains(name.as_str());
            match code(output) {
                0 => assert!(there, "{name} is lost"),
                2 => assert!(!there && said(output).contains("changed-meanwhile"), "{}", said(output)),
                other => panic!("{other}: {}", said(output)),
            }
        }
        assert!(outputs.iter().any(|o| code(o) == 0));
        assert_eq!(place.others(), [""; 0], "nothing is left behind");
        assert_eq!(code(&place.run(&["check", "plan.toml"])), 1, "its expectation fails, and nothing else");
    }
}

#[test]
fn what_killed_runs_left_blocks_nothing_and_goes() {
    let place = Place::new();
    place.write(".plan.toml.zarnet-lock", "");
    place.write(".plan.toml.zarnet-new-4711-0", "half a pl");
    assert_eq!(code(&place.run(&GROUP)), 0);
    assert_eq!(place.others(), [""; 0]);
}

#[test]
fn links_are_followed_and_the_mode_is_kept() {
    let place = Place::new();
    fs::create_dir(place.at("plans")).unwrap();
    fs::rename(place.at("plan.toml"), place.at("plans/real.toml")).unwrap();
    symlink("plans/real.toml", place.at("plan.toml")).unwrap();
    for mode in [0o600, 0o640, 0o664] {
        fs::set_permissions(place.at("plans/real.toml"), fs::Permissions::from_mode(mode)).unwrap();
        let name = format!("m{mode:o}");
        assert_eq!(code(&place.run(&["define", "plan.toml", "addresses", &name, "10.0.0.1"])), 0);
        assert!(place.at("plan.toml").symlink_metadata().unwrap().is_symlink());
        assert!(place.read("plans/real.toml").contains(&name));
        assert_eq!(place.at("plans/real.toml").metadata().unwrap().mode() & 0o777, mode);
    }
}

#[test]
fn new_files_heed_the_umask() {
    let place = Place::new();
    let script = "umask 027; exec \"$0\" new fresh.toml";
    let mut shell = Command::new("sh");
    shell.args(["-c", script, env!("CARGO_BIN_EXE_zarnet")]).current_dir(place.folder.path());
    assert!(shell.status().unwrap().success());
    assert_eq!(place.at("fresh.toml").metadata().unwrap().mode() & 0o777, 0o640);
}

#[test]
fn files_that_must_not_be_replaced_are_refused_unless_forced() {
    let forced = [&GROUP[..], &["--force"]].concat();
    let place = Place::new();
    fs::set_permissions(place.at("plan.toml"), fs::Permissions::from_mode(0o444)).unwrap();
    let output = place.run(&GROUP);
    assert_eq!(code(&output), 2);
    assert!(said(&output).contains("read-only") && said(&output).contains("--force"), "{}", said(&output));
    assert_eq!(place.read("plan.toml"), PLAN);
    assert_eq!(code(&place.run(&forced)), 0);
    assert!(place.read("plan.toml").contains("quay"));
    assert_eq!(place.at("plan.toml").metadata().unwrap().mode() & 0o777, 0o444);

    let place = Place::new();
    fs::hard_link(place.at("plan.toml"), place.at("second.toml")).unwrap();
    let output = place.run(&GROUP);
    assert_eq!(code(&output), 2);
    assert!(said(&output).contains("2 names"), "{}", said(&output));
    assert_eq!(code(&place.run(&forced)), 0);
    assert_eq!((place.read("plan.toml").contains("quay"), place.read("second.toml")), (true, PLAN.to_owned()));
}

#[test]
fn repairs_and_remedies_are_written_as_carefully() {
    let place = Place::new();
    let plan = PLAN.replace("type = \"overload\"", "type = \"overload\"\n  enabled = false");
    place.write("plan.toml", &plan.replace("203.0.113.9", "203.0.113.2"));
    fs::set_permissions(place.at("plan.toml"), fs::Permissions::from_mode(0o444)).unwrap();
    let why = ["why", "plan.toml", "desk -> 198.51.100.80:443/tcp", "--apply", "1"];
    assert_eq!(code(&place.run(&why)), 2);
    assert_eq!(code(&place.run(&[&why[..], &["--force"]].concat())), 0);
    assert!(!place.read("plan.toml").contains("enabled = false"));
}

#[test]
fn reports_replace_only_reports() {
    let place = Place::new();
    place.write("notes.xml", "<mine/>");
    for victim in ["plan.toml", "notes.xml"] {
        let before = place.read(victim);
        let output = place.run(&["expect", "plan.toml", "--junit", victim]);
        assert_eq!(code(&output), 2, "{victim}");
        assert_eq!(place.read(victim), before);
    }
    for _ in 0..2 {
        assert_eq!(code(&place.run(&["expect", "plan.toml", "--junit", "report.xml"])), 1);
    }
    assert_eq!(code(&place.run(&["expect", "plan.toml", "--junit", "notes.xml", "--force"])), 1);
    assert_eq!(place.read("notes.xml"), place.read("report.xml"));
    assert!(Command::new("mkfifo").arg(place.at("pipe")).status().unwrap().success());
    let output = place.run(&["expect", "plan.toml", "--junit", "pipe"]);
    assert_eq!(code(&output), 2, "{}", said(&output));
}

// signals

/// Sends a signal to a run that waits for the rest of its input, and tells how it ended: without the signal it never would.
fn interrupted(place: &Place, temporary: &Path, arguments: &[&str], signal: &str) -> Option<i32> {
    let mut command = place.command(arguments);
    let mut child = command.env("TMPDIR", temporary).stdin(Stdio::piped()).spawn().unwrap();
    let mut input = child.stdin.take().unwrap();
    input.write_all(b"start,protocol,source,destination,destination-port\n").unwrap();
    // more than a pipe holds: once it is written, the run has begun to read
    input.write_all("0,udp,desk,198.51.100.80,53\n".repeat(10_000).as_bytes()).unwrap();
    assert!(Command::new("kill").args([signal, &child.id().to_string()]).status().unwrap().success());
    child.wait().unwrap().code()
}

#[test]
fn signals_end_a_run_and_nothing_is_left_behind() {
    let place = Place::new();
    let temporary = tempfile::tempdir().unwrap();
    for (signal, wanted) in [("-INT", 130), ("-TERM", 143)] {
        for command in [&["predict", "plan.toml", "-"][..], &["capacity", "plan.toml", "-"]] {
            assert_eq!(interrupted(&place, temporary.path(), command, signal), Some(wanted), "{command:?}");
        }
    }
    assert_eq!(place.others(), [""; 0]);
    assert_eq!(fs::read_dir(temporary.path()).unwrap().count(), 0);
}

/// What standard input holds is kept in a file without a name: no kill can leave it behind.
#[test]
fn standard_input_is_kept_without_a_name() {
    let place = Place::new();
    let temporary = tempfile::tempdir().unwrap();
    let mut command = place.command(&["why", "plan.toml", "desk -> 198.51.100.80:443/tcp", "--during", "-"]);
    let mut child = command.env("TMPDIR", temporary.path()).stdin(Stdio::piped()).spawn().unwrap();
    let mut input = child.stdin.take().unwrap();
    input.write_all("start,protocol,source,destination,destination-port\n".repeat(10_000).as_bytes()).unwrap();
    assert_eq!(fs::read_dir(temporary.path()).unwrap().count(), 0);
    child.kill().unwrap();
    child.wait().unwrap();
    assert_eq!(fs::read_dir(temporary.path()).unwrap().count(), 0);
}

/// A pipe is read once, whatever the command does with its contents afterwards.
#[test]
fn pipes_can_be_given_as_traffic() {
    let place = Place::new();
    let list = "start,protocol,source,destination,destination-port\n5,udp,desk,198.51.100.53,53\n0,udp,desk,198.51.100.53,53\n";
    let output = |arguments: &[&str]| {
        let mut child = place.command(arguments).stdin(Stdio::piped()).spawn().unwrap();
        child.stdin.take().unwrap().write_all(list.as_bytes()).unwrap();
        let output = child.wait_with_output().unwrap();
        (code(&output), String::from_utf8_lossy(&output.stdout).into_owned())
    };
    place.write("list.csv", list);
    let (wanted, text) = output(&["capacity", "plan.toml", "list.csv", "--runs", "2"]);
    for named in ["-", "/dev/stdin"] {
        assert_eq!(output(&["capacity", "plan.toml", named, "--runs", "2"]), (wanted, text.clone()), "{named}");
    }
}

// text from files

const EVIL: &str = "\u{1b}]0;owned\u{7}\u{9b}31m\u{202e}";

/// Whether something would act on a terminal; our own colours would not.
fn acts(text: &str) -> bool {
    let mut rest = text;
    while let Some(at) = rest.find(|c: char| zarnet_core::net::is_hidden(c) && c != '\n' && c != '\t') {
        rest = &rest[at..];
        let colour = rest
            .strip_prefix("\x1b[")
            .and_then(|r| r.find('m').filter(|n| r[..*n].bytes().all(|b| b.is_ascii_digit() || b == b';')));
        match colour {
            Some(length) => rest = &rest[length + 3..],
            None => return true,
        }
    }
    false
}

#[test]
fn names_that_act_on_a_terminal_are_refused_and_shown_harmlessly() {
    let place = Place::new();
    let escaped: String = EVIL
        .chars()
        .map(|c| if c.is_ascii_graphic() { c.to_string() } else { format!("\\u{:04x}", c as u32) })
        .collect();
    place.write("evil.toml", &PLAN.replace("\"desk\"", &format!("\"desk{escaped}\"")));
    place.write("raw.toml", &PLAN.replace("Quay", "Qu\u{9b}31m\u{202e}ay"));
    for color in ["always", "never"] {
        for format in ["text", "json", "csv"] {
            for plan in ["evil.toml", "raw.toml"] {
                let output = place.run(&["check", plan, "--format", format, "--color", color]);
                assert_eq!(code(&output), 2);
                let all = String::from_utf8_lossy(&output.stdout).into_owned() + &said(&output);
                assert!(all.contains("hidden-character"), "{all}");
                assert!(!acts(&all), "{all:?}");
            }
        }
    }
}

/// What is no plan may hold anything: names in lists, files on the disk, tables, arguments.
#[test]
fn text_of_any_file_is_shown_harmlessly() {
    let place = Place::new();
    let list = format!("start,protocol,source,destination,destination-port\n0,tcp,desk{EVIL},198.51.100.80,443\n");
    let (list_name, plan_name) = (format!("list{EVIL}.csv"), format!("plan{EVIL}.toml"));
    place.write(&list_name, &list);
    place.write("table.csv", &format!("internal,external,{EVIL}\n"));
    place.write("bad.day", &format!("[[event]]\nat = 1\ndo = \"{}\"\n", "\\u009b31m"));
    fs::copy(place.at("plan.toml"), place.at(&plan_name)).unwrap();
    let flow = "desk -> 198.51.100.80:443/tcp";
    for arguments in [
        &["predict", "plan.toml", &list_name][..],
        &["predict", "plan.toml", "bad.day"],
        &["predict", "plan.toml", &format!("desk{EVIL} -> 198.51.100.80:443/tcp")],
        &["compare", "plan.toml", flow, "--observed", "table.csv"],
        &["check", &plan_name],
        &["check", &plan_name, "--format", "csv"],
        &["expect", &plan_name, "--format", "json"],
        &["explain", EVIL],
        &["follow", &plan_name, flow],
        &["check", EVIL],
        &[EVIL],
        &["define", &plan_name, "static", EVIL, "next"],
    ] {
        for color in ["always", "never"] {
            let output = place.run(&[arguments, &["--color", color]].concat());
            let all = String::from_utf8_lossy(&output.stdout).into_owned() + &said(&output);
            assert!(!acts(&all), "{arguments:?}: {all:?}");
            assert!(code(&output) <= 2);
        }
    }
}

#[test]
fn reports_and_pictures_are_well_formed_whatever_a_file_is_called() {
    let place = Place::new();
    let name = "pl\u{1}<&\"an.toml";
    fs::copy(place.at("plan.toml"), place.at(name)).unwrap();
    place.run(&["expect", name, "--junit", "report.xml"]);
    let text = place.read("report.xml");
    assert!(!acts(&text) && text.contains("\\u{1}&lt;&amp;"), "{text}");
    let list = "start,protocol,source,destination,destination-port\n0,tcp,desk,198.51.100.80,443\n";
    place.write("list.csv", list);
    let output = place.run(&["capacity", name, "list.csv", "--chart", "use.svg"]);
    assert_eq!(code(&output), 0, "{}", said(&output));
    assert!(!acts(&place.read("use.svg")));
}

#[test]
fn cells_are_quoted_and_are_no_formulas() {
    let place = Place::new();
    let plan = PLAN.replace("\"all\"", "\"=1+1\"").replace("203.0.113.9", "203.0.113.2");
    place.write("a,b.toml", &plan);
    let output = place.run(&["predict", "a,b.toml", "desk -> 198.51.100.80:443/tcp", "--format", "csv"]);
    let text = String::from_utf8(output.stdout).unwrap();
    assert!(text.lines().nth(1).unwrap().starts_with("edge,'=1+1,overload"), "{text}");
    place.write("b,c.toml", "[[device]]\nnam = \"edge\"\n");
    let output = place.run(&["check", "b,c.toml", "--format", "csv"]);
    let text = String::from_utf8(output.stdout).unwrap();
    assert!(text.contains(",\"b,c.toml\",2,1,"), "{text}");
}

// what is asked for

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
        &["predict", "plan.toml", flow, "--rows", "18446744073709551615", "--seed", "18446744073709551615"][..],
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
    place.write("plan.toml", &format!("include = \"empty.toml\"\n{}", PLAN.replace("plan = \"Quay Street\"", "")));
    assert_eq!(code(&place.run(&["check", "plan.toml"])), 1, "its expectation fails, and nothing else");
}

#[test]
fn files_outside_of_the_folder_need_leave() {
    let place = Place::new();
    fs::create_dir(place.at("plans")).unwrap();
    place.write("part.toml", PLAN);
    place.write("plans/plan.toml", "include = \"../part.toml\"\n");
    let output = place.run(&["predict", "plans/plan.toml", "desk -> 198.51.100.80:443/tcp"]);
    assert_eq!(code(&output), 2);
    assert!(said(&output).contains("include-outside") && !said(&output).contains("street sees"), "{}", said(&output));
    let allowed = ["predict", "plans/plan.toml", "desk -> 198.51.100.80:443/tcp", "--allow-outside"];
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
