//! All sources on one clock, in the order of time.

use std::cmp::Reverse;
use std::collections::BinaryHeap;
use std::net::IpAddr;
use std::path::Path;

use zarnet_core::net::Instant;
use zarnet_core::predict::Sources;
use zarnet_core::traffic::{Batches, Flow, Item, Party};

use super::clock::Clock;
use super::source::{Located, Source};
use super::{Skipped, TrafficError};

/// A source that is being read, what to call it, and whether its bad lines and packets are passed
/// over.
pub(super) struct Reader<'a> {
    pub input: &'a Path,
    pub source: Box<dyn Source + 'a>,
    pub skip_bad: bool,
    bad: u64,
    last: Instant,
    in_order: bool,
}

impl<'a> Reader<'a> {
    pub(super) fn new(input: &'a Path, source: Box<dyn Source + 'a>, skip_bad: bool) -> Self {
        Self { input, source, skip_bad, bad: 0, last: Instant::ZERO, in_order: true }
    }

    /// Reads what is left only to learn about it: when it is, and whether it is in order.
    fn survey(&mut self, clock: &mut Clock, mut note: impl FnMut(&Item)) -> bool {
        while let Some(item) = self.next(clock) {
            match item {
                Ok(item) => {
                    note(&item);
                    self.in_order &= item.at() >= self.last;
                    self.last = item.at();
                }
                Err((_, fault)) if !fault.is_of_one_line() => break,
                Err(_) => {}
            }
        }
        self.in_order
    }

    /// Adds the next items to a batch until it holds `most`; the reason why one cannot be read.
    fn fill(
        &mut self,
        clock: &mut Clock,
        batch: &mut Vec<Item>,
        most: usize,
    ) -> Option<TrafficError> {
        while batch.len() < most {
            self.source.fill(clock, batch, most);
            if batch.len() == most {
                break;
            }
            match self.next(clock)? {
                Ok(item) => batch.push(item),
                Err(fault) => return Some(TrafficError::at(self.input, fault)),
            }
        }
        None
    }
}

impl Source for Reader<'_> {
    #[inline]
    fn next(&mut self, clock: &mut Clock) -> Option<Result<Item, Located>> {
        loop {
            match self.source.next(clock)? {
                Err((_, fault)) if self.skip_bad && fault.is_of_one_line() => self.bad += 1,
                item => return Some(item),
            }
        }
    }

    fn fill(&mut self, clock: &mut Clock, batch: &mut Vec<Item>, most: usize) {
        self.source.fill(clock, batch, most);
    }

    fn skipped(&self) -> Skipped {
        let mut skipped = self.source.skipped();
        skipped.bad += self.bad;
        skipped
    }
}

/// What was learnt about sources by reading them to their end.
#[derive(Debug, Clone)]
pub(super) struct Survey {
    /// The earliest time of day.
    pub origin: Option<i128>,
    /// Whether each source has its items in the order of time.
    pub in_order: bool,
    /// Every address that sends somewhere; `None` if some of it had been read before the survey
    /// began.
    pub sources: Option<Sources>,
}

impl Survey {
    /// Of sources that nothing was read of yet.
    pub(super) fn of(mut readers: Vec<Reader<'_>>, mut clock: Clock) -> Self {
        clock.survey();
        let mut sources = Sources::default();
        let mut note = |item: &Item| sources.extend(sender(item));
        let in_order =
            readers.iter_mut().fold(true, |all, reader| reader.survey(&mut clock, &mut note) & all);
        let in_order = in_order && !clock.is_mixed();
        Self { origin: clock.earliest(), in_order, sources: Some(sources) }
    }
}

/// The address that an item is sent from, where that does not follow from the plan.
pub(super) fn sender(item: &Item) -> Option<IpAddr> {
    match item {
        Item::Flow(Flow { source: Party::Address(address), .. }) => Some(*address),
        Item::Seen(seen) => Some(seen.packet.source().address),
        Item::Flow(_) | Item::Error(_) => None,
    }
}

/// The next item of a source, while others may be due before it.
type Head = Option<Result<Item, TrafficError>>;

/// Items of all sources, in the order of their start; sources in the order in which they were
/// named.
pub struct Items<'a> {
    readers: Vec<Reader<'a>>,
    clock: Clock,
    /// The next item of each source, where there are several.
    heads: Vec<Head>,
    /// Which of them is when due: the first in time, of equals the first that was named.
    order: BinaryHeap<Reverse<(Instant, usize)>>,
    failed: bool,
}

impl<'a> Items<'a> {
    pub(super) fn new(readers: Vec<Reader<'a>>, clock: Clock) -> Self {
        let mut items =
            Self { readers, clock, heads: Vec::new(), order: BinaryHeap::new(), failed: false };
        // a single source needs nothing to hold its next item against another's
        if items.readers.len() > 1 {
            items.heads = (0..items.readers.len()).map(|i| items.read(i)).collect();
            let next =
                |(i, head): (usize, &Head)| head.as_ref().map(|head| Reverse((due(head), i)));
            items.order = items.heads.iter().enumerate().filter_map(next).collect();
        }
        items
    }

    fn read(&mut self, i: usize) -> Head {
        let reader = &mut self.readers[i];
        let item = reader.next(&mut self.clock)?;
        Some(item.map_err(|fault| TrafficError::at(reader.input, fault)))
    }

    /// Reads what is left of sources that are not in order, and tells what was learnt about all of
    /// them.
    pub(super) fn survey_rest(mut self) -> Survey {
        self.clock.survey();
        for reader in &mut self.readers {
            reader.survey(&mut self.clock, |_| ());
        }
        Survey { origin: self.clock.earliest(), in_order: false, sources: None }
    }

    /// What was passed over so far.
    pub fn skipped(&self) -> Skipped {
        let mut skipped = Skipped::default();
        self.readers.iter().for_each(|r| skipped.add(r.skipped()));
        skipped
    }
}

impl Batches for Items<'_> {
    type Error = TrafficError;

    fn fill(&mut self, batch: &mut Vec<Item>, most: usize) -> Option<TrafficError> {
        if let ([reader], false) = (&mut self.readers[..], self.failed) {
            let error = reader.fill(&mut self.clock, batch, most);
            self.failed = error.is_some();
            return error;
        }
        while batch.len() < most {
            match self.next()? {
                Ok(item) => batch.push(item),
                Err(error) => return Some(error),
            }
        }
        None
    }
}

/// When an item is due; an error at once.
fn due(item: &Result<Item, TrafficError>) -> Instant {
    item.as_ref().map_or(Instant::ZERO, Item::at)
}

impl Iterator for Items<'_> {
    type Item = Result<Item, TrafficError>;

    #[inline]
    fn next(&mut self) -> Option<Self::Item> {
        if self.failed {
            return None;
        }
        if self.heads.is_empty() && self.readers.len() == 1 {
            let item = self.read(0);
            self.failed = matches!(item, Some(Err(_)));
            return item;
        }
        let Reverse((_, i)) = self.order.pop()?;
        let next = self.read(i);
        self.order.extend(next.as_ref().map(|next| Reverse((due(next), i))));
        let item = std::mem::replace(&mut self.heads[i], next);
        self.failed = matches!(item, Some(Err(_)));
        item
    }
}
