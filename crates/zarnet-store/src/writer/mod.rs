//! Takes events into a store: `waiting` and `rules` are what it keeps of them, `files` how they are
//! written.

mod files;
mod opening;
mod rules;
mod waiting;

use std::collections::HashMap;
use std::fs::{self, File};
use std::path::Path;

use foldhash::fast::RandomState;
use zarnet_formats::nat_log::{LogNames, Missing, Name, TranslationEvent};

use opening::{AT_ONCE, clean_up, lock};
pub(crate) use opening::{SUMS, read_coverage};
use rules::Rules;
use waiting::Waiting;

use crate::coverage::{Coverage, Lost};
use crate::error::StoreError;
use crate::journal::{self, Entry, Journal};
use crate::layout::{self, number_name};
use crate::pairing::Pairing;
use crate::store::{Store, sync_folder};
use crate::table::{Order, TableReader};

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
    /// Since when there is no gap in the log of a device.
    continuous: HashMap<Name, i64, RandomState>,
    /// The same of the device of the last event.
    since: i64,
    /// Heard since it was last put into the journal.
    news: Coverage,
    journal: Option<Journal>,
    /// The number of the state.
    number: u64,
    /// Files written since.
    files: u32,
    recorded: Recorded,
}

impl StoreWriter {
    /// Opens a store for writing, or makes one. What a crash has left in its journal is read again.
    /// `names` are those of all events to come.
    ///
    /// # Errors
    /// It cannot be opened, or another process writes to it.
    pub fn open(root: &Path, limits: Limits, names: &mut LogNames) -> Result<Self, StoreError> {
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
            continuous: HashMap::default(),
            since: i64::MIN,
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
    fn restore(&mut self, names: &mut LogNames) -> Result<(), StoreError> {
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
    pub fn take(&mut self, event: &TranslationEvent, names: &LogNames) -> Result<(), StoreError> {
        if let Some(journal) = &mut self.journal {
            journal.event(event, names);
        }
        self.batch.push(*event);
        if self.batch.len() == BATCH { self.take_batch(names) } else { Ok(()) }
    }

    /// Looks at the events that wait, whatever room there is.
    fn take_batch_alone(&mut self, names: &LogNames) {
        let mut batch = std::mem::take(&mut self.batch);
        self.pairing.touch(&batch);
        batch.iter().for_each(|event| self.apply(event, names));
        batch.clear();
        self.batch = batch;
    }

    /// Looks at the events that wait, and makes room.
    fn take_batch(&mut self, names: &LogNames) -> Result<(), StoreError> {
        self.take_batch_alone(names);
        if self.held.count >= self.limits.held || self.pairing.len() > self.limits.open {
            self.relieve(names)?;
        }
        Ok(())
    }

    #[inline]
    fn apply(&mut self, event: &TranslationEvent, names: &LogNames) {
        self.recorded.events += 1;
        match &mut self.hearing_last {
            Some((device, heard)) if *device == event.device => {
                *heard = (heard.0.min(event.at), heard.1.max(event.at));
            }
            _ => {
                self.put_hearing();
                self.since = self.continuous_since(event, names);
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
        self.pairing.take(event, rule, self.since, |done| held.push_done(device, done));
    }

    /// Since when there is no gap in the log of a device, up to an event of it.
    fn continuous_since(&mut self, event: &TranslationEvent, names: &LogNames) -> i64 {
        if let Some(since) = self.continuous.get(&event.device) {
            return *since;
        }
        let name = names.get(event.device);
        let since = |coverage: &Coverage| {
            coverage.devices.get(name).and_then(|heard| heard.continuous_since(event.at))
        };
        let known = since(&self.coverage).into_iter().chain(since(&self.news)).min();
        let since = known.unwrap_or(event.at).min(event.at);
        self.continuous.insert(event.device, since);
        since
    }

    fn put_hearing(&mut self) {
        if let Some((device, (from, until))) = self.hearing_last.take() {
            let heard = self.hearing.entry(device).or_insert((from, until));
            *heard = (heard.0.min(from), heard.1.max(until));
        }
    }

    /// A log that came in one piece is at its end: it is one of all its devices from its first event
    /// to its last.
    pub fn end_of_log(&mut self, names: &LogNames) {
        self.take_batch_alone(names);
        self.put_hearing();
        self.continuous.clear();
        let spans = self.hearing.values();
        let whole = spans.copied().reduce(|a, b| (a.0.min(b.0), a.1.max(b.1)));
        if let Some((from, until)) = whole {
            for (device, _) in self.hearing.drain() {
                self.news.of(names.get(device)).hear(from, until);
            }
        }
    }

    /// Notes that records of a device did not come.
    pub fn lose(&mut self, missing: &Missing, names: &LogNames) {
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
    pub fn sync(&mut self, names: &LogNames) -> Result<(), StoreError> {
        self.take_batch(names)?;
        if self.journal.is_none() {
            return Ok(());
        }
        self.put_hearing();
        for (device, (from, until)) in &self.hearing {
            self.news.of(names.get(*device)).hear(*from, *until);
        }
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
    fn relieve(&mut self, names: &LogNames) -> Result<(), StoreError> {
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
    pub fn commit(&mut self, names: &LogNames) -> Result<(), StoreError> {
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
}

/// So many events are looked at together.
const BATCH: usize = 64;
