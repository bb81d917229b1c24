//! Captures: pcap and pcapng, told apart by content; Ethernet, raw IP and Linux cooked frames.

use std::collections::HashMap;
use std::io::Read;
use std::net::IpAddr;

use etherparse::{EtherType, IpNumber, Ipv6ExtensionSlice, LaxNetSlice, LaxSlicedPacket, TransportSlice};
use pcap_parser::traits::PcapReaderIterator;
use pcap_parser::{Block, PcapBlockOwned, PcapError, create_reader};
use zarnet_core::net::{Endpoint, IcmpError, Packet, Protocol, Signal, Tuple};

use super::Fault;
use super::frames::{self, Records};

/// Frames that say nothing about translation, by why.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Skipped {
    /// Neither IPv4 nor IPv6, or not whole enough to tell.
    pub not_ip: u64,
    /// Fragments whose first was not seen before them: nothing tells whose they are.
    pub fragments: u64,
    /// ICMP that is no query, reply or error about an IPv4 packet.
    pub icmp_other: u64,
    /// Lines or packets that were wrong.
    pub bad: u64,
}

impl Skipped {
    /// Adds up two counts.
    pub fn add(&mut self, other: Self) {
        self.not_ip += other.not_ip;
        self.fragments += other.fragments;
        self.icmp_other += other.icmp_other;
        self.bad += other.bad;
    }
}

/// An interface of a pcapng section, or the one of a pcap.
#[derive(Clone, Copy)]
pub(super) struct Wire {
    pub link: i32,
    /// Ticks of a second: a power of ten or of two.
    pub ticks: u64,
    /// Seconds to add.
    pub offset: i64,
}

/// What a frame held.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Sight {
    Packet(Packet),
    Error(IcmpError),
}

/// What the fragments of a datagram have in common (RFC 791 §3.2).
pub(super) type Datagram = (IpAddr, IpAddr, u8, u32);

/// The first fragments of datagrams, for those behind them. One that comes before its first waits for it at the device, and
/// then says nothing new.
#[derive(Default)]
struct Heads {
    known: HashMap<Datagram, (i128, Packet)>,
}

impl Heads {
    /// A datagram is put together or forgotten within this time (RFC 1122 §3.3.2), in nanoseconds.
    const LIFE: i128 = 60_000_000_000;
    /// So many are remembered at most.
    const MOST: usize = 1 << 16;

    fn remember(&mut self, datagram: Datagram, at: i128, packet: Packet) {
        if self.known.len() >= Self::MOST {
            self.known.retain(|_, head| at - head.0 < Self::LIFE);
        }
        if self.known.len() < Self::MOST {
            self.known.insert(datagram, (at, packet));
        }
    }

    /// The packet that a later fragment is part of: one that begins nothing.
    fn of(&self, datagram: Datagram, at: i128) -> Option<Packet> {
        let (since, packet) = self.known.get(&datagram)?;
        let signal = match packet.signal {
            Signal::Query | Signal::Reply => packet.signal,
            _ => Signal::Plain,
        };
        (at - since < Self::LIFE).then_some(Packet { signal, ..*packet })
    }
}

/// Packets of a capture with their time in nanoseconds since the epoch.
pub(super) struct Capture {
    reader: Box<dyn PcapReaderIterator + Send>,
    wires: Vec<Wire>,
    /// How most records can be read, if they can be read where they lie.
    records: Option<Records>,
    /// Packets read so far.
    pub packets: u64,
    pub skipped: Skipped,
    heads: Heads,
    ended: bool,
    refilled_at: Option<u64>,
    /// Size of the reader's buffer.
    room: usize,
    consumed: u64,
}

/// Room for a block at first: no more than stays at hand for the processor.
const ROOM: usize = 1 << 17;
/// Largest block that is believed.
const LARGEST_BLOCK: usize = 16 << 20;

impl Capture {
    pub(super) fn new(reader: Box<dyn Read + Send>) -> Result<Self, Fault> {
        let reader = create_reader(ROOM, reader).map_err(|e| match e {
            PcapError::Eof | PcapError::Incomplete(_) => Fault::CaptureTruncated(0),
            e => Fault::CaptureMalformed(describe(&e)),
        })?;
        let (wires, skipped) = (Vec::new(), Skipped::default());
        let heads = Heads::default();
        Ok(Self {
            reader,
            wires,
            records: None,
            packets: 0,
            skipped,
            heads,
            ended: false,
            refilled_at: None,
            room: ROOM,
            consumed: 0,
        })
    }

