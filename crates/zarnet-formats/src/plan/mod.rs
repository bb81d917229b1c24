//! Plan files: TOML in, a built plan out, or everything that is wrong with it.

mod edit;
mod items;
mod read;

use std::path::{Path, PathBuf};
use std::sync::Arc;

use zarnet_core::limits;
use zarnet_core::plan::{Draft, Place, Plan, PlanError, Problem, Problems, build};

use crate::files::{Reach, ReadError, read_text};
use crate::source::{SourceFile, Sources};
use crate::toml_reader::Collected;

pub use edit::edited;
pub use items::{PlanItem, items};

/// A plan and the files it came from.
#[derive(Debug, Clone)]
pub struct Loaded {
    /// The plan, built and checked.
    pub plan: Plan,
    /// The files that it was read from.
    pub sources: Sources,
    /// What they say, key by key.
    draft: Arc<Draft>,
    /// Where the files lie that it may include.
    reach: Reach,
}

/// Why a plan could not be loaded.
#[derive(Debug)]
pub enum LoadError {
    /// The file that the user named cannot be read.
    Unreadable {
        /// Path of the file.
        path: PathBuf,
        /// Why it cannot be read.
        error: ReadError,
    },
    /// Something is wrong with it.
    Problems {
        /// Everything that is wrong, up to a limit.
        problems: Problems,
        /// The files that it was read from.
        sources: Sources,
    },
}

/// Loads a plan file and the files that it includes.
///
/// # Errors
/// All problems of all its files at once.
pub fn load(path: &Path, reach: Reach) -> Result<Loaded, LoadError> {
    load_after(path, reach, Sources::default())
}

/// The same for a further plan: its files stand behind those that were read before, and its places
/// count on.
///
/// # Errors
/// All problems of all its files at once.
pub(crate) fn load_after(path: &Path, reach: Reach, before: Sources) -> Result<Loaded, LoadError> {
    match read_text(path, limits::PLAN_OCTETS as u64) {
        Ok(text) => from_text_after(path, text, reach, before),
        Err(ReadError::TooLarge(_)) => {
            let mut sources = before;
            sources.0.push(SourceFile::new(path.into(), String::new()));
            let place = Place { file: sources.0.len() as u16 - 1, ..Place::default() };
            Err(LoadError::Problems { problems: Problem::new(TOO_LONG, place).into(), sources })
        }
        Err(error) => Err(LoadError::Unreadable { path: path.into(), error }),
    }
}

const TOO_LONG: PlanError =
    PlanError::TooMany { what: "octets in a plan", most: limits::PLAN_OCTETS };

/// The same for a text that is already there; `path` is where it would be.
///
/// # Errors
/// All problems of all its files at once.
pub fn from_text(path: &Path, text: String) -> Result<Loaded, LoadError> {
    from_text_after(path, text, Reach::below_folder_of(path), Sources::default())
}

fn from_text_after(
    path: &Path,
    text: String,
    reach: Reach,
    before: Sources,
) -> Result<Loaded, LoadError> {
    let first = before.0.len();
    let mut sources = before;
    sources.0.push(SourceFile::new(path.into(), text));
    build_from(sources, first, reach)
}

/// Reads one text as a plan, without the files that it includes: what it says, and what is wrong
/// with its notation.
pub fn draft(text: &str) -> (Draft, Problems) {
    let (mut draft, problems) = (Draft::default(), Collected::default());
    read::file(0, text, &mut draft, &problems);
    (draft, problems.into_inner())
}

impl Loaded {
    /// What its files say, key by key.
    pub fn draft(&self) -> &Draft {
        &self.draft
    }
}

/// Builds the plan whose files begin at `first`; those that are not there yet are read.
fn build_from(mut sources: Sources, first: usize, reach: Reach) -> Result<Loaded, LoadError> {
    let mut next = first;
    let problems = Collected::default();
    let mut draft = Draft::default();
    while next < sources.0.len() {
        let file = &sources.0[next];
        let includes = read::file(next as u16, file.text(), &mut draft, &problems);
        let folder = file.path.parent().unwrap_or(Path::new("")).to_path_buf();
        for include in includes {
            let path = folder.join(&include.value);
            // each file counts once, however often it is named, and by whichever way
            let canonical = path.canonicalize().ok();
            if sources.0[first..].iter().any(|s| s.is_at(&path, canonical.as_deref())) {
                continue;
            }
            match read_include(&path, &include.value, &sources, first, &reach) {
                Ok(file) => sources.0.push(file),
                Err(error) => problems.borrow_mut().push(Problem::new(error, include.place)),
            }
            if problems.borrow().is_full() {
                break;
            }
        }
        next += 1;
    }
    let mut problems = problems.into_inner();
    if problems.is_empty() && draft.is_empty() {
        let place = Place { file: first as u16, ..Place::default() };
        problems.push(Problem::new(PlanError::Empty, place));
    }
    match build(&draft) {
        Ok(plan) if problems.is_empty() => {
            return Ok(Loaded { plan, sources, draft: draft.into(), reach });
        }
        Ok(_) => {}
        Err(more) => problems.append(more),
    }
    problems.sort();
    // what a broken line says besides is not to be believed
    let line = |p: &Problem| sources.line_column(p.place).map(|l| (p.place.file, l.line));
    let is_syntax = |p: &Problem| matches!(p.error, PlanError::Syntax(_));
    let broken: std::collections::HashSet<_> =
        problems.kept().iter().filter(|p| is_syntax(p)).filter_map(line).collect();
    problems.retain(|p| is_syntax(p) || !line(p).is_some_and(|l| broken.contains(&l)));
    Err(LoadError::Problems { problems, sources })
}

/// A further file of a plan, within what all of them may have together.
fn read_include(
    path: &Path,
    name: &str,
    sources: &Sources,
    first: usize,
    reach: &Reach,
) -> Result<SourceFile, PlanError> {
    let read = &sources.0[first..];
    if read.len() >= limits::PLAN_FILES {
        return Err(PlanError::TooMany { what: "files of a plan", most: limits::PLAN_FILES });
    }
    let octets: usize = read.iter().map(|s| s.text().len()).sum();
    match reach.read_text(path, limits::PLAN_OCTETS.saturating_sub(octets) as u64) {
        Ok(text) => Ok(SourceFile::new(path.into(), text)),
        Err(ReadError::Outside(_)) => Err(PlanError::IncludeOutside { path: name.into() }),
        Err(ReadError::TooLarge(_)) => Err(TOO_LONG),
        Err(error) => {
            Err(PlanError::IncludeUnreadable { path: name.into(), error: error.to_string() })
        }
    }
}
