//! What is done when a store is opened for writing.

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::path::{Path, PathBuf};

use crate::coverage::Coverage;
use crate::error::StoreError;
use crate::layout;
use crate::table::Order;

/// So many records are read at once.
pub(super) const AT_ONCE: usize = 1 << 16;
/// What is known of the logs.
pub(crate) const COVERAGE: &str = "coverage.json";
/// The sums of the files of a state.
pub(crate) const SUMS: &str = "sums.json";

/// What is known of the logs, as a state has it.
pub(crate) fn read_coverage(state: &Path) -> Result<Coverage, StoreError> {
    let path = state.join(COVERAGE);
    let text = fs::read(&path).map_err(StoreError::io(&path))?;
    serde_json::from_slice(&text)
        .map_err(|error| StoreError::Damaged { path, what: error.to_string() })
}

/// Keeps others from writing.
pub(super) fn lock(root: &Path) -> Result<File, StoreError> {
    let path = root.join("lock");
    let file = File::options().create(true).truncate(false).write(true).open(&path);
    let file = file.map_err(StoreError::io(&path))?;
    match file.try_lock() {
        Ok(()) => Ok(file),
        Err(fs::TryLockError::WouldBlock) => Err(StoreError::Busy { path: root.to_owned() }),
        Err(fs::TryLockError::Error(error)) => Err(StoreError::io(&path)(error)),
    }
}

/// Removes what a crash has left: files that are not whole, and files that are there in one order
/// only. Their records were not acknowledged, or are in the journal, or in the files that they were
/// merged from.
pub(super) fn clean_up(root: &Path) -> Result<(), StoreError> {
    layout::remove_unfinished(root)?;
    let names = |order| -> Result<BTreeMap<PathBuf, PathBuf>, StoreError> {
        let all = layout::files(root, order, None, (i64::MIN, i64::MAX))?;
        let below = root.join(order.folder());
        let same = |file: layout::TableFile| Some((file.same_in(&below)?, file.path));
        Ok(all.into_iter().filter_map(same).collect())
    };
    let (external, internal) = (names(Order::External)?, names(Order::Internal)?);
    let alone = |of: &BTreeMap<PathBuf, PathBuf>, other: &BTreeMap<PathBuf, PathBuf>| {
        let alone = of.iter().filter(|(name, _)| !other.contains_key(*name));
        alone.map(|(_, path)| path.clone()).collect::<Vec<PathBuf>>()
    };
    for path in alone(&external, &internal).into_iter().chain(alone(&internal, &external)) {
        fs::remove_file(&path).map_err(StoreError::io(&path))?;
    }
    Ok(())
}
