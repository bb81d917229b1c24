//! Where traffic comes from: a file, a pipe, standard input, or a flow typed on the command line.

use std::fs::File;
use std::io::{self, BufReader, Read, Write};
use std::path::PathBuf;
use std::sync::{Arc, OnceLock};

use zarnet_core::limits;

use super::{Fault, TrafficError};
use crate::files::{Bounded, file_or_pipe};

/// What the user named.
#[derive(Debug, Clone)]
pub enum Given {
    /// A flow in its notation.
    Flow(String),
    /// A file, which is opened whenever it is read.
    File(PathBuf),
    /// What a pipe or standard input held: read once, and kept in a file without a name.
    Kept {
        /// How to call it in a message.
        name: PathBuf,
        /// A file on disk that holds the contents.
        contents: Arc<File>,
    },
    /// Octets that are kept in memory.
    Octets(Arc<[u8]>),
}

impl Given {
    /// Tells what arguments mean: `-` is standard input, what has an arrow a flow, all else a file.
    /// Pipes and standard input are read here, once.
    ///
    /// # Errors
    /// What can be read only once, and cannot be kept; everything that is wrong at once.
    pub fn all(arguments: &[String]) -> Result<Vec<Self>, Vec<TrafficError>> {
        let (mut all, mut errors) = (Vec::new(), Vec::new());
        for text in arguments {
            match Self::from_argument(text) {
                Ok(given) => all.push(given),
                Err(fault) => errors.push(TrafficError { input: text.into(), line: None, fault }),
            }
        }
        if errors.is_empty() { Ok(all) } else { Err(errors) }
    }

    /// The same for one argument.
    ///
    /// # Errors
    /// The pipe cannot be read, or holds more than is kept.
    pub fn from_argument(text: &str) -> Result<Self, Fault> {
        if text == "-" {
            let contents = kept(io::stdin().lock(), limits::PIPE_OCTETS)?;
            return Ok(Self::Kept { name: "<standard input>".into(), contents });
        }
        if text.contains("->") {
            return Ok(Self::Flow(text.into()));
        }
        // one that is not there is told when it is opened
        match std::fs::metadata(text) {
            Ok(metadata) if !metadata.is_file() => {
                file_or_pipe(&metadata).map_err(|e| Fault::Unreadable(e.to_string()))?;
                let contents = kept(File::open(text).map_err(fault_of)?, limits::PIPE_OCTETS)?;
                Ok(Self::Kept { name: text.into(), contents })
            }
            _ => Ok(Self::File(text.into())),
        }
    }

    /// How to call it in a message.
    pub fn name(&self) -> PathBuf {
        match self {
            Self::Flow(text) => PathBuf::from(format!("\"{text}\"")),
            Self::Kept { name, .. } => name.clone(),
            Self::File(path) => path.clone(),
            Self::Octets(_) => "<memory>".into(),
        }
    }
}

/// A file that can be read more than once, and by several readers at a time.
#[derive(Debug)]
pub(crate) struct Input {
    pub name: PathBuf,
    from: From,
    octets: u64,
    /// How often it was read from its beginning, as traffic.
    #[cfg(test)]
    pub times_read: std::sync::atomic::AtomicUsize,
}

/// What can be read from its start as often as needed.
#[derive(Debug, Clone)]
enum From {
    File(Arc<File>),
    Octets(Arc<[u8]>),
}

/// The contents of an input as they come, and why there are no more, if that is a fault.
pub(crate) struct Contents {
    pub reader: Box<dyn Read + Send>,
    pub failure: Failure,
}

/// Why reading failed, for readers of libraries that lose the reason on the way.
#[derive(Debug, Clone, Default)]
pub(crate) struct Failure(Arc<OnceLock<Fault>>);

impl Failure {
    pub(crate) fn fault(&self) -> Option<Fault> {
        self.0.get().cloned()
    }
}

impl Input {
    fn new(name: PathBuf, from: From, octets: u64) -> Self {
        Self {
            name,
            from,
            octets,
            #[cfg(test)]
            times_read: Default::default(),
        }
    }

    pub(crate) fn open(given: &Given) -> Result<Self, Fault> {
        let file = match given {
            Given::File(path) => Arc::new(File::open(path).map_err(fault_of)?),
            Given::Kept { contents, .. } => contents.clone(),
            Given::Octets(octets) => {
                let (from, length) = (From::Octets(octets.clone()), octets.len() as u64);
                return Ok(Self::new(given.name(), from, length));
            }
            Given::Flow(_) => return Err(Fault::UnknownFormat),
        };
        let metadata = file.metadata().map_err(fault_of)?;
        file_or_pipe(&metadata).map_err(|e| Fault::Unreadable(e.to_string()))?;
        Ok(Self::new(given.name(), From::File(file), metadata.len()))
    }

