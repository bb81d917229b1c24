//! What is written is whole, careful of what was there, and told truly.

use std::fs::{self, File};
use std::io::Write;
use std::os::unix::fs::{MetadataExt, PermissionsExt, symlink};
use std::path::Path;
use std::process::{Command, Stdio};

use super::{GROUP, PLAN, Place, code, said};

#[test]
fn an_edit_is_written_before_it_is_shown() {
    for format in ["text", "json"] {
        let place = Place::new();
        let mut child =
            place.command(&[&GROUP[..], &["--format", format]].concat()).spawn().unwrap();
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
    for arguments in
        [&["--help"][..], &["--version"], &["check", "plan.toml"], &["schema"], &["man"]]
    {
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
        let edit = |name: &String| {
            place.command(&["define", "plan.toml", "addresses", name, "10.0.0.1"]).spawn().unwrap()
        };
        let writers = names.each_ref().map(edit);
        let outputs = writers.map(|w| w.wait_with_output().unwrap());
        let text = place.read("plan.toml");
        for (name, output) in names.iter().zip(&outputs) {
            let there = text.contains(name.as_str());
            match code(output) {
                0 => assert!(there, "{name} is lost"),
                2 => assert!(
                    !there && said(output).contains("changed-meanwhile"),
                    "{}",
                    said(output)
                ),
                other => panic!("{other}: {}", said(output)),
            }
        }
        assert!(outputs.iter().any(|o| code(o) == 0));
        assert_eq!(place.others(), [""; 0], "nothing is left behind");
        assert_eq!(
            code(&place.run(&["check", "plan.toml"])),
            1,
            "its expectation fails, and nothing else"
        );
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
    assert!(
        said(&output).contains("read-only") && said(&output).contains("--force"),
        "{}",
        said(&output)
    );
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
    assert_eq!(
        (place.read("plan.toml").contains("quay"), place.read("second.toml")),
        (true, PLAN.to_owned())
    );
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

/// Sends a signal to a run that waits for the rest of its input, and tells how it ended: without
/// the signal it never would.
fn interrupted(place: &Place, temporary: &Path, arguments: &[&str], signal: &str) -> Option<i32> {
    let mut command = place.command(arguments);
    let mut child = command.env("TMPDIR", temporary).stdin(Stdio::piped()).spawn().unwrap();
    let mut input = child.stdin.take().unwrap();
    input.write_all(b"start,protocol,source,destination,destination-port\n").unwrap();
    // more than a pipe holds: once it is written, the run has begun to read
    input.write_all("0,udp,desk,198.51.100.80,53\n".repeat(10_000).as_bytes()).unwrap();
    assert!(
        Command::new("kill").args([signal, &child.id().to_string()]).status().unwrap().success()
    );
    child.wait().unwrap().code()
}

#[test]
fn signals_end_a_run_and_nothing_is_left_behind() {
    let place = Place::new();
    let temporary = tempfile::tempdir().unwrap();
    for (signal, wanted) in [("-INT", 130), ("-TERM", 143)] {
        for command in [&["predict", "plan.toml", "-"][..], &["capacity", "plan.toml", "-"]] {
            assert_eq!(
                interrupted(&place, temporary.path(), command, signal),
                Some(wanted),
                "{command:?}"
            );
        }
    }
    assert_eq!(place.others(), [""; 0]);
    assert_eq!(fs::read_dir(temporary.path()).unwrap().count(), 0);
}
