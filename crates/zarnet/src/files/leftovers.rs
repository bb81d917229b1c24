//! What an unfinished change has put beside a file: removed when it ends, also when a signal ends
//! it. What a killed run left behind is removed by the next change of the same file.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, AtomicI32, Ordering};
use std::sync::{Mutex, MutexGuard, PoisonError};

/// Files that are to be gone when the program is.
static LEFTOVERS: Mutex<BTreeSet<PathBuf>> = Mutex::new(BTreeSet::new());

/// What else is done when a signal ends the program.
static AT_SIGNAL: Mutex<Option<fn()>> = Mutex::new(None);

/// Lets something be done when a signal ends the program: a terminal that is drawn on is put right.
pub fn on_signal(act: fn()) {
    *AT_SIGNAL.lock().unwrap_or_else(PoisonError::into_inner) = Some(act);
}

/// Whether the first signal only asks for an end.
static IS_ASKED: AtomicBool = AtomicBool::new(false);
/// The signal that asked for it; 0 as long as none came.
static ASKED_BY: AtomicI32 = AtomicI32::new(0);

/// From now on the first signal asks for an end, which [`asked_to_end`] tells; the second one ends
/// the program at once.
pub fn end_when_asked() {
    IS_ASKED.store(true, Ordering::Relaxed);
}

/// The exit code to end with, if a signal has asked for an end.
pub fn asked_to_end() -> Option<u8> {
    let signal = ASKED_BY.load(Ordering::Relaxed);
    u8::try_from(128 + signal).ok().filter(|_| signal != 0)
}

/// The list of what would be left behind now; while it is held, no signal ends the program.
pub(super) struct Held(MutexGuard<'static, BTreeSet<PathBuf>>);

pub(super) fn hold() -> Held {
    Held(LEFTOVERS.lock().unwrap_or_else(PoisonError::into_inner))
}

/// A file that is removed when this goes out of use.
#[derive(Debug)]
pub(super) struct Leftover {
    path: PathBuf,
    /// Whether it is still there under this name.
    stays: bool,
}

impl Leftover {
    /// Enters a file that is about to be made, or was made while the list was held.
    pub(super) fn new(path: PathBuf, held: &mut Held) -> Self {
        held.0.insert(path.clone());
        Self { path, stays: true }
    }

    pub(super) fn path(&self) -> &Path {
        &self.path
    }

    /// Takes the file out of the list: it is no longer there under this name.
    pub(super) fn forget(&mut self, held: &mut Held) {
        held.0.remove(&self.path);
        self.stays = false;
    }
}

impl Drop for Leftover {
    fn drop(&mut self) {
        if self.stays {
            let mut held = hold();
            // it may never have been made
            let _ = std::fs::remove_file(&self.path);
            held.0.remove(&self.path);
        }
    }
}

/// From now on SIGINT and SIGTERM end the program at once, with exit code 130 or 143, and nothing
/// is left behind.
#[cfg(unix)]
pub fn remove_on_signal() {
    use signal_hook::consts::{SIGINT, SIGTERM};
    // without handlers the system ends the program all the same, only less tidily
    let Ok(mut signals) = signal_hook::iterator::Signals::new([SIGINT, SIGTERM]) else { return };
    std::thread::spawn(move || {
        for signal in signals.forever() {
            if IS_ASKED.load(Ordering::Relaxed) && ASKED_BY.swap(signal, Ordering::Relaxed) == 0 {
                continue;
            }
            let held = hold();
            held.0.iter().for_each(|path| drop(std::fs::remove_file(path)));
            if let Some(act) = *AT_SIGNAL.lock().unwrap_or_else(PoisonError::into_inner) {
                act();
            }
            std::process::exit(128 + signal);
        }
    });
}

/// There is nothing to do where there are no signals.
#[cfg(not(unix))]
pub fn remove_on_signal() {}
