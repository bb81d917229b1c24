//! The program itself, on files in a temporary folder. What it prints is held against snapshots that somebody has read:
//! exit code, standard output, standard error. `SNAPSHOTS=overwrite cargo test` writes them anew, to be read again.

use std::io::Write;
use std::path::Path;
use std::process::{Command, Output, Stdio};

use snapbox::{Assert, Data};

/// Runs the program in a folder, with nothing of the environment that could change what it prints.
fn zarnet(folder: &Path, arguments: &[&str], input: &str) -> Output {
    let mut child = Command::new(env!("CARGO_BIN_EXE_zarnet"))
        .args(arguments)
        .current_dir(folder)
        .env_clear()
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    let _ = child.stdin.take().unwrap().write_all(input.as_bytes());
    child.wait_with_output().unwrap()
}

fn text(output: &Output) -> String {
    let part = |bytes: &[u8]| String::from_utf8(bytes.to_vec()).unwrap();
    let code = output.status.code().unwrap();
    format!("exit {code}\n--- out\n{}--- err\n{}", part(&output.stdout), part(&output.stderr))
}

fn snapshot(name: &str, output: &Output) {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/snapshots").join(name);
    Assert::new().action_env("SNAPSHOTS").eq(text(output), Data::read_from(&path, None));
}

/// A folder with the demo estate in it.
fn estate() -> tempfile::TempDir {
    let folder = tempfile::tempdir().unwrap();
    let demo = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/saltmere");
    for name in [
        "after.toml",
        "harbour.toml",
        "jetty.toml",
        "morning.csv",
        "observed.csv",
        "quay.pcap.gz",
        "saturday.toml",
        "storm.toml",
        "terminal.toml",
    ] {
        std::fs::copy(demo.join(name), folder.path().join(name)).unwrap();
    }
    folder
}

