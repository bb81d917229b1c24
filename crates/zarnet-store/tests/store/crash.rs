//! A writer that is broken off: what it acknowledged is there, whatever else is.

use std::fs;
use std::path::{Path, PathBuf};

use zarnet_formats::nat_log::LogNames;
use zarnet_store::{Limits, Store, StoreWriter};

use super::{HOUR, SECOND, ended, hosts, made, record, whose};

fn ends(n: i64) -> String {
    format!("10.0.{}.{}:4000 203.0.113.2:{}/udp", n / 250, n % 250, 10_000 + n)
}

fn journal(root: &Path) -> PathBuf {
    let mut all: Vec<PathBuf> =
        fs::read_dir(root.join("journal")).unwrap().map(|e| e.unwrap().path()).collect();
    all.sort();
    all.pop().unwrap()
}

fn answered(root: &Path, n: i64) -> bool {
    hosts(&whose(root, &format!("203.0.113.2:{}/udp", 10_000 + n), n * SECOND)).len() == 1
}

#[test]
fn a_journal_that_is_cut_anywhere_keeps_what_came_before() {
    let (folder, mut names) = (tempfile::tempdir().unwrap(), LogNames::default());
    let mut writer = StoreWriter::open(folder.path(), Limits::default(), &mut names).unwrap();
    writer.keep_journal().unwrap();
    let mut lengths = Vec::new();
    for n in 0..20 {
        writer.take(&made(&mut names, n * SECOND, &ends(n)), &names).unwrap();
        writer.sync(&names).unwrap();
        lengths.push(fs::metadata(journal(folder.path())).unwrap().len());
    }
    drop(writer);
    let whole = fs::read(journal(folder.path())).unwrap();
    for cut in (0..whole.len()).step_by(7) {
        for changes in [false, true] {
            let copy = tempfile::tempdir().unwrap();
            let mut cut_off = whole[..cut].to_vec();
            if changes {
                // what the disk did not get to write may be anything
                cut_off.extend(vec![0xa5; whole.len() - cut]);
            }
            fs::write(copy.path().join("zarnet-store.json"), "{\"zarnet-store\":1}").unwrap();
            fs::create_dir(copy.path().join("journal")).unwrap();
            fs::write(copy.path().join("journal/0000000000"), cut_off).unwrap();
            let kept = lengths.iter().filter(|length| **length <= cut as u64).count();
            let found = (0..20).filter(|n| answered(copy.path(), *n)).count();
            assert_eq!(found, kept, "cut at {cut}");
            StoreWriter::open(copy.path(), Limits::default(), &mut names).unwrap();
            let found = (0..20).filter(|n| answered(copy.path(), *n)).count();
            assert_eq!(found, kept, "cut at {cut}, and opened again");
        }
    }
}

#[test]
fn files_that_are_unfinished_or_alone_are_gone_when_it_is_opened_again() {
    let (folder, mut names) = (tempfile::tempdir().unwrap(), LogNames::default());
    let events: Vec<_> = (0..50)
        .flat_map(|n| {
            [made(&mut names, n * SECOND, &ends(n)), ended(&mut names, (n + 60) * SECOND, &ends(n))]
        })
        .collect();
    record(folder.path(), &mut names, &events);
    let files = Store::open(folder.path()).unwrap().check(|_| {}).unwrap().files;
    // a file that appeared in one order only, one that was not finished, and a state likewise
    let mut hour = folder.path().join("by-external");
    while hour.is_dir() {
        hour = fs::read_dir(&hour).unwrap().next().unwrap().unwrap().path();
    }
    let alone =
        hour.with_file_name("20260801T060000Z-20260801T070000Z-0000000009-0000-00000000.parquet");
    fs::copy(&hour, &alone).unwrap();
    let unfinished = hour.with_file_name("_unfinished-x.tmp");
    fs::write(&unfinished, "half").unwrap();
    fs::create_dir(folder.path().join("state/_unfinished-y")).unwrap();
    let store = Store::open(folder.path()).unwrap();
    let faults = store.check(|_| {}).unwrap().faults;
    assert!(faults.iter().all(|fault| fault.0 == alone) && !faults.is_empty(), "{faults:?}");
    assert!(answered(folder.path(), 7), "one twice is one");
    StoreWriter::open(folder.path(), Limits::default(), &mut names).unwrap();
    assert!(!alone.exists() && !unfinished.exists());
    assert!(!folder.path().join("state/_unfinished-y").exists());
    let checked = store.check(|_| {}).unwrap();
    assert_eq!((checked.files, checked.faults.as_slice()), (files, [].as_slice()));
}

#[test]
fn small_files_are_put_together_and_answer_the_same() {
    let (folder, mut names) = (tempfile::tempdir().unwrap(), LogNames::default());
    for n in 0..12 {
        let events = [
            made(&mut names, n * SECOND, &ends(n)),
            ended(&mut names, (n + 60) * SECOND, &ends(n)),
        ];
        record(folder.path(), &mut names, &events);
    }
    let store = Store::open(folder.path()).unwrap();
    let checked = store.check(|_| {}).unwrap();
    assert_eq!((checked.records, checked.faults.as_slice()), (12, [].as_slice()));
    assert!(checked.files < 12, "{} files of both orders for twelve logs", checked.files);
    assert!((0..12).all(|n| answered(folder.path(), n)));
    assert!(hosts(&whose(folder.path(), "203.0.113.2:10003/udp", HOUR)).is_empty());
}

#[test]
fn it_is_asked_while_it_is_written_to() {
    let (folder, mut names) = (tempfile::tempdir().unwrap(), LogNames::default());
    let mut writer = StoreWriter::open(folder.path(), Limits::default(), &mut names).unwrap();
    writer.keep_journal().unwrap();
    // one that never ends, and one that has ended
    for n in [0, 1] {
        writer.take(&made(&mut names, n * SECOND, &ends(n)), &names).unwrap();
    }
    writer.take(&ended(&mut names, 9 * SECOND, &ends(1)), &names).unwrap();
    writer.sync(&names).unwrap();
    let root = folder.path().to_owned();
    let writing = std::thread::spawn(move || {
        for n in 2..120 {
            writer.take(&made(&mut names, n * SECOND, &ends(n)), &names).unwrap();
            writer.take(&ended(&mut names, (n + 60) * SECOND, &ends(n)), &names).unwrap();
            writer.sync(&names).unwrap();
            writer.commit(&names).unwrap();
        }
    });
    let mut asked = 0;
    while !writing.is_finished() {
        assert!(answered(&root, 0) && answered(&root, 1), "after {asked} questions");
        asked += 1;
    }
    writing.join().unwrap();
    assert!(asked > 10 && (0..120).all(|n| answered(&root, n)), "{asked} questions");
}
