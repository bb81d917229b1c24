//! A place that is written: what is there, what it is to become, and the draft beside it.

use std::fs::{File, Metadata, OpenOptions};
use std::io::{self, ErrorKind, Write};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU32, Ordering};

use super::change::{Before, Change, is_refusal};
use super::leftovers::{Held, Leftover, hold};
use super::lock::beside;
use crate::exit::Failure;

/// A place, where links lead to.
#[derive(Debug)]
pub(super) struct Target<'a> {
    change: Change<'a>,
    /// The file itself, without links on its way.
    pub(super) path: PathBuf,
    /// What is known of the file that is there.
    old: Option<Metadata>,
}

impl<'a> Target<'a> {
    /// Follows the links to a file, and refuses what must not be replaced.
    pub(super) fn find(change: Change<'a>, force: bool) -> Result<Self, Failure> {
        let refuse = |e: &io::Error| failure(change.path, e);
        let path = match change.path.canonicalize() {
            Ok(path) => path,
            Err(e) if e.kind() == ErrorKind::NotFound => {
                free_place(change.path).map_err(|e| refuse(&e))?
            }
            Err(e) => return Err(refuse(&e)),
        };
        let old = match path.metadata() {
            Ok(metadata) => Some(metadata),
            Err(e) if e.kind() == ErrorKind::NotFound => None,
            Err(e) => return Err(refuse(&e)),
        };
        let target = Self { change, path, old };
        if let Some(old) = &target.old {
            if !old.is_file() {
                return Err(target.refused("it is not a file", "choose another place"));
            }
            if target.is_written() && !force {
                target.may_be_replaced(old)?;
            }
        }
        Ok(target)
    }

    /// Refuses a file that is not to be written, or that would be torn from its other names.
    fn may_be_replaced(&self, old: &Metadata) -> Result<(), Failure> {
        let force = "--force replaces it anyway";
        if self.is_done() {
            return Ok(());
        }
        if old.permissions().readonly() {
            return Err(self.refused("it is read-only", force));
        }
        if names_of(old) > 1 {
            let what =
                format!("it has {} names (hard links), which would then differ", names_of(old));
            return Err(self.refused(&what, force));
        }
        match OpenOptions::new().write(true).open(&self.path) {
            Ok(_) => Ok(()),
            Err(e) => Err(self.refused(&e.to_string(), "give yourself the right to write it")),
        }
    }

    /// Whether the change is one.
    pub(super) fn is_written(&self) -> bool {
        !matches!(self.change.before, Before::Exactly(old) if old == self.change.contents)
    }

    /// Whether the contents are there already.
    pub(super) fn is_done(&self) -> bool {
        self.now().is_ok_and(|now| now.as_deref() == Some(self.change.contents))
    }

    fn now(&self) -> io::Result<Option<Vec<u8>>> {
        match std::fs::read(&self.path) {
            Ok(octets) => Ok(Some(octets)),
            Err(e) if e.kind() == ErrorKind::NotFound => Ok(None),
            Err(e) => Err(e),
        }
    }

    /// Refuses if what is there now is not what may be there.
    pub(super) fn check(&self, force: bool) -> Result<(), Failure> {
        let now = self.now().map_err(|e| self.fail(&e))?;
        let shown = self.change.path.display();
        match (self.change.before, now) {
            (Before::Exactly(old), now) if now.as_deref() != Some(old) => {
                let message = format!("{shown} was changed while this ran; nothing was written");
                Err(Failure::wrong(
                    "changed-meanwhile",
                    message,
                    "run the command again".to_owned(),
                ))
            }
            (Before::Nothing, Some(now)) if now != self.change.contents && !force => {
                let help = "--force overwrites it".to_owned();
                Err(Failure::wrong("file-exists", format!("{shown} is there already"), help))
            }
            (Before::Own(is_own), Some(now)) if !is_own(&now) && !force => {
                let help = "choose another place; --force overwrites it".to_owned();
                let message =
                    format!("{shown} is there already, and is not a report of an earlier run");
                Err(Failure::wrong("file-exists", message, help))
            }
            _ => Ok(()),
        }
    }

