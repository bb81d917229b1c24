//! Input that was made to do harm, or that found a fault once: it is read or refused, at little
//! cost.

mod captures;

use std::io::Write;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use zarnet_core::limits;
use zarnet_core::plan::{DeviceId, InterfaceId, Problems};
use zarnet_core::predict::{Options, predict};
use zarnet_formats::files::Reach;
use zarnet_formats::plan::{LoadError, Loaded, from_text, load};
use zarnet_formats::traffic::{Attempt, Fault, Given, Reading, Traffic};

const EDGE: &str = r#"
[[segment]]
name = "world"
internet = true
[[host]]
name = "desk"
address = "10.20.0.11/24"
gateway = "10.20.0.1"
[[device]]
name = "edge"
  [[device.interface]]
  name = "floor"
  realm = "internal"
  address = ["10.20.0.1/24", "2001:db8:20::1/64"]
  [[device.interface]]
  name = "street"
  realm = "external"
  segment = "world"
  address = "203.0.113.2/27"
  [[device.route]]
  to = "0.0.0.0/0"
  via = "203.0.113.1"
  [[device.rule]]
  name = "all"
  type = "overload"
  as = "street"
"#;

fn edge() -> Loaded {
    from_text(Path::new("edge.toml"), EDGE.into()).unwrap()
}

fn problems(text: String) -> Problems {
    match from_text(Path::new("hostile.toml"), text) {
        Err(LoadError::Problems { problems, .. }) => problems,
        other => panic!("{:?}", other.map(|_| "it loads")),
    }
}

/// Names of the problems, in order, each once.
fn names(problems: &Problems) -> Vec<&'static str> {
    let mut names: Vec<&str> = problems.kept().iter().map(|p| p.error.name()).collect();
    names.dedup();
    names
}

/// All of a capture, played through an edge; what was wrong with it.
fn play(path: PathBuf, skip_bad: bool) -> Result<u64, Vec<&'static str>> {
    let plan = edge();
    let seen_at = Some((DeviceId(0), InterfaceId(0)));
    let reading = Reading { seen_at, skip_bad, ..Reading::default() };
    let told = |errors: Vec<zarnet_formats::traffic::TrafficError>| {
        errors.iter().map(|e| e.fault.name()).collect()
    };
    let traffic = Traffic::open(&[Given::File(path)], &plan, reading).map_err(told)?;
    let (errors, count) = traffic.errors();
    if count > 0 {
        return Err(told(errors));
    }
    let items = traffic.items(Attempt::Sorted);
    let options = Options { sources: Some(traffic.sources()), ..Options::default() };
    let prediction = predict(Arc::new(plan.plan.clone()), items, Vec::new(), options);
    Ok(prediction.map_err(|_| vec!["halted"])?.tally.total())
}

#[test]
fn groups_that_name_a_group_twice_do_not_double() {
    let doubled: String =
        (1..200).map(|i| format!("g{i} = [\"g{0}\", \"g{0}\"]\n", i - 1)).collect();
    let text = format!(
        "[addresses]\ng0 = [\"10.20.0.0/25\", \"10.20.0.128/26\"]\n{doubled}{EDGE}  source = \
         \"g199\"\n"
    );
    let loaded = from_text(Path::new("groups.toml"), text).unwrap();
    assert_eq!(loaded.plan.devices[0].rules[0].parties.source.count(), 192);
    assert_eq!(loaded.plan.groups["g199"], loaded.plan.groups["g0"]);
}

#[test]
fn long_chains_of_groups_are_resolved_and_long_circles_refused() {
    let chain = |n: usize, first: &str| {
        let rest: String = (1..n).map(|i| format!("g{i} = [\"g{}\"]\n", i - 1)).collect();
        format!("[addresses]\ng0 = [\"{first}\"]\n{rest}")
    };
    assert!(from_text(Path::new("chain.toml"), chain(20_000, "10.0.0.7")).is_ok());
    let circle = problems(chain(100_000, "g99999"));
    assert_eq!((circle.count(), circle.kept().len()), (100_000, limits::PROBLEMS));
    assert_eq!(names(&circle), ["group-cycle"]);
    // who only leads to a circle is not in it
    let lead = problems(
        "[addresses]\na = \"b\"\nb = [\"c\", \"10.0.0.1\"]\nc = \"b\"\nd = \"10.0.0.2\"\n".into(),
    );
    let told: Vec<String> = lead.kept().iter().map(|p| p.error.to_string()).collect();
    assert_eq!(told, ["the group `b` contains itself", "the group `c` contains itself"]);
}

