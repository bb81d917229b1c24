//! The files of a store as they are written, put together and removed.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::fs::{self, File};
use std::io::{self, Write};
use std::path::{Path, PathBuf};

use foldhash::fast::RandomState;
use zarnet_formats::nat_log::{LogNames, Name};

use super::StoreWriter;
use super::opening::{AT_ONCE, COVERAGE, SUMS};
use crate::error::StoreError;
use crate::layout::{self, number_name, state_file};
use crate::store::{TEMPORARY, persist_pair, sync_folder, temporary};
use crate::table::{Held, Order, Summed, TableReader};

/// So many small files are put together.
const MERGED: usize = 4;
impl StoreWriter {
    /// Writes the records that wait into files of both orders.
    pub(super) fn write_files(&mut self, names: &LogNames) -> Result<(), StoreError> {
        if std::mem::take(&mut self.rules.has_new) {
            self.store.write_rules(&self.rules.names)?;
        }
        let mut folders = BTreeSet::new();
        for ((device, part), held) in self.held.take() {
            let folder = part.folder(names.get(device));
            self.write_file(&folder, &held)?;
            folders.insert(folder);
        }
        self.sync_folders(&folders)?;
        for folder in folders {
            self.merge(&folder)?;
        }
        Ok(())
    }

    /// Writes a file of some records in both orders.
    fn write_file(&mut self, folder: &Path, held: &Held) -> Result<(), StoreError> {
        let id = format!("{}-{:04}", number_name(self.number), self.files);
        self.files += 1;
        let mut files = Vec::new();
        for order in Order::ALL {
            let folder = self.store.root().join(order.folder()).join(folder);
            let mut file = temporary(&folder)?;
            let written = held.write(Summed::new(file.as_file_mut()), order);
            let (summed, rows) = written.map_err(StoreError::table(&folder))?;
            let path = folder.join(layout::file_name(held.span(), &id, summed.sum()));
            file.as_file().sync_all().map_err(StoreError::io(&path))?;
            if order == Order::External {
                self.recorded.records += rows;
            }
            self.recorded.octets += file.as_file().metadata().map_or(0, |m| m.len());
            files.push((file, path));
        }
        persist_pair(files)
    }

    /// Makes the names of new files last, and of the folders above them.
    fn sync_folders(&self, folders: &BTreeSet<PathBuf>) -> Result<(), StoreError> {
        let root = self.store.root();
        let mut all = BTreeSet::new();
        for order in Order::ALL {
            for folder in folders {
                let folder = root.join(order.folder()).join(folder);
                let above = folder.ancestors().take_while(|above| above.starts_with(root));
                all.extend(above.map(Path::to_owned));
            }
        }
        all.iter().try_for_each(|folder| sync_folder(folder))
    }

    /// Writes translations of which one end was logged, and what was heard.
    pub(super) fn write_state(&self, names: &LogNames) -> Result<(), StoreError> {
        let folder = self.store.root().join("state");
        fs::create_dir_all(&folder).map_err(StoreError::io(&folder))?;
        let made = tempfile::Builder::new().prefix(TEMPORARY).tempdir_in(&folder);
        let made = made.map_err(StoreError::io(&folder))?;
        let mut open: HashMap<Name, Held, RandomState> = HashMap::default();
        self.pairing
            .all()
            .for_each(|(device, record)| open.entry(device).or_default().push(&record));
        let mut sums = BTreeMap::new();
        for (device, held) in &open {
            for order in Order::ALL {
                let name = state_file(names.get(*device), order);
                let path = made.path().join(&name);
                let file = File::create(&path).map_err(StoreError::io(&path))?;
                let written = held.write(Summed::new(&file), order);
                let (summed, _) = written.map_err(StoreError::table(&path))?;
                sums.insert(name, summed.sum());
                file.sync_all().map_err(StoreError::io(&path))?;
            }
        }
        let text = serde_json::to_vec(&self.coverage).map_err(io::Error::from);
        let text = text.map_err(StoreError::io(&folder))?;
        sums.insert(COVERAGE.to_owned(), crc32fast::hash(&text));
        let sums = serde_json::to_vec(&sums).map_err(io::Error::from);
        let sums = sums.map_err(StoreError::io(&folder))?;
        for (name, text) in [(COVERAGE, text), (SUMS, sums)] {
            let path = made.path().join(name);
            let written = File::create(&path).and_then(|mut file| {
                file.write_all(&text)?;
                file.sync_all()
            });
            written.map_err(StoreError::io(&path))?;
        }
        sync_folder(made.path())?;
        let path = folder.join(number_name(self.number + 1));
        fs::rename(made.path(), &path).map_err(StoreError::io(&path))?;
        // it has another name now
        let _ = made.keep();
        sync_folder(&folder)?;
        sync_folder(self.store.root())
    }