    /// Gives away the next packets as long as they are usual ones and are taken. What is not is left to [`Self::next`].
    pub(super) fn take_usual(&mut self, mut take: impl FnMut(i128, Packet) -> bool) {
        let Some(records) = self.records else { return };
        let data = self.reader.data();
        let (mut at, mut packets) = (0, 0);
        while let Some((length, time, packet)) = records.usual(&data[at..], &self.wires)
            && take(time, packet)
        {
            at += length;
            packets += 1;
        }
        self.packets += packets;
        self.consumed += at as u64;
        self.reader.consume_noshift(at);
    }

    /// The next packet.
    pub(super) fn next(&mut self) -> Option<Result<(i128, Sight), Fault>> {
        while !self.ended {
            let mut found = None;
            let used = match self.reader.next() {
                Ok((used, block)) => {
                    let frame = match block {
                        PcapBlockOwned::LegacyHeader(h) => {
                            let ticks = if h.is_nanosecond_precision() { 1_000_000_000 } else { 1_000_000 };
                            self.wires = vec![Wire { link: h.network.0, ticks, offset: h.thiszone.into() }];
                            self.records = (!h.is_bigendian()).then_some(Records::Classic);
                            None
                        }
                        PcapBlockOwned::Legacy(b) => self.wires.first().map(|w| {
                            let time = i128::from(b.ts_sec) * 1_000_000_000
                                + i128::from(b.ts_usec) * (1_000_000_000 / i128::from(w.ticks));
                            (time, w.link, b.data)
                        }),
                        PcapBlockOwned::NG(Block::SectionHeader(h)) => {
                            self.wires.clear();
                            self.records = (!h.big_endian()).then_some(Records::Blocks);
                            None
                        }
                        PcapBlockOwned::NG(Block::InterfaceDescription(i)) => {
                            let ticks =
                                ticks_of(i.options.iter().find(|o| o.code.0 == 9).and_then(|o| o.value.first()));
                            let offset = i.options.iter().find(|o| o.code.0 == 14);
                            let offset =
                                offset.and_then(|o| o.value.get(..8)?.try_into().ok()).map_or(0, i64::from_le_bytes);
                            self.wires.push(Wire { link: i.linktype.0, ticks, offset });
                            None
                        }
                        PcapBlockOwned::NG(Block::EnhancedPacket(e)) => {
                            let wire = self.wires.get(e.if_id as usize);
                            let length = (e.caplen as usize).min(e.data.len());
                            let ticks = u64::from(e.ts_high) << 32 | u64::from(e.ts_low);
                            wire.map(|w| (w.time(ticks), w.link, &e.data[..length]))
                        }
                        // a simple packet has no time of its own: it cannot be put onto a clock
                        PcapBlockOwned::NG(Block::SimplePacket(_)) => {
                            self.packets += 1;
                            self.skipped.bad += 1;
                            None
                        }
                        PcapBlockOwned::NG(_) => None,
                    };
                    if let Some((time, link, data)) = frame {
                        self.packets += 1;
                        let decoded = match frames::plain(link, data) {
                            Some(packet) => Ok((Sight::Packet(packet), None)),
                            None => decode(link, data),
                        };
                        match decoded {
                            Ok((sight, datagram)) => {
                                if let (Sight::Packet(packet), Some(datagram)) = (sight, datagram) {
                                    self.heads.remember(datagram, time, packet);
                                }
                                found = Some(Ok((time, sight)));
                            }
                            Err(Why::NotIp) => self.skipped.not_ip += 1,
                            Err(Why::Fragment(datagram)) => match self.heads.of(datagram, time) {
                                Some(packet) => found = Some(Ok((time, Sight::Packet(packet)))),
                                None => self.skipped.fragments += 1,
                            },
                            Err(Why::IcmpOther) => self.skipped.icmp_other += 1,
                        }
                    }
                    used
                }
                Err(PcapError::Eof) => {
                    self.ended = true;
                    return None;
                }
                Err(PcapError::Incomplete(_)) => {
                    // a refill that brings nothing: the capture ends in the middle of a block
                    let stuck = self.refilled_at == Some(self.consumed) && self.reader.reader_exhausted();
                    self.refilled_at = Some(self.consumed);
                    if stuck || self.reader.refill().is_err() {
                        self.ended = true;
                        return Some(Err(Fault::CaptureTruncated(self.packets)));
                    }
                    continue;
                }
                Err(PcapError::BufferTooSmall) => {
                    self.room *= 2;
                    if self.room > LARGEST_BLOCK || !self.reader.grow(self.room) {
                        self.ended = true;
                        return Some(Err(Fault::CaptureMalformed("a block is too large".into())));
                    }
                    continue;
                }
                Err(PcapError::UnexpectedEof) => {
                    self.ended = true;
                    return Some(Err(Fault::CaptureTruncated(self.packets)));
                }
                Err(e) => {
                    let text = describe(&e);
                    self.ended = true;
                    return Some(Err(Fault::CaptureMalformed(text)));
                }
            };
            self.consumed += used as u64;
            self.reader.consume_noshift(used);
            if found.is_some() {
                return found;
            }
        }
        None
    }
}