#[test]
fn groups_that_grow_reach_a_limit() {
    let rest: String = (1..3_000)
        .map(|i| format!("g{i} = [\"g{}\", \"10.0.{}.{}\"]\n", i - 1, i >> 8, i & 255))
        .collect();
    let text = format!("[addresses]\ng0 = \"10.9.0.1\"\n{rest}");
    assert_eq!(names(&problems(text)), ["too-many"]);
}

#[test]
fn a_flood_of_errors_is_counted() {
    let unknown: String = (0..50_000).map(|i| format!("g{i} = \"nothing-{i}\"\n")).collect();
    let flood = problems(format!("[addresses]\n{unknown}"));
    assert_eq!((flood.count(), flood.kept().len()), (50_000, limits::PROBLEMS));
    let broken = problems("a = = 1\n\n\n".repeat(20_000));
    assert!(broken.count() >= 20_000 && broken.kept().len() == limits::PROBLEMS);
}

#[test]
fn plans_beyond_a_limit_are_refused_before_they_are_parsed() {
    assert_eq!(
        names(&problems(format!("x = [{}]", "0,".repeat(limits::VALUES + 1)))),
        ["too-many"]
    );
    let rules: String = (0..=limits::RULES)
        .map(|i| format!("[[device.rule]]\nname = \"r{i}\"\ntype = \"exempt\"\n"))
        .collect();
    let beyond = problems(format!("{EDGE}{rules}"));
    assert_eq!(beyond.kept()[0].error.to_string(), "more than 65535 rules");
    let folder = tempfile::tempdir().unwrap();
    let large = folder.path().join("large.toml");
    std::fs::write(&large, vec![b'#'; limits::PLAN_OCTETS + 1]).unwrap();
    let Err(LoadError::Problems { problems, .. }) = load(&large, Reach::anywhere()) else {
        panic!("it loads")
    };
    assert_eq!(names(&problems), ["too-many"]);
}

#[test]
fn nesting_ends_in_an_error() {
    for text in
        ["x = ".to_owned() + &"[".repeat(100_000), "x = ".to_owned() + &"{a=".repeat(50_000)]
    {
        assert_eq!(names(&problems(text))[0], "syntax");
    }
    let dotted = vec!["a"; 10_000].join(".") + " = 1\n";
    assert_eq!(names(&problems(dotted))[0], "syntax");
}

/// Sixty thousand forwards on one address, by port, are no conflict; by sender, too many are not
/// held against each other.
#[test]
fn many_fixed_rules_on_one_address() {
    let forward = |i: usize, port: usize, more: &str| {
        format!(
            "  [[device.rule]]\n  name = \"f{i}\"\n  type = \"forward\"\n  external = \
             \"street:{port}/tcp\"\n  \
             internal = \"10.20.0.11:443\"\n{more}"
        )
    };
    let by_port: String = (0..20_000).map(|i| forward(i, i + 1, "")).collect();
    assert!(from_text(Path::new("ports.toml"), format!("{EDGE}{by_port}")).is_ok());
    let same: String = (0..2_000).map(|i| forward(i, 80, "")).collect();
    assert_eq!(names(&problems(format!("{EDGE}{same}"))), ["external-end-twice"]);
    let source = |i: usize| format!("  source = \"198.18.{}.{}\"\n", i >> 8, i & 255);
    let by_sender: String = (0..=limits::CLAIMS).map(|i| forward(i, 80, &source(i))).collect();
    assert_eq!(names(&problems(format!("{EDGE}{by_sender}"))), ["too-many"]);
}

