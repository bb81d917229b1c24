//! Who had an external end at a time, and what a host had.

use std::collections::BTreeMap;
use std::net::IpAddr;
use std::path::PathBuf;

use zarnet_core::net::Protocol;
use zarnet_formats::nat_log::{LogNames, TranslationEvent};

use crate::coverage::{Coverage, Gap};
use crate::error::StoreError;
use crate::journal::{self, Entry};
use crate::layout;
use crate::pairing::Pairing;
use crate::part::{DAY, SpanOfTime};
use crate::record::Record;
use crate::settle::Settled;
use crate::store::Store;
use crate::table::{Order, Sought, TableReader};
use crate::writer::read_coverage;

/// What is asked of a store.
#[derive(Debug, Clone)]
pub struct Question {
    /// Who is asked about.
    pub asked: Asked,
    /// From when until when, in milliseconds since 1970; twice the same for an instant.
    pub between: (i64, i64),
    /// By how many milliseconds clocks may differ.
    pub within: i64,
    /// The protocol, if that is known.
    pub protocol: Option<Protocol>,
    /// The device, if that is known.
    pub device: Option<String>,
}

/// Who is asked about.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Asked {
    /// Whoever had an external address, and port or query id.
    External(IpAddr, Option<u16>),
    /// An internal host.
    Host(IpAddr),
}

/// A translation that was found.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Found {
    /// The device that made it.
    pub device: String,
    /// The rule that did, if the log says so.
    pub rule: Option<String>,
    /// The translation.
    pub record: Record,
}

/// What a store knows of a question.
#[derive(Debug, Clone, Default)]
pub struct Finding {
    /// Translations, in the order of their beginnings.
    pub found: Vec<Found>,
    /// Gaps in the logs that may hide another answer, by device.
    pub gaps: Vec<(String, Gap)>,
    /// By how much clocks of devices differed from ours, by device: the least and the most, in
    /// milliseconds.
    pub clocks: BTreeMap<String, (i64, i64)>,
    /// Devices whose logs the store has.
    pub devices: Vec<String>,
    /// How many files were looked into.
    pub files: usize,
}

/// Files may go while they are looked for: they are put together. Then it is done again.
const TRIES: usize = 8;

impl Store {
    /// Answers a question.
    ///
    /// # Errors
    /// A file cannot be read, or is damaged.
    pub fn look_up(&self, question: &Question) -> Result<Finding, StoreError> {
        let mut tries = 0;
        loop {
            tries += 1;
            match self.try_look_up(question) {
                Err(error) if error.is_absent() && tries < TRIES => {}
                Ok(None) if tries < TRIES => {}
                Ok(finding) => return Ok(finding.unwrap_or_default()),
                Err(error) => return Err(error),
            }
        }
    }

    /// The same, unless the store is put into files meanwhile: then something may have been missed.
    fn try_look_up(&self, question: &Question) -> Result<Option<Finding>, StoreError> {
        let mut search = Search::new(question);
        let mut rules = self.rules()?;
        let known = rules.len();
        // what moves from here into files meanwhile is found twice, never not at all
        let coverage = search.open_ends(self, &mut rules)?;
        let (mut from, mut until) = question.window();
        let mut files: BTreeMap<PathBuf, i64> = BTreeMap::new();
        loop {
            search.files(self, (from, until), &mut files)?;
            // what has one end is looked after from there on: the other one may be in a file that
            // has nothing else to do with the question, or another translation that excludes it
            let wider = search.wider((from, until));
            if wider == (from, until) || files.len() >= MOST_FILES {
                break;
            }
            (from, until) = wider;
        }
        // what began since, and has no end yet, is in a state that was not read
        let is_same_state = search.number == layout::states(self.root())?.pop().map(|s| s.0);
        let is_settled = self.rules()?.len() == known && is_same_state;
        Ok(is_settled.then(|| search.finish(files.len(), &coverage, &rules)))
    }
}

/// So many files are looked into for the other ends of what has one.
const MOST_FILES: usize = 512;

impl Question {
    /// From when until when translations are of account.
    fn window(&self) -> (i64, i64) {
        let (from, until) = self.between;
        (from.saturating_sub(self.within), until.saturating_add(self.within))
    }

    fn order(&self) -> Order {
        match self.asked {
            Asked::External(..) => Order::External,
            Asked::Host(_) => Order::Internal,
        }
    }

    /// What to look for in a file: of ranges of ports any that begins before the one asked for.
    fn sought(&self, has_ranges: bool) -> Sought {
        let begun = (i64::MIN, i64::MAX);
        let (address, ports) = match self.asked {
            Asked::External(address, port) => {
                (address, port.map(|port| (if has_ranges { 0 } else { port }, port)))
            }
            Asked::Host(address) => (address, None),
        };
        Sought { address, ports, begun }
    }

    /// Whether a translation is an answer.
    fn fits(&self, record: &Record) -> bool {
        let is_asked = match self.asked {
            Asked::External(address, port) => record.external == address && record.has_port(port),
            Asked::Host(address) => record.internal == address,
        };
        let protocol = match (self.protocol, record.protocol) {
            (Some(a), Some(b)) => a == b,
            _ => true,
        };
        is_asked && protocol && record.may_have_lived(self.window())
    }

    /// Whether an event may have to do with the question: it is about the same address.
    fn concerns(&self, event: &TranslationEvent) -> bool {
        match self.asked {
            Asked::External(address, _) => event.external == Some(address),
            Asked::Host(address) => event.internal == Some(address),
        }
    }
}

/// The number of a rule, new if need be.
fn rule_number(name: &str, rules: &mut Vec<String>) -> Option<u16> {
    let known = rules.iter().position(|known| known == name);
    let number = known.unwrap_or(rules.len());
    if known.is_none() {
        rules.push(name.to_owned());
    }
    u16::try_from(number).ok()
}

