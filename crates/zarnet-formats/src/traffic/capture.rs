//! Captures: pcap and pcapng, told apart by content; Ethernet, raw IP and Linux cooked frames.

use std::collections::HashMap;

use pcap_parser::traits::PcapReaderIterator;
use pcap_parser::{Block, PcapBlockOwned, PcapError, create_reader};
use zarnet_core::limits;
use zarnet_core::net::{Packet, Signal};
use zarnet_core::traffic::{Item, Seen, SeenError};

use super::clock::Clock;
use super::decode::{Datagram, Decoded, Why, decode};
use super::input::{Contents, Failure};
use super::pcap_fast::{self, Records};
use super::source::{Located, Source};
use super::wire::Wire;
use super::{Fault, ObservedAt, Skipped};

/// The first fragments of datagrams, for those behind them. One that comes before its first waits
/// for it at the device, and then says nothing new.
#[derive(Default)]
struct Heads {
    known: HashMap<Datagram, (i128, Packet)>,
}

impl Heads {
    /// A datagram is put together or forgotten within this time (RFC 1122 §3.3.2), in nanoseconds.
    const LIFE: i128 = 60_000_000_000;

    fn remember(&mut self, datagram: Datagram, at: i128, packet: Packet) {
        if self.known.len() >= limits::FRAGMENTS {
            self.known.retain(|_, head| at - head.0 < Self::LIFE);
        }
        if self.known.len() < limits::FRAGMENTS {
            self.known.insert(datagram, (at, packet));
        }
    }

    /// The packet that a later fragment is part of: one that begins nothing.
    fn of(&self, datagram: Datagram, at: i128) -> Option<Packet> {
        let (since, packet) = self.known.get(&datagram)?;
        let signal = match packet.signal {
            Signal::Query | Signal::Reply => packet.signal,
            Signal::Plain | Signal::Syn | Signal::SynAck | Signal::Fin | Signal::Rst => {
                Signal::Plain
            }
        };
        (at - since < Self::LIFE).then_some(Packet { signal, ..*packet })
    }
}

/// Packets of a capture with their time in nanoseconds since the epoch.
pub(super) struct Capture {
    reader: Box<dyn PcapReaderIterator + Send>,
    wires: Vec<Wire>,
    /// Whether it is a pcapng, made of blocks.
    is_blocks: bool,
    /// How numbers of the section are written.
    big_endian: bool,
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
    /// The link type last met that is not read.
    unread_link: Option<i32>,
    failure: Failure,
    seen_at: ObservedAt,
}

/// Room for a block at first: no more than stays at hand for the processor.
const ROOM: usize = 1 << 17;

impl Capture {
    pub(super) fn new(contents: Contents, seen_at: ObservedAt) -> Result<Self, Fault> {
        let Contents { reader, failure } = contents;
        let reader = create_reader(ROOM, reader).map_err(|e| match e {
            PcapError::Eof | PcapError::Incomplete(_) => Fault::CaptureTruncated(0),
            e => failure.fault().unwrap_or_else(|| Fault::CaptureMalformed(describe(&e))),
        })?;
        let (wires, skipped) = (Vec::new(), Skipped::default());
        let heads = Heads::default();
        let is_blocks = reader.data().starts_with(&[0x0a, 0x0d, 0x0d, 0x0a]);
        Ok(Self {
            reader,
            wires,
            is_blocks,
            big_endian: false,
            records: None,
            packets: 0,
            skipped,
            heads,
            ended: false,
            refilled_at: None,
            room: ROOM,
            consumed: 0,
            unread_link: None,
            failure,
            seen_at,
        })
    }

    /// Gives away the next packets as long as they are usual ones and are taken. What is not is
    /// left to [`Self::next_decoded`].
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

    /// Whether the next block says that it is shorter than its own frame; not every such block does
    /// the reader refuse.
    fn is_too_short(&self) -> bool {
        let length = self.reader.data().get(4..8).filter(|_| self.is_blocks);
        let number = if self.big_endian { u32::from_be_bytes } else { u32::from_le_bytes };
        length.and_then(|l| l.try_into().ok()).is_some_and(|l| number(l) < 12)
    }