#[test]
fn what_it_prints() {
    let folder = estate();
    let file = |name: &str, text: &str| std::fs::write(folder.path().join(name), text).unwrap();
    file(
        "broken.toml",
        "plan = \"x\"\n[[device]]\nname = \"edge\"\ndefault-polcy = \"drop\"\n  [[device.rule]]\n  name = \"a\"\n  type = \"overload\"\n  as = \"uplnk\"\n",
    );
    file("risky.toml", RISKY);
    file(
        "bad.csv",
        "start,protocol,source,destination,destination-port\n0,tcp,kiosk-9,198.51.100.80,443\n1,tcp,kiosk-1,198.51.100.80,99999\n2,udp,kiosk-1,198.51.100.53,53\n",
    );
    file("held.csv", HELD);
    file("still.toml", &FLOOD.replace("RATE", "0"));
    file("leased.toml", LEASED);
    file("after.toml", &LEASED.replace("\"door\"", "\"gate\"").replace(":8022/tcp", ":9022/tcp"));
    file("day.toml", DAY);
    file("bad-day.toml", BAD_DAY);
    let faults = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/faults");
    for (name, fault) in [
        ("circle.toml", "route-circle.toml"),
        ("direct.toml", "hairpin-answered-directly.toml"),
        ("chain.toml", "chain-wrong-port.toml"),
        ("two.toml", "two-faults.toml"),
    ] {
        std::fs::copy(faults.join(fault), folder.path().join(name)).unwrap();
    }
    let (flow, office) = ("kiosk-3 -> 198.51.100.80:443/tcp", "office-5 -> 198.51.100.80:443/tcp");
    let map = "protocol=1,internal=2,external=3";
    let harbour = std::fs::read_to_string(folder.path().join("harbour.toml")).unwrap();
    let less = harbour.replace("203.0.113.11-203.0.113.14", "203.0.113.9-203.0.113.14");
    file("changed.toml", &less.replace("name = \"ticketing\"", "name = \"ticketing\"\n  enabled = false"));
    file("hidden.toml", HIDDEN);
    let define = ["define", "harbour.toml", "--device", "harbour-edge"];
    let saturday = ["capacity", "terminal.toml", "saturday.toml"];
    let compare = ["compare", "harbour.toml", "morning.csv", "--at", "2h45m", "--observed", "observed.csv"];
    let capture: &[&str] = &["predict", "harbour.toml", "quay.pcap.gz", "--seen-at", "harbour-edge/quay", "--sessions"];
    let cases: &[(&str, &[&str])] = &[
        ("check-fine.txt", &["check", "harbour.toml"]),
        ("check-errors.txt", &["check", "broken.toml"]),
        ("check-errors-json.txt", &["check", "broken.toml", "--format", "json"]),
        ("check-findings.txt", &["check", "risky.toml"]),
        ("predict-flow.txt", &["predict", "harbour.toml", flow, "--sessions"]),
        ("predict-flow-80.txt", &["predict", "harbour.toml", flow, "--sessions", "--width", "80"]),
        ("predict-flow-json.txt", &["predict", "harbour.toml", flow, "--format", "json"]),
        ("predict-flow-csv.txt", &["predict", "harbour.toml", flow, "--format", "csv"]),
        ("predict-morning.txt", &["predict", "harbour.toml", "morning.csv", "--at", "2h45m", "--rows", "12", "-v"]),
        ("predict-peak.txt", &["predict", "harbour.toml", "morning.csv", "--at", "peak", "--rows", "4"]),
        ("predict-empty.txt", &["predict", "risky.toml", "10.0.0.5 -> 198.51.100.1:1/udp", "--at", "1h"]),
        ("predict-capture.txt", capture),
        (
            "predict-capture-elsewhere.txt",
            &["predict", "harbour.toml", "quay.pcap.gz", "--seen-at", "harbour-edge/yard", "--rows", "4"],
        ),
        ("predict-capture-nowhere.txt", &["predict", "harbour.toml", "quay.pcap.gz"]),
        ("predict-bad-lines.txt", &["predict", "harbour.toml", "bad.csv"]),
        ("predict-skip-bad.txt", &["predict", "harbour.toml", "bad.csv", "--skip-bad", "--rows", "4"]),
        ("predict-no-plan.txt", &["predict", "harbor.toml", "morning.csv"]),
        ("predict-no-interface.txt", &["predict", "harbour.toml", "quay.pcap.gz", "--seen-at", "harbour-edge/key"]),
        ("predict-no-time.txt", &["predict", "harbour.toml", "morning.csv", "--at", "noon"]),
        ("predict-storm.txt", &["predict", "harbour.toml", "storm.toml", "--at", "31m", "--rows", "4", "-v"]),
        ("predict-day.txt", &["predict", "leased.toml", "day.toml", "--at", "8m", "--rows", "8"]),
        ("predict-bad-day.txt", &["predict", "leased.toml", "bad-day.toml"]),
        ("follow.txt", &["follow", "harbour.toml", flow]),
        ("follow-80.txt", &["follow", "harbour.toml", flow, "--width", "80", "-v"]),
        ("follow-json.txt", &["follow", "harbour.toml", "kiosk-1 -> 203.0.113.5:443/tcp", "--format", "json"]),
        ("follow-csv.txt", &["follow", "harbour.toml", flow, "--format", "csv"]),
        ("follow-chain.txt", &["follow", "harbour.toml", "198.51.100.130 -> 203.0.113.34:24022/tcp"]),
        ("follow-private.txt", &["follow", "harbour.toml", "192.0.2.200 -> 10.61.8.20:443/tcp"]),
        ("follow-own.txt", &["follow", "harbour.toml", "harbour-edge -> 198.51.100.53:53/udp"]),
        ("follow-during.txt", &["follow", "harbour.toml", office, "--during", "morning.csv", "--at", "2h20m"]),
        ("follow-circle.txt", &["follow", "circle.toml", "crane -> 198.51.100.80:443/tcp"]),
        ("follow-hairpin-direct.txt", &["follow", "direct.toml", "till -> 203.0.113.2:443/tcp"]),
        ("follow-unknown.txt", &["follow", "harbour.toml", "kiosk-33 -> 198.51.100.80:443/tcp"]),
        ("expect.txt", &["expect", "harbour.toml"]),
        ("expect-fails.txt", &["expect", "circle.toml"]),
        ("expect-json.txt", &["expect", "circle.toml", "--format", "json"]),
        ("expect-csv.txt", &["expect", "circle.toml", "--format", "csv"]),
        ("expect-nothing.txt", &["expect", "risky.toml"]),
        ("check-circle.txt", &["check", "circle.toml"]),
        ("why.txt", &["why", "chain.toml", "198.51.100.80 -> 203.0.113.2:443/tcp"]),
        ("why-json.txt", &["why", "chain.toml", "198.51.100.80 -> 203.0.113.2:443/tcp", "--format", "json"]),
        ("why-csv.txt", &["why", "chain.toml", "198.51.100.80 -> 203.0.113.2:443/tcp", "--format", "csv"]),
        ("why-works.txt", &["why", "harbour.toml", flow]),
        ("why-during.txt", &["why", "harbour.toml", office, "--during", "morning.csv", "--at", "2h20m"]),
        ("why-two.txt", &["why", "two.toml", "till -> 198.51.100.80:443/tcp"]),
        ("why-outside.txt", &["why", "harbour.toml", "192.0.2.200 -> 10.61.8.20:443/tcp"]),
        ("why-no-such-repair.txt", &["why", "chain.toml", "198.51.100.80 -> 203.0.113.2:443/tcp", "--apply", "9"]),
        ("compare.txt", &[&compare[..], &["--columns", map, "--device", "harbour-edge"]].concat()),
        (
            "compare-json.txt",
            &[&compare[..], &["--columns", map, "--device", "harbour-edge", "--format", "json"]].concat(),
        ),
        (
            "compare-csv.txt",
            &[&compare[..], &["--columns", map, "--device", "harbour-edge", "--format", "csv"]].concat(),
        ),
        ("compare-whose.txt", &[&compare[..], &["--columns", map]].concat()),
        ("compare-bad-columns.txt", &[&compare[..], &["--columns", "inside=2"]].concat()),
        ("compare-no-names.txt", &compare),
        ("addresses.txt", &["addresses", "harbour.toml"]),
        ("addresses-free.csv", &["addresses", "harbour.toml", "--free", "--format", "csv", "--device", "harbour-edge"]),
        ("sheet.txt", &["sheet", "harbour.toml"]),
        ("sheet.json", &["sheet", "harbour.toml", "--format", "json", "--device", "jetty-box"]),
        ("impact.txt", &["impact", "harbour.toml", "changed.toml"]),
        ("impact.json", &["impact", "harbour.toml", "changed.toml", "--format", "json"]),
        ("impact.csv", &["impact", "harbour.toml", "changed.toml", "--format", "csv"]),
        ("impact-none.txt", &["impact", "harbour.toml", "harbour.toml"]),
        (
            "impact-during.txt",
            &["impact", "harbour.toml", "changed.toml", "--during", "morning.csv", "--at", "2h45m", "--rows", "4"],
        ),
        ("check-proved.txt", &["check", "hidden.toml", "-v"]),
        ("check-proved.json", &["check", "hidden.toml", "--format", "json"]),
        (
            "check-denied.txt",
            &[
                "check",
                "terminal.toml",
                "--deny",
                "pool-smaller-than-sources",
                "--allow",
                "pool-opens-all-ports",
                "--allow",
                "pool-loses-addresses",
            ],
        ),
        ("check-allow-unknown.txt", &["check", "terminal.toml", "--allow", "rule-shadow"]),
        ("check-list.txt", &["check", "--list"]),
        ("explain.txt", &["explain", "rule-shadowed"]),
        ("explain-two.txt", &["explain", "pool-exhausted"]),
        ("explain-unknown.txt", &["explain", "rule-shadow"]),
        (
            "define-forward.txt",
            &[
                &define[..],
                &[
                    "forward",
                    "uplink:24070/tcp",
                    "gauge-north:4010",
                    "--name",
                    "spare-gauge",
                    "--source",
                    "head-office",
                    "--from",
                    "yard",
                    "--with-access",
                    "--note",
                    "for the winter",
                    "--dry-run",
                ],
            ]
            .concat(),
        ),
        (
            "define-static.txt",
            &[
                &define[..],
                &[
                    "static",
                    "gauge-south",
                    "next",
                    "--name",
                    "gauge",
                    "--from",
                    "yard",
                    "--service",
                    "4010/tcp",
                    "--source",
                    "head-office",
                    "--with-access",
                    "--dry-run",
                ],
            ]
            .concat(),
        ),
        (
            "define-overload.json",
            &[
                &define[..],
                &[
                    "overload",
                    "203.0.113.6",
                    "--source",
                    "10.61.16.64/26",
                    "--before",
                    "kiosks-out",
                    "--dry-run",
                    "--format",
                    "json",
                ],
            ]
            .concat(),
        ),
        ("define-disable.txt", &[&define[..], &["disable", "ticketing", "--dry-run"]].concat()),
        ("define-taken.txt", &[&define[..], &["static", "office-1", "203.0.113.12", "--dry-run"]].concat()),
        (
            "define-name-taken.txt",
            &[&define[..], &["exempt", "--name", "ballast", "--destination", "head-office", "--dry-run"]].concat(),
        ),
        (
            "define-sizes.txt",
            &[&define[..], &["static", "10.61.8.32/30", "203.0.113.6-203.0.113.7", "--dry-run"]].concat(),
        ),
        ("define-no-rule.txt", &[&define[..], &["remove", "balast"]].concat()),
        ("define-no-device.txt", &["define", "harbour.toml", "disable", "ticketing"]),
        ("define-wrong.txt", &[&define[..], &["pool", "office-line", "--source", "offices"]].concat()),
        ("capacity.txt", &[&saturday[..], &["--brief", "--rows", "3"]].concat()),
        (
            "capacity-ascii.txt",
            &[&saturday[..], &["--brief", "--supply", "desk-lines", "--ascii", "--width", "80"]].concat(),
        ),
        ("capacity-remedies.txt", &[&saturday[..], &["--supply", "desk-lines", "--runs", "2", "--rows", "2"]].concat()),
        ("capacity.csv", &[&saturday[..], &["--brief", "--format", "csv", "--at", "2h30m"]].concat()),
        ("capacity-fine.txt", &["capacity", "terminal.toml", "10.62.32.21 -> 198.51.100.25:443/tcp", "--growth", "5%"]),
        (
            "capacity-fine.json",
            &[
                "capacity",
                "terminal.toml",
                "10.62.32.21 -> 198.51.100.25:443/tcp",
                "--format",
                "json",
                "--brief",
                "--supply",
                "desk-lines",
            ],
        ),
        ("capacity-observed.txt", &["capacity", "terminal.toml", "--observed", "held.csv"]),
        ("capacity-no-supply.txt", &[&saturday[..], &["--brief", "--supply", "desk-line"]].concat()),
        ("capacity-no-target.txt", &[&saturday[..], &["--target", "0"]].concat()),
        ("capacity-no-picture.txt", &[&saturday[..], &["--chart", "use.jpg"]].concat()),
        (
            "capacity-no-remedy.txt",
            &["capacity", "terminal.toml", "10.62.32.21 -> 198.51.100.25:443/tcp", "--remedy", "larger-pool"],
        ),
        ("capacity-bad-rate.txt", &["capacity", "terminal.toml", "still.toml"]),
        ("behaviour.txt", &["behaviour"]),
        ("behaviour-carrier.txt", &["behaviour", "carrier"]),
        ("behaviour-plan-json.txt", &["behaviour", "leased.toml", "--format", "json"]),
        ("behaviour-unknown.txt", &["behaviour", "polite"]),
        ("help.txt", &["--help"]),
        ("help-capacity.txt", &["capacity", "--help"]),
        ("help-follow.txt", &["follow", "--help"]),
        ("help-predict.txt", &["predict", "--help"]),
        ("demo.txt", &["demo"]),
    ];
    for (name, arguments) in cases {
        snapshot(name, &zarnet(folder.path(), arguments, ""));
    }
}

