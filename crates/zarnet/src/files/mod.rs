//! Files that the program writes: whole or not at all, and never over what somebody else wrote
//! meanwhile.
//!
//! A change is locked beside the file, written beside it, brought to the disk, and renamed into
//! place, if what is there is still what the change was made from. Links are followed; mode and
//! owner stay.

mod change;
mod leftovers;
mod lock;
mod target;

pub use change::{Before, Change};
pub use leftovers::{asked_to_end, end_when_asked, on_signal, remove_on_signal};

use std::path::{Path, PathBuf};

use zarnet_formats::source::Sources;

use crate::exit::Failure;
use lock::Lock;
use target::{Draft, Target};

/// Writes a file whose place is free, or holds the same contents; with `force` whatever is there.
///
/// # Errors
/// Another file is there, or it cannot be written.
pub fn write_new(path: &Path, contents: &[u8], force: bool) -> Result<(), Failure> {
    write(&[Change { path, contents, before: Before::Nothing }], force)
}

/// Writes a file that only its owner may read, if its place is free or `force` is given.
///
/// # Errors
/// Another file is there, or it cannot be written.
pub fn write_secret(path: &Path, contents: &[u8], force: bool) -> Result<(), Failure> {
    let mut file = temporary_for(path, force)?;
    std::io::Write::write_all(&mut file, contents)?;
    file.persist(path).map_err(|e| Failure::Io(e.error))?;
    Ok(())
}

/// A file beside a place that is free, or any with `force`, to be renamed into it. It is its owner's
/// alone from the first moment.
///
/// # Errors
/// Another file is there, or none can be made.
pub fn temporary_for(path: &Path, force: bool) -> Result<tempfile::NamedTempFile, Failure> {
    if path.exists() && !force {
        let message = format!("{} is there already", path.display());
        return Err(Failure::wrong("file-exists", message, "--force overwrites it".to_owned()));
    }
    let folder = path.parent().filter(|f| !f.as_os_str().is_empty()).unwrap_or(Path::new("."));
    Ok(tempfile::NamedTempFile::new_in(folder)?)
}

/// Writes the files of a plan that a change has changed, if none of its files was changed by
/// somebody else meanwhile. Gives the files that it wrote.
///
/// # Errors
/// `changed-meanwhile`, and what prevents writing; then nothing is written.
pub fn put_plan(old: &Sources, new: &Sources, force: bool) -> Result<Vec<PathBuf>, Failure> {
    let changes: Vec<Change<'_>> =
        old.0.iter().zip(&new.0).map(|(o, n)| change(o.text(), n)).collect();
    let is_changed =
        |c: &&Change<'_>| matches!(c.before, Before::Exactly(old) if old != c.contents);
    let written = changes.iter().filter(is_changed).map(|c| c.path.to_path_buf()).collect();
    write(&changes, force)?;
    Ok(written)
}

fn change<'a>(old: &'a str, new: &'a zarnet_formats::source::SourceFile) -> Change<'a> {
    Change {
        path: &new.path,
        contents: new.text().as_bytes(),
        before: Before::Exactly(old.as_bytes()),
    }
}

/// Carries changes out together. A change whose new contents are those that it was made from only
/// asks that they are still there. `force` replaces files that would be refused: what else is at
/// the place, read-only files, files with several names, files whose owner cannot be kept.
///
/// # Errors
/// Any of them is refused or fails; then none is carried out.
pub fn write(changes: &[Change<'_>], force: bool) -> Result<(), Failure> {
    let mut targets = Vec::with_capacity(changes.len());
    for change in changes {
        targets.push(Target::find(*change, force)?);
    }
    targets.sort_by(|a, b| a.path.cmp(&b.path));
    let wanted: Vec<&Target<'_>> = targets.iter().filter(|t| t.is_written()).collect();
    let mut locks = Vec::with_capacity(wanted.len());
    for target in &wanted {
        locks.push(Lock::take(&target.path).map_err(|e| target.fail(&e))?);
    }
    targets.iter().try_for_each(|t| t.check(force))?;
    let mut drafts = Vec::new();
    for target in targets.iter().filter(|t| t.is_written() && !t.is_done()) {
        drafts.push((target, target.draft(force)?));
    }
    // a signal waits until all of them are renamed, or comes before
    let renamed = {
        let mut held = leftovers::hold();
        let checked = targets.iter().try_for_each(|t| t.check(force));
        let mut rename =
            |(target, draft): &mut (&Target<'_>, Draft)| draft.rename(target, &mut held);
        checked.and_then(|()| drafts.iter_mut().try_for_each(&mut rename))
    };
    drop(drafts);
    renamed?;
    for target in wanted {
        target.sync_folder();
    }
    Ok(())
}
