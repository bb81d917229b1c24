//! Translation logs as they come in, over UDP and TCP: bounded memory whatever is sent.
//!
//! What is received waits in a queue of so many octets. Where it is full, TCP is not read on, so that
//! senders wait; datagrams are thrown away and counted.

use std::collections::HashMap;
use std::io::{self, ErrorKind, Read};
use std::net::{IpAddr, Ipv4Addr, SocketAddr, TcpListener, TcpStream, UdpSocket};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, AtomicUsize, Ordering};
use std::sync::mpsc::{Receiver, RecvTimeoutError, Sender as Queue, channel};
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use socket2::{Domain, Socket, Type};
use zarnet_formats::nat_log::ipfix::{Message, Session};
use zarnet_formats::nat_log::{
    Frames, LogNames, MOST_IN_MESSAGE, Noted, TranslationEvent, parse_line,
};

use crate::send_log::LogAddress;

/// Octets that wait: several seconds of datagrams, while files are written.
const WAITING: usize = 64 << 20;
/// What a piece takes besides its octets.
const OVERHEAD: usize = 96;
/// So much is read of a connection at once.
const PIECE: usize = 1 << 16;
/// Connections at a time; more are refused.
const CONNECTIONS: usize = 256;
/// Senders of datagrams that are told apart.
const SENDERS: usize = 4096;
/// What the system keeps of datagrams that come in a burst, if it may.
const BUFFER: usize = 32 << 20;
/// How long is waited before a full queue is looked at again.
const FULL: Duration = Duration::from_millis(5);
/// How often somebody who waits looks whether it is to end.
const LOOK: Duration = Duration::from_millis(200);

/// A piece of what was received.
#[derive(Debug)]
struct Piece {
    from: Source,
    /// Nothing: the connection is at its end.
    octets: Vec<u8>,
    /// When it was received, in milliseconds since 1970.
    at: i64,
}

/// Where a piece comes from.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
enum Source {
    /// A sender of datagrams.
    Datagram(SocketAddr),
    /// A connection by its number, and who is at its other end.
    Connection(u64, IpAddr),
}

/// Sockets that are listened to.
pub struct LogListener {
    /// Where each listens, as `udp://ADDRESS:PORT`.
    pub listening: Vec<String>,
    pieces: Receiver<Piece>,
    shared: Arc<Shared>,
    senders: HashMap<Source, Sender>,
}

/// What the threads share.
#[derive(Debug, Default)]
struct Shared {
    ends: AtomicBool,
    /// Octets that wait in the queue.
    waiting: AtomicUsize,
    connections: AtomicUsize,
    refused: AtomicU64,
    dropped: AtomicU64,
}

impl Shared {
    fn is_full(&self) -> bool {
        self.waiting.load(Ordering::Relaxed) >= WAITING
    }

    /// Puts a piece into the queue. `None`: nobody takes it any more.
    fn put(&self, to: &Queue<Piece>, piece: Piece) -> Option<()> {
        self.waiting.fetch_add(piece.octets.len() + OVERHEAD, Ordering::Relaxed);
        to.send(piece).ok()
    }
}

/// What was received of a sender so far.
enum Sender {
    Ipfix(Box<Session>, Vec<u8>),
    Syslog(Frames),
}

/// What the sockets tell besides events.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Received {
    /// Datagrams that were thrown away because the queue was full.
    pub dropped: u64,
    /// Connections that were refused because there were too many.
    pub refused: u64,
}

/// The time of day, in milliseconds since 1970.
pub fn now() -> i64 {
    let since = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
    i64::try_from(since.as_millis()).unwrap_or(i64::MAX)
}

impl LogListener {
    /// Begins to listen.
    ///
    /// # Errors
    /// One of the addresses cannot be listened to.
    pub fn start(addresses: &[LogAddress]) -> io::Result<Self> {
        let (to, pieces) = channel();
        let shared = Arc::new(Shared::default());
        let mut listening = Vec::new();
        for address in addresses {
            let place = address.addresses.first().copied();
            let place = place.ok_or_else(|| io::Error::new(ErrorKind::NotFound, "no address"))?;
            let (to, shared) = (to.clone(), shared.clone());
            if address.is_tcp {
                let listener = TcpListener::bind(place)?;
                listener.set_nonblocking(true)?;
                listening.push(format!("tcp://{}", listener.local_addr()?));
                std::thread::spawn(move || accept(&listener, &to, &shared));
            } else {
                let socket = datagrams(place)?;
                listening.push(format!("udp://{}", socket.local_addr()?));
                std::thread::spawn(move || receive(&socket, &to, &shared));
            }
        }
        Ok(Self { listening, pieces, shared, senders: HashMap::new() })
    }

