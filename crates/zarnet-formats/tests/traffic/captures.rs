//! Captures, of every kind and damaged ones.

use zarnet_core::net::{Protocol, Signal};
use zarnet_core::traffic::{Batches, Item};
use zarnet_formats::traffic::{Attempt, TrafficError};

use super::{open, read};

/// An Ethernet frame with a UDP datagram.
fn frame() -> Vec<u8> {
    let mut f = vec![2, 0, 0, 0, 0, 1, 2, 0, 0, 0, 0, 2, 8, 0];
    f.extend([0x45, 0, 0, 28, 0, 0, 0, 0, 64, 17, 0, 0, 10, 0, 0, 5, 198, 51, 100, 53]);
    f.extend([0x13, 0x88, 0, 53, 0, 8, 0, 0]);
    f
}

/// The same as long as most are, which is read the short way.
fn long_frame() -> Vec<u8> {
    let mut f = frame();
    f[17] = 60;
    f.resize(14 + 60, 0);
    f
}

fn pcap(magic: u32, link: u32, frames: &[(u32, u32, Vec<u8>)]) -> Vec<u8> {
    let mut out = Vec::new();
    out.extend(magic.to_le_bytes());
    out.extend([2, 0, 4, 0]);
    out.extend([0; 8]);
    out.extend(65_535u32.to_le_bytes());
    out.extend(link.to_le_bytes());
    for (seconds, part, data) in frames {
        for n in [*seconds, *part, data.len() as u32, data.len() as u32] {
            out.extend(n.to_le_bytes());
        }
        out.extend(data);
    }
    out
}

/// One interface with a resolution of its own.
fn pcapng(resolution: u8, ticks: &[u64]) -> Vec<u8> {
    let block = |kind: u32, body: Vec<u8>| {
        let length = (body.len() + 12) as u32;
        [&kind.to_le_bytes()[..], &length.to_le_bytes(), &body, &length.to_le_bytes()].concat()
    };
    let section = [&0x1A2B_3C4Du32.to_le_bytes()[..], &[1, 0, 0, 0], &[0xff; 8]].concat();
    let interface =
        [&[1, 0, 0, 0][..], &65_535u32.to_le_bytes(), &[9, 0, 1, 0, resolution, 0, 0, 0], &[0; 4]]
            .concat();
    let mut out = [block(0x0A0D_0D0A, section), block(1, interface)].concat();
    for t in ticks {
        let mut data = if t % 3 == 0 { frame() } else { long_frame() };
        let length = data.len() as u32;
        data.resize(data.len().next_multiple_of(4), 0);
        let head = [0, (t >> 32) as u32, *t as u32, length, length].map(u32::to_le_bytes).concat();
        out.extend(block(6, [head, data].concat()));
    }
    out
}

fn packets(contents: &[u8]) -> Vec<(u64, zarnet_core::net::Packet)> {
    let items = read(contents, Attempt::Streaming).unwrap();
    let seen = |i| if let Item::Seen(s) = i { (s.at.0, s.packet) } else { panic!() };
    items.into_iter().map(seen).collect()
}

#[test]
fn captures_of_every_kind_give_the_same_packets() {
    let cooked = [&[0, 0, 0, 1, 0, 6, 2, 0, 0, 0, 0, 1, 0, 0, 8, 0][..], &frame()[14..]].concat();
    let cooked2 =
        [&[8, 0, 0, 0, 0, 0, 0, 1, 0, 1, 0, 6, 2, 0, 0, 0, 0, 1, 0, 0][..], &frame()[14..]]
            .concat();
    let later = |part| vec![(1_700_000_000, 0), (1_700_000_001, part)];
    let two = |data: &[u8], part| {
        later(part).into_iter().map(|(s, p)| (s, p, data.to_vec())).collect::<Vec<_>>()
    };
    let second = 1_700_000_000u64;
    let forms = [
        ("microseconds", pcap(0xa1b2_c3d4, 1, &two(&frame(), 500_000))),
        ("nanoseconds", pcap(0xa1b2_3c4d, 1, &two(&frame(), 500_000_000))),
        ("raw IP", pcap(0xa1b2_c3d4, 101, &two(&frame()[14..], 500_000))),
        ("cooked", pcap(0xa1b2_c3d4, 113, &two(&cooked, 500_000))),
        ("cooked, second form", pcap(0xa1b2_c3d4, 276, &two(&cooked2, 500_000))),
        ("pcapng, microseconds", pcapng(6, &[second * 1_000_000, second * 1_000_000 + 1_500_000])),
        (
            "pcapng, nanoseconds",
            pcapng(9, &[second * 1_000_000_000, second * 1_000_000_000 + 1_500_000_000]),
        ),
        ("pcapng, binary fractions", pcapng(0x80 | 10, &[second << 10, (second << 10) + 1536])),
    ];
    for (name, contents) in forms {
        let packets = packets(&contents);
        assert_eq!(packets.iter().map(|p| p.0).collect::<Vec<_>>(), [0, 1_500_000_000], "{name}");
        let p = packets[0].1;
        assert_eq!((p.protocol, p.signal), (Protocol::UDP, Signal::Plain), "{name}");
        assert_eq!(p.ends.to_string(), "10.0.0.5:5000 -> 198.51.100.53:53", "{name}");
    }
}

