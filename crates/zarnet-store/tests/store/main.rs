//! The store from outside: events in, answers out, whatever happens in between.

mod crash;
mod damage;
mod hostile;
mod model;

use std::net::IpAddr;
use std::path::Path;

use zarnet_core::device::EndCause;
use zarnet_core::net::Protocol;
use zarnet_formats::nat_log::{EventKind, LogNames, Name, TranslationEvent};
use zarnet_store::{Asked, Finding, Limits, Question, Store, StoreWriter};

/// 2026-08-01T06:00:00Z, in milliseconds since 1970.
const BEGINS: i64 = 1_785_564_000_000;
const SECOND: i64 = 1000;
const HOUR: i64 = 3600 * SECOND;

fn address(text: &str) -> IpAddr {
    text.parse().unwrap()
}

/// An event of a mapping: `10.0.0.5:4000 203.0.113.2:50000/udp`, so many milliseconds in.
fn event(names: &mut LogNames, at: i64, kind: EventKind, text: &str) -> TranslationEvent {
    let (ends, protocol) = text.rsplit_once('/').unwrap();
    let (internal, external) = ends.split_once(' ').unwrap();
    let end = |text: &str| match text.parse::<std::net::SocketAddr>() {
        Ok(end) => (end.ip(), Some(end.port())),
        Err(_) => (address(text), None),
    };
    let mut event = TranslationEvent::new(BEGINS + at, kind, names.obtain("edge"));
    let (internal, external) = (end(internal), end(external));
    (event.internal, event.internal_port) = (Some(internal.0), internal.1);
    (event.external, event.external_port) = (Some(external.0), external.1);
    event.protocol = (protocol != "any").then(|| protocol.parse().unwrap());
    event.rule = Some(names.obtain("out"));
    event.cause = (kind.begins() == Some(false)).then_some(EndCause::Expired);
    event
}

fn made(names: &mut LogNames, at: i64, text: &str) -> TranslationEvent {
    event(names, at, EventKind::MappingCreated, text)
}

fn ended(names: &mut LogNames, at: i64, text: &str) -> TranslationEvent {
    event(names, at, EventKind::MappingEnded, text)
}

/// Records events as one log.
fn record(root: &Path, names: &mut LogNames, events: &[TranslationEvent]) {
    let mut writer = StoreWriter::open(root, Limits::default(), names).unwrap();
    events.iter().for_each(|event| writer.take(event, names).unwrap());
    writer.end_of_log(names);
    writer.commit(names).unwrap();
}

/// The question who had an external end so many milliseconds in.
fn question(external: &str, at: i64) -> Question {
    let (end, protocol) = external.rsplit_once('/').unwrap();
    let end: std::net::SocketAddr = end.parse().unwrap();
    Question {
        asked: Asked::External(end.ip(), Some(end.port())),
        between: (BEGINS + at, BEGINS + at),
        within: 0,
        protocol: Some(protocol.parse::<Protocol>().unwrap()),
        device: None,
    }
}

/// Who had an external end so many milliseconds in.
fn whose(root: &Path, external: &str, at: i64) -> Finding {
    Store::open(root).unwrap().look_up(&question(external, at)).unwrap()
}

/// The internal addresses of an answer.
fn hosts(finding: &Finding) -> Vec<String> {
    finding.found.iter().map(|found| found.record.internal.to_string()).collect()
}

#[test]
fn a_translation_is_found_from_its_first_to_its_last_millisecond() {
    let (folder, mut names) = (tempfile::tempdir().unwrap(), LogNames::default());
    let ends = "10.0.0.5:4000 203.0.113.2:50000/udp";
    let events = [made(&mut names, 1000, ends), ended(&mut names, 5000, ends)];
    record(folder.path(), &mut names, &events);
    for (at, is_there) in [(999, false), (1000, true), (3000, true), (5000, true), (5001, false)] {
        let finding = whose(folder.path(), "203.0.113.2:50000/udp", at);
        assert_eq!(hosts(&finding).len(), usize::from(is_there), "at {at}");
    }
    let finding = whose(folder.path(), "203.0.113.2:50000/udp", 3000);
    let found = &finding.found[0];
    assert_eq!((found.device.as_str(), found.rule.as_deref()), ("edge", Some("out")));
    assert_eq!(
        (found.record.since(), found.record.ended()),
        (Some(BEGINS + 1000), Some(BEGINS + 5000))
    );
    assert_eq!(found.record.cause, Some(EndCause::Expired));
    assert_eq!(finding.gaps, [], "the log is whole there");
    assert!(hosts(&whose(folder.path(), "203.0.113.2:50000/tcp", 3000)).is_empty());
    assert!(hosts(&whose(folder.path(), "203.0.113.2:50001/udp", 3000)).is_empty());
}

