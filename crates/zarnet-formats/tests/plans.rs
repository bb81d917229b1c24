//! Plan files as users write them. `samples/invalid/NAME.toml` shows the fault NAME; its first line
//! says which lines are to be told, and as what. `samples/valid` must load.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

use zarnet_core::plan::PLAN_ERRORS;
use zarnet_formats::files::Reach;
use zarnet_formats::plan::{LoadError, Loaded};

fn load(path: &Path) -> Result<Loaded, LoadError> {
    zarnet_formats::plan::load(path, Reach::below_folder_of(path))
}

fn samples(folder: &str) -> Vec<PathBuf> {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/samples").join(folder);
    let mut files: Vec<PathBuf> =
        std::fs::read_dir(folder).unwrap().map(|e| e.unwrap().path()).collect();
    files.sort();
    assert!(!files.is_empty());
    files
}

#[test]
fn every_fault_is_told_with_its_line_and_name() {
    for path in samples("invalid") {
        let text = std::fs::read_to_string(&path).unwrap();
        let wanted = text.lines().next().unwrap().strip_prefix("# wants: ").unwrap();
        let Err(LoadError::Problems { problems, sources }) = load(&path) else {
            panic!("{} loads", path.display())
        };
        let told = |p: &zarnet_core::plan::Problem| {
            format!("{} {}", sources.line_column(p.place).unwrap().line, p.error.name())
        };
        let told: Vec<String> = problems.kept().iter().map(told).collect();
        assert_eq!(told.join(", "), wanted, "{}: {problems:#?}", path.display());
        let name = path.file_stem().unwrap().to_str().unwrap();
        assert!(
            problems.kept().iter().any(|p| p.error.name() == name),
            "{name} does not show what it is called"
        );
    }
}

#[test]
fn every_name_of_a_fault_has_a_sample() {
    let shown: BTreeSet<String> = samples("invalid")
        .iter()
        .map(|p| p.file_stem().unwrap().to_string_lossy().into_owned())
        .collect();
    let missing: Vec<&str> =
        PLAN_ERRORS.iter().map(|e| e.name).filter(|n| !shown.contains(*n)).collect();
    assert_eq!(missing, ["too-many"], "65,536 of something are not kept in a file");
}

#[test]
fn nearest_names_are_proposed() {
    let help = |file: &str| {
        let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/samples/invalid").join(file);
        let Err(LoadError::Problems { problems, .. }) = load(&path) else { panic!() };
        problems.kept().iter().filter_map(|p| p.error.help()).collect::<Vec<_>>()
    };
    assert!(help("unknown-name.toml").contains(&"did you mean `uplink`?".to_owned()));
    assert!(help("unknown-value.toml").contains(&"did you mean `overload`?".to_owned()));
    assert!(
        help("mask-ambiguous.toml").contains(&"write /0 or /32, whichever is meant".to_owned())
    );
}

#[test]
fn every_form_of_every_value_loads() {
    for path in samples("valid") {
        if let Err(error) = load(&path) {
            panic!("{}: {error:?}", path.display());
        }
    }
}

#[test]
fn several_files_make_one_plan_and_a_circle_of_them_ends() {
    let folder = tempfile::tempdir().unwrap();
    let write = |name: &str, text: &str| std::fs::write(folder.path().join(name), text).unwrap();
    write("a.toml", "include = \"b.toml\"\n[[host]]\nname = \"h\"\naddress = \"10.0.0.7/24\"\n");
    write(
        "b.toml",
        "include = [\"a.toml\", \"b.toml\"]\n[[segment]]\nname = \"s\"\n[[segment]]\nname = \
         \"s\"\n",
    );
    let Err(LoadError::Problems { problems, sources }) = load(&folder.path().join("a.toml")) else {
        panic!()
    };
    let [problem] = problems.kept() else { panic!("{problems:?}") };
    assert_eq!((problem.error.name(), problem.place.file), ("duplicate-name", 1));
    assert!(sources.file(problem.place).unwrap().path.ends_with("b.toml"));
}

/// What `behaviour` shows of a device can be written into a plan, and is the same there.
#[test]
fn settings_read_back_as_they_are_shown() {
    let load = |behaviour: &str| {
        let text = format!("[[device]]\nname = \"edge\"\nbehaviour = {behaviour}\n");
        zarnet_formats::plan::from_text(Path::new("p.toml"), text).unwrap().plan.devices[0]
            .behaviour
            .clone()
    };
    let odd = "{ mapping = \"address-dependent\", port-overloading = true, max-mappings = 7, \
               hold-down-timeout = 1.5, \
               cannot = [\"hairpin\", \"ranges\"], port-classes = [\"1-65535 -> 2000-2999\"], \
               policy-sees = \"original\" }";
    for start in ["\"bcp\"", "\"symmetric\"", "\"carrier\"", odd] {
        let behaviour = load(start);
        let written =
            behaviour.settings().into_iter().filter(|d| d.value != "none" && d.value != "[]");
        let table: Vec<String> = written.map(|d| format!("{} = {}", d.key, d.value)).collect();
        assert_eq!(load(&format!("{{ {} }}", table.join(", "))), behaviour, "{start}");
    }
}

/// A named service stands for port and protocol of a forward, if it is of one protocol and one
/// range.
#[test]
fn a_named_service_is_a_forwards_port() {
    let plan = |services: &str| {
        let text = format!(
            "[services]\n{services}\n[[device]]\nname = \"edge\"\n  \
             [[device.interface]]\n  name = \"in\"\n  realm = \"internal\"\n  \
             address = \"10.0.0.1/24\"\n  \
             [[device.interface]]\n  name = \"out\"\n  realm = \"external\"\n  \
             address = \"192.0.2.1/24\"\n  \
             [[device.rule]]\n  name = \"r\"\n  type = \"forward\"\n  \
             external = \"out:cameras\"\n  internal = \"10.0.0.9:443\"\n"
        );
        zarnet_formats::plan::from_text(Path::new("p.toml"), text)
    };
    let loaded = plan("cameras = \"8443-8444/tcp\"").unwrap();
    let kind = &loaded.plan.devices[0].rules[0].kind;
    let zarnet_core::plan::RuleKind::Forward(f) = kind else { panic!() };
    assert_eq!((f.ports.first, f.ports.last, f.protocol.0), (8443, 8444, 6));
    assert!(plan("cameras = [\"8443/tcp\", \"53/udp\"]").is_err());
    assert!(plan("other = \"8443/tcp\"").is_err());
}