/// Packs `times` copies of a piece.
fn packed(piece: &[u8], times: usize) -> tempfile::NamedTempFile {
    let mut file = tempfile::NamedTempFile::new().unwrap();
    let mut packer = flate2::write::GzEncoder::new(&mut file, flate2::Compression::fast());
    (0..times).for_each(|_| packer.write_all(piece).unwrap());
    packer.finish().unwrap();
    file
}

fn list_faults(path: &Path) -> Vec<&'static str> {
    let plan = edge();
    let reading = Reading { skip_bad: true, ..Reading::default() };
    match Traffic::open(&[Given::File(path.into())], &plan, reading) {
        Ok(traffic) => traffic.errors().0.iter().map(|e| e.fault.name()).collect(),
        Err(errors) => errors.iter().map(|e| e.fault.name()).collect(),
    }
}

#[test]
fn packed_files_do_not_unpack_for_ever() {
    // blank lines are read quickest; a scenario is read whole
    let blank = vec![b'\n'; 1 << 20];
    let mut list = b"start,protocol,source,destination,destination-port\n".to_vec();
    list.extend(&blank);
    assert_eq!(list_faults(packed(&list, 100).path()), ["too-large"]);
    let mut scenario = b"[[flow]]\n".to_vec();
    scenario.extend(&blank);
    assert_eq!(list_faults(packed(&scenario, 100).path()), ["too-large"]);
    // what packs no better than lists do has room
    assert_eq!(
        list_faults(packed(b"start,protocol,source,destination,destination-port\n", 1).path()),
        [""; 0]
    );
}

#[test]
fn wrong_lines_are_counted_up_to_a_limit() {
    let mut file = tempfile::NamedTempFile::new().unwrap();
    let lines = "0,tcp,nobody,198.51.100.80,443\n".repeat(limits::BAD_LINES + 500);
    write!(file, "start,protocol,source,destination,destination-port\n{lines}").unwrap();
    let plan = edge();
    let traffic =
        Traffic::open(&[Given::File(file.path().into())], &plan, Reading::default()).unwrap();
    let (shown, count) = traffic.errors();
    assert_eq!((shown.len(), count), (limits::BAD_LINES_SHOWN, limits::BAD_LINES));
}

#[test]
fn times_reach_a_century_and_no_further() {
    let lasting = |lasts: &str| {
        let mut file = tempfile::NamedTempFile::new().unwrap();
        let header = "start,protocol,source,destination,destination-port,lasts";
        write!(file, "{header}\n0,tcp,desk,198.51.100.80,443,{lasts}\n").unwrap();
        let plan = edge();
        let traffic =
            Traffic::open(&[Given::File(file.path().into())], &plan, Reading::default()).unwrap();
        let faults = traffic.errors().0;
        if let Some(error) = faults.first() {
            return Err(error.fault.clone());
        }
        let items = traffic.items(Attempt::Streaming);
        Ok(predict(Arc::new(plan.plan.clone()), items, Vec::new(), Options::default()).unwrap().end)
    };
    assert_eq!(lasting("36500d").unwrap().seconds(), 36_500.0 * 86_400.0);
    assert_eq!(lasting("36501d"), Err(Fault::TimeTooLong("36501d".into())));
    assert_eq!(lasting("3153600001"), Err(Fault::TimeTooLong("3153600001".into())));
}

#[test]
fn a_file_counts_once_by_whichever_way_it_is_named() {
    let folder = tempfile::tempdir().unwrap();
    let at = |name: &str| folder.path().join(name);
    std::fs::create_dir(at("parts")).unwrap();
    let ways = r#"include = [
        "plan.toml", "./plan.toml", "parts/../plan.toml", "parts/../parts/part.toml",
        "parts/part.toml",
    ]"#;
    std::fs::write(at("plan.toml"), format!("{ways}\n[[segment]]\nname = \"world\"\n")).unwrap();
    std::fs::write(at("parts/part.toml"), "include = \"../plan.toml\"\n").unwrap();
    let loaded = load(&at("plan.toml"), Reach::below_folder_of(&at("plan.toml"))).unwrap();
    assert_eq!(loaded.sources.0.len(), 2);
}

