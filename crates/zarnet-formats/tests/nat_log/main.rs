//! Translation logs written and read: IPFIX, syslog and CSV, whole and broken.

mod broken;
mod ipfix;
mod text;

use std::net::IpAddr;
use std::sync::Arc;

use proptest::prelude::*;
use zarnet_core::device::EndCause;
use zarnet_core::net::Protocol;
use zarnet_formats::nat_log::ipfix::{MOST_IN_DATAGRAM, MOST_IN_FILE, Writer};
use zarnet_formats::nat_log::{
    EventKind, LogForm, LogFormat, LogNames, Noted, TimeText, TranslationEvent, csv_header,
    csv_line, read_log, syslog_line,
};
use zarnet_formats::traffic::Given;

/// 2026-08-01T06:00:00Z, in milliseconds since 1970.
const BEGINS: i64 = 1_785_564_000_000;

/// Names that any format must bring back.
const NAMES: [&str; 4] = ["kiosks-out", "a\"b]c\\d", "käse, with; all", "x"];

fn address(is_v6: bool, n: u8) -> IpAddr {
    match is_v6 {
        true => format!("2001:db8::{n:x}").parse().unwrap(),
        false => IpAddr::from([10, 0, 0, n]),
    }
}

/// An event with just what its kind has.
fn event(names: &mut LogNames, n: [u16; 4], kind: EventKind, flags: [bool; 4]) -> TranslationEvent {
    let at = BEGINS + i64::from(n[0]) * 37;
    let mut event = TranslationEvent::new(
        at,
        kind,
        names.obtain(["edge", "north-edge"][usize::from(n[1] % 2)]),
    );
    let is_end = kind.begins() == Some(false);
    let [internal_v6, external_v6, has_peer, has_ports] = flags;
    if kind.begins().is_some() {
        event.internal = Some(address(internal_v6, n[2] as u8));
        event.external = Some(address(external_v6, n[3] as u8));
        event.protocol = Some(Protocol([6, 17, 1][usize::from(n[2] % 3)]));
        if event.is_block() {
            (event.external_port, event.last_port) = (Some(n[3] | 1), Some(n[3] | 1023));
        } else if has_ports {
            (event.internal_port, event.external_port) = (Some(n[2]), Some(n[3]));
        }
        if has_peer && !event.is_block() {
            (event.peer, event.peer_port) = (Some(address(external_v6, n[1] as u8)), Some(53));
        }
        event.cause =
            is_end.then_some([EndCause::Expired, EndCause::Restarted][usize::from(n[0] % 2)]);
    }
    match kind {
        EventKind::AddressesExhausted => {
            event.pool = Some(names.obtain(NAMES[usize::from(n[2] % 4)]))
        }
        EventKind::PortsExhausted => {
            (event.external, event.protocol) = (Some(address(false, 9)), Some(Protocol::UDP));
        }
        EventKind::SessionQuota | EventKind::MappingQuota => event.limit = Some(n[2].into()),
        EventKind::HostQuota => {
            (event.limit, event.internal) = (Some(n[2].into()), Some(address(internal_v6, 7)));
        }
        _ => {}
    }
    event.rule = Some(names.obtain(NAMES[usize::from(n[0] % 4)]));
    event
}

fn events() -> impl Strategy<Value = Vec<([u16; 4], EventKind, [bool; 4])>> {
    let kinds: Vec<EventKind> = EventKind::all().collect();
    let one = (any::<[u16; 4]>(), prop::sample::select(kinds), any::<[bool; 4]>());
    prop::collection::vec(one, 0..200)
}

fn made(parts: &[([u16; 4], EventKind, [bool; 4])], names: &mut LogNames) -> Vec<TranslationEvent> {
    parts.iter().map(|(n, kind, flags)| event(names, *n, *kind, *flags)).collect()
}

fn ipfix(events: &[TranslationEvent], names: &LogNames, most: usize) -> Vec<u8> {
    let (mut out, mut writer) = (Vec::new(), Writer::new(most));
    let mut put = |message: &[u8]| {
        assert!(message.len() <= most, "{} octets", message.len());
        out.extend(message);
        Ok::<(), std::convert::Infallible>(())
    };
    for event in events {
        writer.write(event, names, &mut put).unwrap();
    }
    writer.flush(&mut put).unwrap();
    out
}

fn syslog(events: &[TranslationEvent], names: &LogNames) -> Vec<u8> {
    let (mut out, mut time) = (Vec::new(), TimeText::default());
    for event in events {
        syslog_line(event, names, &mut time, &mut out);
        out.push(b'\n');
    }
    out
}

fn csv(events: &[TranslationEvent], names: &LogNames) -> Vec<u8> {
    let (mut out, mut time) = (Vec::new(), TimeText::default());
    csv_header(&mut out);
    events.iter().for_each(|event| csv_line(event, names, &mut time, &mut out));
    out
}

/// Reads octets as a log, with the names of those that were written.
fn read(octets: &[u8], names: &mut LogNames) -> (Vec<TranslationEvent>, Noted, LogFormat) {
    let (mut events, mut noted) = (Vec::new(), Noted::default());
    let given = Given::Octets(Arc::from(octets));
    let read =
        read_log(&given, &LogForm::default(), names, &mut noted, |event, _| events.push(event));
    (events, noted, read.unwrap().format)
}

fn check(write: impl Fn(&[TranslationEvent], &LogNames) -> Vec<u8>, is_by_device: bool) {
    let mut runner = proptest::test_runner::TestRunner::deterministic();
    let outcome = runner.run(&events(), |parts| {
        let mut names = LogNames::default();
        let mut events = made(&parts, &mut names);
        prop_assume!(!events.is_empty());
        let octets = write(&events, &names);
        let (mut back, noted, _) = read(&octets, &mut names);
        if is_by_device {
            // each device has messages of its own
            events.sort_by_key(|event| event.device);
            back.sort_by_key(|event| event.device);
        }
        prop_assert_eq!(back, events);
        prop_assert_eq!((noted.lost, noted.bad_messages, noted.bad_records), (0, 0, 0));
        Ok(())
    });
    outcome.unwrap();
}

#[test]
fn ipfix_brings_every_event_back() {
    check(|events, names| ipfix(events, names, MOST_IN_FILE), true);
    check(|events, names| ipfix(events, names, MOST_IN_DATAGRAM), true);
}

#[test]
fn syslog_brings_every_event_back() {
    check(syslog, false);
}

#[test]
fn csv_brings_every_event_back() {
    check(csv, false);
}

#[test]
fn the_format_is_told_by_the_content() {
    let mut names = LogNames::default();
    let parts = [([1, 2, 3, 4], EventKind::MappingCreated, [false, false, false, true])];
    let events = made(&parts, &mut names);
    assert_eq!(read(&ipfix(&events, &names, MOST_IN_FILE), &mut names).2, LogFormat::Ipfix);
    assert_eq!(read(&syslog(&events, &names), &mut names).2, LogFormat::Syslog);
    assert_eq!(read(&csv(&events, &names), &mut names).2, LogFormat::Csv);
    let (given, mut noted) = (Given::Octets(Arc::from(&b"dear all"[..])), Noted::default());
    assert!(read_log(&given, &LogForm::default(), &mut names, &mut noted, |_, _| {}).is_err());
}