const HELD: &str = "protocol,internal,internal-port,external,external-port
any,10.62.32.11,,203.0.113.73,
any,10.62.32.12,,203.0.113.74,
udp,10.62.64.20,50000,203.0.113.70,20480
udp,10.62.64.20,50001,203.0.113.70,20481
udp,10.62.64.21,50000,203.0.113.70,20482
";

/// More than any machine has room for.
const FLOOD: &str = r#"
[[load]]
lasts = "15m"
sources = "hall"
destination = "198.51.100.80"
protocol = "udp"
destination-port = 53
rate = RATE
each-lasts = "2h"
"#;

/// Rules, policy and filter entries that others hide, and doors that are too wide.
const HIDDEN: &str = r#"
[[segment]]
name = "internet"
internet = true

[check]
deny = ["remote-administration-open"]

[[host]]
name = "web"
address = "10.0.0.20/24"
gateway = "10.0.0.1"
listens = ["443/tcp"]

[[host]]
name = "desk"
address = "10.0.0.30/24"
gateway = "10.0.0.1"

[[device]]
name = "edge"
behaviour = { preset = "bcp", filtering = "address-dependent" }

  [[device.interface]]
  name = "floor"
  realm = "internal"
  address = "10.0.0.1/24"
  ingress-acl = "in"

  [[device.interface]]
  name = "uplink"
  realm = "external"
  segment = "internet"
  address = "192.0.2.1/28"
  services = ["22/tcp"]

  [[device.route]]
  to = "0.0.0.0/0"
  via = "192.0.2.14"

  [[device.acl]]
  name = "in"
  entries = [{ drop = "25/tcp" }, { accept = "any" }, { drop = "23/tcp" }]

  [[device.policy]]
  from = "internal"
  into = "external"
  accept = "any"

  [[device.policy]]
  from = "internal"
  into = "external"
  drop = "53/udp"

  [[device.pool]]
  name = "spare"
  addresses = "192.0.2.8"

  [[device.rule]]
  name = "everybody"
  type = "overload"
  as = "uplink"
  hairpin = "internal"

  [[device.rule]]
  name = "desks"
  type = "overload"
  source = "10.0.0.30"
  as = "192.0.2.6"

  [[device.rule]]
  name = "screens"
  type = "forward"
  external = "uplink:59010/tcp"
  internal = "desk:5901"

  [[device.rule]]
  name = "pages"
  type = "forward"
  external = "uplink:8080/tcp"
  internal = "web:8080"

  [[device.rule]]
  name = "old"
  type = "forward"
  external = "uplink:8081/tcp"
  internal = "10.0.0.77:80"
  enabled = false

  [[device.rule]]
  name = "machine"
  type = "static"
  internal = "10.0.0.40"
  external = "192.0.2.5"
