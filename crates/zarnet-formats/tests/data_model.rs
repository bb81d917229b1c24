//! Data of the standard modules: every example is read, every invalid one refused where it is
//! wrong.

use std::fs;
use std::path::{Path, PathBuf};

use zarnet_formats::data_model::{Foreign, check, parse};

fn examples(folder: &str) -> Vec<PathBuf> {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/standards").join(folder);
    let mut files: Vec<PathBuf> = fs::read_dir(folder)
        .unwrap()
        .map(|f| f.unwrap().path())
        .filter(|p| p.extension().is_some_and(|e| e == "json"))
        .collect();
    files.sort();
    files
}

fn faults(path: &Path) -> Vec<String> {
    let text = fs::read_to_string(path).unwrap();
    match parse(&text) {
        Err(fault) => vec![fault.to_string()],
        Ok(document) => match check(&document, Foreign::PassedOver) {
            Ok(()) => Vec::new(),
            Err(faults) => faults.iter().map(ToString::to_string).collect(),
        },
    }
}

#[test]
fn every_example_of_the_standard_is_valid() {
    let files = examples("");
    assert!(files.len() >= 27, "{}", files.len());
    for file in files {
        assert_eq!(faults(&file), Vec::<String>::new(), "{}", file.display());
    }
}

#[test]
fn every_invalid_example_is_refused_with_the_path_of_its_fault() {
    let mut told = String::new();
    for file in examples("invalid") {
        let name = file.file_stem().unwrap().to_string_lossy().into_owned();
        for fault in faults(&file) {
            told.push_str(&format!("{name}: {fault}\n"));
        }
    }
    let expected = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/standards/invalid/faults.txt");
    if std::env::var_os("SNAPSHOTS").is_some_and(|v| v == "overwrite") {
        fs::write(&expected, &told).unwrap();
    }
    assert_eq!(told, fs::read_to_string(expected).unwrap());
}
