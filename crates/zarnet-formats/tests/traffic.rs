//! Flow lists, scenarios and captures, right and wrong.

use std::io::Write;
use std::net::IpAddr;
use std::path::Path;

use zarnet_core::event::Action;
use zarnet_core::net::{Instant, Protocol, Signal};
use zarnet_core::plan::{DeviceId, InterfaceId};
use zarnet_core::traffic::{Batches, Flow, Item, Party};
use zarnet_formats::plan::Loaded;
use zarnet_formats::traffic::{Attempt, Fault, Given, Reading, Traffic, TrafficError};

fn plan() -> Loaded {
    let text = r#"
[[host]]
name = "kiosk-1"
address = "10.0.0.5/24"
[[device]]
name = "edge"
  [[device.interface]]
  name = "floor"
  realm = "internal"
  address = "10.0.0.1/24"
  [[device.rule]]
  name = "all"
  type = "overload"
  as = "floor"
"#;
    zarnet_formats::plan::from_text(Path::new("p.toml"), text.into()).unwrap()
}

fn file(contents: &[u8]) -> tempfile::NamedTempFile {
    let mut file = tempfile::NamedTempFile::new().unwrap();
    file.write_all(contents).unwrap();
    file
}

fn open(contents: &[u8], skip_bad: bool) -> Result<(Traffic, tempfile::NamedTempFile), Vec<TrafficError>> {
    let file = file(contents);
    let given = [Given::File(file.path().into())];
    let seen_at = Some((DeviceId(0), InterfaceId(0)));
    Traffic::open(&given, &plan(), Reading { seen_at, skip_bad, ..Reading::default() }).map(|t| (t, file))
}

/// The items, or the first error by line and name.
fn read(contents: &[u8], attempt: Attempt) -> Result<Vec<Item>, (Option<u64>, &'static str)> {
    let (traffic, _file) = open(contents, false).map_err(|e| (e[0].line, e[0].fault.name()))?;
    traffic.items(attempt).map(|i| i.map_err(|e| (e.line, e.fault.name()))).collect()
}

fn flows(text: &str) -> Vec<Flow> {
    let items = read(text.as_bytes(), Attempt::Sorted).unwrap();
    items.into_iter().map(|i| if let Item::Flow(f) = i { f } else { panic!("{i:?}") }).collect()
}

#[test]
fn a_list_in_any_order_of_columns_with_what_people_put_into_lists() {
    let text = "\u{feff}# made by hand\r\nprotocol,source,start,destination,destination-port,ends\r\n\
                tcp,kiosk-1,1.5,198.51.100.80,443,silent\r\n\r\n\"udp\", 10.0.0.9 ,2m,198.51.100.53,53,\r\n\
                icmp,10.0.0.9,90s,198.51.100.53,,\r\n";
    let flows = flows(text);
    let starts: Vec<u64> = flows.iter().map(|f| f.start.0 / 1_000_000).collect();
    assert_eq!(starts, [1500, 90_000, 120_000], "sorted by start");
    assert!(matches!(flows[0].source, Party::Host(_)));
    assert_eq!(flows[2].source, Party::Address("10.0.0.9".parse().unwrap()));
    assert_eq!(flows[1].protocol, Protocol::ICMP);
}

#[test]
fn times_of_day_count_from_the_earliest() {
    let csv = "start,protocol,source,destination\n2026-05-01T08:00:10Z,gre,10.0.0.5,198.51.100.1\n2026-05-01T08:00:00+00:00,gre,10.0.0.5,198.51.100.1\n";
    let starts: Vec<Instant> = flows(csv).iter().map(|f| f.start).collect();
    assert_eq!(starts, [Instant(0), Instant(10_000_000_000)]);
}

#[test]
fn json_lines_have_the_same_names() {
    let text = "{\"start\": 3, \"protocol\": \"udp\", \"source\": \"kiosk-1\", \"destination\": \"198.51.100.53\", \"destination-port\": 53, \"lasts\": null}\n";
    let flows = flows(text);
    assert_eq!((flows[0].start, flows[0].destination_port), (Instant(3_000_000_000), Some(53)));
}

#[test]
fn packed_lists_are_read_as_they_are() {
    let text = "start,protocol,source,destination\n0,gre,10.0.0.5,198.51.100.1\n";
    let mut packer = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    packer.write_all(text.as_bytes()).unwrap();
    assert_eq!(read(&packer.finish().unwrap(), Attempt::Streaming).unwrap().len(), 1);
    let zst = ruzstd::encoding::compress_to_vec(text.as_bytes(), ruzstd::encoding::CompressionLevel::Fastest);
    assert_eq!(read(&zst, Attempt::Streaming).unwrap().len(), 1);
}