    /// Writes the new contents beside the file, with its mode and owner, and brings them to the
    /// disk.
    pub(super) fn draft(&self, force: bool) -> Result<Draft, Failure> {
        self.remove_leftovers();
        static NUMBER: AtomicU32 = AtomicU32::new(0);
        let number = NUMBER.fetch_add(1, Ordering::Relaxed);
        let place = beside(&self.path, &format!("new-{}-{number}", std::process::id()));
        let mut options = OpenOptions::new();
        options.write(true).create_new(true);
        if self.old.is_some() {
            private(&mut options);
        }
        let leftover = Leftover::new(place, &mut hold());
        let written = (|| {
            let mut file = options.open(leftover.path())?;
            file.write_all(self.change.contents)?;
            if let Some(old) = &self.old {
                match keep_owner(&file, old) {
                    Err(_) if force => {}
                    kept => kept?,
                }
                file.set_permissions(old.permissions())?;
            }
            file.sync_all()
        })();
        written.map_err(|e| self.fail(&e))?;
        Ok(Draft(leftover))
    }

    /// Removes what killed runs left beside the file; its lock is ours.
    fn remove_leftovers(&self) {
        let start = beside(&self.path, "new-").to_string_lossy().into_owned();
        let folder = self.path.parent().map(std::fs::read_dir);
        for entry in folder.and_then(Result::ok).into_iter().flatten().flatten() {
            if entry.path().to_string_lossy().starts_with(&start) {
                let _ = std::fs::remove_file(entry.path());
            }
        }
    }

    /// Brings the folder's own entry to the disk, where the system can.
    pub(super) fn sync_folder(&self) {
        if let Some(folder) = self.path.parent().and_then(|f| File::open(f).ok()) {
            let _ = folder.sync_all();
        }
    }

    pub(super) fn fail(&self, error: &io::Error) -> Failure {
        failure(self.change.path, error)
    }

    fn refused(&self, what: &str, help: &str) -> Failure {
        Failure::wrong(
            "cannot-write",
            format!("{}: {what}", self.change.path.display()),
            help.to_owned(),
        )
    }
}

/// New contents that lie beside a file.
#[derive(Debug)]
pub(super) struct Draft(Leftover);

impl Draft {
    /// Puts the contents into place.
    pub(super) fn rename(&mut self, target: &Target<'_>, held: &mut Held) -> Result<(), Failure> {
        std::fs::rename(self.0.path(), &target.path).map_err(|e| target.fail(&e))?;
        self.0.forget(held);
        Ok(())
    }
}

/// What an error of the system comes to: the user's, or ours.
fn failure(path: &Path, error: &io::Error) -> Failure {
    let message = format!("{}: {error}", path.display());
    match is_refusal(error) {
        true => Failure::wrong(
            "cannot-write",
            message,
            "choose another place, or give yourself the right".to_owned(),
        ),
        false => Failure::Io(io::Error::new(error.kind(), message)),
    }
}

/// Where a file is to be that is not there yet.
fn free_place(path: &Path) -> io::Result<PathBuf> {
    if path.symlink_metadata().is_ok() {
        return Err(io::Error::new(
            ErrorKind::NotFound,
            "it is a link to a file that is not there",
        ));
    }
    let name = path
        .file_name()
        .ok_or_else(|| io::Error::new(ErrorKind::NotFound, "it is no name of a file"))?;
    let folder = path.parent().filter(|f| !f.as_os_str().is_empty()).unwrap_or(Path::new("."));
    Ok(folder.canonicalize()?.join(name))
}

/// Nobody else reads a draft before it has its mode.
#[cfg(unix)]
fn private(options: &mut OpenOptions) {
    std::os::unix::fs::OpenOptionsExt::mode(options, 0o600);
}

#[cfg(not(unix))]
fn private(_: &mut OpenOptions) {}

#[cfg(unix)]
fn names_of(metadata: &Metadata) -> u64 {
    std::os::unix::fs::MetadataExt::nlink(metadata)
}

#[cfg(not(unix))]
fn names_of(_: &Metadata) -> u64 {
    1
}

/// Gives a draft the owner of the file that it replaces, if it is another.
#[cfg(unix)]
fn keep_owner(file: &File, old: &Metadata) -> io::Result<()> {
    use std::os::unix::fs::MetadataExt;
    let own = file.metadata()?;
    if (own.uid(), own.gid()) == (old.uid(), old.gid()) {
        return Ok(());
    }
    std::os::unix::fs::fchown(file, Some(old.uid()), Some(old.gid())).map_err(|e| {
        let text = format!("its owner cannot be kept ({e}); --force replaces it anyway");
        io::Error::new(ErrorKind::PermissionDenied, text)
    })
}

#[cfg(not(unix))]
fn keep_owner(_: &File, _: &Metadata) -> io::Result<()> {
    Ok(())
}
