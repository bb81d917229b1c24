//! Large pages of memory. Tables of a million sessions are looked up all over, and the processor
//! waits for where a page is, too, not only for what is in it: with pages of 2 MB in place of 4 kB,
//! where the system has them to give, nearly everything takes a tenth less.

/// Asks the C library for memory in large pages: an allocator takes that from the environment
/// before a program begins, so this one begins again, as the same process. Where that cannot be
/// done, all goes on with small pages.
#[cfg(all(target_os = "linux", target_env = "gnu"))]
pub(crate) fn begin_with_them() {
    use std::os::unix::process::CommandExt;
    use std::path::Path;
    use std::process::Command;

    const TUNABLES: &str = "GLIBC_TUNABLES";
    // what is smaller than two such pages lies with others in one piece; what is larger has a piece
    // of its own, which goes back as soon as it is not needed
    const LARGE_PAGES: &str = "glibc.malloc.hugetlb=1:glibc.malloc.mmap_threshold=4194304";

    // it has begun again, or somebody has their own mind about memory
    if std::env::var_os(TUNABLES).is_some() {
        return;
    }
    let mut arguments = std::env::args_os();
    let (Ok(program), Some(name)) = (std::env::current_exe(), arguments.next()) else { return };
    // under another name it is something else that runs: a loader or an emulator
    if program.file_name() != Path::new(&name).file_name() {
        return;
    }
    let mut again = Command::new(program);
    // comes back only if it fails
    let _ = again.arg0(name).args(arguments).env(TUNABLES, LARGE_PAGES).exec();
}

/// Other systems decide on their own.
#[cfg(not(all(target_os = "linux", target_env = "gnu")))]
pub(crate) fn begin_with_them() {}
