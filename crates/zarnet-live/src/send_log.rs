//! A translation log sent to a collector: IPFIX (RFC 7011 §10) or syslog (RFC 5426 over UDP, RFC
//! 6587 over TCP).

use std::io::{self, BufWriter, Write};
use std::net::{Ipv4Addr, Ipv6Addr, SocketAddr, TcpStream, ToSocketAddrs, UdpSocket};
use std::time::{Duration, Instant};

use zarnet_formats::nat_log::ipfix::{MOST_IN_DATAGRAM, MOST_IN_FILE, Writer};
use zarnet_formats::nat_log::{LogNames, TimeText, TranslationEvent, syslog_line};

/// Where logs go to or come from: `udp://HOST:PORT` or `tcp://HOST:PORT`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LogAddress {
    /// Whether it is TCP.
    pub is_tcp: bool,
    /// The addresses that the name has, with the port.
    pub addresses: Vec<SocketAddr>,
}

impl LogAddress {
    /// Reads an address, and finds what its name stands for.
    ///
    /// # Errors
    /// It is written otherwise ([`io::ErrorKind::InvalidInput`]), or the name is unknown.
    pub fn parse(text: &str) -> io::Result<Self> {
        let otherwise = || io::Error::new(io::ErrorKind::InvalidInput, "this is no such address");
        let (scheme, place) = text.split_once("://").ok_or_else(otherwise)?;
        let is_tcp = match scheme {
            "tcp" => true,
            "udp" => false,
            _ => return Err(otherwise()),
        };
        let port = place.rsplit_once(':').and_then(|(host, port)| {
            (!host.is_empty() && port.parse::<u16>().is_ok()).then_some(())
        });
        port.ok_or_else(otherwise)?;
        let addresses = place.to_socket_addrs()?.collect();
        Ok(Self { is_tcp, addresses })
    }
}

/// Sends events as they come.
#[derive(Debug)]
pub struct LogSender {
    to: Way,
    form: Form,
    pace: Pace,
    events: u64,
    messages: u64,
}

#[derive(Debug)]
enum Way {
    Udp(UdpSocket),
    Tcp(BufWriter<TcpStream>),
}

#[derive(Debug)]
enum Form {
    Ipfix(Writer),
    Syslog(TimeText, Vec<u8>),
}

/// Templates are sent again after this: a receiver of datagrams may have missed them, or begun
/// later (RFC 7011 §8.4).
const AGAIN: Duration = Duration::from_secs(30);

impl LogSender {
    /// Connects to a collector. `rate`: events a second at most, 0 for any number.
    ///
    /// # Errors
    /// The address is wrong ([`io::ErrorKind::InvalidInput`]), or nobody is there.
    pub fn connect(to: &str, is_syslog: bool, rate: u32) -> io::Result<Self> {
        let to = LogAddress::parse(to)?;
        let way = if to.is_tcp {
            let stream = TcpStream::connect(&to.addresses[..])?;
            Way::Tcp(BufWriter::with_capacity(1 << 16, stream))
        } else {
            Way::Udp(udp(&to.addresses)?)
        };
        let most = if to.is_tcp { MOST_IN_FILE } else { MOST_IN_DATAGRAM };
        let form = match is_syslog {
            true => Form::Syslog(TimeText::default(), Vec::new()),
            false => Form::Ipfix(Writer::new(most)),
        };
        let pace = Pace { rate, begun: Instant::now(), introduced: Instant::now() };
        Ok(Self { to: way, form, pace, events: 0, messages: 0 })
    }

