//! Events since the last files were written: what was acknowledged survives whatever happens.
//!
//! A journal is frames, each with its length, a checksum and its kind; one that is cut or changed
//! ends it. Events are messages of IPFIX, as they come from a device.

use std::fs::{File, OpenOptions};
use std::io::{self, BufReader, Read, Write};
use std::path::{Path, PathBuf};

use zarnet_formats::nat_log::ipfix::{MOST_IN_FILE, Session, Writer};
use zarnet_formats::nat_log::{LogNames, Noted, TranslationEvent};

use crate::coverage::Coverage;
use crate::error::StoreError;

const EVENTS: u8 = 1;
const COVERAGE: u8 = 2;
/// Length and checksum of a frame.
const HEAD: usize = 8;
/// No frame is longer.
const LONGEST: usize = 1 << 26;

/// What a journal holds.
pub(crate) enum Entry {
    Event(TranslationEvent),
    Heard(Coverage),
}

/// A journal that is written.
pub(crate) struct Journal {
    path: PathBuf,
    file: File,
    writer: Writer,
    held: Vec<u8>,
    octets: u64,
}

fn frame(kind: u8, payload: &[u8], out: &mut Vec<u8>) {
    let mut sum = crc32fast::Hasher::new();
    sum.update(&[kind]);
    sum.update(payload);
    out.extend((payload.len() as u32 + 1).to_be_bytes());
    out.extend(sum.finalize().to_be_bytes());
    out.push(kind);
    out.extend(payload);
}

impl Journal {
    /// Begins a journal.
    pub(crate) fn create(path: &Path) -> Result<Self, StoreError> {
        let file = OpenOptions::new().create(true).truncate(true).write(true).open(path);
        let file = file.map_err(StoreError::io(path))?;
        let writer = Writer::new(MOST_IN_FILE);
        Ok(Self { path: path.to_owned(), file, writer, held: Vec::new(), octets: 0 })
    }

    /// Adds an event.
    pub(crate) fn event(&mut self, event: &TranslationEvent, names: &LogNames) {
        let Self { writer, held, .. } = self;
        let written = writer.write(event, names, |message| {
            frame(EVENTS, message, held);
            Ok::<(), std::convert::Infallible>(())
        });
        let Ok(()) = written;
    }

    /// Adds what was heard.
    pub(crate) fn coverage(&mut self, heard: &Coverage) -> Result<(), StoreError> {
        let text = serde_json::to_vec(heard).map_err(io::Error::from);
        frame(COVERAGE, &text.map_err(StoreError::io(&self.path))?, &mut self.held);
        Ok(())
    }

    /// Makes all of it last: what was added before this is there after a crash.
    pub(crate) fn sync(&mut self) -> Result<(), StoreError> {
        let Self { writer, held, .. } = self;
        let written = writer.flush(|message| {
            frame(EVENTS, message, held);
            Ok::<(), std::convert::Infallible>(())
        });
        let Ok(()) = written;
        if self.held.is_empty() {
            return Ok(());
        }
        let done = self.file.write_all(&self.held).and_then(|()| self.file.sync_data());
        done.map_err(StoreError::io(&self.path))?;
        self.octets += self.held.len() as u64;
        self.held.clear();
        Ok(())
    }

    /// Octets that last.
    pub(crate) fn octets(&self) -> u64 {
        self.octets
    }
}

/// Reads a journal up to its end, or to where it is cut.
pub(crate) fn read(
    path: &Path,
    names: &mut LogNames,
    mut take: impl FnMut(Entry, &mut LogNames),
) -> Result<(), StoreError> {
    let file = File::open(path).map_err(StoreError::io(path))?;
    let mut reader = BufReader::with_capacity(1 << 18, file);
    let (mut session, mut noted, mut payload) = (Session::new(""), Noted::default(), Vec::new());
    let mut events = Vec::new();
    loop {
        let mut head = [0; HEAD];
        match reader.read_exact(&mut head) {
            Err(error) if error.kind() == io::ErrorKind::UnexpectedEof => return Ok(()),
            read => read.map_err(StoreError::io(path))?,
        }
        let [a, b, c, d, rest @ ..] = head;
        let (length, sum) = (u32::from_be_bytes([a, b, c, d]) as usize, u32::from_be_bytes(rest));
        if length == 0 || length > LONGEST {
            return Ok(());
        }
        payload.clear();
        let read = (&mut reader).take(length as u64).read_to_end(&mut payload);
        read.map_err(StoreError::io(path))?;
        if payload.len() < length || crc32fast::hash(&payload) != sum {
            return Ok(());
        }
        match payload[0] {
            EVENTS => {
                session.read(&payload[1..], names, &mut noted, |event, _| events.push(event));
                events.drain(..).for_each(|event| take(Entry::Event(event), names));
            }
            COVERAGE => {
                if let Ok(heard) = serde_json::from_slice(&payload[1..]) {
                    take(Entry::Heard(heard), names);
                }
            }
            _ => {}
        }
    }
}
