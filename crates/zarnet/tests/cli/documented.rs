//! Pages, schema, completions and manual know what the program knows.

use std::collections::BTreeSet;
use std::path::Path;

use snapbox::{Assert, Data};
use zarnet_analysis::answer::explain::{ExplainAnswer, ExplainEntry, PAGES};
use zarnet_core::plan::field::{BEHAVIOUR, FieldValue, TABLES, TIMERS};
use zarnet_core::plan::{Preset, Timers};

use super::{estate, zarnet};

/// Everything that is written in Rust below a folder.
fn add_sources(folder: &Path, sources: &mut String) {
    for entry in std::fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            add_sources(&path, sources);
        } else if path.extension().is_some_and(|e| e == "rs") {
            sources.push_str(&std::fs::read_to_string(path).unwrap());
        }
    }
}

/// Every test that the table of requirements names is there.
#[test]
fn the_table_of_requirements_names_tests_that_exist() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let read = |path: &str| std::fs::read_to_string(root.join(path)).unwrap();
    let mut sources = String::new();
    for name in ["zarnet-core", "zarnet-analysis", "zarnet-formats", "zarnet-live", "zarnet-store"]
    {
        add_sources(&root.join("crates").join(name), &mut sources);
    }
    let page = read("docs/conformance.md");
    let rows: Vec<&str> = page.lines().filter(|l| l.starts_with("| ") && l.contains('_')).collect();
    assert!(rows.len() > 50);
    for row in rows {
        let named = row.rsplit('|').nth(1).unwrap().split('`').filter(|n| n.contains('_'));
        for name in named {
            let there =
                [format!("fn {name}("), format!("    {name}:")].iter().any(|t| sources.contains(t));
            assert!(there, "docs/conformance.md names {name}");
        }
    }
}

/// The schema knows every key that the reader takes, and no other.
#[test]
fn the_schema_knows_the_keys_of_the_reader() {
    let folder = estate();
    let printed = zarnet(folder.path(), &["schema"], "");
    let schema: serde_json::Value = serde_json::from_slice(&printed.stdout).unwrap();
    let keys = |path: &str| -> Vec<String> {
        schema.pointer(path).unwrap().as_object().unwrap().keys().cloned().collect()
    };
    let device = "/properties/device/items/properties";
    let tables = [
        ("".to_owned(), "/properties".to_owned(), String::new()),
        (
            "[[segment]]".to_owned(),
            "/properties/segment/items/properties".to_owned(),
            "name = \"s\"".to_owned(),
        ),
        ("[[host]]".to_owned(), "/properties/host/items/properties".to_owned(), String::new()),
        ("[[device]]".to_owned(), device.to_owned(), String::new()),
        (
            "[[device]]\n[[device.interface]]".to_owned(),
            format!("{device}/interface/items/properties"),
            String::new(),
        ),
        (
            "[[device]]\n[[device.pool]]".to_owned(),
            format!("{device}/pool/items/properties"),
            String::new(),
        ),
        (
            "[[device]]\n[[device.rule]]".to_owned(),
            format!("{device}/rule/items/properties"),
            String::new(),
        ),
        (
            "[[device]]\n[[device.policy]]".to_owned(),
            format!("{device}/policy/items/properties"),
            String::new(),
        ),
        ("[[expect]]".to_owned(), "/properties/expect/items/properties".to_owned(), String::new()),
    ];
    for (head, path, _) in tables {
        let keys = keys(&path);
        // a key that nobody knows is told as such; those of the schema are not, whatever else is
        // wrong with them
        let lines: String = keys.iter().map(|k| format!("{k} = 7.5\n")).collect();
        std::fs::write(
            folder.path().join("keys.toml"),
            format!("{head}\n{lines}nobody-knows = 1\n"),
        )
        .unwrap();
        let output = zarnet(folder.path(), &["check", "keys.toml", "--format", "json"], "");
        let said: serde_json::Value = serde_json::from_slice(&output.stdout).unwrap();
        let findings = said["findings"].as_array().unwrap();
        let unknown: Vec<&str> = findings
            .iter()
            .filter(|f| f["name"] == "unknown-key")
            .map(|f| f["message"].as_str().unwrap())
            .collect();
        assert_eq!(unknown.len(), 1, "{head}: {unknown:?}");
        assert!(unknown[0].contains("nobody-knows"), "{unknown:?}");
    }
}