fn describe<I>(error: &PcapError<I>) -> String {
    match error {
        PcapError::HeaderNotRecognized => "its header is damaged",
        PcapError::NomError(..) | PcapError::OwnedNomError(..) => "a block contradicts itself",
        PcapError::ReadError => "the file cannot be read",
        _ => "a block is damaged",
    }
    .into()
}

/// Ticks of a second by the option `if_tsresol`: a negative power of ten, or of two if the highest bit is set.
fn ticks_of(option: Option<&u8>) -> u64 {
    match option {
        None => 1_000_000,
        Some(n) if n & 0x80 != 0 => 1u64.checked_shl(u32::from(n & 0x7f)).filter(|t| *t > 0).unwrap_or(1 << 63),
        Some(n) => 10u64.checked_pow(u32::from(*n)).unwrap_or(10_000_000_000_000_000_000),
    }
}

impl Wire {
    /// Nanoseconds since the epoch.
    pub(super) fn time(&self, ticks: u64) -> i128 {
        if self.ticks == 1_000_000 {
            return i128::from(ticks) * 1000 + i128::from(self.offset) * 1_000_000_000;
        }
        let whole = i128::from(ticks / self.ticks) + i128::from(self.offset);
        let part = u128::from(ticks % self.ticks) * 1_000_000_000 / u128::from(self.ticks);
        whole * 1_000_000_000 + part as i128
    }
}

/// Why a frame says nothing.
#[derive(Debug, PartialEq, Eq)]
pub(super) enum Why {
    NotIp,
    /// A fragment behind the first of its datagram.
    Fragment(Datagram),
    IcmpOther,
}

/// What a frame holds; and of the first fragment of a datagram, which datagram that is.
pub(super) fn decode(link: i32, data: &[u8]) -> Result<(Sight, Option<Datagram>), Why> {
    let cut = |n: usize| data.get(n..).ok_or(Why::NotIp);
    let word = |at: usize| word_at(data, at).ok_or(Why::NotIp);
    let sliced = match link {
        1 => LaxSlicedPacket::from_ethernet(data).map_err(|_| Why::NotIp)?,
        12 | 14 | 101 | 228 | 229 => LaxSlicedPacket::from_ip(data).map_err(|_| Why::NotIp)?,
        0 | 108 => LaxSlicedPacket::from_ip(cut(4)?).map_err(|_| Why::NotIp)?,
        113 => LaxSlicedPacket::from_ether_type(EtherType(word(14)?), cut(16)?),
        276 => LaxSlicedPacket::from_ether_type(EtherType(word(0)?), cut(20)?),
        _ => return Err(Why::NotIp),
    };
    let (source, destination, number, part, payload) = match sliced.net.as_ref().ok_or(Why::NotIp)? {
        LaxNetSlice::Ipv4(ip) => {
            let header = ip.header();
            let later = header.fragments_offset().value() > 0;
            let part = (later || header.more_fragments()).then(|| (later, u32::from(header.identification())));
            let payload = ip.payload();
            (header.source_addr().into(), header.destination_addr().into(), payload.ip_number, part, payload.payload)
        }
        LaxNetSlice::Ipv6(ip) => {
            let header = ip.header();
            let payload = ip.payload();
            let fragment = ip.extensions().clone().into_iter().find_map(|e| match e {
                Ipv6ExtensionSlice::Fragment(f) => Some((f.fragment_offset().value() > 0, f.identification())),
                _ => None,
            });
            let part = fragment.filter(|_| payload.fragmented);
            (header.source_addr().into(), header.destination_addr().into(), payload.ip_number, part, payload.payload)
        }
        _ => return Err(Why::NotIp),
    };
    let datagram = part.map(|(later, id)| (later, (source, destination, number.0, id)));
    if let Some((true, datagram)) = datagram {
        return Err(Why::Fragment(datagram));
    }
    let first = datagram.map(|d| d.1);
    if let Some(error) = icmp_error(number, source, destination, payload) {
        return Ok((Sight::Error(error), None));
    }
    let protocol = Protocol(number.0);
    let packet = |signal, from, to| Packet {
        protocol,
        signal,
        ends: Tuple {
            source: Endpoint { address: source, port: from },
            destination: Endpoint { address: destination, port: to },
        },
    };
    let packet = match &sliced.transport {
        Some(TransportSlice::Tcp(tcp)) => {
            let signal = tcp_signal(tcp.rst(), tcp.syn(), tcp.ack(), tcp.fin());
            packet(signal, tcp.source_port(), tcp.destination_port())
        }
        Some(TransportSlice::Udp(udp)) => packet(Signal::Plain, udp.source_port(), udp.destination_port()),
        _ => without_transport(number, payload, packet)?,
    };
    Ok((Sight::Packet(packet), first))
}

