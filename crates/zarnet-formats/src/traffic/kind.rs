//! The formats of traffic: told apart by content, and opened. A new format is entered here.

use super::capture::Capture;
use super::csv_list::CsvList;
use super::fields::COLUMNS;
use super::input::{Contents, Input, fault_of, read_up_to};
use super::json_list::JsonList;
use super::source::{Broken, Source};
use super::{Fault, Names, ObservedAt};

/// A format of traffic.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Kind {
    Csv,
    JsonLines,
    Scenario,
    Capture,
}

impl Kind {
    /// The format of an input, by its first octets.
    pub(super) fn of(input: &Input) -> Result<Self, Fault> {
        let mut head = vec![0; 4096];
        let got = read_up_to(&mut input.read()?.reader, &mut head).map_err(fault_of)?;
        kind(&head[..got])
    }

    /// Whether it holds packets, of which it must be told where they were seen.
    pub(super) fn needs_observation_point(self) -> bool {
        self == Self::Capture
    }

    /// Opens an input from its beginning. A scenario is read as a whole, and has nothing more then.
    pub(super) fn open<'a>(
        self,
        input: &Input,
        names: &'a Names,
        seen_at: Option<ObservedAt>,
    ) -> Box<dyn Source + 'a> {
        #[cfg(test)]
        input.times_read.fetch_add(1, std::sync::atomic::Ordering::Relaxed);
        let opened = input.read().map_err(|fault| (0, fault)).and_then(|contents: Contents| {
            Ok(match self {
                Self::Csv => {
                    Box::new(CsvList::new(contents.reader, names)?) as Box<dyn Source + 'a>
                }
                Self::JsonLines => Box::new(JsonList::new(contents.reader, names)),
                Self::Capture => {
                    let seen_at = seen_at.ok_or((0, Fault::ObservationPointMissing))?;
                    Box::new(Capture::new(contents, seen_at).map_err(|fault| (0, fault))?)
                }
                Self::Scenario => Box::new(Broken(None)),
            })
        });
        opened.unwrap_or_else(|fault| Box::new(Broken(Some(fault))))
    }
}

fn kind(head: &[u8]) -> Result<Kind, Fault> {
    if let [a, b, c, d, ..] = *head {
        let word = u32::from_be_bytes([a, b, c, d]);
        if matches!(word, 0x0a0d_0d0a | 0xa1b2_c3d4 | 0xd4c3_b2a1 | 0xa1b2_3c4d | 0x4d3c_b2a1) {
            return Ok(Kind::Capture);
        }
    }
    let text = match std::str::from_utf8(head) {
        Ok(text) => text,
        // the head may end in the middle of a character
        Err(e) if e.error_len().is_none() => {
            std::str::from_utf8(&head[..e.valid_up_to()]).unwrap_or("")
        }
        Err(_) => return Err(Fault::UnknownFormat),
    };
    let mut lines = text.trim_start_matches('\u{feff}').lines().map(str::trim);
    let Some(line) = lines.find(|l| !l.is_empty() && !l.starts_with('#')) else {
        return Err(Fault::Empty);
    };
    let fields: Vec<&str> = line.split(',').map(|f| f.trim().trim_matches('"')).collect();
    let named = |f: &&str| COLUMNS.iter().any(|c| c.0 == *f);
    Ok(match line {
        l if l.starts_with('{') => Kind::JsonLines,
        l if l.starts_with('[') || l.contains('=') => Kind::Scenario,
        _ if fields.iter().any(named) => Kind::Csv,
        l if fields.len() >= 4 && l.starts_with(|c: char| c.is_ascii_digit()) => {
            return Err(Fault::HeaderMissing);
        }
        _ if fields.len() >= 4 => Kind::Csv, // a header with a slip in it is told column by column
        _ => return Err(Fault::UnknownFormat),
    })
}
