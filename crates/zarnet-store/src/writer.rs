//! Takes events into a store.

use std::collections::{BTreeSet, HashMap};
use std::fs::{self, File};
use std::io::{self, Write};
use std::path::{Path, PathBuf};

use foldhash::fast::RandomState;
use zarnet_formats::nat_log::{Missing, Name, Names, TranslationEvent};

use crate::coverage::{Coverage, Lost};
use crate::error::StoreError;
use crate::journal::{self, Entry, Journal};
use crate::layout::{self, Part, number_name, state_file};
use crate::pairing::{Done, Pairing};
use crate::record::Record;
use crate::store::{Store, TEMPORARY, persist_pair, sync_folder, temporary};
use crate::table::{Held, Order, TableReader};

/// How much a writer keeps in memory.
#[derive(Debug, Clone, Copy)]
pub struct Limits {
    /// Records that wait to be written: 32 octets each, and as much again while they are sorted.
    pub held: usize,
    /// Translations of which one end was logged: about 200 octets each. Beyond that the oldest are
    /// written as they are.
    pub open: usize,
}

impl Default for Limits {
    fn default() -> Self {
        Self { held: 4 << 20, open: 4 << 20 }
    }
}

/// What a writer has done.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Recorded {
    /// Events that were taken.
    pub events: u64,
    /// Translations whose two ends are known, and that are in files.
    pub records: u64,
    /// Octets of those files, in both orders.
    pub octets: u64,
    /// Events that told of something that ran out, or of a limit.
    pub shortages: u64,
    /// Events that were found in a journal, after a crash.
    pub recovered: u64,
}

/// Takes events into a store. There is one writer at a time.
pub struct StoreWriter {
    store: Store,
    /// Held as long as this lives.
    _lock: File,
    limits: Limits,
    rules: Rules,
    /// Events that were taken and are looked at together.
    batch: Vec<TranslationEvent>,
    pairing: Pairing,
    held: Waiting,
    coverage: Coverage,
    /// Heard since the last state: first and last, by device.
    hearing: HashMap<Name, (i64, i64), RandomState>,
    /// The same of the device of the last event, not yet among them.
    hearing_last: Option<(Name, (i64, i64))>,
    /// Heard since it was last put into the journal.
    news: Coverage,
    journal: Option<Journal>,
    /// The number of the state.
    number: u64,
    /// Files written since.
    files: u32,
    recorded: Recorded,
}

/// Numbers of rules.
#[derive(Default)]
struct Rules {
    names: Vec<String>,
    by_text: HashMap<String, u16, RandomState>,
    /// By the position of the name in the log that is read.
    by_name: HashMap<Name, u16, RandomState>,
    last: Option<(Name, u16)>,
    has_new: bool,
}

/// No store has more; all others are one.
const MOST_RULES: usize = u16::MAX as usize - 1;
const OTHER_RULES: &str = "(other)";

impl Rules {
    fn new(names: Vec<String>) -> Self {
        let numbered = names.iter().enumerate();
        let by_text = numbered.map(|(number, name)| (name.clone(), number as u16)).collect();
        Self { names, by_text, ..Self::default() }
    }

    #[inline]
    fn number(&mut self, name: Name, names: &Names) -> u16 {
        match self.last {
            Some((known, number)) if known == name => number,
            _ => {
                let number = self.look_up(name, names);
                self.last = Some((name, number));
                number
            }
        }
    }

    fn look_up(&mut self, name: Name, names: &Names) -> u16 {
        if let Some(number) = self.by_name.get(&name) {
            return *number;
        }
        let full = self.names.len() >= MOST_RULES;
        let text = names.get(name);
        let text = if full && !self.by_text.contains_key(text) { OTHER_RULES } else { text };
        let number = *self.by_text.entry(text.to_owned()).or_insert_with(|| {
            self.names.push(text.to_owned());
            self.has_new = true;
            (self.names.len() - 1) as u16
        });
        self.by_name.insert(name, number);
        number
    }
}

/// Records that wait to be written, by the file that they go into.
#[derive(Default)]
struct Waiting {
    places: HashMap<(Name, Part), usize, RandomState>,
    parts: Vec<((Name, Part), Held)>,
    /// The part that the last record went into: the next one mostly does too.
    last: usize,
    count: usize,
}