#[test]
fn what_is_wrong_is_told_with_its_line() {
    let head = "start,protocol,source,source-port,destination,destination-port,lasts,ends\n";
    let cases: [(&str, Option<u64>, &str); 16] = [
        ("0,tcp,10.0.0.5,1,198.51.100.1,70000,1,", Some(2), "bad-field"),
        ("0,tcp,10.0.0.500,1,198.51.100.1,80,1,", Some(2), "bad-field"),
        ("0,tcq,10.0.0.5,1,198.51.100.1,80,1,", Some(2), "bad-field"),
        ("soon,tcp,10.0.0.5,1,198.51.100.1,80,1,", Some(2), "bad-field"),
        ("-4,tcp,10.0.0.5,1,198.51.100.1,80,1,", Some(2), "negative-time"),
        ("0,tcp,10.0.0.5,1,198.51.100.1,80,-1,", Some(2), "negative-time"),
        ("0,tcp,kiosk-2,1,198.51.100.1,80,1,", Some(2), "unknown-host"),
        ("0,tcp,10.0.0.5,1,2001:db8::1,80,1,", Some(2), "mixed-families"),
        ("0,tcp,10.0.0.5,1,198.51.100.1,,1,", Some(2), "port-missing"),
        ("0,gre,10.0.0.5,,198.51.100.1,80,1,", Some(2), "port-not-possible"),
        ("0,tcp,10.0.0.5,1,198.51.100.1,80,1,abort", Some(2), "unknown-ending"),
        ("0,tcp,10.0.0.5,1,198.51.100.1,80,1", Some(2), "field-count"),
        ("0,tcp,10.0.0.5,1,198.51.100.1,80,1,,,", Some(2), "field-count"),
        ("0,tcp,,1,198.51.100.1,80,1,", Some(2), "missing-column"),
        ("0,tcp,10.0.0.5,1,198.51.100.1,80,1,\u{0}", Some(2), "unknown-ending"),
        ("\n\n0,tcp,x y,1,198.51.100.1,80,1,", Some(4), "unknown-host"),
    ];
    for (line, number, name) in cases {
        assert_eq!(read(format!("{head}{line}\n").as_bytes(), Attempt::Streaming), Err((number, name)), "{line}");
    }
    let whole: [(&[u8], &str); 8] = [
        (b"", "empty-file"),
        (b"\n# nothing\n", "empty-file"),
        (b"0,tcp,10.0.0.5,1,198.51.100.1,80\n", "header-missing"),
        (b"start,protocol,source,destination,destnation-port\n", "unknown-column"),
        (b"start,protocol,source\n", "missing-column"),
        (b"start,start,protocol,source,destination\n", "column-twice"),
        (b"\x7fELF\x02\x01\x01\xff\xfe", "unknown-format"),
        (b"hello there\n", "unknown-format"),
    ];
    for (contents, name) in whole {
        assert_eq!(read(contents, Attempt::Streaming).unwrap_err().1, name, "{contents:?}");
    }
    // a slip in a header names the nearest column
    let Err(errors) = open(b"start,protocol,sorce,destination\n", false).and_then(|(t, f)| {
        let (errors, _) = t.errors();
        drop(f);
        Err::<(), _>(errors)
    }) else {
        panic!()
    };
    assert_eq!(errors[0].fault, Fault::UnknownColumn { name: "sorce".into(), near: Some("source") });
}

#[test]
fn a_line_without_end_is_refused_and_can_be_passed_over() {
    let mut text = b"start,protocol,source,destination\n0,gre,10.0.0.5,198.51.100.1\n".to_vec();
    text.extend(std::iter::repeat_n(b'x', 100 << 20));
    text.extend(b"\n1,gre,10.0.0.5,198.51.100.1\n");
    assert_eq!(read(&text, Attempt::Streaming), Err((Some(3), "line-too-long")));
    let (traffic, _file) = open(&text, true).unwrap();
    let mut items = traffic.items(Attempt::Streaming);
    assert_eq!(items.by_ref().filter(Result::is_ok).count(), 2);
    assert_eq!(items.skipped().bad, 1);
}