/// Completions and the manual name every command.
#[test]
fn completions_and_manual_name_every_command() {
    let folder = tempfile::tempdir().unwrap();
    let say = |arguments: &[&str]| {
        String::from_utf8(zarnet(folder.path(), arguments, "").stdout).unwrap()
    };
    for shell in ["bash", "zsh", "fish", "elvish", "powershell"] {
        let text = say(&["completions", shell]);
        assert!(
            ["define", "impact", "capacity", "when-exhausted"].iter().all(|w| text.contains(w)),
            "{shell}"
        );
    }
    let manual = say(&["man"]);
    assert!(
        manual.starts_with(".")
            && manual.contains("COMMAND: DEFINE")
            && manual.contains("COMMAND: IMPACT")
    );
}

/// Every stable name has a row in the documentation, which says what `explain` says.
/// `SNAPSHOTS=overwrite` writes what is known of a name into the rows that are there.
#[test]
fn the_tables_of_the_pages_say_what_explain_says() {
    let entries = ExplainAnswer::all().entries;
    let mut differing = Vec::new();
    for (_, page) in PAGES {
        let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..").join(page);
        let text = std::fs::read_to_string(&path).unwrap();
        let own: Vec<_> = entries.iter().filter(|e| e.page == page).collect();
        let row_of = |line: &str| {
            let name = line.strip_prefix("| `")?.split_once("` | ")?.0;
            // of names that several things have, the one with as many cells
            let cells = line.matches(" | ").count();
            own.iter().find(|e| e.name == name && e.text.len() == cells).map(|e| row(e))
        };
        let lines = text.lines().map(|l| row_of(l).unwrap_or_else(|| l.to_owned()));
        let wanted = lines.map(|l| l + "\n").collect::<String>();
        if std::env::var("SNAPSHOTS").is_ok_and(|v| v == "overwrite") {
            std::fs::write(&path, &wanted).unwrap();
        }
        let changed = text.lines().zip(wanted.lines()).filter(|(is, said)| is != said);
        differing.extend(changed.map(|(is, said)| format!("{page}\n  has  {is}\n  want {said}")));
        let missing: Vec<&str> =
            own.iter().map(|e| e.name).filter(|n| !text.contains(&format!("`{n}`"))).collect();
        assert!(missing.is_empty(), "{page} lacks {missing:?}");
    }
    assert!(differing.is_empty(), "{}", differing.join("\n"));
}

fn row(entry: &ExplainEntry) -> String {
    let cells: Vec<&str> = entry.text.iter().map(|t| t.1).collect();
    format!("| `{}` | {} |", entry.name, cells.join(" | "))
}

/// The page of keys is made from the rows of keys; `SNAPSHOTS=overwrite` writes it.
#[test]
fn the_page_of_keys_says_what_the_rows_say() {
    let mut page =
        "# The keys of a plan\n\nEvery key of every table, with its default and where it \
                    comes from. [plan.md](plan.md) explains them.\nThis page is made from the rows \
                    in `crates/zarnet-core/src/plan/field/`.\n"
            .to_owned();
    for (table, fields) in TABLES {
        page += &format!("\n## {table}\n\n");
        page += "| key | value | default | meaning | source |\n| --- | --- | --- | --- | --- |\n";
        for f in fields {
            let key = format!("`{}`{}", f.key, if f.needed { " (needed)" } else { "" });
            let default = match f.default {
                "" => String::new(),
                default => format!("`{default}`"),
            };
            let value = f.value.describe();
            page += &format!("| {key} | {value} | {default} | {} | {} |\n", f.meaning, f.source);
        }
    }
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/keys.md");
    Assert::new().action_env("SNAPSHOTS").eq(page, Data::read_from(&path, None));
}

/// Defaults and meanings of behaviour and timers are those that `behaviour` shows.
#[test]
fn keys_of_behaviour_and_timers_have_the_values_that_are_shown() {
    let shown = Preset::Bcp.behaviour().settings().into_iter().chain(Timers::default().settings());
    for setting in shown {
        let row = BEHAVIOUR.iter().chain(TIMERS).find(|f| f.key == setting.key);
        let row = row.unwrap_or_else(|| panic!("no row has the key {}", setting.key));
        let plain = setting.value.replace(['"', '[', ']'], "").replace("none", "");
        assert_eq!(row.default, plain, "{}", setting.key);
    }
}

