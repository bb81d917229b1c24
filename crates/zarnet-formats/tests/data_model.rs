//! Data of the standard modules: every example is read, every invalid one refused where it is
//! wrong; and what is read out of it.

use std::fs;
use std::path::{Path, PathBuf};

use zarnet_core::plan::DeviceId;
use zarnet_formats::data_model::{Foreign, check, parse};
use zarnet_formats::ietf_nat::{ModuleForm, export, import};
use zarnet_formats::plan::from_text;

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

#[test]
fn a_policy_is_for_the_one_of_several_external_interfaces_that_it_names() {
    let uplinks =
        [("first", "192.0.2.1/28"), ("second", "198.51.100.1/28")].map(|(name, address)| {
            format!(
                "  [[device.interface]]\n  name = \"{name}\"\n  realm = \"{name}\"\n  segment = \
             \"internet\"\n  address = \"{address}\"\n"
            )
        });
    let rules = ["first", "second"].map(|name| {
        format!(
            "  [[device.rule]]\n  name = \"by-{name}\"\n  type = \"overload\"\n  into = \
             \"{name}\"\n  as = \"{name}\"\n"
        )
    });
    let text = format!(
        "[[segment]]\nname = \"internet\"\ninternet = true\n[[device]]\nname = \"edge\"\n  \
         [[device.interface]]\n  name = \"quay\"\n  realm = \"internal\"\n  address = \
         \"10.0.0.1/24\"\n{}{}",
        uplinks.concat(),
        rules.concat()
    );
    let loaded = from_text(Path::new("edge.toml"), text).unwrap();
    let exported = export(&loaded.plan, DeviceId(0), ModuleForm::Standard);
    let imported = import(&exported.document, "device").unwrap();
    let told: Vec<&str> =
        imported.text.lines().map(str::trim).filter(|l| l.starts_with("into")).collect();
    assert_eq!(told, ["into = \"first\"", "into = \"second\""], "{}", imported.text);
}
