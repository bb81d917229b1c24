//! The program itself, on files in a temporary folder. What it prints is held against snapshots
//! that somebody has read: exit code, standard output, standard error.
//! `SNAPSHOTS=overwrite cargo test` writes them anew, to be read again.

mod documented;
mod edited;
mod formats;
mod guide;
mod inputs;
mod large_pages;
mod live;
mod logs;
mod plans;
mod prints;
mod recording;
mod threads;
mod written;

use std::io::Write;
use std::path::Path;
use std::process::{Command, Output, Stdio};

use snapbox::data::DataFormat;
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
    snapshot_of(name, text(output));
}

fn snapshot_of(name: &str, text: String) {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/snapshots").join(name);
    // to the octet: `...` of an excerpt is no wildcard, `\` of a string no path
    let expected = Data::read_from(&path, Some(DataFormat::Text)).raw();
    Assert::new().action_env("SNAPSHOTS").eq(text, expected);
}

/// A folder with the demo estate in it.
fn estate() -> tempfile::TempDir {
    let folder = tempfile::tempdir().unwrap();
    let demo = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/saltmere");
    for name in [
        "after.toml",
        "ferry-office.toml",
        "harbour.toml",
        "jetty.toml",
        "morning.csv",
        "observed.csv",
        "quay.pcap.gz",
        "saturday.toml",
        "storm.toml",
        "terminal.toml",
    ] {
        std::fs::copy(demo.join(name), folder.path().join(name)).unwrap();
    }
    folder
}