"#;

const RISKY: &str = r#"
[[segment]]
name = "internet"
internet = true
routed = [{ to = "198.51.100.16/30", via = "192.0.2.1" }]

[[device]]
name = "edge"
behaviour = "bcp"
timers = { udp-timeout = 30 }

  [[device.interface]]
  name = "floor"
  realm = "internal"
  address = "10.0.0.1/24"

  [[device.interface]]
  name = "uplink"
  realm = "external"
  segment = "internet"
  address = "192.0.2.1/28"

  [[device.interface]]
  name = "spare"
  address = "10.9.0.1/24"

  [[device.route]]
  to = "0.0.0.0/0"
  via = "192.0.2.14"

  [[device.acl]]
  name = "forgotten"
  entries = [{ drop = "any" }]

  [[device.pool]]
  name = "lines"
  addresses = ["192.0.2.0/29"]

  [[device.rule]]
  name = "offices"
  type = "pool"
  source = "10.0.0.128/25"
  as = "lines"

  [[device.rule]]
  name = "all"
  type = "overload"
  as = "uplink"
  into = "exterior"

  [[device.rule]]
  name = "mail"
  type = "static"
  internal = "10.0.0.130"
  external = "203.0.113.77"
"#;

/// An edge whose outside address is assigned to it.
const LEASED: &str = r#"
[[segment]]
name = "internet"
internet = true

[[host]]
name = "server"
address = "10.0.0.9/24"
gateway = "10.0.0.1"

[[device]]
name = "edge"
behaviour = { port-assignment = "sequential" }
timers = { per-port = { "53/udp" = 10 } }

  [[device.interface]]
  name = "floor"
  realm = "internal"
  address = "10.0.0.1/24"

  [[device.interface]]
  name = "uplink"
  realm = "external"
  segment = "internet"
  address = "192.0.2.2/28"
  lease = true

  [[device.route]]
  to = "0.0.0.0/0"
  via = "192.0.2.1"

  [[device.rule]]
  name = "door"
  type = "forward"
  external = "uplink:8022/tcp"
  internal = "10.0.0.9:22"

  [[device.rule]]
  name = "all"
  type = "overload"
  as = "uplink"
"#;

/// The address changes at 2m, another plan takes over at 5m, and a rule that only that one has is disabled at 7m.
const DAY: &str = r#"
[[flow]]
start = 0
protocol = "tcp"
source = "10.0.0.5"
destination = "198.51.100.80"
destination-port = 443
lasts = "1h"
[[flow]]
start = "3m"
protocol = "tcp"
source = "10.0.0.5"
destination = "198.51.100.80"
destination-port = 443
lasts = "1h"
[[flow]]
start = "4m"
protocol = "tcp"
source = "198.51.100.7"
destination = "192.0.2.3"
destination-port = 8022
lasts = "1h"
[[flow]]
start = "6m"
protocol = "tcp"
source = "198.51.100.7"
destination = "192.0.2.3"
destination-port = 9022
lasts = "1h"
[[flow]]
start = "7m30s"
protocol = "tcp"
source = "198.51.100.8"
destination = "192.0.2.3"
destination-port = 9022
[[event]]
at = "7m"
do = "disable"
rule = "gate"
[[event]]
at = "2m"
do = "lease"
interface = "uplink"
address = "192.0.2.3/28"
[[event]]
at = "5m"
do = "plan"
file = "after.toml"
"#;

