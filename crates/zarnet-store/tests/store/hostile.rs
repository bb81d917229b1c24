//! Clocks that jump, events without sense: an answer all the same.

use zarnet_formats::nat_log::{EventKind, LogNames};
use zarnet_store::{Limits, StoreWriter};

use super::{BEGINS, HOUR, SECOND, ended, event, hosts, made, record, whose};

#[test]
fn a_clock_that_jumps_back_loses_nothing() {
    let (folder, mut names) = (tempfile::tempdir().unwrap(), LogNames::default());
    let (a, b) = ("10.0.0.5:4000 203.0.113.2:50000/udp", "10.0.0.6:4000 203.0.113.2:50001/udp");
    let events = [
        made(&mut names, HOUR, a),
        // the clock was an hour ahead, and is put right
        ended(&mut names, 60 * SECOND, a),
        made(&mut names, 61 * SECOND, b),
        ended(&mut names, 90 * SECOND, b),
    ];
    record(folder.path(), &mut names, &events);
    assert_eq!(hosts(&whose(folder.path(), "203.0.113.2:50001/udp", 70 * SECOND)), ["10.0.0.6"]);
    // its end is known, its beginning is not; and the other way round
    assert_eq!(hosts(&whose(folder.path(), "203.0.113.2:50000/udp", 30 * SECOND)), ["10.0.0.5"]);
    assert_eq!(hosts(&whose(folder.path(), "203.0.113.2:50000/udp", 2 * HOUR)), ["10.0.0.5"]);
}

#[test]
fn ends_that_come_before_their_beginnings_are_joined() {
    let (folder, mut names) = (tempfile::tempdir().unwrap(), LogNames::default());
    let ends = "10.0.0.5:4000 203.0.113.2:50000/udp";
    let late = ended(&mut names, 60 * SECOND, ends);
    let early = made(&mut names, SECOND, ends);
    record(folder.path(), &mut names, &[late]);
    record(folder.path(), &mut names, &[early]);
    let finding = whose(folder.path(), "203.0.113.2:50000/udp", 30 * SECOND);
    let record = finding.found[0].record;
    assert_eq!((finding.found.len(), record.unseen), (1, None));
    assert_eq!(
        (record.since(), record.ended()),
        (Some(BEGINS + SECOND), Some(BEGINS + 60 * SECOND))
    );
}

#[test]
fn times_at_the_ends_of_the_age_are_kept() {
    let (folder, mut names) = (tempfile::tempdir().unwrap(), LogNames::default());
    let ends = "10.0.0.5:4000 203.0.113.2:50000/udp";
    let mut first = event(&mut names, 0, EventKind::MappingCreated, ends);
    first.at = 0;
    let mut last = event(&mut names, 0, EventKind::MappingEnded, ends);
    last.at = 7_258_118_399_999;
    let mut writer = StoreWriter::open(folder.path(), Limits::default(), &mut names).unwrap();
    writer.take(&first, &names).unwrap();
    writer.take(&last, &names).unwrap();
    writer.commit(&names).unwrap();
    assert_eq!(hosts(&whose(folder.path(), "203.0.113.2:50000/udp", 0)), ["10.0.0.5"]);
}
