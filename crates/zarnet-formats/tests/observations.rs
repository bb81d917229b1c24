//! What every place on a way would record, read back by somebody else's parser.

use std::path::Path;
use std::sync::Arc;

use etherparse::{NetSlice, SlicedPacket, TransportSlice};
use pcap_parser::Block;
use pcap_parser::traits::PcapReaderIterator;
use zarnet_core::predict::{ObservationPoint, Rehearsal};
use zarnet_formats::capture_of;
use zarnet_formats::plan::from_text;

const PLAN: &str = r#"
[[segment]]
name = "world"
internet = true
[[host]]
name = "desk"
address = "10.0.0.5/24"
gateway = "10.0.0.1"
[[host]]
name = "six"
address = "fd00::5/64"
gateway = "fd00::1"
[[device]]
name = "edge"
  [[device.interface]]
  name = "hall"
  realm = "internal"
  address = ["10.0.0.1/24", "fd00::1/64"]
  [[device.interface]]
  name = "street"
  realm = "external"
  segment = "world"
  address = ["192.0.2.1/28", "2001:db8:1::1/48"]
  [[device.route]]
  to = "0.0.0.0/0"
  via = "192.0.2.14"
  [[device.route]]
  to = "::/0"
  via = "2001:db8:1::e"
  [[device.rule]]
  name = "six"
  type = "static"
  internal = "fd00::/64"
  external = "2001:db8:1:7::/64"
  [[device.rule]]
  name = "out"
  type = "overload"
  source = "10.0.0.0/24"
  as = "street"
"#;

/// Names of interfaces, and interface, time and frame of each packet.
type Read = (Vec<String>, Vec<(usize, u64, Vec<u8>)>);

fn recorded(flow: &str) -> Read {
    let text = format!("{PLAN}\n[[expect]]\nflow = \"{flow}\"\n");
    let plan = Arc::new(from_text(Path::new("plan.toml"), text).map_err(|_| flow).unwrap().plan);
    let wanted = plan.expectations[0].flow;
    let file = capture_of(&Rehearsal::new(plan, 0).follow(&wanted), |at| match at {
        ObservationPoint::Client => "client".into(),
        ObservationPoint::Server => "server".into(),
        ObservationPoint::Interface(_, i) => format!("edge/{}", ["hall", "street"][i.index()]),
    });
    let (mut names, mut packets) = (Vec::new(), Vec::new());
    let mut reader = pcap_parser::PcapNGReader::new(65_536, file.as_slice()).unwrap();
    loop {
        match reader.next() {
            Ok((used, block)) => {
                match block {
                    pcap_parser::PcapBlockOwned::NG(Block::InterfaceDescription(b)) => {
                        assert_eq!((b.if_tsresol, b.linktype.0), (9, 1));
                        names.extend(b.if_name().map(|n| n.unwrap().to_owned()));
                    }
                    pcap_parser::PcapBlockOwned::NG(Block::EnhancedPacket(b)) => {
                        let at = u64::from(b.ts_high) << 32 | u64::from(b.ts_low);
                        assert_eq!(b.caplen, b.origlen);
                        packets.push((b.if_id as usize, at, b.data[..b.caplen as usize].to_vec()));
                    }
                    _ => {}
                }
                reader.consume(used);
            }
            Err(pcap_parser::PcapError::Eof) => return (names, packets),
            Err(pcap_parser::PcapError::Incomplete(_)) => reader.refill().unwrap(),
            Err(error) => panic!("{error:?}"),
        }
    }
}