#[test]
fn a_host_has_what_it_had_that_day() {
    let (folder, mut names) = (tempfile::tempdir().unwrap(), LogNames::default());
    let mut events = Vec::new();
    for n in 0..200 {
        let ends = format!("10.0.0.{}:4000 203.0.113.2:{}/udp", n % 10, 50_000 + n);
        events.push(made(&mut names, n * HOUR / 4, &ends));
        events.push(ended(&mut names, n * HOUR / 4 + 60 * SECOND, &ends));
    }
    record(folder.path(), &mut names, &events);
    let between = (BEGINS + 10 * HOUR, BEGINS + 20 * HOUR);
    let asked = Asked::Host(address("10.0.0.3"));
    let question = Question { asked, between, within: 0, protocol: None, device: None };
    let finding = Store::open(folder.path()).unwrap().look_up(&question).unwrap();
    // every tenth quarter of an hour
    let begun: Vec<i64> =
        finding.found.iter().map(|f| (f.record.begun - BEGINS) / (HOUR / 4)).collect();
    assert_eq!(begun, [43, 53, 63, 73]);
}

#[test]
fn a_block_tells_the_host_of_each_of_its_ports() {
    let (folder, mut names) = (tempfile::tempdir().unwrap(), LogNames::default());
    let block = |names: &mut LogNames, at, kind, host: &str, first: u16| {
        let mut event = event(names, at, kind, &format!("{host} 203.0.113.2/udp"));
        (event.external_port, event.last_port) = (Some(first), Some(first + 255));
        event
    };
    let events = [
        block(&mut names, 0, EventKind::BlockAllocated, "10.0.0.5", 1024),
        block(&mut names, 1, EventKind::BlockAllocated, "10.0.0.6", 1280),
        block(&mut names, 9 * HOUR, EventKind::BlockReleased, "10.0.0.5", 1024),
    ];
    record(folder.path(), &mut names, &events);
    for (port, host) in
        [(1024, "10.0.0.5"), (1279, "10.0.0.5"), (1280, "10.0.0.6"), (1535, "10.0.0.6")]
    {
        assert_eq!(hosts(&whose(folder.path(), &format!("203.0.113.2:{port}/udp"), HOUR)), [host]);
    }
    assert!(hosts(&whose(folder.path(), "203.0.113.2:1536/udp", HOUR)).is_empty());
    assert!(hosts(&whose(folder.path(), "203.0.113.2:1024/udp", 10 * HOUR)).is_empty());
}

#[test]
fn a_whole_address_is_its_hosts_whatever_the_port() {
    let (folder, mut names) = (tempfile::tempdir().unwrap(), LogNames::default());
    let kind = EventKind::AddressCreated;
    let events = [
        event(&mut names, 0, kind, "10.0.0.5 203.0.113.9/any"),
        // others, with ports, beside it
        made(&mut names, 0, "10.0.0.6:4000 203.0.113.2:50000/udp"),
        made(&mut names, 0, "10.0.0.7:4000 203.0.113.10:50000/udp"),
    ];
    record(folder.path(), &mut names, &events);
    assert_eq!(hosts(&whose(folder.path(), "203.0.113.9:77/tcp", HOUR)), ["10.0.0.5"]);
}

#[test]
fn an_end_that_was_not_logged_is_bounded_by_the_next_beginning() {
    let (folder, mut names) = (tempfile::tempdir().unwrap(), LogNames::default());
    let end = "203.0.113.2:50000/udp";
    let events = [
        made(&mut names, 0, &format!("10.0.0.5:4000 {end}")),
        made(&mut names, 60 * SECOND, &format!("10.0.0.6:4000 {end}")),
        ended(&mut names, 90 * SECOND, &format!("10.0.0.6:4000 {end}")),
    ];
    record(folder.path(), &mut names, &events);
    let finding = whose(folder.path(), end, 30 * SECOND);
    assert_eq!(hosts(&finding), ["10.0.0.5"]);
    let record = finding.found[0].record;
    assert_eq!((record.ended(), record.gone_by()), (None, Some(BEGINS + 60 * SECOND)));
    assert_eq!(hosts(&whose(folder.path(), end, 70 * SECOND)), ["10.0.0.6"]);
}

