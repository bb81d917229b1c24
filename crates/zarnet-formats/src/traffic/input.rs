//! Where traffic comes from: a file, standard input, or a flow typed on the command line.

use std::fs::File;
use std::io::{self, BufReader, Read, Seek, SeekFrom, Write};
use std::path::PathBuf;

use super::Fault;

/// What the user named.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Given {
    /// A flow in its notation.
    Flow(String),
    /// Standard input.
    Standard,
    /// A file.
    File(PathBuf),
}

impl Given {
    /// Tells what an argument means: `-`, a flow (it has an arrow), or a file.
    pub fn from_argument(text: &str) -> Self {
        match text {
            "-" => Self::Standard,
            t if t.contains("->") => Self::Flow(t.into()),
            t => Self::File(t.into()),
        }
    }

    /// How to call it in a message.
    pub fn name(&self) -> PathBuf {
        match self {
            Self::Flow(text) => PathBuf::from(format!("\"{text}\"")),
            Self::Standard => PathBuf::from("<standard input>"),
            Self::File(path) => path.clone(),
        }
    }
}

/// A file that can be read more than once: standard input is kept in a temporary one.
#[derive(Debug)]
pub(super) struct Input {
    pub name: PathBuf,
    file: File,
}

impl Input {
    pub(super) fn open(given: &Given) -> Result<Self, Fault> {
        let fault = |e: io::Error| Fault::Unreadable(e.to_string());
        let file = match given {
            Given::File(path) => {
                let file = File::open(path).map_err(fault)?;
                if file.metadata().map_err(fault)?.is_dir() {
                    return Err(Fault::Unreadable("it is a folder".into()));
                }
                // a pipe can be read only once
                if file.metadata().map_err(fault)?.is_file() { file } else { spool(file).map_err(fault)? }
            }
            _ => spool(io::stdin().lock()).map_err(fault)?,
        };
        Ok(Self { name: given.name(), file })
    }

    /// The contents from the beginning, unpacked.
    pub(super) fn read(&self) -> Result<Box<dyn Read + Send>, Fault> {
        let fault = |e: io::Error| Fault::Unreadable(e.to_string());
        let mut file = self.file.try_clone().map_err(fault)?;
        let mut magic = [0; 4];
        file.seek(SeekFrom::Start(0)).map_err(fault)?;
        let got = read_up_to(&mut file, &mut magic).map_err(fault)?;
        file.seek(SeekFrom::Start(0)).map_err(fault)?;
        Ok(match magic[..got] {
            [0x1f, 0x8b, ..] => Box::new(flate2::read::MultiGzDecoder::new(BufReader::new(file))),
            [0x28, 0xb5, 0x2f, 0xfd] => {
                let decoder = ruzstd::decoding::StreamingDecoder::new(BufReader::new(file));
                Box::new(decoder.map_err(|e| Fault::Unreadable(e.to_string()))?)
            }
            _ => Box::new(file),
        })
    }

    /// What kind of traffic it holds, by its first octets.
    pub(super) fn kind(&self) -> Result<Kind, Fault> {
        let mut head = vec![0; 4096];
        let got = read_up_to(&mut self.read()?, &mut head).map_err(|e| Fault::Unreadable(e.to_string()))?;
        kind(&head[..got])
    }
}

/// All of an input, unpacked, as text.
pub(crate) fn read_all(given: &Given) -> Result<String, Fault> {
    let mut text = String::new();
    Input::open(given)?.read()?.read_to_string(&mut text).map_err(|e| Fault::Unreadable(e.to_string()))?;
    Ok(text)
}

fn spool(mut from: impl Read) -> io::Result<File> {
    let mut file = tempfile::tempfile()?;
    io::copy(&mut from, &mut file)?;
    file.flush()?;
    Ok(file)
}

fn read_up_to(from: &mut impl Read, into: &mut [u8]) -> io::Result<usize> {
    let mut have = 0;
    while have < into.len() {
        match from.read(&mut into[have..]) {
            Ok(0) => break,
            Ok(n) => have += n,
            Err(e) if e.kind() == io::ErrorKind::Interrupted => {}
            Err(e) => return Err(e),
        }
    }
    Ok(have)
}

/// A kind of traffic.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Kind {
    Csv,
    JsonLines,
    Scenario,
    Capture,
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
        Err(e) if e.error_len().is_none() => std::str::from_utf8(&head[..e.valid_up_to()]).unwrap_or(""),
        Err(_) => return Err(Fault::UnknownFormat),
    };
    let mut lines = text.trim_start_matches('\u{feff}').lines().map(str::trim);
    let Some(line) = lines.find(|l| !l.is_empty() && !l.starts_with('#')) else { return Err(Fault::Empty) };
    let fields: Vec<&str> = line.split(',').map(|f| f.trim().trim_matches('"')).collect();
    let named = |f: &&str| super::fields::COLUMNS.iter().any(|c| c.0 == *f);
    Ok(match line {
        l if l.starts_with('{') => Kind::JsonLines,
        l if l.starts_with('[') || l.contains('=') => Kind::Scenario,
        _ if fields.iter().any(named) => Kind::Csv,
        l if fields.len() >= 4 && l.starts_with(|c: char| c.is_ascii_digit()) => return Err(Fault::HeaderMissing),
        _ if fields.len() >= 4 => Kind::Csv, // a header with a slip in it is told column by column
        _ => return Err(Fault::UnknownFormat),
    })
}
