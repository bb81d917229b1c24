//! A store: a folder, its version, the names of rules, and how its files come to be.

use std::fs::{self, File};
use std::io::{self, Write};
use std::path::{Path, PathBuf};

use serde_json::{Value, json};
use tempfile::NamedTempFile;

use crate::error::StoreError;
use crate::version::VERSION;

const VERSION_FILE: &str = "zarnet-store.json";
const VERSION_KEY: &str = "zarnet-store";
const RULES_FILE: &str = "rules.json";

/// A folder with translations.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Store {
    root: PathBuf,
}

impl Store {
    /// Opens a store that is there.
    ///
    /// # Errors
    /// There is none, or one of a newer version.
    pub fn open(root: &Path) -> Result<Self, StoreError> {
        let path = root.join(VERSION_FILE);
        let no_store = || StoreError::NoStore { path: root.to_owned() };
        let text = match fs::read_to_string(&path) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Err(no_store()),
            read => read.map_err(StoreError::io(&path))?,
        };
        let value: Value = serde_json::from_str(&text).map_err(|_| no_store())?;
        match value.get(VERSION_KEY).and_then(Value::as_u64) {
            None => Err(no_store()),
            Some(version) if version > VERSION => {
                Err(StoreError::Newer { path: root.to_owned(), version })
            }
            Some(_) => Ok(Self { root: root.to_owned() }),
        }
    }

    /// Opens a store, or makes one in a folder that is empty or not there.
    ///
    /// # Errors
    /// The folder has something else in it, or cannot be made.
    pub fn open_or_make(root: &Path) -> Result<Self, StoreError> {
        match Self::open(root) {
            Err(StoreError::NoStore { .. }) => {}
            opened => return opened,
        }
        fs::create_dir_all(root).map_err(StoreError::io(root))?;
        let mut there = fs::read_dir(root).map_err(StoreError::io(root))?;
        if there.next().is_some() {
            return Err(StoreError::NoStore { path: root.to_owned() });
        }
        let store = Self { root: root.to_owned() };
        let version = json!({ VERSION_KEY: VERSION }).to_string();
        store.write(Path::new(VERSION_FILE), |file| writeln!(file, "{version}"))?;
        Ok(store)
    }

    /// Its folder.
    pub fn root(&self) -> &Path {
        &self.root
    }

    /// Writes a file below the folder whole: it is there with all of its contents, or as before.
    pub(crate) fn write(
        &self,
        name: &Path,
        contents: impl FnOnce(&mut File) -> io::Result<()>,
    ) -> Result<(), StoreError> {
        let path = self.root.join(name);
        let folder = path.parent().unwrap_or(&self.root);
        let mut file = temporary(folder)?;
        contents(file.as_file_mut())
            .and_then(|()| file.as_file().sync_all())
            .map_err(StoreError::io(&path))?;
        persist(file, &path)
    }

    /// The names of rules by their numbers.
    pub(crate) fn rules(&self) -> Result<Vec<String>, StoreError> {
        let path = self.root.join(RULES_FILE);
        let text = match fs::read(&path) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Vec::new()),
            read => read.map_err(StoreError::io(&path))?,
        };
        // a line each, as other engines read it
        let line = |line: &[u8]| {
            let value: Value = serde_json::from_slice(line).ok()?;
            value.get("name").and_then(Value::as_str).map(str::to_owned)
        };
        let lines = text.split(|o| *o == b'\n').filter(|line| !line.is_empty());
        lines.map(line).collect::<Option<Vec<String>>>().ok_or_else(|| StoreError::Damaged {
            path,
            what: "a line is not the name of a rule".into(),
        })
    }

    /// Writes the names of rules.
    pub(crate) fn write_rules(&self, rules: &[String]) -> Result<(), StoreError> {
        self.write(Path::new(RULES_FILE), |file| {
            let mut text = Vec::new();
            for (number, name) in rules.iter().enumerate() {
                writeln!(text, "{}", json!({ "rule": number, "name": name }))?;
            }
            file.write_all(&text)
        })
    }
}

/// A file that is not there yet, in a folder that is made if need be. Engines pass over names like
/// this.
pub(crate) fn temporary(folder: &Path) -> Result<NamedTempFile, StoreError> {
    fs::create_dir_all(folder).map_err(StoreError::io(folder))?;
    let made = tempfile::Builder::new().prefix(TEMPORARY).suffix(".tmp").tempfile_in(folder);
    made.map_err(StoreError::io(folder))
}

/// What names of files begin with that are not there yet.
pub(crate) const TEMPORARY: &str = "_unfinished-";

/// Lets a file appear under its name. Its contents must have been synchronised.
pub(crate) fn persist(file: NamedTempFile, path: &Path) -> Result<(), StoreError> {
    file.persist(path).map_err(|error| StoreError::io(path)(error.error))?;
    sync_folder(path.parent().unwrap_or(path))
}

/// Lets the files of both orders appear. One that appears alone is removed when the store is opened
/// again.
pub(crate) fn persist_pair(files: Vec<(NamedTempFile, PathBuf)>) -> Result<(), StoreError> {
    for (file, path) in files {
        file.persist(&path).map_err(|error| StoreError::io(&path)(error.error))?;
    }
    Ok(())
}

/// Makes the names in a folder last.
pub(crate) fn sync_folder(folder: &Path) -> Result<(), StoreError> {
    #[cfg(unix)]
    File::open(folder).and_then(|f| f.sync_all()).map_err(StoreError::io(folder))?;
    Ok(())
}
