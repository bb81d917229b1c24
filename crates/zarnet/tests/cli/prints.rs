//! What every command prints, held against snapshots.

use std::path::Path;

use super::plans::{BAD_DAY, DAY, FLOOD, HELD, HIDDEN, LEASED, RISKY, several};
use super::{estate, snapshot, zarnet};

const FLOW: &str = "kiosk-3 -> 198.51.100.80:443/tcp";
const OFFICE: &str = "office-5 -> 198.51.100.80:443/tcp";
const MAP: &str = "protocol=1,internal=2,external=3";
const DEFINE: &[&str] = &["define", "harbour.toml", "--device", "harbour-edge"];
const SATURDAY: &[&str] = &["capacity", "terminal.toml", "saturday.toml"];
const COMPARE: &[&str] =
    &["compare", "harbour.toml", "morning.csv", "--at", "2h45m", "--observed", "observed.csv"];
const CAPTURE: &[&str] =
    &["predict", "harbour.toml", "quay.pcap.gz", "--seen-at", "harbour-edge/quay", "--sessions"];

/// The demo estate, and files besides that some commands are run on.
pub(crate) fn folder() -> tempfile::TempDir {
    let folder = estate();
    let file = |name: &str, text: &str| std::fs::write(folder.path().join(name), text).unwrap();
    file(
        "broken.toml",
        "plan = \"x\"\n[[device]]\nname = \"edge\"\ndefault-polcy = \"drop\"\n  [[device.rule]]\n \
          name = \"a\"\n  type = \"overload\"\n  as = \"uplnk\"\n",
    );
    file("risky.toml", RISKY);
    file("several.toml", &several());
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
    let harbour = std::fs::read_to_string(folder.path().join("harbour.toml")).unwrap();
    let less = harbour.replace("203.0.113.11-203.0.113.14", "203.0.113.9-203.0.113.14");
    file(
        "changed.toml",
        &less.replace("name = \"ticketing\"", "name = \"ticketing\"\n  enabled = false"),
    );
    file("hidden.toml", HIDDEN);
    folder
}

/// Runs a command in that folder and holds what it prints against a file.
fn shows(file: &str, arguments: &[&str]) {
    let folder = folder();
    snapshot(file, &zarnet(folder.path(), arguments, ""));
}

macro_rules! prints {
    ($($name:ident: $file:literal, $arguments:expr;)*) => {$(
        #[test]
        fn $name() {
            shows($file, $arguments);
        }
    )*};
}