/// What was found so far.
struct Search<'a> {
    question: &'a Question,
    found: Settled,
    /// The number of the state that was read, if there is one.
    number: Option<u64>,
}

impl<'a> Search<'a> {
    fn new(question: &'a Question) -> Self {
        Self { question, found: Settled::default(), number: None }
    }

    /// Finds what is in no file of the two orders yet: translations of which one end was logged,
    /// and what was journalled since.
    fn open_ends(
        &mut self,
        store: &Store,
        rules: &mut Vec<String>,
    ) -> Result<Coverage, StoreError> {
        let (root, question) = (store.root(), self.question);
        let (mut names, mut halves, mut coverage) =
            (LogNames::default(), Vec::new(), Coverage::default());
        let state = layout::states(root)?.pop();
        self.number = state.as_ref().map(|state| state.0);
        let number = self.number.unwrap_or(0);
        let journals = layout::journals(root)?;
        if let Some((_, state)) = &state {
            coverage = read_coverage(state)?;
            let order = question.order();
            for (device, path) in layout::state_files(state, order)? {
                let name = names.obtain(&device);
                let reader = TableReader::open(&path, order).map_err(StoreError::table(&path))?;
                let sought = question.sought(true);
                let mut take = |record: Record| halves.push((name, record));
                reader.find(&sought, &mut take).map_err(StoreError::table(&path))?;
            }
        }
        let mut pairing = Pairing::default();
        halves.iter().for_each(|(device, record)| pairing.restore(*device, *record));
        let mut whole = Vec::new();
        for (_, path) in journals.iter().filter(|journal| journal.0 >= number) {
            journal::read(path, &mut names, |entry, names| match entry {
                Entry::Event(event) => {
                    // a journal may have rules whose numbers are not written yet
                    let rule = event.rule.and_then(|rule| rule_number(names.get(rule), rules));
                    if !question.concerns(&event) {
                        return;
                    }
                    let device = event.device;
                    pairing
                        .take(&event, rule, i64::MIN, |done| whole.push((device, done.record())));
                }
                Entry::Heard(heard) => coverage.add(&heard),
            })?;
        }
        whole.extend(pairing.all());
        let named =
            whole.into_iter().map(|(device, record)| (names.get(device).to_owned(), record));
        let only = question.device.as_deref();
        self.found.0.extend(named.filter(|(device, _)| only.is_none_or(|only| only == device)));
        Ok(coverage)
    }

    /// Finds what files have whose records may have lived in a window. `done`: files that were looked
    /// into, and up to when.
    fn files(
        &mut self,
        store: &Store,
        (from, until): (i64, i64),
        done: &mut BTreeMap<PathBuf, i64>,
    ) -> Result<(), StoreError> {
        let (order, only) = (self.question.order(), self.question.device.as_deref());
        for file in layout::files(store.root(), order, only, (from, until))? {
            if done.get(&file.path).is_some_and(|known| *known >= until) {
                continue;
            }
            let reader = TableReader::open(&file.path, order);
            let reader = reader.map_err(StoreError::table(&file.path))?;
            let mut sought = self.question.sought(file.part.is_range);
            // of what has one end only, the other one may be anywhere
            if file.part.span != SpanOfTime::Open {
                sought.begun = (i64::MIN, until);
            }
            let found = &mut self.found.0;
            let mut take = |record: Record| found.push((file.device.clone(), record));
            reader.find(&sought, &mut take).map_err(StoreError::table(&file.path))?;
            done.insert(file.path, until);
        }
        Ok(())
    }

    /// A window that has the known ends of all answers with one end, too.
    fn wider(&mut self, (from, until): (i64, i64)) -> (i64, i64) {
        self.found.settle();
        let halves = self.found.0.iter().filter(|(_, r)| r.unseen.is_some());
        let ends = halves.filter(|(_, r)| self.question.fits(r)).map(|(_, r)| r.begun);
        ends.fold((from, until), |(from, until), end| (from.min(end), until.max(end)))
    }

    fn finish(mut self, files: usize, coverage: &Coverage, rules: &[String]) -> Finding {
        self.found.settle();
        self.found.0.retain(|(_, record)| self.question.fits(record));
        let found: Vec<Found> = self
            .found
            .0
            .into_iter()
            .map(|(device, record)| {
                let rule = record.rule.and_then(|rule| rules.get(usize::from(rule)).cloned());
                Found { device, rule, record }
            })
            .collect();
        let only = self.question.device.as_deref();
        let devices = coverage.devices.iter().filter(|d| only.is_none_or(|only| only == d.0));
        let (mut gaps, mut clocks) = (Vec::new(), BTreeMap::new());
        for (device, heard) in devices.clone() {
            let own: Vec<&Found> = found.iter().filter(|f| f.device == *device).collect();
            // where another device has the answer, this one's silence says nothing
            if own.is_empty() && !found.is_empty() {
                continue;
            }
            let (from, until) = self.question.between;
            let since = own.iter().filter_map(|f| f.record.since()).min();
            // what began a day before the time that is asked for may still hide in a gap
            let begins = match self.question.asked {
                Asked::External(..) => since.unwrap_or(from.saturating_sub(DAY)).min(from),
                Asked::Host(_) => from,
            };
            gaps.extend(heard.gaps(begins, until).into_iter().map(|gap| (device.clone(), gap)));
            if let Some(clock) = heard.clock {
                clocks.insert(device.clone(), clock);
            }
        }
        let devices = devices.map(|(device, _)| device.clone()).collect();
        Finding { found, gaps, clocks, devices, files }
    }
}