const BAD_DAY: &str = r#"
[[load]]
lasts = "1m"
sources = ["10.0.0.0/24", "nobody"]
destination = "198.51.100.80"
protocol = "tcp"
rate = 0
each-lasts = { distribution = "normal", mean = "1s" }
seed = -1
[[load]]
lasts = "1h"
sources = "10.0.0.0/28"
destination = "198.51.100.80"
protocol = "icmp"
destination-port = 7
rate = 1e7
[[event]]
at = "1m"
do = "lease"
interface = "floor"
address = "10.0.0.2"
[[event]]
at = "1m"
do = "plan"
file = "nowhere.toml"
[[event]]
at = "-1"
do = "restart"
[[event]]
at = 1
do = "disable"
rule = "gate"
"#;

/// Every test that the table of requirements names is there.
#[test]
fn the_table_of_requirements_names_tests_that_exist() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let read = |path: &str| std::fs::read_to_string(root.join(path)).unwrap();
    let mut sources = read("crates/zarnet-formats/tests/traffic.rs");
    for name in [
        "tests/conformance.rs",
        "tests/device.rs",
        "tests/lines.rs",
        "src/device/bindings/session.rs",
        "src/device/compiled/prefix_translation.rs",
    ] {
        sources += &read(&format!("crates/zarnet-core/{name}"));
    }
    let page = read("docs/conformance.md");
    let rows: Vec<&str> = page.lines().filter(|l| l.starts_with("| ") && l.contains('_')).collect();
    assert!(rows.len() > 50);
    for row in rows {
        let named = row.rsplit('|').nth(1).unwrap().split('`').filter(|n| n.contains('_'));
        for name in named {
            let there = [format!("fn {name}("), format!("    {name}: ")].iter().any(|t| sources.contains(t));
            assert!(there, "docs/conformance.md names {name}");
        }
    }
}

/// `-` is standard input; a list that is not in order is sorted; JSON, CSV and text tell the same.
#[test]
fn lists_come_from_anywhere_in_any_order() {
    let folder = estate();
    let sorted = "start,protocol,source,source-port,destination,destination-port\n0,udp,kiosk-1,5000,198.51.100.53,53\n1,udp,kiosk-2,5000,198.51.100.53,53\n";
    let shuffled = "start,protocol,source,source-port,destination,destination-port\n1,udp,kiosk-2,5000,198.51.100.53,53\n0,udp,kiosk-1,5000,198.51.100.53,53\n";
    let run = |input| zarnet(folder.path(), &["predict", "harbour.toml", "-", "--format", "csv"], input);
    assert_eq!(text(&run(sorted)), text(&run(shuffled)));
    let out = text(&run(sorted));
    assert!(out.contains("udp,10.61.16.12,5000,203.0.113.2,5001,"), "{out}");
}

/// A host that only the traffic knows answers from the beginning.
#[test]
fn an_undeclared_host_is_there_before_it_first_sends() {
    let folder = estate();
    let list = "start,protocol,source,destination,destination-port\n0,udp,kiosk-1,10.61.17.77,9\n5,udp,10.61.17.77,198.51.100.53,53\n";
    let output = zarnet(folder.path(), &["predict", "harbour.toml", "-", "--format", "json"], list);
    let out = text(&output);
    assert!(out.contains("\"on-link\"") && out.contains("\"translated\": 1"), "{out}");
}

/// A plan with one fault each: its expectation fails for the reason that its head tells, and `demo` writes all of them.
#[test]
fn every_fault_shows_as_it_says() {
    let folder = tempfile::tempdir().unwrap();
    assert_eq!(zarnet(folder.path(), &["demo", "-q"], "").status.code(), Some(0));
    let here = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/faults");
    let mut names: Vec<_> = std::fs::read_dir(here).unwrap().map(|f| f.unwrap().file_name()).collect();
    names.sort();
    names.retain(|n| n.to_string_lossy().ends_with(".toml"));
    assert!(names.len() >= 40);
    for name in names {
        let path = folder.path().join("saltmere/faults").join(&name);
        let text = std::fs::read_to_string(&path).unwrap_or_else(|e| panic!("demo does not write {name:?}: {e}"));
        let shows = text.lines().find_map(|l| l.strip_prefix("# Shows as: ")).unwrap();
        let flow = text.split("[[expect]]").nth(1).unwrap().split('"').nth(1).unwrap();
        let with = text.lines().find_map(|l| l.strip_prefix("# With: ")).unwrap_or("");
        // words, of which one in quotes may hold spaces
        let with = with.split('"').enumerate().flat_map(|(i, part)| match i % 2 {
            0 => part.split_whitespace().collect(),
            _ => vec![part],
        });
        let with: Vec<&str> = with.collect();
        let answer = |command: &str| -> serde_json::Value {
            let words = [&[command, path.to_str().unwrap(), flow, "--format", "json"], &with[..]].concat();
            let output = zarnet(path.parent().unwrap(), &words, "");
            serde_json::from_slice(&output.stdout).unwrap_or_else(|e| panic!("{name:?}: {e} {}", self::text(&output)))
        };
        let followed = answer("follow");
        assert_eq!(followed["reason"].as_str().unwrap_or("answered"), shows, "{name:?}");
        let why = answer("why");
        let causes: Vec<&str> = why["causes"].as_array().unwrap().iter().map(|c| c.as_str().unwrap()).collect();
        let wanted = text.lines().find_map(|l| l.strip_prefix("# Cause: ")).unwrap();
        assert_eq!((why["works"].as_bool(), causes.join(" + ").as_str()), (Some(false), wanted), "{name:?}");
        for repair in why["repairs"].as_array().unwrap() {
            assert_eq!(repair["works"], true, "{name:?}");
        }
    }
}

