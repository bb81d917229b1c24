//! Large pages of memory. Tables of a million sessions are looked up all over, and with pages of 4
//! kB the processor waits for where a page is as often as for what is in it: with pages of 2 MB,
//! where the system has them to give, everything takes a tenth less.

/// Asks the C library for memory in large pages, in one piece rather than many: an allocator takes
/// that from the environment before a program begins, so this one begins again, as the same
/// process. Where that cannot be done, all goes on with small pages.
#[cfg(all(target_os = "linux", target_env = "gnu"))]
pub(crate) fn begin_with_them() {
    use std::os::unix::process::CommandExt;

    const TUNABLES: &str = "GLIBC_TUNABLES";
    const LARGE_PAGES: &str = "glibc.malloc.hugetlb=1:glibc.malloc.mmap_threshold=268435456";

    // it has begun again, or somebody has their own mind about memory
    if std::env::var_os(TUNABLES).is_some() {
        return;
    }
    let Ok(program) = std::env::current_exe() else { return };
    let mut again = std::process::Command::new(program);
    let mut arguments = std::env::args_os();
    if let Some(name) = arguments.next() {
        again.arg0(name);
    }
    // comes back only if it fails
    let _ = again.args(arguments).env(TUNABLES, LARGE_PAGES).exec();
}

/// Other systems decide on their own.
#[cfg(not(all(target_os = "linux", target_env = "gnu")))]
pub(crate) fn begin_with_them() {}
