//! A lock beside a file: two changes of one file take turns.

use std::fs::{File, OpenOptions, TryLockError};
use std::io;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use super::leftovers::{Leftover, hold};

/// Another change takes milliseconds.
const PATIENCE: Duration = Duration::from_secs(10);

/// A lock that is held. The system lets go of it when the program ends, however that happens.
#[derive(Debug)]
pub(super) struct Lock {
    /// Removed before the lock is let go of, so that nobody can lock a file that is about to go.
    _leftover: Leftover,
    _file: File,
}

impl Lock {
    /// Waits for the lock of a file, and takes it.
    pub(super) fn take(file: &Path) -> io::Result<Self> {
        let place = beside(file, "lock");
        let until = Instant::now() + PATIENCE;
        loop {
            // no signal between making the file and entering it as one to be removed
            let mut held = hold();
            let lock = OpenOptions::new().create(true).truncate(false).write(true).open(&place)?;
            match lock.try_lock() {
                // the one before may have removed it between opening and locking
                Ok(()) if is_at(&lock, &place) => {
                    return Ok(Self { _leftover: Leftover::new(place, &mut held), _file: lock });
                }
                Ok(()) => {}
                Err(TryLockError::WouldBlock) if Instant::now() < until => {
                    drop(held);
                    std::thread::sleep(Duration::from_millis(5));
                }
                Err(TryLockError::WouldBlock) => {
                    let text = format!(
                        "another run has been writing it for {} seconds",
                        PATIENCE.as_secs()
                    );
                    return Err(io::Error::new(io::ErrorKind::TimedOut, text));
                }
                Err(TryLockError::Error(error)) => return Err(error),
            }
        }
    }
}

/// The name of a file of ours beside another: hidden, and no plan by its ending.
pub(super) fn beside(file: &Path, what: &str) -> PathBuf {
    let name = file.file_name().unwrap_or_default().to_string_lossy();
    file.with_file_name(format!(".{name}.zarnet-{what}"))
}

/// Whether an open file is the one that a path leads to.
#[cfg(unix)]
fn is_at(file: &File, path: &Path) -> bool {
    use std::os::unix::fs::MetadataExt;
    let number = |m: std::fs::Metadata| (m.dev(), m.ino());
    let (open, there) = (file.metadata().map(number).ok(), path.metadata().map(number).ok());
    open.is_some() && open == there
}

#[cfg(not(unix))]
fn is_at(_: &File, path: &Path) -> bool {
    path.exists()
}
