//! What nearly every capture consists of, read where it lies: records in the order of octets of
//! this machine's kind, and in them whole IPv4 packets. Anything else is left to the careful
//! reader.

use std::net::IpAddr;

use zarnet_core::net::{Endpoint, Packet, Protocol, Signal, Tuple};

use super::decode::tcp_signal;
use super::wire::Wire;

/// How the records of a capture are written, least octet first.
#[derive(Debug, Clone, Copy)]
pub(super) enum Records {
    /// One after the other, all from one wire.
    Classic,
    /// Blocks of a pcapng section.
    Blocks,
}

/// The type of a block that holds a packet and tells its wire.
const ENHANCED_PACKET: u32 = 6;

impl Records {
    /// The record that `data` begins with, if it is whole and holds a plain packet: its length in
    /// octets, the time in nanoseconds since the epoch, and the packet.
    #[inline(always)]
    pub(super) fn usual(self, data: &[u8], wires: &[Wire]) -> Option<(usize, i128, Packet)> {
        match self {
            Self::Classic => {
                let [seconds, part, length, _] = words(data.first_chunk()?);
                let wire = wires.first()?;
                let length = length as usize;
                let packet = plain(wire.link, data.get(16..16usize.checked_add(length)?)?)?;
                let scale = if wire.ticks == 1_000_000 { 1000 } else { 1 };
                let time = u64::from(seconds) * 1_000_000_000 + u64::from(part) * scale;
                Some((16 + length, time.into(), packet))
            }
            Self::Blocks => {
                let [kind, block, wire, high] = words(data.first_chunk()?);
                let [low, length, ..] = words(data.get(16..)?.first_chunk()?);
                let (block, length) = (block as usize, length as usize);
                // no options, and the length again at the end
                let padded = length.checked_next_multiple_of(4)?;
                let again = data.get(28 + padded..)?.first_chunk()?;
                if kind != ENHANCED_PACKET
                    || block != 32 + padded
                    || u32::from_le_bytes(*again) as usize != block
                {
                    return None;
                }
                let wire = wires.get(wire as usize)?;
                let packet = plain(wire.link, &data[28..28 + length])?;
                Some((block, wire.time(u64::from(high) << 32 | u64::from(low)), packet))
            }
        }
    }
}

fn words(octets: &[u8; 16]) -> [u32; 4] {
    let word =
        |i: usize| u32::from_le_bytes([octets[i], octets[i + 1], octets[i + 2], octets[i + 3]]);
    [word(0), word(4), word(8), word(12)]
}

/// What nearly every frame holds: TCP, UDP or an echo in a whole IPv4 header without options, on
/// Ethernet or without a link header. Anything else is left to the careful reading.
#[inline(always)]
pub(super) fn plain(link: i32, data: &[u8]) -> Option<Packet> {
    let ip = match link {
        1 if data.get(12..14)? == [8, 0] => &data[14..],
        101 | 228 => data,
        _ => return None,
    };
    let header: &[u8; 40] = ip.get(..40)?.try_into().ok()?;
    let word = |at: usize| u16::from_be_bytes([header[at], header[at + 1]]);
    let length = usize::from(word(2));
    // version 4 and five words; no fragment; as long as it says, and long enough for a TCP header
    if header[0] != 0x45 || word(6) & 0x3FFF != 0 || length > ip.len() || length < 40 {
        return None;
    }
    let protocol = Protocol(header[9]);
    let (tcp, udp) = (protocol == Protocol::TCP, protocol == Protocol::UDP);
    if !(tcp | udp) {
        let is_echo = protocol == Protocol::ICMP && header[20] & !8 == 0;
        return is_echo.then(|| echo(header));
    }
    if tcp & (header[32] >> 4 < 5) {
        return None;
    }
    // of UDP, what stands where TCP has its flags counts for nothing: which of the two comes next
    // is hard to guess
    let signal = SIGNALS[usize::from(header[33] & if tcp { 0x1F } else { 0 })];
    let (source, destination) = (end(header, 12, word(20)), end(header, 16, word(22)));
    Some(Packet { protocol, signal, ends: Tuple { source, destination } })
}

/// What the flags of a TCP header say.
const SIGNALS: [Signal; 32] = {
    let mut signals = [Signal::Plain; 32];
    let mut flags = 0;
    while flags < 32 {
        signals[flags] =
            tcp_signal(flags & 4 != 0, flags & 2 != 0, flags & 16 != 0, flags & 1 != 0);
        flags += 1;
    }
    signals
};

fn end(header: &[u8; 40], at: usize, port: u16) -> Endpoint {
    let address = [header[at], header[at + 1], header[at + 2], header[at + 3]];
    Endpoint { address: IpAddr::V4(address.into()), port }
}

/// An echo query or its reply (RFC 792): the identifier stands on the side that asked.
fn echo(header: &[u8; 40]) -> Packet {
    let id = u16::from_be_bytes([header[24], header[25]]);
    let (signal, from, to) =
        if header[20] == 8 { (Signal::Query, id, 0) } else { (Signal::Reply, 0, id) };
    Packet {
        protocol: Protocol::ICMP,
        signal,
        ends: Tuple { source: end(header, 12, from), destination: end(header, 16, to) },
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::super::decode::{Decoded, decode};
    use super::*;

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(4000))]

        /// What is read the short way is read the same the careful way.
        #[test]
        fn plain_frames_mean_the_same_both_ways(
            mut rest in proptest::collection::vec(any::<u8>(), 20..60),
            protocol in prop_oneof![Just(6u8), Just(17), Just(1)],
            first in prop_oneof![9 => Just(0x45u8), 1 => any::<u8>()],
            length in 20u8..80,
            fragment in prop_oneof![9 => Just(0u16), 1 => any::<u16>()],
            words in prop_oneof![9 => Just(0x50u8), 1 => any::<u8>()],
        ) {
            if protocol == 6 && rest.len() > 12 {
                rest[12] = words;
            }
            let [high, low] = fragment.to_be_bytes();
            let ip = [
                first, 0, 0, length, 0, 1, high, low, 64, protocol, 0, 0, 10, 0, 0, 5, 198, 51,
                100, 53,
            ];
            let data = [&[2, 0, 0, 0, 0, 1, 2, 0, 0, 0, 0, 2, 8, 0][..], &ip, &rest].concat();
            if let Some(packet) = plain(1, &data) {
                prop_assert_eq!(decode(1, &data), Ok((Decoded::Packet(packet), None)));
            }
        }
    }
}
