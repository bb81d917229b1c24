//! Whether every file of a store is as it was written.

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::hash::{BuildHasher, Hash};
use std::io;
use std::path::{Path, PathBuf};

use foldhash::fast::FixedState;

use crate::error::StoreError;
use crate::layout::{self, TableFile};
use crate::part::Part;
use crate::record::Record;
use crate::store::Store;
use crate::table::{Order, Summed, TableReader};
use crate::writer::SUMS;

/// What a check of all files found.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Checked {
    /// Files of both orders.
    pub files: u64,
    /// Records of one order.
    pub records: u64,
    /// Octets of both orders.
    pub octets: u64,
    /// What is wrong, and with which file.
    pub faults: Vec<(PathBuf, String)>,
}

/// What a file holds: how many records, and a sum of them that does not depend on their order.
#[derive(Debug, Default, PartialEq, Eq)]
struct Contents {
    records: u64,
    sum: u64,
}

/// So many records are read at once.
const AT_ONCE: usize = 1 << 14;

impl Store {
    /// Reads every file to its end. `watch` is told how many octets more were read.
    ///
    /// # Errors
    /// A folder cannot be read; what is wrong with a file is a fault of [`Checked`].
    pub fn check(&self, mut watch: impl FnMut(u64)) -> Result<Checked, StoreError> {
        let mut checked = Checked::default();
        let all = |order| layout::files(self.root(), order, None, (i64::MIN, i64::MAX));
        let (external, internal) = (all(Order::External)?, all(Order::Internal)?);
        let below = |order: Order| self.root().join(order.folder());
        for file in &external {
            let same = |other: &&TableFile| {
                other.same_in(&below(Order::Internal)) == file.same_in(&below(Order::External))
            };
            let contents = checked.read(file, Order::External, &mut watch);
            checked.records += contents.as_ref().map_or(0, |c| c.records);
            let Some(other) = internal.iter().find(same) else {
                checked.fault(file, "there is no file of the same records by internal address");
                continue;
            };
            let others = checked.read(other, Order::Internal, &mut watch);
            if contents.is_some() && others.is_some() && contents != others {
                checked.fault(other, "it has other records than the file by external address");
            }
        }
        for file in &internal {
            let same = |other: &TableFile| {
                other.same_in(&below(Order::External)) == file.same_in(&below(Order::Internal))
            };
            if !external.iter().any(same) {
                checked.fault(file, "there is no file of the same records by external address");
            }
        }
        if let Some((_, state)) = layout::states(self.root())?.pop() {
            checked.read_state(&state, &mut watch)?;
        }
        if let Err(error) = self.rules() {
            checked.faults.push((self.root().to_owned(), error.to_string()));
        }
        Ok(checked)
    }
}

impl Checked {
    fn fault(&mut self, file: &TableFile, what: impl Into<String>) {
        self.faults.push((file.path.clone(), what.into()));
    }

    /// Compares the sum of a file with the one that it was written with.
    fn sum(&mut self, path: &Path, wanted: Option<u32>) {
        let mut sum = Summed::new(io::sink());
        let read = File::open(path).and_then(|mut file| io::copy(&mut file, &mut sum));
        match read {
            Err(error) => self.faults.push((path.to_owned(), error.to_string())),
            Ok(_) if Some(sum.sum()) != wanted => {
                self.faults.push((path.to_owned(), "its contents have changed".into()));
            }
            Ok(_) => {}
        }
    }

    /// Reads translations of which one end was logged, and what is known of the logs.
    fn read_state(&mut self, state: &Path, watch: &mut impl FnMut(u64)) -> Result<(), StoreError> {
        let sums: BTreeMap<String, u32> =
            match fs::read(state.join(SUMS)).map(|t| serde_json::from_slice(&t)) {
                Ok(Ok(sums)) => sums,
                _ => {
                    self.faults.push((state.to_owned(), format!("its {SUMS} cannot be read")));
                    return Ok(());
                }
            };
        for (name, sum) in &sums {
            self.sum(&state.join(name), Some(*sum));
        }
        for order in Order::ALL {
            for (device, path) in layout::state_files(state, order)? {
                let name = path.file_name().and_then(|n| n.to_str()).unwrap_or_default().to_owned();
                if !sums.contains_key(&name) {
                    self.faults.push((path, "nothing tells of it".into()));
                    continue;
                }
                let (part, span) = (Part::whole(), (i64::MIN, i64::MAX));
                self.contents(&TableFile { device, part, path, name, span }, order);
            }
        }
        watch(0);
        Ok(())
    }

    fn read(
        &mut self,
        file: &TableFile,
        order: Order,
        watch: &mut impl FnMut(u64),
    ) -> Option<Contents> {
        self.files += 1;
        let octets = file.path.metadata().map_or(0, |m| m.len());
        self.octets += octets;
        watch(octets);
        self.sum(&file.path, file.sum());
        self.contents(file, order)
    }

    fn contents(&mut self, file: &TableFile, order: Order) -> Option<Contents> {
        let hasher = FixedState::default();
        let (mut contents, mut last, mut faults) =
            (Contents::default(), None::<Record>, Vec::new());
        let mut tell = |what: &str| {
            if !faults.iter().any(|known| known == what) {
                faults.push(what.to_owned());
            }
        };
        let read = TableReader::open(&file.path, order).and_then(|reader| {
            reader.scan(AT_ONCE, &mut |records| {
                for record in records {
                    if last.is_some_and(|last| is_before(&record, &last, order)) {
                        tell("its records are not in order");
                    }
                    let ended = record.gone_by().unwrap_or(record.begun);
                    if record.begun < file.span.0 || ended > file.span.1 {
                        tell("a record lies outside of the time of its name");
                    }
                    contents.records += 1;
                    contents.sum = contents.sum.wrapping_add(hash(&hasher, &record));
                    last = Some(record);
                }
                Ok(())
            })
        });
        let is_read = read.is_ok();
        if let Err(error) = read {
            faults.push(StoreError::table(&file.path)(error).what());
        }
        faults.into_iter().for_each(|what| self.fault(file, what));
        is_read.then_some(contents)
    }
}

fn is_before(a: &Record, b: &Record, order: Order) -> bool {
    let number = crate::record::number;
    match order {
        Order::External => {
            let key = |r: &Record| (number(r.external), r.ports.map(|p| p.0), r.begun);
            key(a) < key(b)
        }
        Order::Internal => {
            let key = |r: &Record| (number(r.internal), r.begun);
            key(a) < key(b)
        }
    }
}

fn hash(hasher: &FixedState, record: &impl Hash) -> u64 {
    hasher.hash_one(record)
}