#[test]
fn ports_that_far_ends_share_have_several_hosts() {
    let (folder, mut names) = (tempfile::tempdir().unwrap(), LogNames::default());
    let end = "203.0.113.2:50000/udp";
    let mut events = Vec::new();
    for (host, peer) in [("10.0.0.5", "198.51.100.1"), ("10.0.0.6", "198.51.100.2")] {
        let mut event = made(&mut names, 0, &format!("{host}:4000 {end}"));
        (event.peer, event.peer_port) = (Some(address(peer)), Some(53));
        events.push(event);
    }
    record(folder.path(), &mut names, &events);
    assert_eq!(hosts(&whose(folder.path(), end, SECOND)), ["10.0.0.5", "10.0.0.6"]);
}

#[test]
fn addresses_of_both_families_are_kept_apart() {
    let (folder, mut names) = (tempfile::tempdir().unwrap(), LogNames::default());
    let events = [
        made(&mut names, 0, "[2001:db8::5]:4000 203.0.113.2:50000/udp"),
        made(&mut names, 0, "10.0.0.5:4000 [2001:db8:1::cb00:7102]:50000/udp"),
        made(&mut names, 0, "10.0.0.6:4000 203.0.113.3:50000/udp"),
    ];
    record(folder.path(), &mut names, &events);
    assert_eq!(hosts(&whose(folder.path(), "203.0.113.2:50000/udp", 1)), ["2001:db8::5"]);
    assert_eq!(hosts(&whose(folder.path(), "[2001:db8:1::cb00:7102]:50000/udp", 1)), ["10.0.0.5"]);
}

#[test]
fn what_is_asked_of_a_time_without_a_log_says_so() {
    let (folder, mut names) = (tempfile::tempdir().unwrap(), LogNames::default());
    let ends = "10.0.0.5:4000 203.0.113.2:50000/udp";
    for day in [0, 2] {
        let at = day * 24 * HOUR;
        let events = [made(&mut names, at, ends), ended(&mut names, at + HOUR, ends)];
        record(folder.path(), &mut names, &events);
    }
    let finding = whose(folder.path(), "203.0.113.2:50000/udp", 30 * HOUR);
    assert!(finding.found.is_empty());
    let gaps: Vec<(i64, i64)> = finding
        .gaps
        .iter()
        .map(|(_, gap)| ((gap.from - BEGINS) / HOUR, (gap.until - BEGINS) / HOUR))
        .collect();
    assert_eq!(gaps, [(6, 30)], "a day back, and there is no log since");
    assert_eq!(whose(folder.path(), "203.0.113.2:50000/udp", HOUR / 2).gaps, []);
}

#[test]
fn only_one_writes_at_a_time_and_only_into_a_store() {
    let (folder, mut names) = (tempfile::tempdir().unwrap(), LogNames::default());
    let first = StoreWriter::open(folder.path(), Limits::default(), &mut names).unwrap();
    let second = StoreWriter::open(folder.path(), Limits::default(), &mut names);
    assert_eq!(second.err().map(|e| e.name()), Some("store-busy"));
    drop(first);
    assert!(StoreWriter::open(folder.path(), Limits::default(), &mut names).is_ok());
    let other = tempfile::tempdir().unwrap();
    std::fs::write(other.path().join("letter.txt"), "dear").unwrap();
    let refused = StoreWriter::open(other.path(), Limits::default(), &mut names);
    assert_eq!(refused.err().map(|e| e.name()), Some("no-store"));
    std::fs::write(folder.path().join("zarnet-store.json"), "{\"zarnet-store\":2}").unwrap();
    let newer = Store::open(folder.path());
    assert_eq!(newer.err().map(|e| e.name()), Some("store-newer"));
}

#[test]
fn files_that_are_too_old_are_removed_and_no_others() {
    let (folder, mut names) = (tempfile::tempdir().unwrap(), LogNames::default());
    for day in 0..3 {
        let ends = format!("10.0.0.5:4000 203.0.113.2:{}/udp", 50_000 + day);
        let at = i64::from(day) * 24 * HOUR;
        let events = [made(&mut names, at, &ends), ended(&mut names, at + SECOND, &ends)];
        record(folder.path(), &mut names, &events);
    }
    let mut writer = StoreWriter::open(folder.path(), Limits::default(), &mut names).unwrap();
    assert_eq!(writer.retain_from(BEGINS + 24 * HOUR).unwrap(), 1);
    writer.commit(&names).unwrap();
    drop(writer);
    let counts = [0, 1, 2].map(|day| {
        hosts(&whose(
            folder.path(),
            &format!("203.0.113.2:{}/udp", 50_000 + day),
            i64::from(day) * 24 * HOUR,
        ))
        .len()
    });
    assert_eq!(counts, [0, 1, 1]);
    assert_eq!(Store::open(folder.path()).unwrap().check(|_| {}).unwrap().faults, []);
}

/// A name, for tests that make events of their own.
fn name(names: &mut LogNames, text: &str) -> Name {
    names.obtain(text)
}
