//! Files that are not as they were written.

use std::fs;
use std::path::{Path, PathBuf};

use zarnet_formats::nat_log::LogNames;
use zarnet_store::{Order, Store};

use super::{SECOND, ended, made, question, record};

fn tables(folder: &Path) -> Vec<PathBuf> {
    let mut all = Vec::new();
    for entry in fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            all.extend(tables(&path));
        } else if path.extension().is_some_and(|e| e == "parquet") {
            all.push(path);
        }
    }
    all.sort();
    all
}

#[test]
fn damage_is_found_and_named_and_never_a_crash() {
    let (folder, mut names) = (tempfile::tempdir().unwrap(), LogNames::default());
    let events: Vec<_> = (0..300)
        .flat_map(|n| {
            let ends = format!("10.0.0.{}:4000 203.0.113.2:{}/udp", n % 200, 10_000 + n);
            [made(&mut names, n * SECOND, &ends), ended(&mut names, (n + 60) * SECOND, &ends)]
        })
        .collect();
    record(folder.path(), &mut names, &events);
    let store = Store::open(folder.path()).unwrap();
    let file = tables(&folder.path().join(Order::External.folder())).remove(0);
    let whole = fs::read(&file).unwrap();
    let mut told = 0;
    for place in (0..whole.len()).step_by(3) {
        let mut octets = whole.clone();
        octets[place] ^= 1 << (place % 8);
        fs::write(&file, &octets).unwrap();
        told += usize::from(!store.check(|_| {}).unwrap().faults.is_empty());
        // an answer or an error, but it comes to an end
        if let Err(error) = store.look_up(&question("203.0.113.2:10007/udp", 9 * SECOND)) {
            assert_eq!(error.name(), "store-damaged", "{error}");
        }
    }
    assert_eq!(told, whole.len().div_ceil(3), "every change is found");
    for length in (0..whole.len()).step_by(11) {
        fs::write(&file, &whole[..length]).unwrap();
        assert!(!store.check(|_| {}).unwrap().faults.is_empty(), "cut to {length}");
    }
    fs::write(&file, &whole).unwrap();
    assert_eq!(store.check(|_| {}).unwrap().faults, []);
}