/// The day is played again for each repair, also where it comes from standard input.
#[test]
fn a_day_from_standard_input_is_played_for_every_repair() {
    let faults = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/faults");
    let list = "start,protocol,source,destination,destination-port\n0,tcp,till-2,198.51.100.80,443\n";
    let words = ["why", "pool-exhausted.toml", "till -> 198.51.100.80:443/tcp", "--format", "json", "--during"];
    let answer = |during: &str, input: &str| -> serde_json::Value {
        serde_json::from_slice(&zarnet(&faults, &[&words[..], &[during]].concat(), input).stdout).unwrap()
    };
    let typed = answer("till-2 -> 198.51.100.80:443/tcp", "");
    assert_eq!(typed["repairs"].as_array().unwrap().len(), 3);
    assert_eq!(answer("-", list), typed);
}

/// A repair is written into the plan that it was tried on, and does there what it did; nothing else changes.
#[test]
fn a_repair_is_applied_as_it_was_shown() {
    let folder = tempfile::tempdir().unwrap();
    let faults = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/faults");
    let flow = "till -> 198.51.100.80:443/tcp";
    for name in ["rule-disabled", "exempted", "egress-filter", "realms-swapped", "no-route-out", "empty-group"] {
        let path = folder.path().join("plan.toml");
        let before = std::fs::read_to_string(faults.join(format!("{name}.toml"))).unwrap();
        std::fs::write(&path, &before).unwrap();
        let shown = zarnet(folder.path(), &["why", "plan.toml", flow, "--format", "json"], "");
        let shown: serde_json::Value = serde_json::from_slice(&shown.stdout).unwrap();
        assert_eq!(
            zarnet(folder.path(), &["why", "plan.toml", flow, "--apply", "1"], "").status.code(),
            Some(0),
            "{name}"
        );
        let after = std::fs::read_to_string(&path).unwrap();
        let diff = shown["repairs"][0]["diff"].as_str().unwrap();
        let count = |mark: char| {
            diff.lines().filter(|l| l.starts_with(mark) && !l.starts_with("+++") && !l.starts_with("---")).count()
        };
        let lines = |text: &str| text.lines().count() as i64;
        assert_eq!(lines(&after) - lines(&before), count('+') as i64 - count('-') as i64, "{name}");
        assert_eq!(zarnet(folder.path(), &["expect", "plan.toml"], "").status.code(), Some(0), "{name}");
        assert_eq!(zarnet(folder.path(), &["why", "plan.toml", flow], "").status.code(), Some(0), "{name}");
    }
}

/// The report for a build, and the capture, are whole files; a capture that is there stays unless told otherwise.
#[test]
fn reports_and_captures_are_written_whole() {
    let folder = estate();
    let read = |name: &str| std::fs::read(folder.path().join(name)).unwrap();
    let run = |arguments: &[&str]| zarnet(folder.path(), arguments, "").status.code();
    assert_eq!(run(&["expect", "harbour.toml", "--junit", "report.xml"]), Some(0));
    let report = String::from_utf8(read("report.xml")).unwrap();
    assert!(report.contains("<testsuite name=\"harbour.toml\" tests=\"17\" failures=\"0\">"), "{report}");
    assert!(report.contains("name=\"kiosk-1 -&gt; gauge-north:4010/tcp: refused, reason policy\""), "{report}");
    let flow = "kiosk-3 -> 198.51.100.80:443/tcp";
    assert_eq!(run(&["follow", "harbour.toml", flow, "--capture-to", "seen.pcapng"]), Some(0));
    let first = read("seen.pcapng");
    let other = "kiosk-2 -> 198.51.100.80:443/tcp";
    assert_eq!(run(&["follow", "harbour.toml", other, "--capture-to", "seen.pcapng"]), Some(2));
    assert_eq!(read("seen.pcapng"), first);
    assert_eq!(run(&["follow", "harbour.toml", other, "--capture-to", "seen.pcapng", "--force"]), Some(0));
    assert_ne!(read("seen.pcapng"), first);
}

