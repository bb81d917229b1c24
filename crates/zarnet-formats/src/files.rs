//! Files that are read: which may be read at all, how much of them, and what is refused.
//!
//! A file that the user names may lie anywhere, and may be a pipe. A file that another file names
//! must be a regular one below the folder of the file named by the user, unless the user allows
//! more ([`Reach`]): who hands over a plan must not be able to show its reader's other files.

use std::fs::{File, Metadata};
use std::io::{self, ErrorKind, Read};
use std::path::{Path, PathBuf};

/// Why a file is not read.
#[derive(Debug, thiserror::Error)]
pub enum ReadError {
    /// The operating system refuses to open or read it.
    #[error("{0}")]
    Io(#[from] io::Error),
    /// Something else than a file, or than a file or a pipe.
    #[error("it is {0}, not a file")]
    NotAFile(&'static str),
    /// It lies where files that a file names must not lie.
    #[error("it lies outside of {}", .0.display())]
    Outside(PathBuf),
    /// It is longer than is taken.
    #[error("it is longer than {0} octets")]
    TooLarge(u64),
    /// It is not text.
    #[error("it is not text: octet {0} is not UTF-8")]
    NotText(usize),
}

/// Where files may lie that a file names.
#[derive(Debug, Clone, Default)]
pub struct Reach {
    /// The folder, without links on its way; `None` is anywhere.
    root: Option<PathBuf>,
}

impl Reach {
    /// A reach without bounds: files may be named wherever they are.
    pub fn anywhere() -> Self {
        Self { root: None }
    }

    /// In the folder of a file and below.
    pub fn below_folder_of(file: &Path) -> Self {
        // what a link leads to may name its neighbours
        let folder = file.canonicalize().ok().and_then(|f| f.parent().map(Path::to_path_buf));
        let written = || {
            let folder =
                file.parent().filter(|f| !f.as_os_str().is_empty()).unwrap_or(Path::new("."));
            folder.canonicalize().unwrap_or_else(|_| folder.to_path_buf())
        };
        Self { root: Some(folder.unwrap_or_else(written)) }
    }

    /// Whether a file that another file names may be read.
    ///
    /// # Errors
    /// It lies outside, or is no regular file; and what the system says.
    pub fn check(&self, path: &Path) -> Result<(), ReadError> {
        let canonical = path.canonicalize()?;
        if let Some(root) = self.root.as_ref().filter(|root| !canonical.starts_with(root)) {
            return Err(ReadError::Outside(root.clone()));
        }
        // asked before it is opened: opening a pipe waits for somebody to write
        regular(&canonical.metadata()?)
    }

    /// Reads a file that another file names; at most so many octets.
    ///
    /// # Errors
    /// It may not be read ([`Self::check`]), is too long, or is not text; and what the system says.
    pub fn read_text(&self, path: &Path, most: u64) -> Result<String, ReadError> {
        self.check(path)?;
        whole_text(File::open(path)?, most)
    }
}

/// Reads a file, or a pipe, that the user names; at most so many octets.
///
/// # Errors
/// It is no file or pipe, is too long, or is not text; and what the system says.
pub fn read_text(path: &Path, most: u64) -> Result<String, ReadError> {
    file_or_pipe(&path.metadata()?)?;
    whole_text(File::open(path)?, most)
}

fn whole_text(file: File, most: u64) -> Result<String, ReadError> {
    let mut octets = Vec::new();
    file.take(most + 1).read_to_end(&mut octets)?;
    if octets.len() as u64 > most {
        return Err(ReadError::TooLarge(most));
    }
    String::from_utf8(octets).map_err(|e| ReadError::NotText(e.utf8_error().valid_up_to()))
}

fn regular(metadata: &Metadata) -> Result<(), ReadError> {
    if metadata.is_file() { Ok(()) } else { Err(ReadError::NotAFile(kind_of(metadata))) }
}

/// Whether something can be read to its end; a pipe can, once.
pub(crate) fn file_or_pipe(metadata: &Metadata) -> Result<(), ReadError> {
    match kind_of(metadata) {
        "a pipe" => Ok(()),
        _ => regular(metadata),
    }
}

/// What stands in the file system under a name.
#[cfg(unix)]
fn kind_of(metadata: &Metadata) -> &'static str {
    use std::os::unix::fs::FileTypeExt;
    match metadata.file_type() {
        t if t.is_dir() => "a folder",
        t if t.is_fifo() => "a pipe",
        t if t.is_socket() => "a socket",
        t if t.is_char_device() || t.is_block_device() => "a device",
        _ => "something else",
    }
}

#[cfg(not(unix))]
fn kind_of(metadata: &Metadata) -> &'static str {
    if metadata.is_dir() { "a folder" } else { "something else" }
}

/// A reader that gives out at most so many octets, and then an error of the kind
/// [`ErrorKind::FileTooLarge`].
#[derive(Debug)]
pub(crate) struct Bounded<R> {
    inner: R,
    left: u64,
    most: u64,
}

impl<R: Read> Bounded<R> {
    pub(crate) fn new(inner: R, most: u64) -> Self {
        Self { inner, left: most, most }
    }
}

impl<R: Read> Read for Bounded<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let got = self.inner.read(buffer)?;
        self.left = self.left.checked_sub(got as u64).ok_or_else(|| too_large(self.most))?;
        Ok(got)
    }
}

pub(crate) fn too_large(most: u64) -> io::Error {
    io::Error::new(ErrorKind::FileTooLarge, ReadError::TooLarge(most))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_file_that_a_file_names_lies_below_its_folder() {
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        std::fs::create_dir(at("plans")).unwrap();
        std::fs::write(at("secret"), "secret").unwrap();
        std::fs::write(at("plans/part.toml"), "part").unwrap();
        let reach = Reach::below_folder_of(&at("plans/plan.toml"));
        assert_eq!(reach.read_text(&at("plans/part.toml"), 9).unwrap(), "part");
        assert_eq!(reach.read_text(&at("plans/../plans/./part.toml"), 9).unwrap(), "part");
        assert!(matches!(reach.read_text(&at("plans/../secret"), 9), Err(ReadError::Outside(_))));
        assert!(matches!(reach.read_text(&at("plans/part.toml"), 3), Err(ReadError::TooLarge(3))));
        assert!(matches!(reach.read_text(&at("plans"), 9), Err(ReadError::NotAFile("a folder"))));
        assert_eq!(Reach::anywhere().read_text(&at("secret"), 9).unwrap(), "secret");
        #[cfg(unix)]
        {
            std::os::unix::fs::symlink(at("secret"), at("plans/link.toml")).unwrap();
            assert!(matches!(
                reach.read_text(&at("plans/link.toml"), 9),
                Err(ReadError::Outside(_))
            ));
            assert!(matches!(
                read_text(Path::new("/dev/zero"), 9),
                Err(ReadError::NotAFile("a device"))
            ));
        }
    }

    #[test]
    fn a_bounded_reader_tells_that_there_is_more() {
        let mut read = Vec::new();
        assert!(Bounded::new(&[1u8; 10][..], 10).read_to_end(&mut read).is_ok());
        let error = Bounded::new(&[1u8; 11][..], 10).read_to_end(&mut read).unwrap_err();
        assert_eq!(error.kind(), ErrorKind::FileTooLarge);
    }
}
