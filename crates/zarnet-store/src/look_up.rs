//! Who had an external end at a time, and what a host had.

use std::collections::{BTreeMap, HashSet};
use std::net::IpAddr;

use foldhash::fast::RandomState;
use zarnet_core::net::Protocol;
use zarnet_formats::nat_log::{Names, TranslationEvent};

use crate::coverage::{Coverage, Gap};
use crate::error::StoreError;
use crate::journal::{self, Entry};
use crate::layout;
use crate::pairing::Pairing;
use crate::record::{Record, Unseen};
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

/// A translation that began this long before the time that is asked for may still hide in a gap.
const DAY: i64 = 86_400_000;
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
            match self.try_look_up(question) {
                Err(error) if error.is_absent() && tries < TRIES => tries += 1,
                outcome => return outcome,
            }
        }
    }

    fn try_look_up(&self, question: &Question) -> Result<Finding, StoreError> {
        let mut search = Search::new(question);
        // what moves from here into files meanwhile is found twice, never not at all
        let mut rules = self.rules()?;
        let coverage = search.open_ends(self, &mut rules)?;
        let (from, until) = question.between;
        let (from, until) =
            (from.saturating_sub(question.within), until.saturating_add(question.within));
        let order = question.order();
        let files = layout::files(self.root(), order, question.device.as_deref(), (from, until))?;
        for file in &files {
            let reader = TableReader::open(&file.path, order);
            let reader = reader.map_err(StoreError::table(&file.path))?;
            let is_range = file.part.is_range;
            for sought in question.sought(is_range) {
                let found = &mut search.found;
                let mut take = |record: Record| found.push((file.device.clone(), record));
                reader.find(&sought, &mut take).map_err(StoreError::table(&file.path))?;
            }
        }
        Ok(search.finish(files.len(), &coverage, &rules))
    }
}

impl Question {
    fn order(&self) -> Order {
        match self.asked {
            Asked::External(..) => Order::External,
            Asked::Host(_) => Order::Internal,
        }
    }

    /// What to look for in a file: of ranges of ports any that begins before the one asked for.
    fn sought(&self, has_ranges: bool) -> impl Iterator<Item = Sought> + use<> {
        let begun = (i64::MIN, self.between.1.saturating_add(self.within));
        let (address, ports) = match self.asked {
            Asked::External(address, port) => {
                (address, port.map(|port| (if has_ranges { 0 } else { port }, port)))
            }
            Asked::Host(address) => (address, None),
        };
        std::iter::once(Sought { address, ports, begun })
    }

