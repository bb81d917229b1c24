//! What commands write: plans, reports, captures and pictures.

use std::path::Path;

use super::{estate, snapshot, zarnet};

/// A repair is written into the plan that it was tried on, and does there what it did; nothing else
/// changes.
#[test]
fn a_repair_is_applied_as_it_was_shown() {
    let folder = tempfile::tempdir().unwrap();
    let faults = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/faults");
    let flow = "till -> 198.51.100.80:443/tcp";
    for name in [
        "rule-disabled",
        "exempted",
        "egress-filter",
        "realms-swapped",
        "no-route-out",
        "empty-group",
    ] {
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
            diff.lines()
                .filter(|l| l.starts_with(mark) && !l.starts_with("+++") && !l.starts_with("---"))
                .count()
        };
        let lines = |text: &str| text.lines().count() as i64;
        assert_eq!(lines(&after) - lines(&before), count('+') as i64 - count('-') as i64, "{name}");
        assert_eq!(
            zarnet(folder.path(), &["expect", "plan.toml"], "").status.code(),
            Some(0),
            "{name}"
        );
        assert_eq!(
            zarnet(folder.path(), &["why", "plan.toml", flow], "").status.code(),
            Some(0),
            "{name}"
        );
    }
}

/// The report for a build, and the capture, are whole files; a capture that is there stays unless
/// told otherwise.
#[test]
fn reports_and_captures_are_written_whole() {
    let folder = estate();
    let read = |name: &str| std::fs::read(folder.path().join(name)).unwrap();
    let run = |arguments: &[&str]| zarnet(folder.path(), arguments, "").status.code();
    assert_eq!(run(&["expect", "harbour.toml", "--junit", "report.xml"]), Some(0));
    let report = String::from_utf8(read("report.xml")).unwrap();
    assert!(
        report.contains("<testsuite name=\"harbour.toml\" tests=\"17\" failures=\"0\">"),
        "{report}"
    );
    assert!(
        report.contains("name=\"kiosk-1 -&gt; gauge-north:4010/tcp: refused, reason policy\""),
        "{report}"
    );
    let flow = "kiosk-3 -> 198.51.100.80:443/tcp";
    assert_eq!(run(&["follow", "harbour.toml", flow, "--capture-to", "seen.pcapng"]), Some(0));
    let first = read("seen.pcapng");
    let other = "kiosk-2 -> 198.51.100.80:443/tcp";
    assert_eq!(run(&["follow", "harbour.toml", other, "--capture-to", "seen.pcapng"]), Some(2));
    assert_eq!(read("seen.pcapng"), first);
    assert_eq!(
        run(&["follow", "harbour.toml", other, "--capture-to", "seen.pcapng", "--force"]),
        Some(0)
    );
    assert_ne!(read("seen.pcapng"), first);
}

