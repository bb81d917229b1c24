//! What every place on the way of a conversation would record: a pcapng file with one interface for
//! each place. The frames are made up around the ends that a prediction knows; their lengths and
//! checksums are right. Read first: the pcapng specification (draft-ietf-opsawg-pcapng) §4.1 to
//! §4.3.

use std::net::IpAddr;

use etherparse::checksum::Sum16BitWords;
use etherparse::{
    ArpHardwareId, ArpOperation, ArpPacket, EtherType, IpHeaders, IpNumber, Ipv4Header,
    Ipv6FlowLabel, Ipv6Header, PacketBuilder,
};
use zarnet_core::net::{Instant, Packet, Protocol, Signal};
use zarnet_core::network::{Handover, Trace};
use zarnet_core::predict::{Followed, Observation, ObservationPoint};

/// A packet is seen at the next place so many nanoseconds later.
const STEP: u64 = 20_000;
/// Hops that a packet may make, as hosts send it.
const TTL: u8 = 64;

/// The file. `name` tells what a place is called.
pub fn capture_of(followed: &Followed, name: impl Fn(ObservationPoint) -> String) -> Vec<u8> {
    let ways = [
        (followed.at, followed.forth_observations(), Some(&followed.forth)),
        (followed.flow.answered_at(), followed.back_observations(), Some(&followed.back)),
        (Instant(followed.flow.answered_at().0 + 500_000), followed.confirm_observations(), None),
    ];
    let mut places: Vec<ObservationPoint> = Vec::new();
    for observation in ways.iter().flat_map(|w| &w.1) {
        if !places.contains(&observation.at) {
            places.push(observation.at);
        }
    }
    let mut file = Pcapng::new();
    places.iter().for_each(|p| file.interface(&name(*p)));
    for (start, observations, trace) in &ways {
        let mut ttl = TTL;
        for (i, observation) in observations.iter().enumerate() {
            let Some(here) = places.iter().position(|p| *p == observation.at) else { continue };
            let at = start.0 + i as u64 * STEP;
            // a device takes one off the hops that are left
            if i > 0 && !observation.incoming {
                ttl = ttl.saturating_sub(1);
            }
            let beside = match observation.incoming {
                true => i.checked_sub(1).map(|before| observations[before].at),
                false => observations.get(i + 1).map(|s| s.at),
            };
            let other = beside.and_then(|b| places.iter().position(|p| *p == b));
            let unanswered =
                trace.filter(|_| other.is_none() && !observation.incoming).and_then(unanswered);
            let frame = match unanswered {
                Some(address) => arp_request(mac(here), observation, address),
                None => {
                    let other = other.map_or([2, 0, 0, 0, 0xff, 0xff], mac);
                    let (from, to) =
                        if observation.incoming { (other, mac(here)) } else { (mac(here), other) };
                    frame(from, to, ttl, observation.packet)
                }
            };
            if let Some(frame) = frame {
                file.packet(here, at, &frame);
            }
        }
    }
    file.octets
}

/// The address that nobody answered for in the end.
fn unanswered(trace: &Trace) -> Option<IpAddr> {
    let last = trace.hops.last().map_or(trace.departure.as_slice(), |h| h.handed.as_slice());
    match last.last() {
        Some(Handover { address, to: None }) => Some(*address),
        _ => None,
    }
}

/// A locally administered address for a place.
fn mac(place: usize) -> [u8; 6] {
    [2, 0, 0, 0, (place / 256) as u8, (place % 256 + 1) as u8]
}

/// Who has `address`? Nothing else is sent where nobody says.
fn arp_request(from: [u8; 6], observation: &Observation, address: IpAddr) -> Option<Vec<u8>> {
    let (IpAddr::V4(sender), IpAddr::V4(target)) = (observation.packet.source().address, address)
    else {
        return None;
    };
    let request = ArpPacket::new(
        ArpHardwareId::ETHERNET,
        EtherType::IPV4,
        ArpOperation::REQUEST,
        &from,
        &sender.octets(),
        &[0; 6],
        &target.octets(),
    );
    let builder = PacketBuilder::ethernet2(from, [0xff; 6]).arp(request.ok()?);
    let mut frame = Vec::with_capacity(builder.size());
    builder.write(&mut frame).ok()?;
    Some(frame)
}

