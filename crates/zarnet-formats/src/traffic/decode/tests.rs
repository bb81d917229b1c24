//! Frames against the library that reads headers one by one.

use etherparse::{NetSlice, PacketBuilder, SlicedPacket, TransportSlice};
use proptest::prelude::*;

use super::*;

/// An IPv6 packet with these extension headers, each told by its number and its octets from the
/// second on.
fn extended(headers: &[(u8, Vec<u8>)], last: u8, payload: &[u8]) -> Vec<u8> {
    let mut data = vec![0x60, 0, 0, 0, 0, 0, headers.first().map_or(last, |h| h.0), 64];
    data.extend([0x20, 1, 0xd, 0xb8, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 1]);
    data.extend([0x20, 1, 0xd, 0xb8, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 2]);
    for (i, (_, octets)) in headers.iter().enumerate() {
        data.push(headers.get(i + 1).map_or(last, |h| h.0));
        data.extend(octets);
    }
    data.extend(payload);
    data
}

#[test]
fn extension_headers_are_walked_to_the_transport() {
    let udp = [0x27, 0x10, 0, 53, 0, 8, 0, 0];
    let options = (0u8, vec![0; 7]);
    let routing = (43u8, [vec![1], vec![0; 14]].concat());
    let data = extended(&[options.clone(), routing, options], 17, &udp);
    let Ok((Decoded::Packet(packet), None)) = decode(101, &data) else { panic!() };
    assert_eq!(
        (packet.protocol, packet.source().port, packet.destination().port),
        (Protocol::UDP, 10000, 53)
    );
}

#[test]
fn a_later_fragment_of_ipv6_is_told_with_its_datagram() {
    let fragment =
        |offset: u16| (44u8, [&[0][..], &offset.to_be_bytes(), &7u32.to_be_bytes()].concat());
    let udp = [0x27, 0x10, 0, 53, 0, 8, 0, 0];
    let Err(Why::Fragment(later)) = decode(101, &extended(&[fragment(9)], 17, &udp)) else {
        panic!()
    };
    let Ok((_, Some(first))) = decode(101, &extended(&[fragment(1)], 17, &udp)) else { panic!() };
    assert_eq!((first, later.3), (later, 7));
    assert!(
        matches!(decode(101, &extended(&[fragment(0)], 17, &udp)), Ok((_, None))),
        "atomic: RFC 6946"
    );
}

#[test]
fn tags_and_sessions_of_a_link_are_passed() {
    let builder = PacketBuilder::ipv4([10, 0, 0, 5], [198, 51, 100, 53], 64).udp(1000, 53);
    let mut ip = Vec::new();
    builder.write(&mut ip, &[]).unwrap();
    let ethernet =
        |between: &[u8]| [&[2, 0, 0, 0, 0, 1, 2, 0, 0, 0, 0, 2], between, &ip[..]].concat();
    let plain = decode(1, &ethernet(&[8, 0])).unwrap();
    let tagged = [0x88, 0xa8, 0, 7, 0x81, 0, 0, 9, 8, 0];
    assert_eq!(decode(1, &ethernet(&tagged)).unwrap(), plain);
    let session = [0x88, 0x64, 0x11, 0, 0, 1, 0, 30, 0, 0x21];
    assert_eq!(decode(1, &ethernet(&session)).unwrap(), plain);
    assert_eq!(decode(1, &ethernet(&[0x08, 0x06])), Err(Why::NotIp));
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(4_000))]

    /// Any octets on any link are read or refused.
    #[test]
    fn any_frame_is_read_or_refused(
        link in prop_oneof![Just(1), Just(12), Just(0), Just(113), Just(276), any::<i32>()],
        head in prop_oneof![
            Just(vec![]),
            Just(vec![0x60]),
            Just(vec![0x45]),
            Just([&[0; 12][..], &[0x86, 0xdd, 0x60]].concat()),
        ],
        rest in proptest::collection::vec(
            prop_oneof![Just(0u8), Just(44), Just(43), Just(51), Just(60), any::<u8>()],
            0..120,
        ),
    ) {
        let _ = decode(link, &[head, rest].concat());
    }

    /// What a strict reader finds in a frame is found here too.
    #[test]
    fn a_strict_reader_finds_the_same(
        mut data in proptest::collection::vec(any::<u8>(), 54..90),
        v6: bool,
        protocol in 0u8..60,
        length in 0u16..60,
    ) {
        data[12..14].copy_from_slice(if v6 { &[0x86, 0xdd] } else { &[8, 0] });
        data[14] = if v6 { 0x60 } else { 0x45 };
        let at = if v6 { 18 } else { 16 };
        data[at..at + 2].copy_from_slice(&length.to_be_bytes());
        data[if v6 { 20 } else { 23 }] = protocol;
        let Ok(strict) = SlicedPacket::from_ethernet(&data) else { return Ok(()) };
        let (source, number) = match strict.net {
            Some(NetSlice::Ipv4(ip)) => {
                (ip.header().source_addr().into(), ip.payload_ip_number().0)
            }
            Some(NetSlice::Ipv6(ip)) => {
                (ip.header().source_addr().into(), ip.payload().ip_number.0)
            }
            _ => return Ok(()),
        };
        let ports = match &strict.transport {
            Some(TransportSlice::Tcp(t)) => (t.source_port(), t.destination_port()),
            Some(TransportSlice::Udp(u)) => (u.source_port(), u.destination_port()),
            _ => return Ok(()),
        };
        let Ok((Decoded::Packet(packet), _)) = decode(1, &data) else {
            panic!("nothing is found")
        };
        let found = packet.source();
        prop_assert_eq!(
            (found.address, found.port, packet.destination().port),
            (source, ports.0, ports.1)
        );
        prop_assert_eq!(packet.protocol.0, number);
    }
}