/// What the rows say may stand behind a key is read, and nothing else is.
#[test]
fn choices_of_the_rows_are_those_of_the_reader() {
    let folder = estate();
    let check = |behaviour: &str| {
        let plan = format!("[[device]]\nname = \"edge\"\nbehaviour = {{ {behaviour} }}\n");
        std::fs::write(folder.path().join("one.toml"), plan).unwrap();
        let output = zarnet(folder.path(), &["check", "one.toml", "--format", "json"], "");
        let said: serde_json::Value = serde_json::from_slice(&output.stdout).unwrap();
        let findings = said["findings"].as_array().unwrap();
        findings.iter().any(|f| f["name"] == "unknown-value")
    };
    let mut tried = 0;
    for field in BEHAVIOUR {
        let FieldValue::OneOf(names) = field.value else { continue };
        for name in names {
            assert!(!check(&format!("{} = \"{name}\"", field.key)), "{} {name}", field.key);
            tried += 1;
        }
        assert!(check(&format!("{} = \"nothing-of-these\"", field.key)), "{}", field.key);
    }
    assert!(tried > 20);
}

/// The page on limits says what the module says.
#[test]
fn every_limit_is_documented() {
    let page =
        std::fs::read_to_string(Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/limits.md"))
            .unwrap();
    for limit in zarnet_core::limits::ALL {
        let digits = limit.most.to_string();
        let start = digits.len() % 3;
        let (head, tail) = digits.split_at(start);
        let groups = tail.as_bytes().chunks(3).map(|c| std::str::from_utf8(c).unwrap());
        let most = std::iter::once(head)
            .filter(|h| !h.is_empty())
            .chain(groups)
            .collect::<Vec<_>>()
            .join(",");
        let row = page.lines().find(|l| l.starts_with(&format!("| {} |", limit.what)));
        let row = row.unwrap_or_else(|| panic!("docs/limits.md lacks \"{}\"", limit.what));
        assert!(row.contains(&format!("| {most}")), "{row}: {most}");
        assert!(row.contains(limit.reason) && row.contains(limit.error), "{row}");
    }
}

/// What code cites of the contract is there, and every step of it is cited.
#[test]
fn the_contract_is_cited_by_numbers_that_it_has() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let contract = std::fs::read_to_string(root.join("docs/semantics.md")).unwrap();
    let mut sources = String::new();
    add_sources(&root.join("crates/zarnet-core/src"), &mut sources);
    let cited = sources.lines().filter(|l| l.starts_with("//! Contract: "));
    let numbers: BTreeSet<&str> = cited
        .flat_map(|l| l.split([' ', ',']))
        .filter(|w| w.starts_with('§'))
        .map(|w| w.trim_end_matches('.'))
        .collect();
    let unknown: Vec<&&str> =
        numbers.iter().filter(|n| !contract.contains(&format!("**{n}"))).collect();
    assert!(unknown.is_empty(), "docs/semantics.md has no {unknown:?}");
    for step in 1..=10 {
        let is_cited = numbers.contains(format!("§D{step}").as_str());
        assert!(is_cited, "no module cites §D{step}");
    }
}

/// A page that names a source file names one that is there.
#[test]
fn the_source_files_that_pages_name_are_there() {
    fn add_paths(folder: &Path, paths: &mut String) {
        for entry in std::fs::read_dir(folder).unwrap() {
            let path = entry.unwrap().path();
            if path.is_dir() {
                add_paths(&path, paths);
            } else {
                paths.push_str(&format!("/{}\n", path.display()));
            }
        }
    }
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let mut paths = String::new();
    add_paths(&root.join("crates"), &mut paths);
    let pages = std::fs::read_dir(root.join("docs")).unwrap().map(|e| e.unwrap().path());
    let others = ["README.md", "CONTRIBUTING.md", "SECURITY.md"].map(|name| root.join(name));
    for page in pages.filter(|p| p.extension().is_some_and(|e| e == "md")).chain(others) {
        let text = std::fs::read_to_string(&page).unwrap();
        for named in text.split('`').skip(1).step_by(2).filter(|n| n.ends_with(".rs")) {
            let there = paths.contains(&format!("/{named}\n"));
            assert!(there, "{} names {named}", page.display());
        }
    }
}