    /// Waits for events at most so long, and hands over those that came, each sender's in their
    /// order. `clock` is told an event of each piece and when that came, in milliseconds since 1970.
    /// `false`: nothing more will come, because this was stopped.
    pub fn receive(
        &mut self,
        wait: Duration,
        names: &mut LogNames,
        noted: &mut Noted,
        mut clock: impl FnMut(&TranslationEvent, i64),
        mut take: impl FnMut(TranslationEvent, &LogNames),
    ) -> bool {
        let piece = match self.pieces.recv_timeout(wait) {
            Ok(piece) => piece,
            Err(RecvTimeoutError::Timeout) => return true,
            Err(RecvTimeoutError::Disconnected) => return false,
        };
        self.shared.waiting.fetch_sub(piece.octets.len() + OVERHEAD, Ordering::Relaxed);
        let at = piece.at;
        let mut last = None;
        let mut take = |event: TranslationEvent, names: &LogNames| {
            last = Some(event);
            take(event, names);
        };
        self.read(piece, names, noted, &mut take);
        if let Some(event) = last {
            clock(&event, at);
        }
        true
    }

    /// Stops listening. What was received already is still handed over by [`Self::receive`].
    pub fn stop(&self) {
        self.shared.ends.store(true, Ordering::Relaxed);
    }

    /// What the sockets tell besides events.
    pub fn received(&self) -> Received {
        Received {
            dropped: self.shared.dropped.load(Ordering::Relaxed),
            refused: self.shared.refused.load(Ordering::Relaxed),
        }
    }

    fn read(
        &mut self,
        piece: Piece,
        names: &mut LogNames,
        noted: &mut Noted,
        take: &mut impl FnMut(TranslationEvent, &LogNames),
    ) {
        let Piece { from, octets, .. } = piece;
        let is_end = octets.is_empty();
        if let Source::Datagram(_) = from {
            // each datagram is one message, or lines
            match octets.first() {
                Some(0) => {}
                Some(_) => return lines(&octets, names, noted, take),
                None => return,
            }
        }
        if !self.senders.contains_key(&from) {
            if is_end {
                return;
            }
            if self.senders.len() >= SENDERS + CONNECTIONS {
                noted.bad_messages += 1;
                return;
            }
            self.senders.insert(from, Sender::new(from, &octets));
        }
        let Some(sender) = self.senders.get_mut(&from) else { return };
        match sender {
            Sender::Ipfix(session, _) if matches!(from, Source::Datagram(_)) => {
                session.read(&octets, names, noted, &mut *take);
            }
            Sender::Ipfix(session, held) => {
                held.extend(octets);
                let mut at = 0;
                while let Some(message) = Message::header(&held[at..]) {
                    let Some(whole) = held.get(at..at + message.length) else { break };
                    session.read(whole, names, noted, &mut *take);
                    at += message.length;
                }
                held.drain(..at);
                // what is no header now never will be: where the next one begins is not known
                let is_lost = held.len() >= Message::HEADER && Message::header(held).is_none();
                if is_lost || is_end && !held.is_empty() {
                    noted.bad_messages += 1;
                    noted.octets_skipped += held.len() as u64;
                    held.clear();
                }
            }
            Sender::Syslog(frames) => {
                frames.push(&octets);
                while let Some(message) = frames.next(is_end, noted) {
                    if let Some(event) = parse_line(message, names, noted) {
                        take(event, names);
                    }
                }
            }
        }
        if is_end {
            self.senders.remove(&from);
        }
    }
}

