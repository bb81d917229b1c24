//! Text from files is shown harmlessly.

use std::fs;

use super::{PLAN, Place, code, said};

const EVIL: &str = "\u{1b}]0;owned\u{7}\u{9b}31m\u{202e}";

/// Whether something would act on a terminal; our own colours would not.
fn acts(text: &str) -> bool {
    let mut rest = text;
    while let Some(at) =
        rest.find(|c: char| zarnet_core::net::is_hidden(c) && c != '\n' && c != '\t')
    {
        rest = &rest[at..];
        let colour = rest.strip_prefix("\x1b[").and_then(|r| {
            r.find('m').filter(|n| r[..*n].bytes().all(|b| b.is_ascii_digit() || b == b';'))
        });
        match colour {
            Some(length) => rest = &rest[length + 3..],
            None => return true,
        }
    }
    false
}

#[test]
fn names_that_act_on_a_terminal_are_refused_and_shown_harmlessly() {
    let place = Place::new();
    let escaped: String = EVIL
        .chars()
        .map(|c| if c.is_ascii_graphic() { c.to_string() } else { format!("\\u{:04x}", c as u32) })
        .collect();
    place.write("evil.toml", &PLAN.replace("\"desk\"", &format!("\"desk{escaped}\"")));
    place.write("raw.toml", &PLAN.replace("Quay", "Qu\u{9b}31m\u{202e}ay"));
    for color in ["always", "never"] {
        for format in ["text", "json", "csv"] {
            for plan in ["evil.toml", "raw.toml"] {
                let output = place.run(&["check", plan, "--format", format, "--color", color]);
                assert_eq!(code(&output), 2);
                let all = String::from_utf8_lossy(&output.stdout).into_owned() + &said(&output);
                assert!(all.contains("hidden-character"), "{all}");
                assert!(!acts(&all), "{all:?}");
            }
        }
    }
}

/// What is no plan may hold anything: names in lists, files on the disk, tables, arguments.
#[test]
fn text_of_any_file_is_shown_harmlessly() {
    let place = Place::new();
    let list = format!(
        "start,protocol,source,destination,destination-port\n0,tcp,desk{EVIL},198.51.100.80,443\n"
    );
    let (list_name, plan_name) = (format!("list{EVIL}.csv"), format!("plan{EVIL}.toml"));
    place.write(&list_name, &list);
    place.write("table.csv", &format!("internal,external,{EVIL}\n"));
    place.write("bad.day", &format!("[[event]]\nat = 1\ndo = \"{}\"\n", "\\u009b31m"));
    fs::copy(place.at("plan.toml"), place.at(&plan_name)).unwrap();
    let flow = "desk -> 198.51.100.80:443/tcp";
    for arguments in [
        &["predict", "plan.toml", &list_name][..],
        &["predict", "plan.toml", "bad.day"],
        &["predict", "plan.toml", &format!("desk{EVIL} -> 198.51.100.80:443/tcp")],
        &["compare", "plan.toml", flow, "--observed", "table.csv"],
        &["check", &plan_name],
        &["check", &plan_name, "--format", "csv"],
        &["expect", &plan_name, "--format", "json"],
        &["explain", EVIL],
        &["follow", &plan_name, flow],
        &["check", EVIL],
        &[EVIL],
        &["define", &plan_name, "static", EVIL, "next"],
    ] {
        for color in ["always", "never"] {
            let output = place.run(&[arguments, &["--color", color]].concat());
            let all = String::from_utf8_lossy(&output.stdout).into_owned() + &said(&output);
            assert!(!acts(&all), "{arguments:?}: {all:?}");
            assert!(code(&output) <= 2);
        }
    }
}

#[test]
fn reports_and_pictures_are_well_formed_whatever_a_file_is_called() {
    let place = Place::new();
    let name = "pl\u{1}<&\"an.toml";
    fs::copy(place.at("plan.toml"), place.at(name)).unwrap();
    place.run(&["expect", name, "--junit", "report.xml"]);
    let text = place.read("report.xml");
    assert!(!acts(&text) && text.contains("\\u{1}&lt;&amp;"), "{text}");
    let list = "start,protocol,source,destination,destination-port\n0,tcp,desk,198.51.100.80,443\n";
    place.write("list.csv", list);
    let output = place.run(&["capacity", name, "list.csv", "--chart", "use.svg"]);
    assert_eq!(code(&output), 0, "{}", said(&output));
    assert!(!acts(&place.read("use.svg")));
}

#[test]
fn cells_are_quoted_and_are_no_formulas() {
    let place = Place::new();
    let plan = PLAN.replace("\"all\"", "\"=1+1\"").replace("203.0.113.9", "203.0.113.2");
    place.write("a,b.toml", &plan);
    let output =
        place.run(&["predict", "a,b.toml", "desk -> 198.51.100.80:443/tcp", "--format", "csv"]);
    let text = String::from_utf8(output.stdout).unwrap();
    assert!(text.lines().nth(1).unwrap().starts_with("edge,'=1+1,overload"), "{text}");
    place.write("b,c.toml", "[[device]]\nnam = \"edge\"\n");
    let output = place.run(&["check", "b,c.toml", "--format", "csv"]);
    let text = String::from_utf8(output.stdout).unwrap();
    assert!(text.contains(",\"b,c.toml\",2,1,"), "{text}");
}
