//! Traffic that is read and parsed on a thread of its own, while what was read is played.

use std::sync::mpsc::{Receiver, Sender, SyncSender, channel, sync_channel};
use std::thread::Scope;

use zarnet_core::traffic::{Batches, Item};
use zarnet_formats::traffic::{Items, Skipped, TrafficError};

/// So many items are asked for at once, as if nobody read ahead.
const BATCH: usize = 64;

/// So many batches go from one thread to the other together: waking a thread takes as long as
/// hundreds of items.
const BATCHES: usize = 128;

/// So many of these wait to be played: reading is no further ahead than that.
const WAITING: usize = 2;

/// Some batches that were read, and what had been passed over by the end of each.
#[derive(Default)]
struct Chunk {
    items: Vec<Item>,
    batches: Vec<(usize, Skipped)>,
    error: Option<TrafficError>,
    /// Whether there is no more behind it.
    last: bool,
}

impl Chunk {
    /// Reads what it holds anew.
    fn fill(&mut self, items: &mut Items<'_>) {
        self.items.clear();
        self.batches.clear();
        while self.batches.len() < BATCHES && !self.last {
            let before = self.items.len();
            self.error = items.fill(&mut self.items, before + BATCH);
            self.last = self.error.is_some() || self.items.len() < before + BATCH;
            self.batches.push((self.items.len(), items.skipped()));
        }
    }
}

/// What a reading thread gives, in its order.
pub(super) struct Ahead {
    chunks: Option<Receiver<Chunk>>,
    /// Chunks that were played go back, to be filled again.
    played: Sender<Chunk>,
    chunk: Chunk,
    /// Batches of the chunk that were given, and items.
    given: (usize, usize),
    skipped: Skipped,
}

impl Ahead {
    /// Reads a first chunk at once, and on a thread of its own what comes behind it. The thread
    /// gives the items back when they are read, or nobody wants more.
    pub(super) fn new<'scope, 'a: 'scope>(
        scope: &'scope Scope<'scope, '_>,
        mut items: Items<'a>,
        give_back: SyncSender<Items<'a>>,
    ) -> Self {
        let mut chunk = Chunk::default();
        chunk.fill(&mut items);
        let (played, used) = channel();
        let chunks = if chunk.last {
            let _ = give_back.send(items);
            None
        } else {
            let (filled, chunks) = sync_channel(WAITING);
            scope.spawn(move || {
                read(&mut items, &filled, &used);
                let _ = give_back.send(items);
            });
            Some(chunks)
        };
        Self { chunks, played, chunk, given: (0, 0), skipped: Skipped::default() }
    }

    /// What had been passed over when the batch given last was read.
    pub(super) fn skipped(&self) -> Skipped {
        self.skipped
    }
}

fn read(items: &mut Items<'_>, filled: &SyncSender<Chunk>, used: &Receiver<Chunk>) {
    loop {
        let mut chunk = used.try_recv().unwrap_or_default();
        chunk.fill(items);
        let last = chunk.last;
        if filled.send(chunk).is_err() || last {
            return;
        }
    }
}

impl Batches for Ahead {
    type Error = TrafficError;

    fn fill(&mut self, batch: &mut Vec<Item>, _: usize) -> Option<TrafficError> {
        if self.given.0 == self.chunk.batches.len() {
            if self.chunk.last {
                return None;
            }
            let next = self.chunks.as_ref()?.recv().ok()?;
            let _ = self.played.send(std::mem::replace(&mut self.chunk, next));
            self.given = (0, 0);
        }
        let (end, skipped) = self.chunk.batches[self.given.0];
        batch.extend_from_slice(&self.chunk.items[self.given.1..end]);
        self.given = (self.given.0 + 1, end);
        self.skipped = skipped;
        let behind_last = self.given.0 == self.chunk.batches.len();
        if behind_last { self.chunk.error.take() } else { None }
    }
}
