//! The program begins again with large pages of memory, as the same process.
#![cfg(all(target_os = "linux", target_env = "gnu"))]

use std::fs;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use super::estate;

/// Waits until something is so of a process, for at most as long as a machine that is very busy
/// would need.
fn becomes(child: &Child, is_so: impl Fn(&[u8]) -> bool) -> bool {
    let environment = format!("/proc/{}/environ", child.id());
    let began = Instant::now();
    while began.elapsed() < Duration::from_secs(60) {
        if fs::read(&environment).is_ok_and(|environment| is_so(&environment)) {
            return true;
        }
        std::thread::sleep(Duration::from_millis(5));
    }
    false
}

#[test]
fn memory_comes_in_large_pages() {
    let folder = estate();
    let mut program = Command::new(env!("CARGO_BIN_EXE_zarnet"));
    // waits for its traffic
    program.args(["predict", "harbour.toml", "-"]).current_dir(folder.path()).env_clear();
    let child = program.stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().unwrap();
    let asked = |environment: &[u8]| {
        String::from_utf8_lossy(environment).contains("GLIBC_TUNABLES=glibc.malloc.hugetlb=1")
    };
    assert!(becomes(&child, asked));
    let arguments = fs::read(format!("/proc/{}/cmdline", child.id())).unwrap();
    assert!(arguments.ends_with(b"\0predict\0harbour.toml\0-\0"));
    let output = child.wait_with_output().unwrap();
    assert_eq!(output.status.code(), Some(2), "an empty list is no traffic");
}
