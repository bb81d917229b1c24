//! Plan files: TOML in, a built plan out, or everything that is wrong with it.

mod edit;
mod read;

use std::cell::RefCell;
use std::io;
use std::path::{Path, PathBuf};

use zarnet_core::plan::{Draft, Plan, PlanError, Problem, build};

use crate::source::{SourceFile, Sources};
use crate::toml_reader::Problems;

pub use edit::edited;

/// A plan and the files it came from.
#[derive(Debug, Clone)]
pub struct Loaded {
    /// The plan.
    pub plan: Plan,
    /// Its files.
    pub sources: Sources,
}

/// Why a plan could not be loaded.
#[derive(Debug)]
pub enum LoadError {
    /// A file could not be read.
    Io {
        /// The file.
        path: PathBuf,
        /// Why not.
        error: io::Error,
    },
    /// Something is wrong with it.
    Problems {
        /// What.
        problems: Vec<Problem>,
        /// Its files.
        sources: Sources,
    },
}

/// Loads a plan file and the files that it includes.
///
/// # Errors
/// All problems of all its files at once.
pub fn load(path: &Path) -> Result<Loaded, LoadError> {
    load_after(path, Sources::default())
}

/// The same for a further plan: its files stand behind those that were read before, and its places count on.
///
/// # Errors
/// All problems of all its files at once.
pub(crate) fn load_after(path: &Path, before: Sources) -> Result<Loaded, LoadError> {
    let text = read_text(path)?;
    from_text_after(path, text, before)
}

/// The same for a text that is already there; `path` is where it would be.
///
/// # Errors
/// All problems of all its files at once.
pub fn from_text(path: &Path, text: String) -> Result<Loaded, LoadError> {
    from_text_after(path, text, Sources::default())
}

fn from_text_after(path: &Path, text: String, before: Sources) -> Result<Loaded, LoadError> {
    let first = before.0.len();
    let mut sources = before;
    sources.0.push(SourceFile::new(path.into(), text));
    build_from(sources, first)
}

/// Builds the plan of files that were read, or changed, already: the first of them names the others.
fn from_sources(sources: Sources) -> Result<Loaded, LoadError> {
    build_from(sources, 0)
}

/// Builds the plan whose files begin at `first`; those that are not there yet are read.
fn build_from(mut sources: Sources, first: usize) -> Result<Loaded, LoadError> {
    let mut next = first;
    let problems: Problems = RefCell::default();
    let mut draft = Draft::default();
    while next < sources.0.len() {
        let file = &sources.0[next];
        let includes = read::file(next as u16, file.text(), &mut draft, &problems);
        let folder = file.path.parent().unwrap_or(Path::new("")).to_path_buf();
        for include in includes {
            let path = folder.join(&include.value);
            // each file counts once, however often it is named
            if sources.0[first..].iter().any(|s| s.path == path) {
                continue;
            }
            match std::fs::read_to_string(&path) {
                Ok(text) if sources.0.len() < usize::from(u16::MAX) => sources.0.push(SourceFile::new(path, text)),
                Ok(_) => {
                    let error = PlanError::TooMany { what: "files", most: usize::from(u16::MAX) };
                    problems.borrow_mut().push(Problem::new(error, include.place));
                }
                Err(error) => {
                    let error = PlanError::IncludeUnreadable { path: include.value, error: error.to_string() };
                    problems.borrow_mut().push(Problem::new(error, include.place));
                }
            }
        }
        next += 1;
    }
    let mut problems = problems.into_inner();
    match build(&draft) {
        Ok(plan) if problems.is_empty() => return Ok(Loaded { plan, sources }),
        Ok(_) => {}
        Err(more) => problems.extend(more),
    }
    problems.sort_by_key(|p| p.place);
    // what a broken line says besides is not to be believed
    let line = |p: &Problem| sources.line_column(p.place).map(|l| (p.place.file, l.line));
    let broken: Vec<_> = problems.iter().filter(|p| p.error.name() == "syntax").map(line).collect();
    problems.retain(|p| p.error.name() == "syntax" || !broken.contains(&line(p)));
    Err(LoadError::Problems { problems, sources })
}

fn read_text(path: &Path) -> Result<String, LoadError> {
    let wrap = |error| LoadError::Io { path: path.into(), error };
    let bytes = std::fs::read(path).map_err(wrap)?;
    String::from_utf8(bytes).map_err(|e| {
        let at = e.utf8_error().valid_up_to();
        wrap(io::Error::new(io::ErrorKind::InvalidData, format!("this is not text: byte {at} is not UTF-8")))
    })
}