/// `SOURCE > DESTINATION`, after every checksum and length in the frame was found to be right.
fn checked(frame: &[u8]) -> String {
    let packet = SlicedPacket::from_ethernet(frame).unwrap();
    let (source, destination): (std::net::IpAddr, std::net::IpAddr) =
        match packet.net.as_ref().unwrap() {
            NetSlice::Ipv4(ip) => {
                let header = ip.header().to_header();
                assert_eq!(header.header_checksum, header.calc_header_checksum());
                (header.source.into(), header.destination.into())
            }
            NetSlice::Ipv6(ip) => {
                (ip.header().source_addr().into(), ip.header().destination_addr().into())
            }
            NetSlice::Arp(_) => return "arp".into(),
        };
    let sum =
        |tcp: Option<(etherparse::TcpHeader, &[u8])>,
         udp: Option<(etherparse::UdpHeader, &[u8])>| match (source, destination) {
            (std::net::IpAddr::V4(a), std::net::IpAddr::V4(b)) => tcp
                .map(|(h, p)| h.calc_checksum_ipv4_raw(a.octets(), b.octets(), p).unwrap())
                .or(udp.map(|(h, p)| h.calc_checksum_ipv4_raw(a.octets(), b.octets(), p).unwrap())),
            (std::net::IpAddr::V6(a), std::net::IpAddr::V6(b)) => tcp
                .map(|(h, p)| h.calc_checksum_ipv6_raw(a.octets(), b.octets(), p).unwrap())
                .or(udp.map(|(h, p)| h.calc_checksum_ipv6_raw(a.octets(), b.octets(), p).unwrap())),
            _ => unreachable!(),
        };
    match packet.transport {
        Some(TransportSlice::Tcp(tcp)) => {
            let header = tcp.to_header();
            assert_eq!(Some(header.checksum), sum(Some((header.clone(), tcp.payload())), None));
            let flags = [(header.syn, "S"), (header.ack, "A")]
                .iter()
                .filter(|f| f.0)
                .map(|f| f.1)
                .collect::<String>();
            format!(
                "{source}:{} > {destination}:{} {flags}",
                header.source_port, header.destination_port
            )
        }
        Some(TransportSlice::Udp(udp)) => {
            let header = udp.to_header();
            assert_eq!(Some(header.checksum), sum(None, Some((header.clone(), udp.payload()))));
            format!("{source}:{} > {destination}:{}", header.source_port, header.destination_port)
        }
        Some(TransportSlice::Icmpv4(icmp)) => {
            let header = icmp.header();
            assert_eq!(header.checksum, header.icmp_type.calc_checksum(icmp.payload()));
            format!("{source} > {destination}")
        }
        _ => format!("{source} > {destination}"),
    }
}

#[test]
fn a_connection_is_recorded_at_every_place() {
    let (names, packets) = recorded("desk:5000 -> 198.51.100.1:80/tcp");
    assert_eq!(names, ["client", "edge/hall", "edge/street", "server"]);
    let told: Vec<String> =
        packets.iter().map(|(i, _, f)| format!("{} {}", names[*i], checked(f))).collect();
    assert_eq!(
        told,
        [
            "client 10.0.0.5:5000 > 198.51.100.1:80 S",
            "edge/hall 10.0.0.5:5000 > 198.51.100.1:80 S",
            "edge/street 192.0.2.1:5000 > 198.51.100.1:80 S",
            "server 192.0.2.1:5000 > 198.51.100.1:80 S",
            "server 198.51.100.1:80 > 192.0.2.1:5000 SA",
            "edge/street 198.51.100.1:80 > 192.0.2.1:5000 SA",
            "edge/hall 198.51.100.1:80 > 10.0.0.5:5000 SA",
            "client 198.51.100.1:80 > 10.0.0.5:5000 SA",
            "client 10.0.0.5:5000 > 198.51.100.1:80 A",
            "edge/hall 10.0.0.5:5000 > 198.51.100.1:80 A",
            "edge/street 192.0.2.1:5000 > 198.51.100.1:80 A",
            "server 192.0.2.1:5000 > 198.51.100.1:80 A",
        ]
    );
    assert!(packets.windows(2).all(|p| p[0].1 < p[1].1), "times go forward");
}

#[test]
fn every_protocol_makes_frames_that_others_can_read() {
    for (flow, wanted) in [
        ("desk:5000 -> 198.51.100.1:53/udp", "192.0.2.1:5000 > 198.51.100.1:53"),
        ("desk:7 -> 198.51.100.1/icmp", "192.0.2.1 > 198.51.100.1"),
        ("desk -> 198.51.100.1/gre", "192.0.2.1 > 198.51.100.1"),
        ("desk:5000 -> 198.51.100.1:9/sctp", "192.0.2.1 > 198.51.100.1"),
        ("desk:5000 -> 198.51.100.1:9/dccp", "192.0.2.1 > 198.51.100.1"),
        ("six:5000 -> [2001:db8:2::1]:53/udp", "2001:db8:1:7:"),
    ] {
        let (names, packets) = recorded(flow);
        let server = names
            .iter()
            .position(|n| n == "server")
            .unwrap_or_else(|| panic!("{flow} does not arrive"));
        let arrived = packets.iter().find(|p| p.0 == server).unwrap();
        let told = checked(&arrived.2);
        assert!(told.starts_with(wanted), "{flow}: {told}");
    }
}

/// Where nobody answers for the next address, the question is all that goes out.
#[test]
fn an_unanswered_question_is_recorded_instead_of_the_packet() {
    let (names, packets) = recorded("198.51.100.1 -> 10.0.0.5:80/tcp");
    assert_eq!((names, packets.len()), (vec!["client".to_owned()], 1));
    let (names, packets) = recorded("desk -> 10.0.0.99:80/tcp");
    assert_eq!(names, ["client"]);
    assert_eq!(packets.iter().map(|p| checked(&p.2)).collect::<Vec<_>>(), ["arp"]);
}