impl Waiting {
    fn push(&mut self, device: Name, record: &Record) {
        self.part(device, Part::of(record)).push(record);
        self.count += 1;
    }

    #[inline]
    fn push_done(&mut self, device: Name, done: Done) {
        match done {
            Done::Long(record) => self.push(device, &record),
            Done::Short(short) => {
                self.part(device, Part::of_short(&short)).push_short(short);
                self.count += 1;
            }
        }
    }

    #[inline]
    fn part(&mut self, device: Name, part: Part) -> &mut Held {
        let key = (device, part);
        if self.parts.get(self.last).is_none_or(|part| part.0 != key) {
            self.last = *self.places.entry(key).or_insert_with(|| {
                self.parts.push((key, Held::default()));
                self.parts.len() - 1
            });
        }
        &mut self.parts[self.last].1
    }

    fn take(&mut self) -> Vec<((Name, Part), Held)> {
        let mut parts = std::mem::take(self).parts;
        parts.sort_unstable_by_key(|part| part.0);
        parts
    }
}

impl StoreWriter {
    /// Opens a store for writing, or makes one. What a crash has left in its journal is read again.
    /// `names` are those of all events to come.
    ///
    /// # Errors
    /// It cannot be opened, or another process writes to it.
    pub fn open(root: &Path, limits: Limits, names: &mut Names) -> Result<Self, StoreError> {
        let store = Store::open_or_make(root)?;
        let lock = lock(root)?;
        clean_up(root)?;
        let rules = Rules::new(store.rules()?);
        let mut writer = Self {
            store,
            _lock: lock,
            limits,
            rules,
            batch: Vec::with_capacity(BATCH),
            pairing: Pairing::default(),
            held: Waiting::default(),
            coverage: Coverage::default(),
            hearing: HashMap::default(),
            hearing_last: None,
            news: Coverage::default(),
            journal: None,
            number: 0,
            files: 0,
            recorded: Recorded::default(),
        };
        writer.restore(names)?;
        Ok(writer)
    }

    /// Takes back the last state, and what was journalled since.
    fn restore(&mut self, names: &mut Names) -> Result<(), StoreError> {
        let root = self.store.root().to_owned();
        if let Some((number, state)) = layout::states(&root)?.pop() {
            self.number = number;
            self.coverage = read_coverage(&state)?;
            for (device, path) in layout::state_files(&state, Order::External)? {
                let device = names.obtain(&device);
                let reader = TableReader::open(&path, Order::External);
                let reader = reader.map_err(StoreError::table(&path))?;
                let pairing = &mut self.pairing;
                reader
                    .scan(AT_ONCE, &mut |records| {
                        records.into_iter().for_each(|record| pairing.restore(device, record));
                        Ok(())
                    })
                    .map_err(StoreError::table(&path))?;
            }
        }
        let number = self.number;
        let journals = layout::journals(&root)?;
        for (_, path) in journals.iter().filter(|journal| journal.0 >= number) {
            journal::read(path, names, |entry, names| match entry {
                Entry::Event(event) => {
                    self.recorded.recovered += 1;
                    self.apply(&event, names);
                }
                Entry::Heard(heard) => self.coverage.add(&heard),
            })?;
        }
        if self.recorded.recovered > 0 {
            self.commit(names)?;
        }
        self.remove_before(self.number)?;
        Ok(())
    }

    /// From now on, what was taken lasts as soon as [`Self::sync`] has said so.
    ///
    /// # Errors
    /// The journal cannot be written.
    pub fn keep_journal(&mut self) -> Result<(), StoreError> {
        let folder = self.store.root().join("journal");
        fs::create_dir_all(&folder).map_err(StoreError::io(&folder))?;
        self.journal = Some(Journal::create(&folder.join(number_name(self.number)))?);
        sync_folder(&folder)?;
        sync_folder(self.store.root())
    }

    /// Takes an event.
    ///
    /// # Errors
    /// Files that had to be written could not be.
    #[inline]
    pub fn take(&mut self, event: &TranslationEvent, names: &Names) -> Result<(), StoreError> {
        if let Some(journal) = &mut self.journal {
            journal.event(event, names);
        }
        self.batch.push(*event);
        if self.batch.len() == BATCH { self.take_batch(names) } else { Ok(()) }
    }