prints! {
    check_fine: "check-fine.txt", &["check", "harbour.toml"];
    check_errors: "check-errors.txt", &["check", "broken.toml"];
    check_errors_json: "check-errors-json.txt", &["check", "broken.toml", "--format", "json"];
    check_findings: "check-findings.txt", &["check", "risky.toml"];
    predict_flow: "predict-flow.txt", &["predict", "harbour.toml", FLOW, "--sessions"];
    predict_flow_80: "predict-flow-80.txt",
        &["predict", "harbour.toml", FLOW, "--sessions", "--width", "80"];
    predict_flow_json: "predict-flow-json.txt",
        &["predict", "harbour.toml", FLOW, "--format", "json"];
    predict_flow_csv: "predict-flow-csv.txt", &["predict", "harbour.toml", FLOW, "--format", "csv"];
    predict_morning: "predict-morning.txt",
        &["predict", "harbour.toml", "morning.csv", "--at", "2h45m", "--rows", "12", "-v"];
    predict_peak: "predict-peak.txt",
        &["predict", "harbour.toml", "morning.csv", "--at", "peak", "--rows", "4"];
    predict_empty: "predict-empty.txt",
        &["predict", "risky.toml", "10.0.0.5 -> 198.51.100.1:1/udp", "--at", "1h"];
    predict_capture: "predict-capture.txt", CAPTURE;
    predict_capture_elsewhere: "predict-capture-elsewhere.txt",
        &["predict", "harbour.toml", "quay.pcap.gz", "--seen-at", "harbour-edge/yard", "--rows",
          "4"];
    predict_capture_nowhere: "predict-capture-nowhere.txt",
        &["predict", "harbour.toml", "quay.pcap.gz"];
    predict_bad_lines: "predict-bad-lines.txt", &["predict", "harbour.toml", "bad.csv"];
    predict_skip_bad: "predict-skip-bad.txt",
        &["predict", "harbour.toml", "bad.csv", "--skip-bad", "--rows", "4"];
    predict_no_plan: "predict-no-plan.txt", &["predict", "harbor.toml", "morning.csv"];
    predict_no_interface: "predict-no-interface.txt",
        &["predict", "harbour.toml", "quay.pcap.gz", "--seen-at", "harbour-edge/key"];
    predict_no_time: "predict-no-time.txt",
        &["predict", "harbour.toml", "morning.csv", "--at", "noon"];
    predict_storm: "predict-storm.txt",
        &["predict", "harbour.toml", "storm.toml", "--at", "31m", "--rows", "4", "-v"];
    predict_day: "predict-day.txt",
        &["predict", "leased.toml", "day.toml", "--at", "8m", "--rows", "8"];
    predict_bad_day: "predict-bad-day.txt", &["predict", "leased.toml", "bad-day.toml"];
    predict_timeline: "predict-timeline.txt",
        &["predict", "leased.toml", "day.toml", "--timeline"];
    predict_timeline_csv: "predict-timeline.csv",
        &["predict", "leased.toml", "day.toml", "--timeline", "--format", "csv"];
    predict_timeline_json: "predict-timeline.json",
        &["predict", "leased.toml", "10.0.0.5 -> 198.51.100.80:443/tcp", "--timeline", "--format", "json"];
    follow_disabled: "follow-disabled.txt",
        &["follow", "changed.toml", "198.51.100.9 -> 203.0.113.5:443/tcp"];
    define_forgotten: "define-forgotten.txt",
        &["define", "harbour.toml", "uplink:24013/tcp", "10.61.8.43:4010"];
    define_word_too_many: "define-word-too-many.txt",
        &["define", "harbour.toml", "move", "kiosks-out", "ticketing"];
    check_likewise: "check-likewise.txt", &["check", "several.toml"];
    predict_fixed: "predict-fixed.txt", &["predict", "harbour.toml"];
    rules: "rules.txt", &["rules", "harbour.toml"];
    rules_used: "rules-used.txt",
        &["rules", "harbour.toml", "morning.csv", "--device", "harbour-edge", "--width", "120"];
    rules_csv: "rules.csv", &["rules", "harbour.toml", "--format", "csv"];
    exposure: "exposure.txt", &["exposure", "harbour.toml", "--width", "140"];
    exposure_inside: "exposure-inside.txt",
        &["exposure", "harbour.toml", "--from", "internal", "--width", "140"];
    exposure_json: "exposure.json", &["exposure", "harbour.toml", "--format", "json"];
    exposure_nowhere: "exposure-nowhere.txt", &["exposure", "harbour.toml", "--from", "interal"];
    follow: "follow.txt", &["follow", "harbour.toml", FLOW];
    follow_80: "follow-80.txt", &["follow", "harbour.toml", FLOW, "--width", "80", "-v"];
    follow_json: "follow-json.txt",
        &["follow", "harbour.toml", "kiosk-1 -> 203.0.113.5:443/tcp", "--format", "json"];
    follow_csv: "follow-csv.txt", &["follow", "harbour.toml", FLOW, "--format", "csv"];
    follow_chain: "follow-chain.txt",
        &["follow", "harbour.toml", "198.51.100.130 -> 203.0.113.34:24022/tcp"];
    follow_private: "follow-private.txt",
        &["follow", "harbour.toml", "192.0.2.200 -> 10.61.8.20:443/tcp"];
    follow_own: "follow-own.txt",
        &["follow", "harbour.toml", "harbour-edge -> 198.51.100.53:53/udp"];
    follow_during: "follow-during.txt",
        &["follow", "harbour.toml", OFFICE, "--during", "morning.csv", "--at", "2h20m"];
    follow_circle: "follow-circle.txt",
        &["follow", "circle.toml", "crane -> 198.51.100.80:443/tcp"];
    follow_hairpin_direct: "follow-hairpin-direct.txt",
        &["follow", "direct.toml", "till -> 203.0.113.2:443/tcp"];
    follow_unknown: "follow-unknown.txt",
        &["follow", "harbour.toml", "kiosk-33 -> 198.51.100.80:443/tcp"];
    expect: "expect.txt", &["expect", "harbour.toml"];
    expect_fails: "expect-fails.txt", &["expect", "circle.toml"];
    expect_json: "expect-json.txt", &["expect", "circle.toml", "--format", "json"];
    expect_csv: "expect-csv.txt", &["expect", "circle.toml", "--format", "csv"];
    expect_nothing: "expect-nothing.txt", &["expect", "risky.toml"];
    check_circle: "check-circle.txt", &["check", "circle.toml"];
    why: "why.txt", &["why", "chain.toml", "198.51.100.80 -> 203.0.113.2:443/tcp"];
    why_json: "why-json.txt",
        &["why", "chain.toml", "198.51.100.80 -> 203.0.113.2:443/tcp", "--format", "json"];
    why_csv: "why-csv.txt",
        &["why", "chain.toml", "198.51.100.80 -> 203.0.113.2:443/tcp", "--format", "csv"];
    why_works: "why-works.txt", &["why", "harbour.toml", FLOW];
    why_during: "why-during.txt",
        &["why", "harbour.toml", OFFICE, "--during", "morning.csv", "--at", "2h20m"];
    why_two: "why-two.txt", &["why", "two.toml", "till -> 198.51.100.80:443/tcp"];
    why_outside: "why-outside.txt", &["why", "harbour.toml", "192.0.2.200 -> 10.61.8.20:443/tcp"];
    why_no_such_repair: "why-no-such-repair.txt",
        &["why", "chain.toml", "198.51.100.80 -> 203.0.113.2:443/tcp", "--apply", "9"];
    compare: "compare.txt", &&[COMPARE, &["--columns", MAP, "--device", "harbour-edge"]].concat();
    compare_json: "compare-json.txt",
        &&[COMPARE, &["--columns", MAP, "--device", "harbour-edge", "--format", "json"]] .concat();
    compare_csv: "compare-csv.txt",
        &&[COMPARE, &["--columns", MAP, "--device", "harbour-edge", "--format", "csv"]] .concat();
    compare_whose: "compare-whose.txt", &&[COMPARE, &["--columns", MAP]].concat();
    compare_bad_columns: "compare-bad-columns.txt",
        &&[COMPARE, &["--columns", "inside=2"]].concat();
    compare_no_names: "compare-no-names.txt", COMPARE;
    addresses: "addresses.txt", &["addresses", "harbour.toml"];
    addresses_free_csv: "addresses-free.csv",
        &["addresses", "harbour.toml", "--free", "--format", "csv", "--device", "harbour-edge"];
    sheet: "sheet.txt", &["sheet", "harbour.toml"];
    sheet_json: "sheet.json",
        &["sheet", "harbour.toml", "--format", "json", "--device", "jetty-box"];
    impact: "impact.txt", &["impact", "harbour.toml", "changed.toml"];
    impact_json: "impact.json", &["impact", "harbour.toml", "changed.toml", "--format", "json"];
    impact_csv: "impact.csv", &["impact", "harbour.toml", "changed.toml", "--format", "csv"];
    impact_none: "impact-none.txt", &["impact", "harbour.toml", "harbour.toml"];
    impact_during: "impact-during.txt",
        &["impact", "harbour.toml", "changed.toml", "--during", "morning.csv", "--at", "2h45m",
          "--rows", "4"];
    check_proved: "check-proved.txt", &["check", "hidden.toml", "-v"];
    check_proved_json: "check-proved.json", &["check", "hidden.toml", "--format", "json"];
    check_denied: "check-denied.txt",
        &["check", "terminal.toml", "--deny", "pool-smaller-than-sources", "--allow",
          "pool-opens-all-ports", "--allow", "pool-loses-addresses"];
    check_allow_unknown: "check-allow-unknown.txt",
        &["check", "terminal.toml", "--allow", "rule-shadow"];
    check_list: "check-list.txt", &["check", "--list"];
    explain: "explain.txt", &["explain", "rule-shadowed"];
    explain_two: "explain-two.txt", &["explain", "pool-exhausted"];
    explain_unknown: "explain-unknown.txt", &["explain", "rule-shadow"];
    define_forward: "define-forward.txt",
        &[DEFINE, &["forward", "uplink:24070/tcp", "gauge-north:4010", "--name", "spare-gauge",
          "--source", "head-office", "--from", "yard", "--with-access", "--note",
          "for the winter", "--dry-run"]] .concat();
    define_static: "define-static.txt",
        &[DEFINE, &["static", "gauge-south", "next", "--name", "gauge", "--from", "yard",
          "--service", "4010/tcp", "--source", "head-office", "--with-access",
          "--dry-run"]] .concat();
    define_overload_json: "define-overload.json",
        &[DEFINE, &["overload", "203.0.113.6", "--source", "10.61.16.64/26", "--before",
          "kiosks-out", "--dry-run", "--format", "json"]] .concat();
    define_disable: "define-disable.txt",
        &[DEFINE, &["disable", "ticketing", "--dry-run"]].concat();
    define_taken: "define-taken.txt",
        &[DEFINE, &["static", "office-1", "203.0.113.12", "--dry-run"]].concat();
    define_name_taken: "define-name-taken.txt",
        &[DEFINE, &["exempt", "--name", "ballast", "--destination", "head-office",
          "--dry-run"]] .concat();
    define_sizes: "define-sizes.txt",
        &[DEFINE, &["static", "10.61.8.32/30", "203.0.113.6-203.0.113.7", "--dry-run"]] .concat();
    define_no_rule: "define-no-rule.txt", &[DEFINE, &["remove", "balast"]].concat();
    define_no_device: "define-no-device.txt", &["define", "harbour.toml", "disable", "ticketing"];
    define_wrong: "define-wrong.txt",
        &[DEFINE, &["pool", "office-line", "--source", "offices"]].concat();
    capacity: "capacity.txt", &&[SATURDAY, &["--brief", "--rows", "3"]].concat();
    capacity_ascii: "capacity-ascii.txt",
        &&[SATURDAY, &["--brief", "--supply", "desk-lines", "--ascii", "--width", "80"]] .concat();
    capacity_remedies: "capacity-remedies.txt",
        &&[SATURDAY, &["--supply", "desk-lines", "--runs", "2", "--rows", "2"]].concat();
    capacity_csv: "capacity.csv",
        &&[SATURDAY, &["--brief", "--format", "csv", "--at", "2h30m"]].concat();
    capacity_users: "capacity-users.txt",
        &["capacity", "harbour.toml", "morning.csv", "--users", "20", "--alert", "15m", "--runs", "0"];
    capacity_bare_target: "capacity-bare-target.txt",
        &["capacity", "harbour.toml", "morning.csv", "--target", "0.5"];
    capacity_brief_apply: "capacity-brief-apply.txt",
        &["capacity", "harbour.toml", "morning.csv", "--brief", "--apply", "fallback"];
    capacity_taken: "capacity-taken.txt",
        &["capacity", "terminal.toml", "--observed", "held.csv", "--observed", "held.csv", "--observed", "held.csv",
          "--taken", "2026-08-01", "--taken", "2026-08-15", "--taken", "2026-09-01"];
    capacity_not_taken: "capacity-not-taken.txt",
        &["capacity", "terminal.toml", "--observed", "held.csv", "--observed", "held.csv"];
    capacity_bad_date: "capacity-bad-date.txt",
        &["capacity", "terminal.toml", "--observed", "held.csv", "--taken", "soon"];
    capacity_fine: "capacity-fine.txt",
        &["capacity", "terminal.toml", "10.62.32.21 -> 198.51.100.25:443/tcp", "--growth", "5%"];
    capacity_fine_json: "capacity-fine.json",
        &["capacity", "terminal.toml", "10.62.32.21 -> 198.51.100.25:443/tcp", "--format",
          "json", "--brief", "--supply", "desk-lines"];
    capacity_observed: "capacity-observed.txt",
        &["capacity", "terminal.toml", "--observed", "held.csv"];
    capacity_no_supply: "capacity-no-supply.txt",
        &&[SATURDAY, &["--brief", "--supply", "desk-line"]].concat();
    capacity_no_target: "capacity-no-target.txt", &&[SATURDAY, &["--target", "0"]].concat();
    capacity_no_picture: "capacity-no-picture.txt", &&[SATURDAY, &["--chart", "use.jpg"]].concat();
    capacity_no_remedy: "capacity-no-remedy.txt",
        &["capacity", "terminal.toml", "10.62.32.21 -> 198.51.100.25:443/tcp", "--remedy",
          "larger-pool"];
    capacity_bad_rate: "capacity-bad-rate.txt", &["capacity", "terminal.toml", "still.toml"];
    behaviour: "behaviour.txt", &["behaviour"];
    behaviour_carrier: "behaviour-carrier.txt", &["behaviour", "carrier"];
    behaviour_plan_json: "behaviour-plan-json.txt",
        &["behaviour", "leased.toml", "--format", "json"];
    behaviour_unknown: "behaviour-unknown.txt", &["behaviour", "polite"];
    help: "help.txt", &["--help"];
    help_capacity: "help-capacity.txt", &["capacity", "--help"];
    help_follow: "help-follow.txt", &["follow", "--help"];
    help_predict: "help-predict.txt", &["predict", "--help"];
}