/// What `define` writes is what it shows, with the comments of the plan kept, and can be taken
/// back.
#[test]
fn what_is_defined_is_written_and_can_be_taken_back() {
    let folder = estate();
    let read = || std::fs::read_to_string(folder.path().join("harbour.toml")).unwrap();
    let run = |arguments: &[&str]| {
        let all =
            [&["define", "harbour.toml", "--device", "harbour-edge", "-q"], arguments].concat();
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
        &[
            "exempt",
            "--name",
            "as-it-is",
            "--source",
            "offices",
            "--destination",
            "head-office",
            "--log",
        ],
        &["answers-for", "203.0.113.14"],
    ];
    for command in commands {
        assert_eq!(run(command), Some(0), "{command:?}");
    }
    let after = read();
    let wanted = [
        "crews = [\"10.61.32.40-10.61.32.49\", \"office-4\"]",
        "  [[device.pool]]\n  name = \"crew-lines\"\n  addresses = \"203.0.113.3-203.0.113.4\"\n  \
         pick = \"in-turn\"\n",
        "  name = \"crews-out\"\n  type = \"pool\"\n  as = \"crew-lines\"\n  when-exhausted = \
         \"uplink\"\n  source = \"crews\"\n",
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
    assert_eq!(
        run(&["forward", "uplink:24011/tcp", "gauge-south:4010", "--from", "yard"]),
        Some(2)
    );
    assert_eq!(read(), whole);
}

/// Pictures are what their names say, and whole; a remedy is written as it was shown, and helps.
#[test]
fn pictures_are_drawn_and_remedies_written() {
    let folder = estate();
    let run = |arguments: &[&str]| {
        zarnet(
            folder.path(),
            &[&["capacity", "terminal.toml", "saturday.toml", "-q"], arguments].concat(),
            "",
        )
    };
    let read = |name: &str| std::fs::read(folder.path().join(name)).unwrap();
    assert_eq!(run(&["--brief", "--chart", "use.svg"]).status.code(), Some(1));
    let svg = String::from_utf8(read("use.svg")).unwrap();
    for words in [
        "<svg",
        "pool desk-lines: addresses in use over time",
        "all 1024",
        "refused, the first at",
        "target 0.10 %",
    ] {
        assert!(svg.contains(words), "{words} is not in the picture");
    }
    assert_eq!(run(&["--brief", "--chart", "use.png"]).status.code(), Some(1));
    assert!(read("use.png").starts_with(b"\x89PNG\r\n\x1a\n"));
    assert_eq!(
        run(&["--brief", "--chart", "use.png"]).status.code(),
        Some(2),
        "it is there already"
    );
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
    snapshot(
        "new.txt",
        &run(&["new", "edge.toml", "--internal", "10.7.0.1/22", "--external", "198.51.100.2/29"]),
    );
    snapshot("new-check.txt", &run(&["check", "edge.toml"]));
    let written = std::fs::read_to_string(folder.path().join("edge.toml")).unwrap();
    snapshot("new-again.txt", &run(&["new", "edge.toml"]));
    assert_eq!(std::fs::read_to_string(folder.path().join("edge.toml")).unwrap(), written);
    assert_eq!(run(&["new", "edge.toml", "--force"]).status.code(), Some(0));
    snapshot("new-wrong.txt", &run(&["new", "other.toml", "--internal", "10.7.0.1"]));
    assert!(!folder.path().join("other.toml").exists());
}

/// Supplies of a plan that takes over in the middle of the traffic have its names, and rules that
/// held something before are named too.
#[test]
fn capacity_knows_the_supplies_of_a_plan_that_takes_over() {
    let folder = estate();
    let path = folder.path().join("terminal.toml");
    let plan = std::fs::read_to_string(&path).unwrap();
    let pool = |name: &str, addresses: &str| {
        format!("  [[device.pool]]\n  name = \"{name}\"\n  addresses = [\"{addresses}\"]\n\n")
    };
    let pools = pool("spare-lines", "203.0.113.65-203.0.113.66") + &pool("line", "203.0.113.67");
    let first = plan.find("  [[device.pool]]").unwrap();
    let after = format!("{}{pools}{}", &plan[..first], &plan[first..]);
    std::fs::write(folder.path().join("after.toml"), after).unwrap();
    let event = "[[event]]\nat = \"2h50m\"\ndo = \"plan\"\nfile = \"after.toml\"\n";
    std::fs::write(folder.path().join("change.toml"), event).unwrap();
    for more in [&["--brief"][..], &[], &["--at", "peak", "--brief"], &["--at", "end", "--brief"]] {
        let asked = ["capacity", "terminal.toml", "saturday.toml", "change.toml", "-q"];
        let out = zarnet(folder.path(), &[&asked[..], more].concat(), "");
        let text = String::from_utf8(out.stdout).unwrap();
        assert_eq!(
            out.status.code(),
            Some(1),
            "{more:?}: {}",
            String::from_utf8_lossy(&out.stderr)
        );
        assert!(text.contains("pool desk-lines") && text.contains("desks-out"), "{more:?}: {text}");
        assert!(text.contains("Another plan takes over in this traffic"), "{more:?}: {text}");
    }
}