/// What `define` writes is what it shows, with the comments of the plan kept, and can be taken back.
#[test]
fn what_is_defined_is_written_and_can_be_taken_back() {
    let folder = estate();
    let read = || std::fs::read_to_string(folder.path().join("harbour.toml")).unwrap();
    let run = |arguments: &[&str]| {
        let all = [&["define", "harbour.toml", "--device", "harbour-edge", "-q"], arguments].concat();
        zarnet(folder.path(), &all, "").status.code()
    };
    let before = read();
    let commands: [&[&str]; 9] = [
        &["addresses", "crews", "10.61.32.40-10.61.32.49", "office-4"],
        &["address-pool", "crew-lines", "2", "--pick", "in-turn"],
        &[
            "pool",
            "crew-lines",
            "--name",
            "crews-out",
            "--source",
            "crews",
            "--before",
            "office-lines-out",
            "--when-exhausted",
            "uplink",
        ],
        &["copy", "tide-gauge-north", "tide-gauge-west", "--external", "uplink:24013/tcp"],
        &["disable", "tide-gauge-west"],
        &["enable", "tide-gauge-west"],
        &["move", "tide-gauge-west", "--before", "ticketing"],
        &["exempt", "--name", "as-it-is", "--source", "offices", "--destination", "head-office", "--log"],
        &["answers-for", "203.0.113.14"],
    ];
    for command in commands {
        assert_eq!(run(command), Some(0), "{command:?}");
    }
    let after = read();
    let wanted = [
        "crews = [\"10.61.32.40-10.61.32.49\", \"office-4\"]",
        "  [[device.pool]]\n  name = \"crew-lines\"\n  addresses = \"203.0.113.3-203.0.113.4\"\n  pick = \"in-turn\"\n",
        "  name = \"crews-out\"\n  type = \"pool\"\n  as = \"crew-lines\"\n  when-exhausted = \"uplink\"\n  source = \"crews\"\n",
        "  proxy-arp = [\"203.0.113.14\"]\n",
    ];
    for text in wanted {
        assert!(after.contains(text), "{text}\n{after}");
    }
    assert!(after.find("tide-gauge-west") < after.find("name = \"ticketing\""), "{after}");
    for comment in before.lines().filter_map(|l| l.split_once("# ")).map(|l| l.1) {
        assert!(after.contains(comment), "the comment is gone: {comment}");
    }
    for rule in ["tide-gauge-west", "crews-out", "as-it-is"] {
        assert_eq!(run(&["remove", rule]), Some(0));
    }
    assert!(!read().contains("tide-gauge-west"));
    assert_eq!(zarnet(folder.path(), &["expect", "harbour.toml"], "").status.code(), Some(0));
    // what comes to nothing leaves the plan as it was
    let whole = read();
    assert_eq!(run(&["forward", "uplink:24011/tcp", "gauge-south:4010", "--from", "yard"]), Some(2));
    assert_eq!(read(), whole);
}

/// The schema knows every key that the reader takes, and no other.
#[test]
fn the_schema_knows_the_keys_of_the_reader() {
    let folder = estate();
    let printed = zarnet(folder.path(), &["schema"], "");
    let schema: serde_json::Value = serde_json::from_slice(&printed.stdout).unwrap();
    let keys =
        |path: &str| -> Vec<String> { schema.pointer(path).unwrap().as_object().unwrap().keys().cloned().collect() };
    let device = "/properties/device/items/properties";
    let tables = [
        ("".to_owned(), "/properties".to_owned(), String::new()),
        ("[[segment]]".to_owned(), "/properties/segment/items/properties".to_owned(), "name = \"s\"".to_owned()),
        ("[[host]]".to_owned(), "/properties/host/items/properties".to_owned(), String::new()),
        ("[[device]]".to_owned(), device.to_owned(), String::new()),
        ("[[device]]\n[[device.interface]]".to_owned(), format!("{device}/interface/items/properties"), String::new()),
        ("[[device]]\n[[device.pool]]".to_owned(), format!("{device}/pool/items/properties"), String::new()),
        ("[[device]]\n[[device.rule]]".to_owned(), format!("{device}/rule/items/properties"), String::new()),
        ("[[device]]\n[[device.policy]]".to_owned(), format!("{device}/policy/items/properties"), String::new()),
        ("[[expect]]".to_owned(), "/properties/expect/items/properties".to_owned(), String::new()),
    ];
    for (head, path, _) in tables {
        let keys = keys(&path);
        // a key that nobody knows is told as such; those of the schema are not, whatever else is wrong with them
        let lines: String = keys.iter().map(|k| format!("{k} = 7.5\n")).collect();
        std::fs::write(folder.path().join("keys.toml"), format!("{head}\n{lines}nobody-knows = 1\n")).unwrap();
        let output = zarnet(folder.path(), &["check", "keys.toml", "--format", "json"], "");
        let said: serde_json::Value = serde_json::from_slice(&output.stdout).unwrap();
        let findings = said["findings"].as_array().unwrap();
        let unknown: Vec<&str> =
            findings.iter().filter(|f| f["name"] == "unknown-key").map(|f| f["message"].as_str().unwrap()).collect();
        assert_eq!(unknown.len(), 1, "{head}: {unknown:?}");
        assert!(unknown[0].contains("nobody-knows"), "{unknown:?}");
    }
}

/// Completions and the manual name every command.
#[test]
fn completions_and_manual_name_every_command() {
    let folder = tempfile::tempdir().unwrap();
    let say = |arguments: &[&str]| String::from_utf8(zarnet(folder.path(), arguments, "").stdout).unwrap();
    for shell in ["bash", "zsh", "fish", "elvish", "powershell"] {
        let text = say(&["completions", shell]);
        assert!(["define", "impact", "capacity", "when-exhausted"].iter().all(|w| text.contains(w)), "{shell}");
    }
    let manual = say(&["man"]);
    assert!(manual.starts_with(".") && manual.contains("COMMAND: DEFINE") && manual.contains("COMMAND: IMPACT"));
}

/// What no machine has room for is said before, not found out after an hour.
#[test]
fn more_than_there_is_memory_for_is_refused() {
    let folder = estate();
    std::fs::write(folder.path().join("flood.toml"), FLOOD.replace("RATE", "9000000")).unwrap();
    for command in ["capacity", "predict"] {
        let output = zarnet(folder.path(), &[command, "terminal.toml", "flood.toml"], "");
        assert_eq!(output.status.code(), Some(2));
        let said = String::from_utf8(output.stderr).unwrap();
        assert!(said.contains("error[too-much-memory]: the load profiles need about 1134.0 GB"), "{said}");
    }
}