/// An ICMP error about an IPv4 packet: destination unreachable, time exceeded, parameter problem (RFC 792). The embedded
/// header tells by its own length where its ports are (RFC 5508 §4.1 REQ-3b); checksums are not looked at, for captures are
/// made before and after they are filled in.
fn icmp_error(number: IpNumber, from: IpAddr, to: IpAddr, payload: &[u8]) -> Option<IcmpError> {
    if number != IpNumber::ICMP || !matches!(payload.first()?, 3 | 11 | 12) {
        return None;
    }
    let embedded = payload.get(8..)?;
    let header = usize::from(*embedded.first()? & 15) * 4;
    if embedded.first()? >> 4 != 4 || header < 20 {
        return None;
    }
    let protocol = Protocol(*embedded.get(9)?);
    let address = |at: usize| Some(IpAddr::V4(<[u8; 4]>::try_from(embedded.get(at..at + 4)?).ok()?.into()));
    let (source, destination) = (address(12)?, address(16)?);
    let inner = embedded.get(header..).unwrap_or(&[]);
    let word = |at: usize| word_at(inner, at);
    let ends = |from, to| Tuple { source: Endpoint::new(source, from), destination: Endpoint::new(destination, to) };
    let (signal, ends) = match protocol {
        // the first octets of a datagram that was no first fragment would be anything
        p if p.has_ports() => (Signal::Plain, ends(word(0)?, word(2)?)),
        Protocol::ICMP => match query_signal(protocol, *inner.first()?)? {
            Signal::Query => (Signal::Query, ends(word(4)?, 0)),
            reply => (reply, ends(0, word(4)?)),
        },
        _ => (Signal::Plain, ends(0, 0)),
    };
    Some(IcmpError { from, to, about: Packet { protocol, signal, ends } })
}

pub(super) const fn tcp_signal(rst: bool, syn: bool, ack: bool, fin: bool) -> Signal {
    match (rst, syn, ack, fin) {
        (true, ..) => Signal::Rst,
        (_, true, false, _) => Signal::Syn,
        (_, true, true, _) => Signal::SynAck,
        (.., true) => Signal::Fin,
        _ => Signal::Plain,
    }
}

/// Two octets as a number.
fn word_at(octets: &[u8], at: usize) -> Option<u16> {
    octets.get(at..at + 2).map(|b| u16::from_be_bytes([b[0], b[1]]))
}

/// What the type of an ICMP message says, if it is a query or its reply: echo, timestamp, address mask; and echo of IPv6
/// (RFC 792, 950, 4443).
fn query_signal(protocol: Protocol, kind: u8) -> Option<Signal> {
    match (protocol, kind) {
        (Protocol::ICMP, 8 | 13 | 17) | (Protocol::ICMPV6, 128) => Some(Signal::Query),
        (Protocol::ICMP, 0 | 14 | 18) | (Protocol::ICMPV6, 129) => Some(Signal::Reply),
        _ => None,
    }
}

/// ICMP queries, protocols whose ports the library does not read, headers that were cut short.
fn without_transport(
    number: IpNumber,
    payload: &[u8],
    packet: impl Fn(Signal, u16, u16) -> Packet,
) -> Result<Packet, Why> {
    let protocol = Protocol(number.0);
    let word = |at: usize| word_at(payload, at);
    if protocol.has_query_id() {
        let signal = payload.first().and_then(|kind| query_signal(protocol, *kind)).ok_or(Why::IcmpOther)?;
        let id = word(4).ok_or(Why::NotIp)?;
        return Ok(if signal == Signal::Query { packet(signal, id, 0) } else { packet(signal, 0, id) });
    }
    if protocol.has_ports() {
        let ports = word(0).zip(word(2)).ok_or(Why::NotIp)?;
        // of a TCP header that was cut, the flags are at octet 13
        let signal = match (protocol, payload.get(13)) {
            (Protocol::TCP, Some(f)) => tcp_signal(f & 4 != 0, f & 2 != 0, f & 16 != 0, f & 1 != 0),
            (Protocol::TCP, None) => return Err(Why::NotIp),
            _ => Signal::Plain,
        };
        return Ok(packet(signal, ports.0, ports.1));
    }
    Ok(packet(Signal::Plain, 0, 0))
}
