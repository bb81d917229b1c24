//! Random days against a list that is looked through from end to end.

use std::net::{IpAddr, Ipv4Addr};

use proptest::prelude::*;
use proptest::test_runner::{Config, TestRunner};
use zarnet_core::net::Protocol;
use zarnet_formats::nat_log::{EventKind, LogNames, TranslationEvent};
use zarnet_store::{Asked, Limits, Question, Store, StoreWriter};

use super::{BEGINS, HOUR, name};

/// A translation of a day: who had what from when until when, by the second.
#[derive(Debug, Clone, Copy)]
struct Truth {
    host: u8,
    address: u8,
    port: u8,
    /// Whether it is a session: several of a host may share their ends.
    is_session: bool,
    begun: i64,
    ended: Option<i64>,
}

/// What a day is made of: tries to begin something, each lasting so many seconds.
fn tries() -> impl Strategy<Value = Vec<(u8, u8, u8, bool, u32, u32)>> {
    let one = (0..6u8, 0..2u8, 0..5u8, any::<bool>(), 0..40_000u32, 1..9000u32);
    prop::collection::vec(one, 1..120)
}

/// A day in which nobody has what another has.
fn day(tries: &[(u8, u8, u8, bool, u32, u32)]) -> Vec<Truth> {
    let mut day: Vec<Truth> = Vec::new();
    for (host, address, port, is_session, begun, length) in tries.iter().copied() {
        let begun = i64::from(begun) * 1000;
        // the longest never end
        let ended = (length < 8800).then(|| begun + i64::from(length) * 1000 + 500);
        let is_taken = day.iter().any(|t| {
            let until = |ended: Option<i64>| ended.unwrap_or(i64::MAX);
            let overlaps = t.begun <= until(ended) && until(t.ended) >= begun;
            let shares = is_session && t.is_session && t.host == host && t.begun != begun;
            (t.address, t.port) == (address, port) && overlaps && !shares
        });
        if !is_taken {
            day.push(Truth { host, address, port, is_session, begun, ended });
        }
    }
    day
}

fn address(truth: &Truth) -> IpAddr {
    Ipv4Addr::new(203, 0, 113, truth.address).into()
}

fn host(truth: &Truth) -> IpAddr {
    Ipv4Addr::new(10, 0, 0, truth.host).into()
}

fn events(day: &[Truth], names: &mut LogNames) -> Vec<TranslationEvent> {
    let mut all = Vec::new();
    let device = name(names, "edge");
    for truth in day {
        let mut event = TranslationEvent::new(
            BEGINS + truth.begun,
            if truth.is_session { EventKind::SessionCreated } else { EventKind::MappingCreated },
            device,
        );
        (event.internal, event.internal_port) = (Some(host(truth)), Some(4000));
        (event.external, event.external_port) = (Some(address(truth)), Some(truth.port.into()));
        event.protocol = Some(Protocol::TCP);
        all.push(event);
        if let Some(ended) = truth.ended {
            let kind =
                if truth.is_session { EventKind::SessionEnded } else { EventKind::MappingEnded };
            all.push(TranslationEvent { at: BEGINS + ended, kind, ..event });
        }
    }
    all.sort_by_key(|event| event.at);
    all
}

/// Who had an end at an instant.
fn whose(store: &Store, address: u8, port: u8, at: i64) -> Vec<IpAddr> {
    let question = Question {
        asked: Asked::External(Ipv4Addr::new(203, 0, 113, address).into(), Some(port.into())),
        between: (BEGINS + at, BEGINS + at),
        within: 0,
        protocol: Some(Protocol::TCP),
        device: None,
    };
    let found = store.look_up(&question).unwrap().found;
    let mut hosts: Vec<IpAddr> = found.iter().map(|f| f.record.internal).collect();
    hosts.sort_unstable();
    hosts.dedup();
    hosts
}

fn true_hosts(day: &[Truth], of_address: u8, port: u8, at: i64) -> Vec<IpAddr> {
    let had = day.iter().filter(|t| {
        let is_asked = (t.address, t.port) == (of_address, port);
        is_asked && t.begun <= at && t.ended.is_none_or(|ended| ended >= at)
    });
    let mut hosts: Vec<IpAddr> = had.map(host).collect();
    hosts.sort_unstable();
    hosts.dedup();
    hosts
}

/// Asks about every end at the beginning, the middle and the end of everything.
fn compare(store: &Store, day: &[Truth]) {
    let mut instants: Vec<i64> = day.iter().map(|t| t.begun).collect();
    instants.extend(day.iter().filter_map(|t| t.ended));
    instants.extend(day.iter().map(|t| (t.begun + t.ended.unwrap_or(t.begun + HOUR)) / 2));
    for (n, at) in instants.into_iter().enumerate() {
        let (address, port) = ((n % 2) as u8, (n / 2 % 5) as u8);
        let wanted = true_hosts(day, address, port, at);
        assert_eq!(whose(store, address, port, at), wanted, "{address} {port} at {at}");
    }
}

fn runs() -> u32 {
    std::env::var("RUNS").ok().and_then(|runs| runs.parse().ok()).unwrap_or(24)
}

fn with_days(check: impl Fn(&[Truth], usize)) {
    let config = Config { max_shrink_iters: 20, ..Config::with_cases(runs()) };
    let mut runner = TestRunner::new(config);
    let outcome = runner.run(&(tries(), 1..40usize), |(tries, size)| {
        check(&day(&tries), size);
        Ok(())
    });
    outcome.unwrap();
}