    /// Removes states and journals that a later state stands for.
    pub(super) fn remove_before(&self, number: u64) -> Result<(), StoreError> {
        let root = self.store.root();
        for (_, path) in layout::journals(root)?.iter().filter(|journal| journal.0 < number) {
            fs::remove_file(path).map_err(StoreError::io(path))?;
        }
        for (_, path) in layout::states(root)?.iter().filter(|state| state.0 < number) {
            fs::remove_dir_all(path).map_err(StoreError::io(path))?;
        }
        Ok(())
    }

    /// Puts small files of a folder together.
    fn merge(&mut self, folder: &Path) -> Result<(), StoreError> {
        let root = self.store.root().to_owned();
        let below = |order: Order| root.join(order.folder()).join(folder);
        for small in layout::small_files(&below(Order::External))? {
            if small.len() >= MERGED {
                self.merge_files(folder, small)?;
            }
        }
        Ok(())
    }

    fn merge_files(
        &mut self,
        folder: &Path,
        mut small: Vec<(String, u64)>,
    ) -> Result<(), StoreError> {
        let root = self.store.root().to_owned();
        let below = |order: Order| root.join(order.folder()).join(folder);
        small.sort_unstable_by_key(|file| file.1);
        let (mut held, mut merged) = (Held::default(), Vec::new());
        for (name, _) in small {
            let path = below(Order::External).join(&name);
            let reader = TableReader::open(&path, Order::External);
            let reader = reader.map_err(StoreError::table(&path))?;
            if held.len() as u64 + reader.rows() > self.limits.held as u64 {
                break;
            }
            let scanned = reader.scan(AT_ONCE, &mut |records| {
                records.iter().for_each(|record| held.push(record));
                Ok(())
            });
            scanned.map_err(StoreError::table(&path))?;
            merged.push(name);
        }
        if merged.len() < 2 {
            return Ok(());
        }
        let before = self.recorded;
        self.write_file(folder, &held)?;
        self.recorded = before;
        self.sync_folders(&BTreeSet::from([folder.to_owned()]))?;
        for name in merged {
            for order in Order::ALL {
                if let Some(path) = layout::find_same(&below(order), &name)? {
                    fs::remove_file(&path).map_err(StoreError::io(&path))?;
                }
            }
        }
        Ok(())
    }

    /// Removes files of which every record had ended before an instant, and tells how many.
    ///
    /// # Errors
    /// They cannot be removed.
    pub fn retain_from(&mut self, from: i64) -> Result<u64, StoreError> {
        let root = self.store.root();
        let mut removed = 0;
        for order in Order::ALL {
            for file in layout::files(root, order, None, (i64::MIN, i64::MAX))? {
                if file.span.1 < from {
                    fs::remove_file(&file.path).map_err(StoreError::io(&file.path))?;
                    layout::remove_empty(&file.path, root);
                    removed += u64::from(order == Order::External);
                }
            }
        }
        for heard in self.coverage.devices.values_mut() {
            heard.forget_before(from);
        }
        Ok(removed)
    }
}
