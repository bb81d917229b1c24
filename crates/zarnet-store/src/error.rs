//! Why a store cannot be read or written.

use std::io;
use std::path::{Path, PathBuf};

use parquet::errors::ParquetError;

/// Why a store cannot be read or written.
#[derive(Debug, thiserror::Error)]
pub enum StoreError {
    /// A file or folder cannot be read or written.
    #[error("{}: {error}", path.display())]
    Io {
        /// The file or folder.
        path: PathBuf,
        /// Why not.
        error: io::Error,
    },
    /// A file is not what it was written as.
    #[error("{}: {what}", path.display())]
    Damaged {
        /// The file.
        path: PathBuf,
        /// What is wrong with it.
        what: String,
    },
    /// The folder is none of a store.
    #[error("{} is no store of translation logs", path.display())]
    NoStore {
        /// The folder.
        path: PathBuf,
    },
    /// The store was made by a program that knows more.
    #[error("{} is a store of version {version}, and this program knows {} and before", path.display(), crate::version::VERSION)]
    Newer {
        /// The folder.
        path: PathBuf,
        /// Its version.
        version: u64,
    },
    /// Another process writes to the store.
    #[error("{} is being written to by another process", path.display())]
    Busy {
        /// The folder.
        path: PathBuf,
    },
}

impl StoreError {
    /// Its stable name.
    pub fn name(&self) -> &'static str {
        match self {
            Self::Io { .. } => "store-unusable",
            Self::Damaged { .. } => "store-damaged",
            Self::NoStore { .. } => "no-store",
            Self::Newer { .. } => "store-newer",
            Self::Busy { .. } => "store-busy",
        }
    }

    /// What can be done about it.
    pub fn help(&self) -> Option<&'static str> {
        match self {
            Self::Io { .. } => None,
            Self::Damaged { .. } => Some("`zarnet record STORE --check` tells of every file"),
            Self::NoStore { .. } => Some("`zarnet record STORE LOG...` makes one"),
            Self::Newer { .. } => Some("use a newer version of the program"),
            Self::Busy { .. } => Some("wait until that is done, or stop it"),
        }
    }

    /// For a file or folder that cannot be read or written.
    pub(crate) fn io(path: &Path) -> impl FnOnce(io::Error) -> Self + '_ {
        move |error| Self::Io { path: path.to_owned(), error }
    }

    /// For a file whose contents are wrong, or that cannot be read.
    pub(crate) fn table(path: &Path) -> impl FnOnce(ParquetError) -> Self + '_ {
        move |error| {
            let path = path.to_owned();
            match error {
                ParquetError::External(inner) => match inner.downcast::<io::Error>() {
                    // what the system did not say is said by what unpacks and reads
                    Ok(error) if error.raw_os_error().is_none() => {
                        Self::Damaged { path, what: error.to_string() }
                    }
                    Ok(error) => Self::Io { path, error: *error },
                    Err(other) => Self::Damaged { path, what: other.to_string() },
                },
                error => Self::Damaged { path, what: error.to_string() },
            }
        }
    }

    /// What is wrong, without the path.
    pub(crate) fn what(&self) -> String {
        match self {
            Self::Io { error, .. } => error.to_string(),
            Self::Damaged { what, .. } => what.clone(),
            Self::NoStore { .. } | Self::Newer { .. } | Self::Busy { .. } => self.to_string(),
        }
    }

    /// Whether a file was not there.
    pub(crate) fn is_absent(&self) -> bool {
        matches!(self, Self::Io { error, .. } if error.kind() == io::ErrorKind::NotFound)
    }
}