#[test]
fn a_day_in_one_log_is_answered_as_it_was() {
    with_days(|day, held| {
        let (folder, mut names) = (tempfile::tempdir().unwrap(), LogNames::default());
        let events = events(day, &mut names);
        // little room, so that many files are written, and put together
        let limits = Limits { held, open: 1 << 20 };
        let mut writer = StoreWriter::open(folder.path(), limits, &mut names).unwrap();
        events.iter().for_each(|event| writer.take(event, &names).unwrap());
        writer.commit(&names).unwrap();
        drop(writer);
        let store = Store::open(folder.path()).unwrap();
        compare(&store, day);
        assert_eq!(store.check(|_| {}).unwrap().faults, []);
    });
}

#[test]
fn logs_in_any_order_or_twice_are_answered_the_same() {
    with_days(|day, size| {
        let (folder, mut names) = (tempfile::tempdir().unwrap(), LogNames::default());
        let events = events(day, &mut names);
        // a log ends where nothing happens for a while: what is right behind it belongs to it
        let mut logs: Vec<&[TranslationEvent]> = Vec::new();
        let is_quiet = |n: &usize| events[*n].at - events[*n - 1].at > 16 * 60_000;
        let borders: Vec<usize> =
            (1..events.len()).filter(is_quiet).step_by(1 + size % 3).collect();
        let mut from = 0;
        for border in borders.into_iter().chain([events.len()]) {
            logs.push(&events[from..border]);
            from = border;
        }
        match size % 3 {
            0 => logs.reverse(),
            1 => {
                let turn = size % logs.len();
                logs.rotate_left(turn);
            }
            _ => logs = logs.iter().flat_map(|log| [*log, *log]).collect(),
        }
        for log in logs {
            let mut writer =
                StoreWriter::open(folder.path(), Limits::default(), &mut names).unwrap();
            log.iter().for_each(|event| writer.take(event, &names).unwrap());
            writer.end_of_log(&names);
            writer.commit(&names).unwrap();
        }
        compare(&Store::open(folder.path()).unwrap(), day);
    });
}

#[test]
fn what_is_only_in_the_journal_is_answered_too() {
    with_days(|day, cut| {
        let (folder, mut names) = (tempfile::tempdir().unwrap(), LogNames::default());
        let events = events(day, &mut names);
        let (first, second) = events.split_at(cut.min(events.len()));
        let mut writer = StoreWriter::open(folder.path(), Limits::default(), &mut names).unwrap();
        writer.keep_journal().unwrap();
        first.iter().for_each(|event| writer.take(event, &names).unwrap());
        writer.commit(&names).unwrap();
        second.iter().for_each(|event| writer.take(event, &names).unwrap());
        writer.sync(&names).unwrap();
        // while it is written to
        compare(&Store::open(folder.path()).unwrap(), day);
        // and after it was broken off
        drop(writer);
        let writer = StoreWriter::open(folder.path(), Limits::default(), &mut names).unwrap();
        assert_eq!(writer.recorded().recovered, second.len() as u64);
        compare(&Store::open(folder.path()).unwrap(), day);
    });
}

#[test]
fn what_has_no_room_in_memory_is_answered_all_the_same() {
    with_days(|day, open| {
        let (folder, mut names) = (tempfile::tempdir().unwrap(), LogNames::default());
        let events = events(day, &mut names);
        let limits = Limits { held: 1 << 20, open };
        let mut writer = StoreWriter::open(folder.path(), limits, &mut names).unwrap();
        events.iter().for_each(|event| writer.take(event, &names).unwrap());
        writer.commit(&names).unwrap();
        drop(writer);
        compare(&Store::open(folder.path()).unwrap(), day);
    });
}

#[test]
fn of_sessions_that_share_their_ends_the_first_ends_first_in_whatever_order_they_came() {
    let truth = |begun, ended| Truth {
        host: 1,
        address: 0,
        port: 3,
        is_session: true,
        begun,
        ended: Some(ended),
    };
    let first = Truth { host: 2, ..truth(0, 500) };
    let day = [first, truth(1_000, 5_000), truth(3_000, 9_000)];
    for order in [[0, 1, 2, 3, 4, 5], [0, 1, 3, 2, 4, 5]] {
        let (folder, mut names) = (tempfile::tempdir().unwrap(), LogNames::default());
        let events = events(&day, &mut names);
        let mut writer = StoreWriter::open(folder.path(), Limits::default(), &mut names).unwrap();
        order.iter().for_each(|n| writer.take(&events[*n], &names).unwrap());
        writer.commit(&names).unwrap();
        drop(writer);
        let question = Question {
            asked: Asked::External(Ipv4Addr::new(203, 0, 113, 0).into(), Some(3)),
            between: (BEGINS, BEGINS + HOUR),
            within: 0,
            protocol: Some(Protocol::TCP),
            device: None,
        };
        let found = Store::open(folder.path()).unwrap().look_up(&question).unwrap().found;
        let mut times: Vec<_> = found.iter().map(|f| (f.record.begun, f.record.ended())).collect();
        times.sort_unstable();
        let wanted = day.each_ref().map(|t| (BEGINS + t.begun, t.ended.map(|e| BEGINS + e)));
        assert_eq!(times, wanted, "{order:?}");
    }
}