    /// The next packet with its time in nanoseconds.
    pub(super) fn next_decoded(&mut self) -> Option<Result<(i128, Decoded), Fault>> {
        while !self.ended {
            if self.is_too_short() {
                self.ended = true;
                return Some(Err(Fault::CaptureMalformed("a block is too short".into())));
            }
            let mut found = None;
            let used = match self.reader.next() {
                Ok((used, block)) => {
                    let frame = match block {
                        PcapBlockOwned::LegacyHeader(h) if h.version_major != 2 => {
                            self.ended = true;
                            return Some(Err(version(h.version_major, h.version_minor)));
                        }
                        PcapBlockOwned::NG(Block::SectionHeader(h)) if h.major_version != 1 => {
                            self.ended = true;
                            return Some(Err(version(h.major_version, h.minor_version)));
                        }
                        PcapBlockOwned::LegacyHeader(h) => {
                            let ticks =
                                if h.is_nanosecond_precision() { 1_000_000_000 } else { 1_000_000 };
                            self.wires =
                                vec![Wire { link: h.network.0, ticks, offset: h.thiszone.into() }];
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
                            self.big_endian = h.big_endian();
                            self.records = (!h.big_endian()).then_some(Records::Blocks);
                            None
                        }
                        PcapBlockOwned::NG(Block::InterfaceDescription(i)) => {
                            let ticks = ticks_of(
                                i.options
                                    .iter()
                                    .find(|o| o.code.0 == 9)
                                    .and_then(|o| o.value.first()),
                            );
                            let offset = i.options.iter().find(|o| o.code.0 == 14);
                            let offset = offset.and_then(|o| o.value.get(..8)?.try_into().ok());
                            let number = if self.big_endian {
                                i64::from_be_bytes
                            } else {
                                i64::from_le_bytes
                            };
                            let offset = offset.map_or(0, number);
                            if self.wires.len() >= limits::WIRES {
                                self.ended = true;
                                let most = limits::WIRES;
                                return Some(Err(Fault::CaptureMalformed(format!(
                                    "more than {most} interfaces"
                                ))));
                            }
                            self.wires.push(Wire { link: i.linktype.0, ticks, offset });
                            None
                        }
                        PcapBlockOwned::NG(Block::EnhancedPacket(e)) => {
                            let wire = self.wires.get(e.if_id as usize);
                            let length = (e.caplen as usize).min(e.data.len());
                            let ticks = u64::from(e.ts_high) << 32 | u64::from(e.ts_low);
                            // of an interface that was not described, neither link nor clock are
                            // known
                            if wire.is_none() {
                                self.packets += 1;
                                self.skipped.bad += 1;
                            }
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
                        let decoded = match pcap_fast::plain(link, data) {
                            Some(packet) => Ok((Decoded::Packet(packet), None)),
                            None => decode(link, data),
                        };
                        match decoded {
                            Ok((decoded, datagram)) => {
                                if let (Decoded::Packet(packet), Some(datagram)) =
                                    (decoded, datagram)
                                {
                                    self.heads.remember(datagram, time, packet);
                                }
                                found = Some(Ok((time, decoded)));
                            }
                            Err(Why::Link) => {
                                self.skipped.link += 1;
                                self.unread_link = Some(link);
                            }
                            Err(Why::NotIp) => self.skipped.not_ip += 1,
                            Err(Why::Fragment(datagram)) => match self.heads.of(datagram, time) {
                                Some(packet) => found = Some(Ok((time, Decoded::Packet(packet)))),
                                None => self.skipped.fragments += 1,
                            },
                            Err(Why::IcmpOther) => self.skipped.icmp_other += 1,
                        }
                    }
                    used
                }
                Err(PcapError::Eof) => {
                    self.ended = true;
                    // a capture of nothing but links that are not read is none that can be used
                    let unread = self.unread_link.filter(|_| self.skipped.link == self.packets);
                    return unread.map(|link| Err(Fault::UnsupportedLinkType(link)));
                }
                Err(PcapError::Incomplete(_)) => {
                    // a refill that brings nothing: the capture ends in the middle of a block
                    let stuck =
                        self.refilled_at == Some(self.consumed) && self.reader.reader_exhausted();
                    self.refilled_at = Some(self.consumed);
                    if stuck || self.reader.refill().is_err() {
                        self.ended = true;
                        let known = self.failure.fault();
                        return Some(Err(known.unwrap_or(Fault::CaptureTruncated(self.packets))));
                    }
                    continue;
                }
                Err(PcapError::BufferTooSmall) => {
                    // room is made only for what there may be: a block of 100 octets may say that
                    // it has a million
                    if self.reader.refill().is_err() || self.reader.reader_exhausted() {
                        self.ended = true;
                        let known = self.failure.fault();
                        return Some(Err(known.unwrap_or(Fault::CaptureTruncated(self.packets))));
                    }
                    self.room *= 2;
                    if self.room > limits::BLOCK_OCTETS || !self.reader.grow(self.room) {
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
                    let known = self.failure.fault();
                    return Some(Err(known.unwrap_or(Fault::CaptureMalformed(text))));
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

fn version(major: u16, minor: u16) -> Fault {
    Fault::CaptureMalformed(format!("there is no version {major}.{minor} of its format"))
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

/// Ticks of a second by the option `if_tsresol`: a negative power of ten, or of two if the highest
/// bit is set.
fn ticks_of(option: Option<&u8>) -> u64 {
    match option {
        None => 1_000_000,
        Some(n) if n & 0x80 != 0 => {
            1u64.checked_shl(u32::from(n & 0x7f)).filter(|t| *t > 0).unwrap_or(1 << 63)
        }
        Some(n) => 10u64.checked_pow(u32::from(*n)).unwrap_or(10_000_000_000_000_000_000),
    }
}

impl Source for Capture {
    fn next(&mut self, clock: &mut Clock) -> Option<Result<Item, Located>> {
        let (device, interface) = self.seen_at;
        let item = self.next_decoded()?.and_then(|(at, decoded)| {
            let at = clock.absolute(at).ok_or_else(|| Fault::NegativeTime("a packet".into()))?;
            Ok(match decoded {
                Decoded::Packet(packet) => Item::Seen(Seen { at, device, interface, packet }),
                Decoded::Error(error) => Item::Error(SeenError { at, device, interface, error }),
            })
        });
        Some(item.map_err(|fault| (self.packets, fault)))
    }

    fn fill(&mut self, clock: &mut Clock, batch: &mut Vec<Item>, most: usize) {
        let (device, interface) = self.seen_at;
        self.take_usual(|at, packet| {
            if batch.len() >= most {
                return false;
            }
            let at = clock.absolute(at);
            batch.extend(at.map(|at| Item::Seen(Seen { at, device, interface, packet })));
            at.is_some()
        });
    }

    fn skipped(&self) -> Skipped {
        self.skipped
    }
}