/// Nothing of a file outside is shown, not even that it is no plan.
#[test]
fn files_outside_of_the_folder_are_neither_opened_nor_shown() {
    let folder = tempfile::tempdir().unwrap();
    let at = |name: &str| folder.path().join(name);
    std::fs::create_dir(at("plans")).unwrap();
    std::fs::write(at("secret"), "password = sesame").unwrap();
    std::fs::write(at("plans/plan.toml"), format!("include = \"../secret\"\n{EDGE}")).unwrap();
    let inside = load(&at("plans/plan.toml"), Reach::below_folder_of(&at("plans/plan.toml")));
    let Err(LoadError::Problems { problems, sources }) = inside else { panic!("it loads") };
    assert_eq!(names(&problems), ["include-outside"]);
    assert_eq!(sources.0.len(), 1);
    let Err(LoadError::Problems { problems, .. }) = load(&at("plans/plan.toml"), Reach::anywhere())
    else {
        panic!("it loads")
    };
    assert_eq!(names(&problems), ["syntax"]);

    std::fs::write(at("plans/plan.toml"), EDGE).unwrap();
    std::fs::write(
        at("plans/day.toml"),
        "[[event]]\nat = 1\ndo = \"plan\"\nfile = \"../secret\"\n",
    )
    .unwrap();
    let plan = load(&at("plans/plan.toml"), Reach::anywhere()).unwrap();
    let open = |allow_outside| {
        let reading = Reading { allow_outside, ..Reading::default() };
        let errors =
            Traffic::open(&[Given::File(at("plans/day.toml"))], &plan, reading).err().unwrap();
        errors[0].fault.to_string()
    };
    assert!(open(false).contains("outside of the scenario's folder"), "{}", open(false));
    assert!(open(true).contains("syntax") || open(true).contains("not TOML"), "{}", open(true));
}

#[cfg(unix)]
#[test]
fn pipes_and_devices_that_a_file_names_are_refused() {
    let folder = tempfile::tempdir().unwrap();
    let at = |name: &str| folder.path().join(name);
    assert!(std::process::Command::new("mkfifo").arg(at("pipe")).status().unwrap().success());
    std::fs::create_dir(at("parts")).unwrap();
    std::os::unix::fs::symlink("/dev/zero", at("zero")).unwrap();
    std::fs::write(at("plan.toml"), format!("include = [\"pipe\", \"parts\", \"zero\"]\n{EDGE}"))
        .unwrap();
    let Err(LoadError::Problems { problems, .. }) = load(&at("plan.toml"), Reach::anywhere())
    else {
        panic!()
    };
    let told: Vec<String> = problems.kept().iter().map(|p| p.error.to_string()).collect();
    assert_eq!(
        told,
        [
            "`pipe` cannot be included: it is a pipe, not a file",
            "`parts` cannot be included: it is a folder, not a file",
            "`zero` cannot be included: it is a device, not a file",
        ]
    );
}

/// Extended by what a list may hold, the merge of many inputs stays in order.
#[test]
fn many_inputs_are_merged_in_the_order_of_time() {
    let loads: String = (0..300)
        .map(|i| {
            format!(
                "[[load]]\nstart = {}\nlasts = 5\nsources = \"desk\"\ndestination = \
                 \"198.51.100.80\"\n\
                 protocol = \"udp\"\ndestination-port = 53\nrate = 2\nseed = {i}\n",
                i % 7
            )
        })
        .collect();
    let mut file = tempfile::NamedTempFile::new().unwrap();
    file.write_all(loads.as_bytes()).unwrap();
    let plan = edge();
    let traffic =
        Traffic::open(&[Given::File(file.path().into())], &plan, Reading::default()).unwrap();
    let times: Vec<u64> =
        traffic.items(Attempt::Streaming).map(|item| item.unwrap().at().0).collect();
    assert!(times.len() > 2_000 && times.is_sorted());
    let beyond = "[[load]]\n".repeat(limits::LOADS + 1);
    std::fs::write(file.path(), beyond).unwrap();
    let errors =
        Traffic::open(&[Given::File(file.path().into())], &plan, Reading::default()).err().unwrap();
    assert_eq!(errors[0].fault.to_string(), "more than 1000 load profiles");
}