    /// The contents from the beginning, unpacked.
    pub(crate) fn read(&self) -> Result<Contents, Fault> {
        let start = || FromStart { from: self.from.clone(), at: 0 };
        let mut magic = [0; 4];
        let got = read_up_to(&mut start(), &mut magic).map_err(fault_of)?;
        let most = limits::UNPACKED_OCTETS.max(self.octets.saturating_mul(limits::UNPACKED_TIMES));
        let failure = Failure::default();
        let told = |inner: Box<dyn Read + Send>| Told { inner, failure: failure.clone() };
        let reader: Box<dyn Read + Send> = match magic[..got] {
            [0x1f, 0x8b, ..] => {
                let decoder = flate2::read::MultiGzDecoder::new(BufReader::new(start()));
                Box::new(told(Box::new(Bounded::new(decoder, most))))
            }
            [0x28, 0xb5, 0x2f, 0xfd] => {
                let decoder = zstd::stream::read::Decoder::new(start());
                let decoder = decoder.map_err(|e| Fault::Unreadable(e.to_string()))?;
                Box::new(told(Box::new(Bounded::new(decoder, most))))
            }
            _ => Box::new(told(Box::new(start()))),
        };
        Ok(Contents { reader, failure })
    }

    /// All of it, unpacked, as text, if it is no longer than so many octets.
    pub(super) fn text(&self, most: usize) -> Result<String, Fault> {
        let mut text = String::new();
        Bounded::new(self.read()?.reader, most as u64)
            .read_to_string(&mut text)
            .map_err(fault_of)?;
        Ok(text)
    }
}

/// All of an input, unpacked, as text, if it is no longer than so many octets.
pub(crate) fn read_all(given: &Given, most: usize) -> Result<String, Fault> {
    Input::open(given)?.text(most)
}

/// What an error of reading means.
pub(super) fn fault_of(error: io::Error) -> Fault {
    match error.kind() {
        io::ErrorKind::FileTooLarge => Fault::TooLarge(error.to_string()),
        _ => Fault::Unreadable(error.to_string()),
    }
}

/// A reader that has a place of its own: others may read the same meanwhile.
struct FromStart {
    from: From,
    at: u64,
}

impl Read for FromStart {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let got = match &self.from {
            From::File(file) => read_at(file, buffer, self.at)?,
            From::Octets(octets) => {
                octets.get(self.at as usize..).unwrap_or_default().read(buffer)?
            }
        };
        self.at += got as u64;
        Ok(got)
    }
}

#[cfg(unix)]
fn read_at(file: &File, buffer: &mut [u8], at: u64) -> io::Result<usize> {
    std::os::unix::fs::FileExt::read_at(file, buffer, at)
}

#[cfg(windows)]
fn read_at(file: &File, buffer: &mut [u8], at: u64) -> io::Result<usize> {
    std::os::windows::fs::FileExt::seek_read(file, buffer, at)
}

/// A reader that remembers why it failed.
struct Told {
    inner: Box<dyn Read + Send>,
    failure: Failure,
}

impl Read for Told {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        self.inner.read(buffer).inspect_err(|error| {
            if error.kind() != io::ErrorKind::Interrupted {
                let fault = fault_of(io::Error::new(error.kind(), error.to_string()));
                self.failure.0.get_or_init(|| fault);
            }
        })
    }
}

/// Keeps what can be read only once, in a file that has no name: whatever ends the program, nothing
/// stays behind.
fn kept(from: impl Read, most: u64) -> Result<Arc<File>, Fault> {
    let mut file = tempfile::tempfile().map_err(fault_of)?;
    io::copy(&mut Bounded::new(from, most), &mut file).map_err(fault_of)?;
    file.flush().map_err(fault_of)?;
    Ok(Arc::new(file))
}

pub(crate) fn read_up_to(from: &mut impl Read, into: &mut [u8]) -> io::Result<usize> {
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_pipe_that_never_ends_is_left_off() {
        assert!(matches!(kept(io::repeat(7), 1 << 20), Err(Fault::TooLarge(_))));
        assert!(kept(io::repeat(7).take(1 << 20), 1 << 20).is_ok());
    }

    #[test]
    fn two_readers_of_one_input_do_not_disturb_each_other() {
        let contents = kept(&b"start,protocol"[..], 100).unwrap();
        let input = Input::open(&Given::Kept { name: "pipe".into(), contents }).unwrap();
        let (mut a, mut b) = (input.read().unwrap().reader, input.read().unwrap().reader);
        let (mut first, mut all) = ([0; 5], String::new());
        a.read_exact(&mut first).unwrap();
        b.read_to_string(&mut all).unwrap();
        assert_eq!((&first, all.as_str()), (b"start", "start,protocol"));
    }

    #[cfg(unix)]
    #[test]
    fn folders_and_devices_are_refused() {
        for (path, what) in [("/dev/zero", "a device"), ("/", "a folder")] {
            let fault = Given::from_argument(path).unwrap_err();
            assert_eq!(fault, Fault::Unreadable(format!("it is {what}, not a file")));
        }
    }
}