#[test]
fn damaged_captures_are_told_and_read_as_far_as_they_go() {
    let good = pcap(0xa1b2_c3d4, 1, &[(5, 0, frame()), (6, 0, frame()), (7, 0, frame())]);
    for cut in 1..good.len() {
        // whatever is cut off, there is an end and no panic
        let outcome = read(&good[..cut], Attempt::Streaming);
        let names = ["capture-truncated", "capture-malformed", "unknown-format", "empty-file"];
        assert!(outcome.as_ref().err().is_none_or(|e| names.contains(&e.1)), "{cut}: {outcome:?}");
    }
    assert_eq!(
        read(&good[..good.len() - 5], Attempt::Streaming),
        Err((Some(2), "capture-truncated"))
    );
    let (traffic, _file) = open(&good[..good.len() - 5], true).unwrap();
    assert_eq!(traffic.items(Attempt::Streaming).filter(Result::is_ok).count(), 2);
    // other things on the wire are passed over and counted
    let arp = [&[0xff; 12][..], &[8, 6], &[0; 28]].concat();
    let mut fragment = frame();
    fragment[21] = 100;
    let mut unreachable = frame();
    (unreachable[23], unreachable[34]) = (1, 3);
    let mixed = pcap(
        0xa1b2_c3d4,
        1,
        &[(5, 0, arp), (6, 0, fragment), (7, 0, unreachable), (8, 0, frame())],
    );
    let (traffic, _file) = open(&mixed, false).unwrap();
    let mut items = traffic.items(Attempt::Streaming);
    assert_eq!(items.by_ref().count(), 1);
    let skipped = items.skipped();
    assert_eq!((skipped.not_ip, skipped.fragments, skipped.icmp_other), (1, 1, 1));
}

/// Read many at a time or one by one, usual lines and frames among unusual ones, passed over or
/// wrong: it is the same.
#[test]
fn batches_hold_what_comes_one_by_one() {
    let line = |n: usize| match n % 9 {
        0 => format!("{n}.5,\"tcp\",10.0.0.5,{n},198.51.100.80,443,2"), // quoted
        1 => format!("{n},gre,10.0.0.5,,198.51.100.80,,2"),
        2 => format!("{n}.12345678,icmp,10.0.0.{},{n},198.51.100.200,,86399.99999999", n % 200),
        3 => format!("# {n}\n\n{n},udp,kiosk-1,{n},198.51.100.53,53,"),
        _ => format!("{n}.001,tcp,10.0.0.5,{n},198.51.100.80,443,0.25"),
    };
    let list = |lines: &[String]| {
        format!(
            "start,protocol,source,source-port,destination,destination-port,lasts\n{}",
            lines.join("\n")
        )
    };
    let mut lines: Vec<String> = (1..5000).map(line).collect();
    let whole = list(&lines);
    lines[3000] = "12,tcp,10.0.0.500,1,198.51.100.80,443,1".into();
    let wrong = list(&lines);
    let usual = long_frame();
    let odd = |n: u32| match n % 7 {
        3 => usual[..30].to_vec(),
        5 => frame(),
        _ => usual.clone(),
    };
    let frames: Vec<(u32, u32, Vec<u8>)> = (0..400).map(|n| (5 + n, n, odd(n))).collect();
    let (capture, nanoseconds) = (pcap(0xa1b2_c3d4, 1, &frames), pcap(0xa1b2_3c4d, 1, &frames));
    let blocks = pcapng(6, &(0..300).collect::<Vec<u64>>());
    for (contents, skip_bad) in [
        (whole.as_bytes(), false),
        (wrong.as_bytes(), false),
        (wrong.as_bytes(), true),
        (&capture, false),
        (&capture[..capture.len() - 9], false),
        (&nanoseconds, false),
        (&blocks, false),
    ] {
        let Ok((traffic, _file)) = open(contents, skip_bad) else { continue };
        let told = |e: TrafficError| (e.line, e.fault.name());
        let mut single = traffic.items(Attempt::Streaming);
        let one_by_one: Vec<Result<Item, _>> = single.by_ref().map(|i| i.map_err(told)).collect();
        assert!(one_by_one.len() > 200);
        for most in [1, 7, 32] {
            let (mut items, mut all, mut batch) =
                (traffic.items(Attempt::Streaming), Vec::new(), Vec::new());
            loop {
                batch.clear();
                let error = items.fill(&mut batch, most);
                all.extend(batch.iter().map(|item| Ok(*item)));
                all.extend(error.map(told).map(Err));
                if batch.len() < most {
                    break;
                }
            }
            assert_eq!(all, one_by_one);
            assert_eq!(items.skipped(), single.skipped());
        }
    }
}