#[test]
fn bad_lines_are_all_told_or_all_counted() {
    let mut text = String::from("start,protocol,source,destination\n");
    (0..30).for_each(|n| text += &format!("{n},gre,10.0.0.{},198.51.100.1\n", if n % 3 == 0 { 999 } else { 5 }));
    let (traffic, _file) = open(text.as_bytes(), false).unwrap();
    let (errors, count) = traffic.errors();
    assert_eq!((errors.len(), count), (10, 10));
    assert_eq!(errors.iter().filter_map(|e| e.line).take(3).collect::<Vec<_>>(), [2, 5, 8]);
    let (traffic, _file) = open(text.as_bytes(), true).unwrap();
    let mut items = traffic.items(Attempt::Streaming);
    assert_eq!(items.by_ref().count(), 20);
    assert_eq!(items.skipped().bad, 10);
}

#[test]
fn scenarios_hold_flows_and_events() {
    let text = r#"
[[flow]]
start = "1m"
protocol = "tcp"
source = "kiosk-1"
destination = "198.51.100.80"
destination-port = 443
round-trip = 0.2
[[event]]
at = 90
do = "disable"
rule = "all"
[[event]]
at = 30
do = "clear"
host = "kiosk-1"
"#;
    let (traffic, _file) = open(text.as_bytes(), false).unwrap();
    let events = traffic.events();
    assert_eq!(events.iter().map(|e| e.at.0 / 1_000_000_000).collect::<Vec<_>>(), [30, 90]);
    let Action::Clear(clearing) = &events[0].action else { panic!() };
    assert_eq!(clearing.host, Some(IpAddr::from([10, 0, 0, 5])));
    let Some(Ok(Item::Flow(flow))) = traffic.items(Attempt::Streaming).next() else { panic!() };
    assert_eq!(flow.round_trip, Some(200_000_000));
    // everything wrong at once, each with its line
    let wrong = "[[event]]\nat = -1\ndo = \"disable\"\nrule = \"al\"\n[[flow]]\nstart = 1\nprotocol = \"tcp\"\nsorce = \"x\"\n[[event]]\nat = 1\ndo = \"explode\"\n";
    let errors = open(wrong.as_bytes(), false).err().unwrap();
    let lines: Vec<Option<u64>> = errors.iter().map(|e| e.line).collect();
    assert!(errors.len() >= 4 && lines.contains(&Some(2)) && lines.contains(&Some(11)), "{errors:?}");
}

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
    let interface = [&[1, 0, 0, 0][..], &65_535u32.to_le_bytes(), &[9, 0, 1, 0, resolution, 0, 0, 0], &[0; 4]].concat();
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
    let cooked2 = [&[8, 0, 0, 0, 0, 0, 0, 1, 0, 1, 0, 6, 2, 0, 0, 0, 0, 1, 0, 0][..], &frame()[14..]].concat();
    let later = |part| vec![(1_700_000_000, 0), (1_700_000_001, part)];
    let two = |data: &[u8], part| later(part).into_iter().map(|(s, p)| (s, p, data.to_vec())).collect::<Vec<_>>();
    let second = 1_700_000_000u64;
    let forms = [
        ("microseconds", pcap(0xa1b2_c3d4, 1, &two(&frame(), 500_000))),
        ("nanoseconds", pcap(0xa1b2_3c4d, 1, &two(&frame(), 500_000_000))),
        ("raw IP", pcap(0xa1b2_c3d4, 101, &two(&frame()[14..], 500_000))),
        ("cooked", pcap(0xa1b2_c3d4, 113, &two(&cooked, 500_000))),
        ("cooked, second form", pcap(0xa1b2_c3d4, 276, &two(&cooked2, 500_000))),
        ("pcapng, microseconds", pcapng(6, &[second * 1_000_000, second * 1_000_000 + 1_500_000])),
        ("pcapng, nanoseconds", pcapng(9, &[second * 1_000_000_000, second * 1_000_000_000 + 1_500_000_000])),
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
    assert_eq!(read(&good[..good.len() - 5], Attempt::Streaming), Err((Some(2), "capture-truncated")));
    let (traffic, _file) = open(&good[..good.len() - 5], true).unwrap();
    assert_eq!(traffic.items(Attempt::Streaming).filter(Result::is_ok).count(), 2);
    // other things on the wire are passed over and counted
    let arp = [&[0xff; 12][..], &[8, 6], &[0; 28]].concat();
    let mut fragment = frame();
    fragment[21] = 100;
    let mut unreachable = frame();
    (unreachable[23], unreachable[34]) = (1, 3);
    let mixed = pcap(0xa1b2_c3d4, 1, &[(5, 0, arp), (6, 0, fragment), (7, 0, unreachable), (8, 0, frame())]);
    let (traffic, _file) = open(&mixed, false).unwrap();
    let mut items = traffic.items(Attempt::Streaming);
    assert_eq!(items.by_ref().count(), 1);
    let skipped = items.skipped();
    assert_eq!((skipped.not_ip, skipped.fragments, skipped.icmp_other), (1, 1, 1));
}

