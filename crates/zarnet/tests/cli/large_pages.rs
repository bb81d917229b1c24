//! The program begins again with large pages of memory, as the same process.
#![cfg(all(target_os = "linux", target_env = "gnu"))]

use std::fs;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use super::estate;

/// Starts the program with an environment, waits until it waits for its traffic, and gives what its
/// environment and its arguments are then. Fails after as long as a very busy machine would need.
fn once_it_waits(environment: &[(&str, &str)], is_there: impl Fn(&str) -> bool) -> [String; 2] {
    let folder = estate();
    let mut program = Command::new(env!("CARGO_BIN_EXE_zarnet"));
    program.args(["predict", "harbour.toml", "-"]).current_dir(folder.path()).env_clear();
    program.envs(environment.iter().copied()).stdin(Stdio::piped());
    let child = program.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    let read = |what: &str| {
        let octets = fs::read(format!("/proc/{}/{what}", child.id())).unwrap_or_default();
        String::from_utf8_lossy(&octets).into_owned()
    };
    let began = Instant::now();
    while !(read("stat").contains(") S ") && is_there(&read("environ"))) {
        assert!(began.elapsed() < Duration::from_secs(60), "{:?}", read("environ"));
        std::thread::sleep(Duration::from_millis(5));
    }
    let seen = [read("environ"), read("cmdline")];
    let output = child.wait_with_output().unwrap();
    assert_eq!(output.status.code(), Some(2), "an empty list is no traffic");
    seen
}

#[test]
fn memory_comes_in_large_pages() {
    let [environment, arguments] = once_it_waits(&[], |e| e.contains("GLIBC_TUNABLES="));
    assert!(environment.starts_with("GLIBC_TUNABLES=glibc.malloc.hugetlb=1"), "{environment:?}");
    assert!(arguments.ends_with("\0predict\0harbour.toml\0-\0"), "{arguments:?}");
}

#[test]
fn what_a_user_says_about_memory_stays() {
    let own = ("GLIBC_TUNABLES", "glibc.malloc.perturb=1");
    let [environment, _] = once_it_waits(&[own], |e| e.contains("GLIBC_TUNABLES="));
    assert_eq!(environment, "GLIBC_TUNABLES=glibc.malloc.perturb=1\0");
}