    /// Sends an event, or keeps it for the next message.
    ///
    /// # Errors
    /// The collector went away.
    pub fn send(&mut self, event: &TranslationEvent, names: &LogNames) -> io::Result<()> {
        self.events += 1;
        let (to, messages) = (&mut self.to, &mut self.messages);
        match &mut self.form {
            Form::Ipfix(writer) => {
                let is_udp = matches!(to, Way::Udp(_));
                if is_udp && self.events.is_multiple_of(1024) && self.pace.is_time_again() {
                    writer.introduce_again();
                }
                writer.write(event, names, |message| to.send(message, messages))?;
            }
            Form::Syslog(time, line) => {
                line.clear();
                syslog_line(event, names, time, line);
                to.send_counted(line, messages)?;
            }
        }
        self.pace.wait(self.events);
        Ok(())
    }

    /// Sends what is still held.
    ///
    /// # Errors
    /// The collector went away.
    pub fn finish(&mut self) -> io::Result<()> {
        let (to, messages) = (&mut self.to, &mut self.messages);
        if let Form::Ipfix(writer) = &mut self.form {
            writer.flush(|message| to.send(message, messages))?;
        }
        match to {
            Way::Udp(_) => Ok(()),
            Way::Tcp(stream) => stream.flush(),
        }
    }

    /// Events and messages sent so far.
    pub fn sent(&self) -> (u64, u64) {
        (self.events, self.messages)
    }
}

/// A socket that sends to the first of these addresses that it can.
fn udp(to: &[SocketAddr]) -> io::Result<UdpSocket> {
    let any = |to: &SocketAddr| match to {
        SocketAddr::V4(_) => SocketAddr::from((Ipv4Addr::UNSPECIFIED, 0)),
        SocketAddr::V6(_) => SocketAddr::from((Ipv6Addr::UNSPECIFIED, 0)),
    };
    let mut failure = io::Error::new(io::ErrorKind::NotFound, "the name has no address");
    for to in to {
        match UdpSocket::bind(any(to)).and_then(|socket| socket.connect(to).map(|()| socket)) {
            Ok(socket) => return Ok(socket),
            Err(error) => failure = error,
        }
    }
    Err(failure)
}

impl Way {
    fn send(&mut self, message: &[u8], messages: &mut u64) -> io::Result<()> {
        *messages += 1;
        match self {
            Self::Udp(socket) => socket.send(message).map(|_| ()),
            Self::Tcp(stream) => stream.write_all(message),
        }
    }

    /// A message of syslog: over TCP it begins with its length (RFC 6587 §3.4.1).
    fn send_counted(&mut self, message: &[u8], messages: &mut u64) -> io::Result<()> {
        if let Self::Tcp(stream) = self {
            write!(stream, "{} ", message.len())?;
        }
        self.send(message, messages)
    }
}

/// How fast events are sent.
#[derive(Debug)]
struct Pace {
    rate: u32,
    begun: Instant,
    introduced: Instant,
}

impl Pace {
    /// Waits until so many events may have been sent.
    fn wait(&self, events: u64) {
        if self.rate == 0 || !events.is_multiple_of(64) {
            return;
        }
        let due = Duration::from_secs_f64(events as f64 / f64::from(self.rate));
        let ahead = due.saturating_sub(self.begun.elapsed());
        if ahead > Duration::from_millis(1) {
            std::thread::sleep(ahead);
        }
    }

    fn is_time_again(&mut self) -> bool {
        let is_time = self.introduced.elapsed() >= AGAIN;
        if is_time {
            self.introduced = Instant::now();
        }
        is_time
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn addresses_are_read_or_refused() {
        let read = LogAddress::parse("tcp://127.0.0.1:601").unwrap();
        assert_eq!((read.is_tcp, read.addresses), (true, vec![([127, 0, 0, 1], 601).into()]));
        assert!(!LogAddress::parse("udp://[::1]:4739").unwrap().is_tcp);
        for wrong in ["127.0.0.1:601", "http://127.0.0.1:601", "udp://:4739", "udp://127.0.0.1"] {
            let error = LogAddress::parse(wrong).unwrap_err();
            assert_eq!(error.kind(), io::ErrorKind::InvalidInput, "{wrong}");
        }
    }
}