/// Read many at a time or one by one, usual lines and frames among unusual ones, passed over or wrong: it is the same.
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
        format!("start,protocol,source,source-port,destination,destination-port,lasts\n{}", lines.join("\n"))
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
            let (mut items, mut all, mut batch) = (traffic.items(Attempt::Streaming), Vec::new(), Vec::new());
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
        .map(|i| if let Ok(Item::Seen(s)) = i { s.packet.ends.to_string() } else { panic!("{i:?}") })
        .collect();
    assert_eq!(seen, ["10.0.0.5:5000 -> 198.51.100.53:53"; 2]);
    assert_eq!(items.skipped().fragments, 3);
}

/// RFC 5508 §4.1 REQ-3b: options of the embedded header are stepped over. What is cut too short is no error about anything.
#[test]
fn icmp_errors_are_read_whatever_the_embedded_header() {
    let error = |kind: u8, words: u8, protocol: u8, inner: &[u8]| {
        let mut f = frame();
        f.truncate(34);
        f[23] = 1;
        f.extend([kind, 3, 0, 0, 0, 0, 0, 0]);
        f.extend([0x40 | words, 0, 0, 28, 0, 0, 0, 0, 64, protocol, 0, 0, 198, 51, 100, 53, 10, 0, 0, 5]);
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
        .map(|i| if let Ok(Item::Error(e)) = i { e.error.about.ends.to_string() } else { panic!("{i:?}") })
        .collect();
    let udp = "198.51.100.53:53 -> 10.0.0.5:5000";
    assert_eq!(about, [udp, udp, "198.51.100.53 -> 10.0.0.5:7", "198.51.100.53 -> 10.0.0.5"]);
    assert_eq!(items.skipped().icmp_other, 2);
}

/// What is wrong with a scenario of one flow: line and name of each fault.
fn wrong_with(more: &str) -> Vec<(Option<u64>, &'static str)> {
    let text = format!(
        "[[flow]]\nstart = 5\nprotocol = \"udp\"\nsource = \"kiosk-1\"\ndestination = \"198.51.100.80\"\ndestination-port = 53\n{more}"
    );
    open(text.as_bytes(), false).err().unwrap_or_default().iter().map(|e| (e.line, e.fault.name())).collect()
}

#[test]
fn a_flow_of_a_scenario_is_sent_again_and_again() {
    let text = "[[flow]]\nstart = 5\nprotocol = \"icmp\"\nsource = \"edge/floor\"\ndestination = \"198.51.100.80\"\nevery = \"30s\"\ncount = 3\n\
                [[flow]]\nstart = \"10s\"\nprotocol = \"gre\"\nsource = \"edge\"\ndestination = \"edge/floor\"\n";
    let all = flows(text);
    let seconds: Vec<u64> = all.iter().map(|f| f.start.0 / 1_000_000_000).collect();
    assert_eq!(seconds, [5, 10, 35, 65]);
    assert_eq!(all[0].source, Party::Interface(DeviceId(0), InterfaceId(0)));
    assert_eq!((all[1].source, all[1].destination), (Party::Device(DeviceId(0)), all[0].source));
}

#[test]
fn what_is_wrong_with_repeating_is_told_with_its_line() {
    assert_eq!(wrong_with("every = \"30s\"\ncount = 1\n"), []);
    assert_eq!(wrong_with("every = \"30s\"\n"), [(Some(7), "scenario")]);
    assert_eq!(wrong_with("count = 4\n"), [(Some(7), "scenario")]);
    for count in ["0", "-1", "10000001"] {
        assert_eq!(wrong_with(&format!("every = 30\ncount = {count}\n")), [(Some(8), "scenario")], "{count}");
    }
    assert_eq!(wrong_with("every = \"soon\"\ncount = 0\n"), [(Some(7), "bad-field"), (Some(8), "scenario")]);
    assert_eq!(wrong_with("every = -5\ncount = 2\n"), [(Some(7), "negative-time")]);
    assert_eq!(wrong_with("every = \"1000000h\"\ncount = 2\n"), [(Some(7), "time-too-long")]);
    assert_eq!(wrong_with("every = \"100h\"\ncount = 10000000\n"), [(Some(1), "time-too-long")]);
    assert_eq!(wrong_with("every = \"1s\"\ncount = \"two\"\n").first().map(|f| f.0), Some(Some(8)));
}