/// RFC 4787 §11 REQ-14: fragments belong to the datagram whose first they follow.
#[test]
fn fragments_go_with_their_first() {
    let part = |offset: u16, more: bool, id: u8| {
        let mut f = frame();
        let field = (offset / 8) | if more { 0x2000 } else { 0 };
        f[19] = id;
        [f[20], f[21]] = field.to_be_bytes();
        f
    };
    let capture = [
        (5, 0, part(1480, false, 1)), // before its first
        (5, 1, part(0, true, 1)),
        (5, 2, part(2960, false, 1)),  // behind it
        (5, 3, part(1480, false, 2)),  // of another datagram
        (70, 0, part(1480, false, 1)), // long after it
    ];
    let (traffic, _file) = open(&pcap(0xa1b2_c3d4, 1, &capture), false).unwrap();
    let mut items = traffic.items(Attempt::Streaming);
    let seen: Vec<String> = items
        .by_ref()
        .map(
            |i| if let Ok(Item::Seen(s)) = i { s.packet.ends.to_string() } else { panic!("{i:?}") },
        )
        .collect();
    assert_eq!(seen, ["10.0.0.5:5000 -> 198.51.100.53:53"; 2]);
    assert_eq!(items.skipped().fragments, 3);
}

/// RFC 5508 §4.1 REQ-3b: options of the embedded header are stepped over. What is cut too short is
/// no error about anything.
#[test]
fn icmp_errors_are_read_whatever_the_embedded_header() {
    let error = |kind: u8, words: u8, protocol: u8, inner: &[u8]| {
        let mut f = frame();
        f.truncate(34);
        f[23] = 1;
        f.extend([kind, 3, 0, 0, 0, 0, 0, 0]);
        f.extend([
            0x40 | words,
            0,
            0,
            28,
            0,
            0,
            0,
            0,
            64,
            protocol,
            0,
            0,
            198,
            51,
            100,
            53,
            10,
            0,
            0,
            5,
        ]);
        f.resize(f.len() + usize::from(words - 5) * 4, 0);
        f.extend(inner);
        let length = (f.len() - 14) as u16;
        [f[16], f[17]] = length.to_be_bytes();
        f
    };
    let ports = [0, 53, 0x13, 0x88, 0, 8, 0, 0];
    let capture = [
        (5, 0, error(3, 5, 17, &ports)),
        (5, 1, error(11, 7, 17, &ports)),
        (5, 2, error(12, 5, 1, &[0, 0, 0, 0, 0, 7, 0, 0])),
        (5, 3, error(3, 5, 47, &[])),
        (5, 4, error(3, 5, 17, &ports[..3])),
        (5, 5, error(5, 5, 17, &ports)),
    ];
    let (traffic, _file) = open(&pcap(0xa1b2_c3d4, 1, &capture), false).unwrap();
    let mut items = traffic.items(Attempt::Streaming);
    let about: Vec<String> = items
        .by_ref()
        .map(|i| {
            if let Ok(Item::Error(e)) = i {
                e.error.about.ends.to_string()
            } else {
                panic!("{i:?}")
            }
        })
        .collect();
    let udp = "198.51.100.53:53 -> 10.0.0.5:5000";
    assert_eq!(about, [udp, udp, "198.51.100.53 -> 10.0.0.5:7", "198.51.100.53 -> 10.0.0.5"]);
    assert_eq!(items.skipped().icmp_other, 2);
}