    /// Whether a translation is an answer.
    fn fits(&self, record: &Record) -> bool {
        let is_asked = match self.asked {
            Asked::External(address, port) => record.external == address && record.has_port(port),
            Asked::Host(address) => record.internal == address,
        };
        let (from, until) = self.between;
        let protocol = match (self.protocol, record.protocol) {
            (Some(a), Some(b)) => a == b,
            _ => true,
        };
        let begins = record.since().is_none_or(|b| b <= until.saturating_add(self.within));
        let ends = record.gone_by().is_none_or(|e| e >= from.saturating_sub(self.within));
        is_asked && protocol && begins && ends
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
    found: Vec<(String, Record)>,
}

impl<'a> Search<'a> {
    fn new(question: &'a Question) -> Self {
        Self { question, found: Vec::new() }
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
            (Names::default(), Vec::new(), Coverage::default());
        let state = layout::states(root)?.pop();
        let number = state.as_ref().map_or(0, |state| state.0);
        let journals = layout::journals(root)?;
        if let Some((_, state)) = &state {
            coverage = read_coverage(state)?;
            let order = question.order();
            for (device, path) in layout::state_files(state, order)? {
                let name = names.obtain(&device);
                let reader = TableReader::open(&path, order).map_err(StoreError::table(&path))?;
                let sought =
                    question.sought(true).map(|s| Sought { begun: (i64::MIN, i64::MAX), ..s });
                for sought in sought {
                    let mut take = |record: Record| halves.push((name, record));
                    reader.find(&sought, &mut take).map_err(StoreError::table(&path))?;
                }
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
                    pairing.take(&event, rule, |done| whole.push((device, done.record())));
                }
                Entry::Heard(heard) => coverage.add(&heard),
            })?;
        }
        whole.extend(pairing.all());
        let named =
            whole.into_iter().map(|(device, record)| (names.get(device).to_owned(), record));
        let only = question.device.as_deref();
        self.found.extend(named.filter(|(device, _)| only.is_none_or(|only| only == device)));
        Ok(coverage)
    }

    fn finish(mut self, files: usize, coverage: &Coverage, rules: &[String]) -> Finding {
        self.settle();
        self.found.retain(|(_, record)| self.question.fits(record));
        let found: Vec<Found> = self
            .found
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

    /// Leaves each translation once: with both its ends if they are known.
    fn settle(&mut self) {
        let key = |(device, record): &(String, Record)| {
            (record.begun, record.unseen, device.clone(), record.external_order())
        };
        self.found.sort_by_cached_key(key);
        self.found.dedup();
        self.join();
        self.leave_whole();
        self.bound();
    }

    /// Joins ends of which the one was written before the other came.
    fn join(&mut self) {
        let beginnings: Vec<usize> = (0..self.found.len())
            .filter(|n| self.found[*n].1.unseen == Some(Unseen::Beginning))
            .collect();
        let mut spent = HashSet::new();
        for end in beginnings {
            let (device, ended) = self.found[end].clone();
            let fits = |(of, record): &(String, Record)| {
                *of == device
                    && record.unseen == Some(Unseen::End)
                    && ends_of(record) == ends_of(&ended)
                    && record.begun <= ended.begun
                    && record.gone_by().is_none_or(|by| ended.begun <= by)
            };
            // the last one that began before
            if let Some(begin) = (0..self.found.len()).rev().find(|n| fits(&self.found[*n])) {
                let begun = &mut self.found[begin].1;
                (begun.lasted, begun.unseen) = (ended.begun.abs_diff(begun.begun), None);
                begun.cause = ended.cause;
                spent.insert(end);
            }
        }
        let mut place = 0;
        self.found.retain(|_| {
            place += 1;
            !spent.contains(&(place - 1))
        });
    }

    /// Leaves out what has one end, where the same is known with both.
    fn leave_whole(&mut self) {
        let mut whole = HashSet::with_hasher(RandomState::default());
        for (device, record) in self.found.iter().filter(|f| f.1.unseen.is_none()) {
            whole.insert((device.clone(), ends_of(record), record.begun, true));
            let ended = record.ended().unwrap_or(record.begun);
            whole.insert((device.clone(), ends_of(record), ended, false));
        }
        self.found.retain(|(device, record)| {
            let begins = record.unseen == Some(Unseen::End);
            let known = (device.clone(), ends_of(record), record.begun, begins);
            record.unseen.is_none() || !whole.contains(&known)
        });
    }

    /// What had an external end has it no more when another begins there.
    fn bound(&mut self) {
        for n in 0..self.found.len() {
            let (device, record) = &self.found[n];
            if record.unseen != Some(Unseen::End) || record.lasted > 0 || record.is_range() {
                continue;
            }
            let end = |r: &Record| (r.external, r.ports, r.protocol);
            let later = self.found[n + 1..].iter().find(|(of, other)| {
                of == device
                    && end(other) == end(record)
                    && other.begun > record.begun
                    && other.since().is_some()
                    && other.internal != record.internal
                    && !other.is_told_apart(record)
            });
            if let Some(at) = later.map(|(_, other)| other.begun) {
                self.found[n].1 = self.found[n].1.gone_when(at);
            }
        }
    }
}

/// What two records of one translation have in common.
fn ends_of(record: &Record) -> impl Eq + std::hash::Hash + use<> {
    let Record { external, ports, protocol, internal, internal_port, peer, peer_port, .. } =
        *record;
    (external, ports, protocol, internal, internal_port, peer, peer_port)
}
