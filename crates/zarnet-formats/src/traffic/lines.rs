//! Lines of a text that is read as it comes: a text of any length takes no more memory than its
//! longest line.

use std::io::{ErrorKind, Read};

use zarnet_core::limits;

use super::Fault;
use super::input::fault_of;
use super::stretch::ROOM;

/// Lines of a text that is read as it comes.
pub(super) struct Lines {
    reader: Box<dyn Read + Send>,
    /// Text, with the room behind it that the quick reading of lines needs.
    buffer: Vec<u8>,
    at: usize,
    have: usize,
    ended: bool,
    /// Number of the line given last, from 1.
    pub number: u64,
}

impl Lines {
    pub(super) fn new(reader: Box<dyn Read + Send>) -> Self {
        Self { reader, buffer: vec![0; 1 << 17], at: 0, have: 0, ended: false, number: 0 }
    }

    /// The next line if `read` knows what to make of it, which also tells its length.
    #[inline(always)]
    pub(super) fn next_plain<T>(
        &mut self,
        read: impl Fn(&[u8; ROOM]) -> Option<(T, usize)>,
    ) -> Option<T> {
        let (value, length) = read(self.buffer.get(self.at..)?.first_chunk()?)?;
        // behind what was read there may still be what was read before
        if self.at + length > self.have {
            return None;
        }
        self.at += length;
        self.number += 1;
        Some(value)
    }

    /// The next line if it is in the buffer as a whole and `read` knows what to make of it.
    #[inline]
    pub(super) fn next_whole<T>(&mut self, read: impl Fn(&[u8]) -> Option<T>) -> Option<T> {
        let ahead = self.buffer.get(self.at..self.have)?;
        let end = memchr::memchr(b'\n', ahead)?;
        let value = read(&ahead[..end])?;
        self.at += end + 1;
        self.number += 1;
        Some(value)
    }

    /// The next line without its end.
    #[inline]
    pub(super) fn next(&mut self) -> Option<Result<&[u8], Fault>> {
        let mut searched = self.at;
        loop {
            if let Some(n) = memchr::memchr(b'\n', &self.buffer[searched..self.have]) {
                let (start, end) = (self.at, searched + n);
                self.at = end + 1;
                self.number += 1;
                return Some(Ok(strip(&self.buffer[start..end])));
            }
            if self.ended {
                if self.at == self.have {
                    return None;
                }
                let start = std::mem::replace(&mut self.at, self.have);
                self.number += 1;
                return Some(Ok(strip(&self.buffer[start..self.have])));
            }
            if self.have - self.at > limits::LINE_OCTETS {
                self.number += 1;
                return Some(Err(self.skip_long()));
            }
            let seen = self.have - self.at;
            if let Err(fault) = self.fill() {
                self.ended = true;
                self.at = self.have;
                return Some(Err(fault));
            }
            searched = (self.at + seen).min(self.have);
        }
    }

    fn fill(&mut self) -> Result<(), Fault> {
        self.buffer.copy_within(self.at..self.have, 0);
        self.have -= self.at;
        self.at = 0;
        if self.have + ROOM >= self.buffer.len() {
            self.buffer.resize(self.buffer.len() * 2, 0);
        }
        let end = self.buffer.len() - ROOM;
        loop {
            match self.reader.read(&mut self.buffer[self.have..end]) {
                Ok(n) => {
                    self.ended = n == 0;
                    self.have += n;
                    // a mark of the byte order is no part of the first line
                    if self.number == 0 && self.buffer[..self.have].starts_with(b"\xef\xbb\xbf") {
                        self.at = 3;
                    }
                    return Ok(());
                }
                Err(e) if e.kind() == ErrorKind::Interrupted => {}
                Err(e) => return Err(fault_of(e)),
            }
        }
    }

    /// Throws a line away that is too long to be one.
    fn skip_long(&mut self) -> Fault {
        loop {
            if let Some(n) = memchr::memchr(b'\n', &self.buffer[self.at..self.have]) {
                self.at += n + 1;
                break;
            }
            self.at = self.have;
            if self.ended || self.fill().is_err() {
                self.ended = true;
                break;
            }
        }
        Fault::LineTooLong(limits::LINE_OCTETS)
    }
}

fn strip(line: &[u8]) -> &[u8] {
    line.strip_suffix(b"\r").unwrap_or(line)
}

/// Whether a line says nothing.
pub(super) fn is_blank(line: &[u8]) -> bool {
    line.first() == Some(&b'#') || line.iter().all(u8::is_ascii_whitespace)
}