fn frame(from: [u8; 6], to: [u8; 6], ttl: u8, packet: Packet) -> Option<Vec<u8>> {
    let (source, destination) = (packet.source(), packet.destination());
    let number = IpNumber(packet.protocol.0);
    let ip = match (source.address, destination.address) {
        (IpAddr::V4(a), IpAddr::V4(b)) => {
            let header = Ipv4Header::new(0, ttl, number, a.octets(), b.octets()).ok()?;
            IpHeaders::Ipv4(header, Default::default())
        }
        (IpAddr::V6(a), IpAddr::V6(b)) => {
            let header = Ipv6Header {
                traffic_class: 0,
                flow_label: Ipv6FlowLabel::ZERO,
                payload_length: 0,
                next_header: number,
                hop_limit: ttl,
                source: a.octets(),
                destination: b.octets(),
            };
            IpHeaders::Ipv6(header, Default::default())
        }
        _ => return None,
    };
    let builder = PacketBuilder::ethernet2(from, to).ip(ip);
    let mut frame = Vec::new();
    let (asked, told) = (1_000, 5_000); // first sequence numbers of who asks and who answers
    match (packet.protocol, packet.signal) {
        (Protocol::TCP, signal) => {
            let sequence = match signal {
                Signal::Syn => asked,
                Signal::SynAck => told,
                Signal::Plain | Signal::Fin | Signal::Rst | Signal::Query | Signal::Reply => {
                    asked + 1
                }
            };
            let tcp = builder.tcp(source.port, destination.port, sequence, 65_535);
            let tcp = match signal {
                Signal::Syn => tcp.syn(),
                Signal::SynAck => tcp.syn().ack(asked + 1),
                Signal::Plain | Signal::Fin | Signal::Rst | Signal::Query | Signal::Reply => {
                    tcp.ack(told + 1)
                }
            };
            tcp.write(&mut frame, &[]).ok()?;
        }
        (Protocol::UDP, _) => {
            builder.udp(source.port, destination.port).write(&mut frame, &[]).ok()?
        }
        (Protocol::ICMP, Signal::Reply) => {
            builder.icmpv4_echo_reply(destination.port, 1).write(&mut frame, &[]).ok()?;
        }
        (Protocol::ICMP, _) => {
            builder.icmpv4_echo_request(source.port, 1).write(&mut frame, &[]).ok()?
        }
        (Protocol::ICMPV6, Signal::Reply) => {
            builder.icmpv6_echo_reply(destination.port, 1).write(&mut frame, &[]).ok()?;
        }
        (Protocol::ICMPV6, _) => {
            builder.icmpv6_echo_request(source.port, 1).write(&mut frame, &[]).ok()?
        }
        _ => builder.write(&mut frame, number, &payload(packet)).ok()?,
    }
    Some(frame)
}

/// The least that a protocol without a builder can carry: ports and a checksum where it has them.
fn payload(packet: Packet) -> Vec<u8> {
    let (from, to) = (packet.source(), packet.destination());
    let ports = [from.port.to_be_bytes(), to.port.to_be_bytes()].concat();
    match packet.protocol {
        Protocol::SCTP => {
            // RFC 9260 §3.1: ports, verification tag, checksum over the packet with zeros in its
            // place
            let mut header = [ports.as_slice(), &[0; 8]].concat();
            let sum = crc32c(&header);
            header[8..].copy_from_slice(&sum.to_le_bytes());
            header
        }
        Protocol::DCCP => {
            // RFC 4340 §5.1: a request (type 0) with long sequence numbers, of five words
            let mut header = [ports.as_slice(), &[5, 0, 0, 0, 1, 0, 0, 0], &[0; 8]].concat();
            let mut sum = Sum16BitWords::new().add_slice(&header);
            for end in [from.address, to.address] {
                sum = match end {
                    IpAddr::V4(a) => sum.add_slice(&a.octets()),
                    IpAddr::V6(a) => sum.add_slice(&a.octets()),
                };
            }
            let sum = sum
                .add_2bytes([0, packet.protocol.0])
                .add_2bytes((header.len() as u16).to_be_bytes());
            header[6..8].copy_from_slice(&sum.ones_complement().to_ne_bytes());
            header
        }
        _ => vec![0; 4],
    }
}

/// The checksum of SCTP: RFC 9260 appendix A.
fn crc32c(octets: &[u8]) -> u32 {
    let step = |crc: u32| if crc & 1 == 1 { crc >> 1 ^ 0x82f6_3b78 } else { crc >> 1 };
    !octets
        .iter()
        .fold(u32::MAX, |crc, octet| (0..8).fold(crc ^ u32::from(*octet), |crc, _| step(crc)))
}

/// A pcapng file in the making: little-endian, nanoseconds.
struct Pcapng {
    octets: Vec<u8>,
}

impl Pcapng {
    fn new() -> Self {
        let mut file = Self { octets: Vec::new() };
        let (magic, major, minor) = (0x1a2b_3c4d_u32, 1_u16, 0_u16);
        let body =
            [&magic.to_le_bytes()[..], &major.to_le_bytes(), &minor.to_le_bytes(), &[0xff; 8]]
                .concat();
        file.block(0x0a0d_0d0a, &body);
        file
    }

    fn block(&mut self, kind: u32, body: &[u8]) {
        let length = (body.len() as u32 + 12).to_le_bytes();
        let parts = [&kind.to_le_bytes()[..], &length, body, &length];
        self.octets.extend(parts.concat());
    }

    /// An Ethernet interface of this name.
    fn interface(&mut self, name: &str) {
        let (link, snap) = (1_u32.to_le_bytes(), 0_u32.to_le_bytes());
        // if_name, if_tsresol of ten to the minus nine, end of options
        let body =
            [&link[..], &snap, &option(2, name.as_bytes()), &option(9, &[9]), &[0; 4]].concat();
        self.block(1, &body);
    }

    fn packet(&mut self, interface: usize, at: u64, frame: &[u8]) {
        let length = (frame.len() as u32).to_le_bytes();
        let (high, low) = ((at >> 32) as u32, at as u32);
        let head = [
            (interface as u32).to_le_bytes(),
            high.to_le_bytes(),
            low.to_le_bytes(),
            length,
            length,
        ];
        self.block(6, &[&head.concat()[..], &padded(frame)].concat());
    }
}

fn option(code: u16, value: &[u8]) -> Vec<u8> {
    [&code.to_le_bytes()[..], &(value.len() as u16).to_le_bytes(), &padded(value)].concat()
}

fn padded(octets: &[u8]) -> Vec<u8> {
    let mut octets = octets.to_vec();
    octets.resize(octets.len().next_multiple_of(4), 0);
    octets
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The check value of the polynomial, over the nine digits.
    #[test]
    fn the_checksum_of_sctp_is_the_castagnoli_one() {
        assert_eq!(crc32c(b"123456789"), 0xe306_9283);
    }
}
