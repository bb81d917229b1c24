//! What every command prints, held against snapshots.

use std::path::Path;

use super::plans::{BAD_DAY, DAY, FLOOD, HELD, HIDDEN, LEASED, RISKY};
use super::{estate, snapshot, zarnet};

#[test]
fn what_it_prints() {
    let folder = estate();
    let file = |name: &str, text: &str| std::fs::write(folder.path().join(name), text).unwrap();
    file(
        "broken.toml",
        "plan = \"x\"\n[[device]]\nname = \"edge\"\ndefault-polcy = \"drop\"\n  [[device.rule]]\n \
          name = \"a\"\n  type = \"overload\"\n  as = \"uplnk\"\n",
    );
    file("risky.toml", RISKY);
    file(
        "bad.csv",
        "start,protocol,source,destination,destination-port\n0,tcp,kiosk-9,198.51.100.80,443\n\
         1,tcp,kiosk-1,198.51.100.80,99999\n2,udp,kiosk-1,198.51.100.53,53\n",
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
    file(
        "changed.toml",
        &less.replace("name = \"ticketing\"", "name = \"ticketing\"\n  enabled = false"),
    );
    file("hidden.toml", HIDDEN);
    let define = ["define", "harbour.toml", "--device", "harbour-edge"];
    let saturday = ["capacity", "terminal.toml", "saturday.toml"];
    let compare =
        ["compare", "harbour.toml", "morning.csv", "--at", "2h45m", "--observed", "observed.csv"];
    let capture: &[&str] = &[
        "predict",
        "harbour.toml",
        "quay.pcap.gz",
        "--seen-at",
        "harbour-edge/quay",
        "--sessions",
    ];
    let cases: &[(&str, &[&str])] = &[
        ("check-fine.txt", &["check", "harbour.toml"]),
        ("check-errors.txt", &["check", "broken.toml"]),
        ("check-errors-json.txt", &["check", "broken.toml", "--format", "json"]),
        ("check-findings.txt", &["check", "risky.toml"]),
        ("predict-flow.txt", &["predict", "harbour.toml", flow, "--sessions"]),
        ("predict-flow-80.txt", &["predict", "harbour.toml", flow, "--sessions", "--width", "80"]),
        ("predict-flow-json.txt", &["predict", "harbour.toml", flow, "--format", "json"]),
        ("predict-flow-csv.txt", &["predict", "harbour.toml", flow, "--format", "csv"]),
        (
            "predict-morning.txt",
            &["predict", "harbour.toml", "morning.csv", "--at", "2h45m", "--rows", "12", "-v"],
        ),
        (
            "predict-peak.txt",
            &["predict", "harbour.toml", "morning.csv", "--at", "peak", "--rows", "4"],
        ),
        (
            "predict-empty.txt",
            &["predict", "risky.toml", "10.0.0.5 -> 198.51.100.1:1/udp", "--at", "1h"],
        ),
        ("predict-capture.txt", capture),
        (
            "predict-capture-elsewhere.txt",
            &[
                "predict",
                "harbour.toml",
                "quay.pcap.gz",
                "--seen-at",
                "harbour-edge/yard",
                "--rows",
                "4",
            ],
        ),
        ("predict-capture-nowhere.txt", &["predict", "harbour.toml", "quay.pcap.gz"]),
        ("predict-bad-lines.txt", &["predict", "harbour.toml", "bad.csv"]),
        (
            "predict-skip-bad.txt",
            &["predict", "harbour.toml", "bad.csv", "--skip-bad", "--rows", "4"],
        ),
        ("predict-no-plan.txt", &["predict", "harbor.toml", "morning.csv"]),
        (
            "predict-no-interface.txt",
            &["predict", "harbour.toml", "quay.pcap.gz", "--seen-at", "harbour-edge/key"],
        ),
        ("predict-no-time.txt", &["predict", "harbour.toml", "morning.csv", "--at", "noon"]),
        (
            "predict-storm.txt",
            &["predict", "harbour.toml", "storm.toml", "--at", "31m", "--rows", "4", "-v"],
        ),
        ("predict-day.txt", &["predict", "leased.toml", "day.toml", "--at", "8m", "--rows", "8"]),
        ("predict-bad-day.txt", &["predict", "leased.toml", "bad-day.toml"]),
        ("follow.txt", &["follow", "harbour.toml", flow]),
        ("follow-80.txt", &["follow", "harbour.toml", flow, "--width", "80", "-v"]),
        (
            "follow-json.txt",
            &["follow", "harbour.toml", "kiosk-1 -> 203.0.113.5:443/tcp", "--format", "json"],
        ),
        ("follow-csv.txt", &["follow", "harbour.toml", flow, "--format", "csv"]),
        (
            "follow-chain.txt",
            &["follow", "harbour.toml", "198.51.100.130 -> 203.0.113.34:24022/tcp"],
        ),
        ("follow-private.txt", &["follow", "harbour.toml", "192.0.2.200 -> 10.61.8.20:443/tcp"]),
        ("follow-own.txt", &["follow", "harbour.toml", "harbour-edge -> 198.51.100.53:53/udp"]),
        (
            "follow-during.txt",
            &["follow", "harbour.toml", office, "--during", "morning.csv", "--at", "2h20m"],
        ),
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
        (
            "why-json.txt",
            &["why", "chain.toml", "198.51.100.80 -> 203.0.113.2:443/tcp", "--format", "json"],
        ),
        (
            "why-csv.txt",
            &["why", "chain.toml", "198.51.100.80 -> 203.0.113.2:443/tcp", "--format", "csv"],
        ),
        ("why-works.txt", &["why", "harbour.toml", flow]),
        (
            "why-during.txt",
            &["why", "harbour.toml", office, "--during", "morning.csv", "--at", "2h20m"],
        ),
        ("why-two.txt", &["why", "two.toml", "till -> 198.51.100.80:443/tcp"]),
        ("why-outside.txt", &["why", "harbour.toml", "192.0.2.200 -> 10.61.8.20:443/tcp"]),
        (
            "why-no-such-repair.txt",
            &["why", "chain.toml", "198.51.100.80 -> 203.0.113.2:443/tcp", "--apply", "9"],
        ),
        ("compare.txt", &[&compare[..], &["--columns", map, "--device", "harbour-edge"]].concat()),
        (
            "compare-json.txt",
            &[&compare[..], &["--columns", map, "--device", "harbour-edge", "--format", "json"]]
                .concat(),
        ),
        (
            "compare-csv.txt",
            &[&compare[..], &["--columns", map, "--device", "harbour-edge", "--format", "csv"]]
                .concat(),
        ),
        ("compare-whose.txt", &[&compare[..], &["--columns", map]].concat()),
        ("compare-bad-columns.txt", &[&compare[..], &["--columns", "inside=2"]].concat()),
        ("compare-no-names.txt", &compare),
        ("addresses.txt", &["addresses", "harbour.toml"]),
        (
            "addresses-free.csv",
            &["addresses", "harbour.toml", "--free", "--format", "csv", "--device", "harbour-edge"],
        ),
        ("sheet.txt", &["sheet", "harbour.toml"]),
        ("sheet.json", &["sheet", "harbour.toml", "--format", "json", "--device", "jetty-box"]),
        ("impact.txt", &["impact", "harbour.toml", "changed.toml"]),
        ("impact.json", &["impact", "harbour.toml", "changed.toml", "--format", "json"]),
        ("impact.csv", &["impact", "harbour.toml", "changed.toml", "--format", "csv"]),
        ("impact-none.txt", &["impact", "harbour.toml", "harbour.toml"]),
        (
            "impact-during.txt",
            &[
                "impact",
                "harbour.toml",
                "changed.toml",
                "--during",
                "morning.csv",
                "--at",
                "2h45m",
                "--rows",
                "4",
            ],
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
        (
            "define-taken.txt",
            &[&define[..], &["static", "office-1", "203.0.113.12", "--dry-run"]].concat(),
        ),
        (
            "define-name-taken.txt",
            &[
                &define[..],
                &["exempt", "--name", "ballast", "--destination", "head-office", "--dry-run"],
            ]
            .concat(),
        ),
        (
            "define-sizes.txt",
            &[&define[..], &["static", "10.61.8.32/30", "203.0.113.6-203.0.113.7", "--dry-run"]]
                .concat(),
        ),
        ("define-no-rule.txt", &[&define[..], &["remove", "balast"]].concat()),
        ("define-no-device.txt", &["define", "harbour.toml", "disable", "ticketing"]),
        (
            "define-wrong.txt",
            &[&define[..], &["pool", "office-line", "--source", "offices"]].concat(),
        ),
        ("capacity.txt", &[&saturday[..], &["--brief", "--rows", "3"]].concat()),
        (
            "capacity-ascii.txt",
            &[&saturday[..], &["--brief", "--supply", "desk-lines", "--ascii", "--width", "80"]]
                .concat(),
        ),
        (
            "capacity-remedies.txt",
            &[&saturday[..], &["--supply", "desk-lines", "--runs", "2", "--rows", "2"]].concat(),
        ),
        (
            "capacity.csv",
            &[&saturday[..], &["--brief", "--format", "csv", "--at", "2h30m"]].concat(),
        ),
        (
            "capacity-fine.txt",
            &[
                "capacity",
                "terminal.toml",
                "10.62.32.21 -> 198.51.100.25:443/tcp",
                "--growth",
                "5%",
            ],
        ),
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
        (
            "capacity-no-supply.txt",
            &[&saturday[..], &["--brief", "--supply", "desk-line"]].concat(),
        ),
        ("capacity-no-target.txt", &[&saturday[..], &["--target", "0"]].concat()),
        ("capacity-no-picture.txt", &[&saturday[..], &["--chart", "use.jpg"]].concat()),
        (
            "capacity-no-remedy.txt",
            &[
                "capacity",
                "terminal.toml",
                "10.62.32.21 -> 198.51.100.25:443/tcp",
                "--remedy",
                "larger-pool",
            ],
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
