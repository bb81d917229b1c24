//! Every command in every format: CSV has the columns that it says, JSON its version, and neither
//! has colour.

use std::path::Path;

use super::prints::folder;
use super::zarnet;

/// Commands that answer in all formats, and the exit code of each.
const COMMANDS: &[(&[&str], i32)] = &[
    (&["check", "harbour.toml"], 0),
    (&["check", "--list"], 0),
    (&["check", "broken.toml"], 2),
    (&["behaviour"], 0),
    (&["behaviour", "harbour.toml"], 0),
    (&["predict", "harbour.toml", "morning.csv", "--at", "2h45m"], 1),
    (&["predict", "harbour.toml", "morning.csv", "--at", "peak", "--sessions"], 1),
    (&["follow", "harbour.toml", "kiosk-3 -> 198.51.100.80:443/tcp"], 0),
    (&["expect", "harbour.toml"], 0),
    (&["expect", "circle.toml"], 1),
    (&["why", "chain.toml", "198.51.100.80 -> 203.0.113.2:443/tcp"], 1),
    (
        &[
            "define",
            "harbour.toml",
            "--device",
            "harbour-edge",
            "disable",
            "ticketing",
            "--dry-run",
        ],
        1,
    ),
    (&["addresses", "harbour.toml"], 0),
    (&["rules", "harbour.toml"], 0),
    (&["rules", "harbour.toml", "morning.csv"], 0),
    (&["exposure", "harbour.toml"], 0),
    (&["exposure", "harbour.toml", "--from", "internal"], 0),
    (&["sheet", "harbour.toml"], 0),
    (&["explain"], 0),
    (&["explain", "pool-exhausted"], 0),
    (&["impact", "harbour.toml", "changed.toml"], 1),
    (&["capacity", "terminal.toml", "saturday.toml", "--brief"], 1),
    (&["capacity", "terminal.toml", "saturday.toml", "--brief", "--over-time"], 1),
    (&["capacity", "terminal.toml", "--observed", "held.csv"], 0),
    (
        &[
            "compare",
            "harbour.toml",
            "morning.csv",
            "--at",
            "2h45m",
            "--observed",
            "observed.csv",
            "--columns",
            "protocol=1,internal=2,external=3",
            "--device",
            "harbour-edge",
        ],
        1,
    ),
];

fn answer(folder: &Path, arguments: &[&str], format: &str, code: i32) -> String {
    let output = zarnet(folder, &[arguments, &["--format", format]].concat(), "");
    assert_eq!(output.status.code(), Some(code), "{arguments:?} as {format}");
    String::from_utf8(output.stdout).unwrap()
}

#[test]
fn csv_has_as_many_fields_as_columns() {
    let folder = folder();
    for (arguments, code) in COMMANDS {
        let text = answer(folder.path(), arguments, "csv", *code);
        let mut reader = csv::ReaderBuilder::new().flexible(false).from_reader(text.as_bytes());
        let columns = reader.headers().unwrap().clone();
        assert!(columns.iter().all(|c| !c.is_empty() && !c.contains(' ')), "{arguments:?}");
        let rows = reader.records().map(|r| r.unwrap_or_else(|e| panic!("{arguments:?}: {e}")));
        assert!(rows.count() > 0, "{arguments:?} has no rows");
    }
}

#[test]
fn json_has_a_version_and_stable_keys() {
    let folder = folder();
    for (arguments, code) in COMMANDS {
        let text = answer(folder.path(), arguments, "json", *code);
        let value: serde_json::Value = serde_json::from_str(&text).unwrap();
        let first = value.as_object().and_then(|o| o.keys().next());
        assert_eq!(first.map(String::as_str), Some("shape"), "{arguments:?}");
        assert_eq!(value["shape"], 1, "{arguments:?}");
        keys_are_kebab(&value, arguments);
    }
}

/// Keys are lower case with dashes, except those that are names of a plan or a file.
fn keys_are_kebab(value: &serde_json::Value, arguments: &[&str]) {
    match value {
        serde_json::Value::Object(map) => {
            for (key, inner) in map {
                let kebab = key.chars().all(|c| !c.is_uppercase() && c != '_' && c != ' ');
                assert!(kebab, "{arguments:?}: {key}");
                keys_are_kebab(inner, arguments);
            }
        }
        serde_json::Value::Array(list) => {
            list.iter().for_each(|inner| keys_are_kebab(inner, arguments));
        }
        _ => {}
    }
}

#[test]
fn text_fits_into_eighty_columns_where_that_is_asked() {
    let folder = folder();
    for (arguments, code) in COMMANDS {
        let text = zarnet(folder.path(), &[arguments, &["--width", "80"][..]].concat(), "");
        // sentences are not broken
        let has_tables = ["predict", "capacity", "behaviour", "addresses"];
        if !has_tables.contains(&arguments[0]) || arguments.contains(&"--over-time") {
            continue;
        }
        assert_eq!(text.status.code(), Some(*code), "{arguments:?}");
        let text = String::from_utf8(text.stdout).unwrap();
        let table = text.lines().filter(|l| l.matches("  ").count() > 3);
        let long: Vec<&str> = table.filter(|l| l.chars().count() > 110).collect();
        assert!(long.is_empty(), "{arguments:?}: {}", long.join("\n"));
        assert!(text.lines().all(|l| l == l.trim_end()), "{arguments:?} ends lines with blanks");
    }
}

#[test]
fn colour_is_only_where_it_is_asked_for() {
    let folder = folder();
    let flow = "kiosk-3 -> 198.51.100.80:443/tcp";
    let plain = zarnet(folder.path(), &["follow", "harbour.toml", flow], "");
    assert!(!plain.stdout.contains(&0x1b));
    let always = zarnet(folder.path(), &["follow", "harbour.toml", flow, "--color", "always"], "");
    assert!(always.stdout.contains(&0x1b));
    for format in ["json", "csv"] {
        let all = ["follow", "harbour.toml", flow, "--color", "always", "--format", format];
        assert!(!zarnet(folder.path(), &all, "").stdout.contains(&0x1b), "{format}");
    }
}