    /// Looks at the events that wait, whatever room there is.
    fn take_batch_alone(&mut self, names: &Names) {
        let mut batch = std::mem::take(&mut self.batch);
        self.pairing.touch(&batch);
        batch.iter().for_each(|event| self.apply(event, names));
        batch.clear();
        self.batch = batch;
    }

    /// Looks at the events that wait, and makes room.
    fn take_batch(&mut self, names: &Names) -> Result<(), StoreError> {
        self.take_batch_alone(names);
        if self.held.count >= self.limits.held || self.pairing.len() > self.limits.open {
            self.relieve(names)?;
        }
        Ok(())
    }

    #[inline]
    fn apply(&mut self, event: &TranslationEvent, names: &Names) {
        self.recorded.events += 1;
        match &mut self.hearing_last {
            Some((device, heard)) if *device == event.device => {
                *heard = (heard.0.min(event.at), heard.1.max(event.at));
            }
            _ => {
                self.put_hearing();
                self.hearing_last = Some((event.device, (event.at, event.at)));
            }
        }
        let rule = event.rule.map(|rule| self.rules.number(rule, names));
        if event.kind.begins().is_none() {
            self.recorded.shortages += 1;
            self.coverage.of(names.get(event.device)).shortages += 1;
            return;
        }
        let (device, held) = (event.device, &mut self.held);
        self.pairing.take(event, rule, |done| held.push_done(device, done));
    }

    fn put_hearing(&mut self) {
        if let Some((device, (from, until))) = self.hearing_last.take() {
            let heard = self.hearing.entry(device).or_insert((from, until));
            *heard = (heard.0.min(from), heard.1.max(until));
        }
    }

    /// A log that came in one piece is at its end: it is one of all its devices from its first event
    /// to its last.
    pub fn end_of_log(&mut self, names: &Names) {
        self.take_batch_alone(names);
        self.put_hearing();
        let spans = self.hearing.values();
        let whole = spans.copied().reduce(|a, b| (a.0.min(b.0), a.1.max(b.1)));
        if let Some((from, until)) = whole {
            for (device, _) in self.hearing.drain() {
                self.news.of(names.get(device)).hear(from, until);
            }
        }
    }

    /// Notes that records of a device did not come.
    pub fn lose(&mut self, missing: &Missing, names: &Names) {
        let Missing { device, from, until, records } = *missing;
        self.news.of(names.get(device)).lose(Lost { from, until, records });
    }

    /// Notes by how many milliseconds the clock of a device is ahead.
    pub fn compare_clock(&mut self, device: &str, ahead: i64) {
        self.news.of(device).compare_clock(ahead);
    }

    /// Notes that a device was listened to from one time to another, whether it said anything or
    /// not.
    pub fn hear(&mut self, device: &str, from: i64, until: i64) {
        self.news.of(device).hear(from, until);
    }

    /// Makes all that was taken last: after this it is there whatever happens. With a journal;
    /// without one, [`Self::commit`] does.
    ///
    /// # Errors
    /// The journal cannot be written.
    pub fn sync(&mut self, names: &Names) -> Result<(), StoreError> {
        self.take_batch(names)?;
        let Some(journal) = &mut self.journal else { return Ok(()) };
        if !self.news.devices.is_empty() {
            journal.coverage(&self.news)?;
            self.coverage.add(&std::mem::take(&mut self.news));
        }
        journal.sync()
    }

    /// Octets of the journal: once there are many, a commit makes them few.
    pub fn journal_octets(&self) -> u64 {
        self.journal.as_ref().map_or(0, Journal::octets)
    }

    /// What was done so far.
    pub fn recorded(&self) -> Recorded {
        self.recorded
    }

    /// Translations of which one end was logged so far.
    pub fn open_count(&self) -> usize {
        self.pairing.len()
    }

    /// Makes room.
    #[cold]
    fn relieve(&mut self, names: &Names) -> Result<(), StoreError> {
        let (held, most) = (&mut self.held, self.limits.open);
        if self.pairing.len() > most {
            self.pairing.give_up(most - most / 8, |device, record| held.push(device, &record));
        }
        match self.journal {
            Some(_) => self.commit(names),
            None if self.held.count >= self.limits.held => self.write_files(names),
            None => Ok(()),
        }
    }