/// Pictures are what their names say, and whole; a remedy is written as it was shown, and helps.
#[test]
fn pictures_are_drawn_and_remedies_written() {
    let folder = estate();
    let run = |arguments: &[&str]| {
        zarnet(folder.path(), &[&["capacity", "terminal.toml", "saturday.toml", "-q"], arguments].concat(), "")
    };
    let read = |name: &str| std::fs::read(folder.path().join(name)).unwrap();
    assert_eq!(run(&["--brief", "--chart", "use.svg"]).status.code(), Some(1));
    let svg = String::from_utf8(read("use.svg")).unwrap();
    for words in
        ["<svg", "pool desk-lines: addresses in use over time", "all 1024", "first refused at", "target 0.10 %"]
    {
        assert!(svg.contains(words), "{words} is not in the picture");
    }
    assert_eq!(run(&["--brief", "--chart", "use.png"]).status.code(), Some(1));
    assert!(read("use.png").starts_with(b"\x89PNG\r\n\x1a\n"));
    assert_eq!(run(&["--brief", "--chart", "use.png"]).status.code(), Some(2), "it is there already");
    let refused = || {
        let answer = run(&["--brief", "--format", "json"]);
        let answer: serde_json::Value = serde_json::from_slice(&answer.stdout).unwrap();
        answer["resources"][0]["refused-flows"].as_u64().unwrap()
    };
    let before = refused();
    let written = run(&["--supply", "desk-lines", "--runs", "0", "--apply", "shorter-binding"]);
    assert_eq!(written.status.code(), Some(0), "{}", String::from_utf8_lossy(&written.stderr));
    let plan = String::from_utf8(read("terminal.toml")).unwrap();
    assert!(plan.contains("timers = { binding = 0 }                    # a desk keeps"), "{plan}");
    assert!(refused() < before);
}

#[test]
fn a_new_plan_checks_clean_and_stays_whole() {
    let folder = tempfile::tempdir().unwrap();
    let run = |arguments: &[&str]| zarnet(folder.path(), arguments, "");
    snapshot("new.txt", &run(&["new", "edge.toml", "--internal", "10.7.0.1/22", "--external", "198.51.100.2/29"]));
    snapshot("new-check.txt", &run(&["check", "edge.toml"]));
    let written = std::fs::read_to_string(folder.path().join("edge.toml")).unwrap();
    snapshot("new-again.txt", &run(&["new", "edge.toml"]));
    assert_eq!(std::fs::read_to_string(folder.path().join("edge.toml")).unwrap(), written);
    assert_eq!(run(&["new", "edge.toml", "--force"]).status.code(), Some(0));
    snapshot("new-wrong.txt", &run(&["new", "other.toml", "--internal", "10.7.0.1"]));
    assert!(!folder.path().join("other.toml").exists());
}

/// A reader that goes away is no failure.
#[test]
fn a_closed_pipe_is_silent() {
    let folder = estate();
    let mut child = Command::new(env!("CARGO_BIN_EXE_zarnet"))
        .args(["predict", "harbour.toml", "morning.csv", "--rows", "0", "--at", "peak"])
        .current_dir(folder.path())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    drop(child.stdout.take());
    let output = child.wait_with_output().unwrap();
    assert_eq!(String::from_utf8_lossy(&output.stderr), "");
    assert!(matches!(output.status.code(), Some(0 | 1)));
}

/// Every stable name has an entry in the documentation.
#[test]
fn every_name_is_documented() {
    let read = |name: &str| {
        std::fs::read_to_string(Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs").join(name)).unwrap()
    };
    let missing = |page: &str, names: Vec<&str>| {
        let text = read(page);
        let missing: Vec<&str> = names.into_iter().filter(|n| !text.contains(&format!("`{n}`"))).collect();
        assert!(missing.is_empty(), "docs/{page} lacks {missing:?}");
    };
    missing("reasons.md", zarnet_core::Reason::ALL.iter().map(|r| r.name()).collect());
    missing("errors.md", zarnet_core::plan::PlanError::NAMES.to_vec());
    missing("errors.md", zarnet_formats::traffic::Fault::NAMES.to_vec());
    missing("why.md", zarnet_core::diagnose::Cause::ALL.iter().map(|c| c.name()).collect());
    missing("why.md", zarnet_core::compare::Why::ALL.iter().map(|w| w.name()).collect());
    missing("findings.md", zarnet_core::audit::FINDINGS.iter().map(|f| f.0).collect());
    missing("capacity.md", zarnet_core::capacity::Kind::ALL.iter().map(|k| k.name()).collect());
    missing("capacity.md", zarnet_core::capacity::Assumption::ALL.iter().map(|a| a.name()).collect());
    missing("plan.md", zarnet_core::plan::Timers::NAMES.to_vec());
}

/// The page on limits says what the module says.
#[test]
fn every_limit_is_documented() {
    let page = std::fs::read_to_string(Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/limits.md")).unwrap();
    for limit in zarnet_core::limits::ALL {
        let digits = limit.most.to_string();
        let start = digits.len() % 3;
        let (head, tail) = digits.split_at(start);
        let groups = tail.as_bytes().chunks(3).map(|c| std::str::from_utf8(c).unwrap());
        let most = std::iter::once(head).filter(|h| !h.is_empty()).chain(groups).collect::<Vec<_>>().join(",");
        let row = page.lines().find(|l| l.starts_with(&format!("| {} |", limit.what)));
        let row = row.unwrap_or_else(|| panic!("docs/limits.md lacks \"{}\"", limit.what));
        assert!(row.contains(&format!("| {most}")), "{row}: {most}");
        assert!(row.contains(limit.reason) && row.contains(limit.error), "{row}");
    }
}
