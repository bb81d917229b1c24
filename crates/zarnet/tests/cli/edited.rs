//! Plans edited without an editor: what each change writes, what it leaves alone, what is refused.

use super::{estate, zarnet};

/// Changes the plan of the demo; gives its text, or the name of the error.
fn after(change: &[&str]) -> Result<String, String> {
    let folder = estate();
    let before = std::fs::read_to_string(folder.path().join("harbour.toml")).unwrap();
    let words = [&["define", "harbour.toml", "--device", "harbour-edge"], change].concat();
    let output = zarnet(folder.path(), &words, "");
    let text = std::fs::read_to_string(folder.path().join("harbour.toml")).unwrap();
    if output.status.code() == Some(2) {
        assert_eq!(text, before, "{change:?}: refused, and written");
        let told = String::from_utf8(output.stderr).unwrap();
        return Err(told.split(['[', ']']).nth(1).unwrap_or_default().to_owned());
    }
    let comments = |text: &str| text.matches('#').count();
    assert!(comments(&text) >= comments(&before), "{change:?}: a comment was lost");
    let check = zarnet(folder.path(), &["check", "harbour.toml"], "");
    assert_ne!(check.status.code(), Some(2), "{change:?}: no plan any more");
    Ok(text)
}

fn writes(change: &[&str], wanted: &str) {
    let text = after(change).unwrap_or_else(|e| panic!("{change:?}: {e}"));
    assert!(text.contains(wanted), "{change:?} lacks {wanted}:\n{text}");
}

#[test]
fn keys_of_a_rule_are_changed_in_place() {
    writes(&["change", "ticketing", "--limit", "9"], "limit = 9");
    writes(&["change", "kiosks-out", "--source", "10.61.16.0/23"], "source = \"10.61.16.0/23\"");
    writes(&["change", "kiosks-out", "--as", "203.0.113.9"], "as = \"203.0.113.9\"");
    let text = after(&["change", "tide-gauge-north", "--unset", "source"]).unwrap();
    let rule = text.split("name = \"tide-gauge-north\"").nth(1).unwrap();
    assert!(!rule.split("[[").next().unwrap().contains("source ="));
}

#[test]
fn copies_take_any_key_and_leave_the_note() {
    let change =
        ["copy", "kiosks-out", "staff-out", "--source", "10.61.20.0/24", "--type", "exempt"];
    let text = after(&[&change[..], &["--unset", "as"]].concat()).unwrap();
    let rule = text.split("name = \"staff-out\"").nth(1).unwrap().split("[[").next().unwrap();
    assert!(rule.contains("type = \"exempt\"") && !rule.contains("as ="), "{rule}");
}

#[test]
fn named_sets_grow_and_shrink() {
    let added = "head-office = [\"198.51.100.128/28\", \"198.51.100.7\"]";
    writes(&["addresses", "head-office", "--add", "198.51.100.7"], added);
    writes(&["services", "web", "--add", "8443/tcp"], "[\"80/tcp\", \"443/tcp\", \"8443/tcp\"]");
    writes(&["services", "web", "--drop", "80/tcp"], "web = [\"443/tcp\"]");
    writes(&["addresses", "visitors", "--add", "192.0.2.0/28"], "visitors = [\"192.0.2.0/28\"]");
}

#[test]
fn what_stands_around_rules_is_changed_too() {
    let entry = ["policy", "--from", "internal", "--into", "external", "--drop", "25/tcp"];
    let text = after(&[&entry[..], &["--before", "1"]].concat()).unwrap();
    let first = text.split("[[device.policy]]").nth(1).unwrap();
    assert!(first.contains("drop = \"25/tcp\""), "{first}");
    writes(&["interface", "uplink", "--ping", "false"], "ping = false");
    writes(&["forwarding", "off"], "forwarding = false");
    writes(&["route", "10.99.0.0/16", "203.0.113.1"], "to = \"10.99.0.0/16\"");
    writes(&["route", "0.0.0.0/0", "203.0.113.9"], "via = \"203.0.113.9\"");
    writes(&["answers-for", "203.0.113.9", "--by", "also"], "also = [\"203.0.113.9\"]");
}

#[test]
fn what_cannot_be_is_refused_and_nothing_is_written() {
    for (change, error) in [
        (&["change", "ticketing"][..], "nothing-to-do"),
        (&["change", "ticketing", "--unset", "sourse"], "unknown-name"),
        (&["change", "nosuch", "--limit", "4"], "unknown-name"),
        (&["policy", "--from", "internal"], "options-contradict"),
        (&["policy", "--accept", "any", "--before", "99"], "unknown-name"),
        (&["answers-for", "203.0.113.1"], "address-not-free"),
        (&["forward", "uplink:24011/tcp", "gauge-north:4010"], "address-not-free"),
        (&["static", "10.61.8.99", "203.0.113.2"], "address-not-free"),
        (&["addresses", "head-office", "--drop", "198.51.100.7"], "cannot-write"),
        (&["route", "10.0.0.0/99", "203.0.113.1"], "notation"),
        (&["interface", "uplink"], "nothing-to-do"),
        (&["interface", "uplnk", "--realm", "x"], "unknown-name"),
    ] {
        assert_eq!(after(change).err().as_deref(), Some(error), "{change:?}");
    }
}

/// A policy may look at destinations as they were sent: the entry names what it sees, and what is
/// let pass without an entry gets none.
#[test]
fn access_is_opened_where_the_policy_looks() {
    let plan = |policy: &str, default: &str| {
        format!(
            r#"[[segment]]
name = "internet"
internet = true
[[host]]
name = "web"
address = "10.0.0.10/24"
gateway = "10.0.0.1"
[[device]]
name = "edge"
default-policy = "{default}"
behaviour = {{ policy-sees = "{policy}" }}
  [[device.interface]]
  name = "in"
  realm = "internal"
  address = "10.0.0.1/24"
  [[device.interface]]
  name = "out"
  realm = "external"
  segment = "internet"
  address = "203.0.113.2/28"
  ingress-acl = "door"
  [[device.route]]
  to = "0.0.0.0/0"
  via = "203.0.113.1"
  [[device.acl]]
  name = "door"
  entries = [{{ accept = "any", answers = true }}]
"#
        )
    };
    let flow = "198.51.100.80 -> 203.0.113.2:443/tcp";
    for (policy, default, wanted) in [
        ("original", "drop", "destination = \"203.0.113.2\""),
        ("translated", "drop", "destination = \"web\""),
        ("translated", "accept", ""),
    ] {
        let folder = tempfile::tempdir().unwrap();
        std::fs::write(folder.path().join("p.toml"), plan(policy, default)).unwrap();
        let words = ["define", "p.toml", "forward", "out:443/tcp", "web:8443", "--with-access"];
        assert_eq!(zarnet(folder.path(), &words, "").status.code(), Some(0));
        let text = std::fs::read_to_string(folder.path().join("p.toml")).unwrap();
        assert_eq!(text.contains("[[device.policy]]"), !wanted.is_empty(), "{text}");
        assert!(text.contains(wanted), "{text}");
        // through the filter at the door as well
        assert_eq!(zarnet(folder.path(), &["follow", "p.toml", flow], "").status.code(), Some(0));
    }
}