/// Syslog of a datagram.
fn lines(
    octets: &[u8],
    names: &mut LogNames,
    noted: &mut Noted,
    take: &mut impl FnMut(TranslationEvent, &LogNames),
) {
    let lines = octets.split(|octet| *octet == b'\n').map(<[u8]>::trim_ascii);
    for line in lines.filter(|line| !line.is_empty()) {
        if let Some(event) = parse_line(line, names, noted) {
            take(event, names);
        }
    }
}

impl Sender {
    /// A sender whose format its first octets tell.
    fn new(from: Source, octets: &[u8]) -> Self {
        let who = match from {
            Source::Datagram(address) => address.ip(),
            Source::Connection(_, address) => address,
        };
        match octets.first() {
            Some(0) => Self::Ipfix(Box::new(Session::new(&who.to_string())), Vec::new()),
            _ => Self::Syslog(Frames::default()),
        }
    }
}

/// A socket for datagrams, with room for many.
fn datagrams(place: SocketAddr) -> io::Result<UdpSocket> {
    let socket = Socket::new(Domain::for_address(place), Type::DGRAM, None)?;
    // less is enough to begin with
    let _ = socket.set_recv_buffer_size(BUFFER);
    socket.bind(&place.into())?;
    let socket = UdpSocket::from(socket);
    socket.set_read_timeout(Some(LOOK))?;
    Ok(socket)
}

fn receive(socket: &UdpSocket, to: &Queue<Piece>, shared: &Shared) {
    let mut buffer = vec![0; MOST_IN_MESSAGE];
    while !shared.ends.load(Ordering::Relaxed) {
        let Ok((length, from)) = socket.recv_from(&mut buffer) else { continue };
        let (from, octets) = (Source::Datagram(from), buffer[..length].to_vec());
        if shared.is_full() {
            shared.dropped.fetch_add(1, Ordering::Relaxed);
        } else if shared.put(to, Piece { from, octets, at: now() }).is_none() {
            return;
        }
    }
}

fn accept(listener: &TcpListener, to: &Queue<Piece>, shared: &Arc<Shared>) {
    let mut number = 0;
    while !shared.ends.load(Ordering::Relaxed) {
        let Ok((stream, from)) = listener.accept() else {
            std::thread::sleep(Duration::from_millis(20));
            continue;
        };
        if shared.connections.load(Ordering::Relaxed) >= CONNECTIONS {
            shared.refused.fetch_add(1, Ordering::Relaxed);
            continue;
        }
        number += 1;
        shared.connections.fetch_add(1, Ordering::Relaxed);
        let source = Source::Connection(number, from.ip().to_canonical());
        let (to, shared) = (to.clone(), shared.clone());
        std::thread::spawn(move || {
            read_connection(stream, source, &to, &shared);
            shared.connections.fetch_sub(1, Ordering::Relaxed);
        });
    }
}

/// Reads a connection until it ends. Where the queue is full this waits, and so does the sender.
fn read_connection(mut stream: TcpStream, from: Source, to: &Queue<Piece>, shared: &Shared) {
    let ready = stream.set_nonblocking(false).and_then(|()| stream.set_read_timeout(Some(LOOK)));
    let mut buffer = vec![0; PIECE];
    while ready.is_ok() && !shared.ends.load(Ordering::Relaxed) {
        match stream.read(&mut buffer) {
            Ok(0) => break,
            Ok(length) => {
                let octets = buffer[..length].to_vec();
                while shared.is_full() && !shared.ends.load(Ordering::Relaxed) {
                    std::thread::sleep(FULL);
                }
                if shared.put(to, Piece { from, octets, at: now() }).is_none() {
                    return;
                }
            }
            Err(error) if is_passing(&error) => {}
            Err(_) => break,
        }
    }
    shared.put(to, Piece { from, octets: Vec::new(), at: now() });
}

fn is_passing(error: &io::Error) -> bool {
    matches!(error.kind(), ErrorKind::WouldBlock | ErrorKind::TimedOut | ErrorKind::Interrupted)
}

/// Whether only this machine can send to an address.
pub fn is_loopback(address: &LogAddress) -> bool {
    let any = IpAddr::V4(Ipv4Addr::UNSPECIFIED);
    address.addresses.first().map_or(any, SocketAddr::ip).is_loopback()
}