    /// Writes everything: records into files, the rest into a new state. After this all that was
    /// taken is there whatever happens.
    ///
    /// # Errors
    /// It cannot be written; all that was there before is as it was.
    pub fn commit(&mut self, names: &Names) -> Result<(), StoreError> {
        self.take_batch_alone(names);
        self.write_files(names)?;
        self.put_hearing();
        for (device, (from, until)) in self.hearing.drain() {
            self.news.of(names.get(device)).hear(from, until);
        }
        self.coverage.add(&std::mem::take(&mut self.news));
        self.write_state(names)?;
        self.number += 1;
        self.files = 0;
        if self.journal.is_some() {
            self.keep_journal()?;
        }
        self.remove_before(self.number)
    }

    /// Writes the records that wait into files of both orders.
    fn write_files(&mut self, names: &Names) -> Result<(), StoreError> {
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
        let name = layout::file_name(held.span(), &id);
        let mut files = Vec::new();
        for order in Order::ALL {
            let folder = self.store.root().join(order.folder()).join(folder);
            let mut file = temporary(&folder)?;
            let path = folder.join(&name);
            let (_, rows) =
                held.write(file.as_file_mut(), order).map_err(StoreError::table(&path))?;
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
    fn write_state(&self, names: &Names) -> Result<(), StoreError> {
        let folder = self.store.root().join("state");
        fs::create_dir_all(&folder).map_err(StoreError::io(&folder))?;
        let made = tempfile::Builder::new().prefix(TEMPORARY).tempdir_in(&folder);
        let made = made.map_err(StoreError::io(&folder))?;
        let mut open: HashMap<Name, Held, RandomState> = HashMap::default();
        self.pairing
            .all()
            .for_each(|(device, record)| open.entry(device).or_default().push(&record));
        for (device, held) in &open {
            for order in Order::ALL {
                let path = made.path().join(state_file(names.get(*device), order));
                let file = File::create(&path).map_err(StoreError::io(&path))?;
                let (file, _) = held.write(file, order).map_err(StoreError::table(&path))?;
                file.sync_all().map_err(StoreError::io(&path))?;
            }
        }
        let path = made.path().join(COVERAGE);
        let written = File::create(&path).and_then(|mut file| {
            let text = serde_json::to_vec(&self.coverage).map_err(io::Error::from)?;
            file.write_all(&text)?;
            file.sync_all()
        });
        written.map_err(StoreError::io(&path))?;
        sync_folder(made.path())?;
        let path = folder.join(number_name(self.number + 1));
        fs::rename(made.path(), &path).map_err(StoreError::io(&path))?;
        // it has another name now
        let _ = made.keep();
        sync_folder(&folder)?;
        sync_folder(self.store.root())
    }

    /// Removes states and journals that a later state stands for.
    fn remove_before(&self, number: u64) -> Result<(), StoreError> {
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
                let path = below(order).join(&name);
                fs::remove_file(&path).map_err(StoreError::io(&path))?;
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

/// So many events are looked at together.
const BATCH: usize = 64;
/// So many records are read at once.
const AT_ONCE: usize = 1 << 16;
/// So many small files are put together.
const MERGED: usize = 4;
/// What is known of the logs.
pub(crate) const COVERAGE: &str = "coverage.json";

/// What is known of the logs, as a state has it.
pub(crate) fn read_coverage(state: &Path) -> Result<Coverage, StoreError> {
    let path = state.join(COVERAGE);
    let text = fs::read(&path).map_err(StoreError::io(&path))?;
    serde_json::from_slice(&text)
        .map_err(|error| StoreError::Damaged { path, what: error.to_string() })
}

/// Keeps others from writing.
fn lock(root: &Path) -> Result<File, StoreError> {
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
fn clean_up(root: &Path) -> Result<(), StoreError> {
    layout::remove_unfinished(root)?;
    let names = |order| -> Result<BTreeSet<PathBuf>, StoreError> {
        let all = layout::files(root, order, None, (i64::MIN, i64::MAX))?;
        let below = root.join(order.folder());
        let relative =
            |file: &layout::TableFile| file.path.strip_prefix(&below).ok().map(Path::to_owned);
        Ok(all.iter().filter_map(relative).collect())
    };
    let (external, internal) = (names(Order::External)?, names(Order::Internal)?);
    for (order, alone) in [
        (Order::External, external.difference(&internal)),
        (Order::Internal, internal.difference(&external)),
    ] {
        for name in alone {
            let path = root.join(order.folder()).join(name);
            fs::remove_file(&path).map_err(StoreError::io(&path))?;
        }
    }
    Ok(())
}
