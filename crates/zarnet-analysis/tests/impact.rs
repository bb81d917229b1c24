//! What a change changes: conditions that are met after translation, settings that no packet shows,
//! and what can be reached.

use std::path::Path;

use zarnet_analysis::audit::{Finding, audit, audit_devices};
use zarnet_analysis::exposure::exposure;
use zarnet_analysis::impact::{Impact, differing, impact_of_files};
use zarnet_formats::plan::{Loaded, from_text};

/// An edge between the desks, a yard with two servers, and the internet.
const BASE: &str = r#"
[[segment]]
name = "internet"
internet = true
routed = [{ to = "198.51.100.16/29", via = "203.0.113.2" }]
[[host]]
name = "pc"
address = "10.1.4.20/24"
gateway = "10.1.4.1"
[[host]]
name = "one"
address = "10.1.2.10/24"
gateway = "10.1.2.1"
listens = ["443/tcp"]
[[device]]
name = "edge"
  [[device.interface]]
  name = "desk"
  realm = "internal"
  address = "10.1.4.1/24"
  [[device.interface]]
  name = "yard"
  realm = "internal"
  address = "10.1.2.1/24"
  [[device.interface]]
  name = "uplink"
  realm = "external"
  segment = "internet"
  address = "203.0.113.2/28"
  [[device.route]]
  to = "0.0.0.0/0"
  via = "203.0.113.1"
  [[device.rule]]
  name = "one-in"
  type = "forward"
  external = "uplink:443/tcp"
  internal = "one:443"
  [[device.rule]]
  name = "desk-out"
  type = "overload"
  source = "10.1.4.0/24"
  as = "uplink"
"#;

fn loaded(text: &str) -> Loaded {
    from_text(Path::new("p.toml"), text.into()).unwrap_or_else(|e| panic!("{e:?}\n{text}"))
}

/// What comes of adding lines behind a line of the plan.
fn changed(behind: &str, line: &str) -> Impact {
    let new = BASE.replacen(behind, &format!("{behind}\n{line}"), 1);
    impact_of_files(&loaded(BASE), &loaded(&new))
}

fn filtered(entries: &str) -> String {
    let attached = BASE.replace(
        "address = \"203.0.113.2/28\"",
        "address = \"203.0.113.2/28\"\n  egress-acl = \"out\"",
    );
    let acl =
        format!("  [[device.acl]]\n  name = \"out\"\n  entries = [{entries}]\n  [[device.route]]");
    attached.replace("  [[device.route]]", &acl)
}

#[test]
fn an_entry_on_the_translated_source_is_no_dead_entry() {
    let with = filtered("{ drop = \"80/tcp\", source = \"203.0.113.2\" }, { accept = \"any\" }");
    let without = filtered("{ accept = \"any\" }");
    let (with, without) = (loaded(&with), loaded(&without));
    let found = impact_of_files(&without, &with);
    assert!(!found.classes.is_empty(), "80/tcp is cut, and nothing is told");
    let dead = audit(&with.plan).into_iter().any(|f| f.name == "filter-entry-shadowed");
    assert!(!dead, "the entry drops what desks send to port 80");
}

#[test]
fn every_service_of_a_static_is_told_apart() {
    let rule = "  [[device.rule]]\n  name = \"both\"\n  type = \"static\"\n  internal = \
                \"10.1.2.11\"\n  external = \"203.0.113.5\"\n  service = [\"443/tcp\", \
                \"80/tcp\"]\n";
    let policy = "  [[device.policy]]\n  from = \"external\"\n  into = \"internal\"\n  accept = \
                  \"443/tcp\"\n";
    let plan = BASE.replace("name = \"edge\"", "name = \"edge\"\ndefault-policy = \"drop\"");
    let plan = loaded(&format!("{plan}{policy}{rule}"));
    let names: Vec<&str> = audit(&plan.plan).iter().map(|f| f.name).collect();
    assert!(!names.contains(&"refused-by-policy"), "443/tcp is let in: {names:?}");
    assert!(names.contains(&"translation-wider-than-policy"), "80/tcp is not: {names:?}");
}

#[test]
fn what_no_packet_shows_is_told_as_a_setting() {
    for (behind, line, item, key) in [
        ("name = \"desk-out\"", "limit = 5", "rule desk-out", "limit"),
        ("name = \"desk-out\"", "when-exhausted = \"pass\"", "rule desk-out", "when-exhausted"),
        ("name = \"uplink\"", "lease = true", "interface uplink", "lease"),
        ("name = \"uplink\"", "proxy-arp = \"203.0.113.7\"", "interface uplink", "proxy-arp"),
        ("name = \"pc\"", "listens = \"22/tcp\"", "host pc", "listens"),
        ("name = \"internet\"", "checks-source = true", "segment internet", "checks-source"),
        ("name = \"edge\"", "behaviour = { ports-per-host = 9 }", "", "ports-per-host"),
        ("name = \"edge\"", "timers = { udp-timeout = 200 }", "", "udp-timeout"),
    ] {
        let found = changed(behind, line);
        assert!(!found.is_empty(), "{line} changes something");
        let told = found.settings.iter().any(|s| s.item == item && s.key == key);
        assert!(told, "{line}: {:?}", found.settings);
    }
    let moved = BASE.replace("gateway = \"10.1.2.1\"", "gateway = \"10.1.2.9\"");
    let found = impact_of_files(&loaded(BASE), &loaded(&moved));
    assert_eq!(found.settings.len(), 1);
    assert_eq!((&*found.settings[0].before, &*found.settings[0].after), ("10.1.2.1", "10.1.2.9"));
}

#[test]
fn what_is_only_written_otherwise_is_no_change() {
    for (behind, line) in [
        ("name = \"desk-out\"", "service = \"any\""),
        ("name = \"desk-out\"", "note = \"for the desks\""),
        ("name = \"desk-out\"", "enabled = true"),
    ] {
        assert!(changed(behind, line).is_empty(), "{line}");
    }
    // a rule that is never applied changes nothing, and is told
    let twin = "  [[device.rule]]\n  name = \"twin\"\n  type = \"overload\"\n  source = \
                \"10.1.4.0/25\"\n  as = \"uplink\"\n";
    let found = impact_of_files(&loaded(BASE), &loaded(&format!("{BASE}{twin}")));
    assert!(found.is_empty());
    assert!(found.rewritten.iter().any(|s| s.item == "rule twin"), "{:?}", found.rewritten);
}

#[test]
fn what_can_be_reached_leaves_out_what_the_policy_refuses() {
    let ways = |text: &str| {
        let plan = loaded(text).plan;
        let found = exposure(&plan, None, None, 0);
        assert!(found.unknown.is_empty());
        let one = |e: &zarnet_analysis::exposure::Exposed| {
            (e.rule.clone().unwrap_or_default(), e.server.to_string(), e.everybody)
        };
        found.exposed.iter().map(one).collect::<Vec<_>>()
    };
    let open = ways(BASE);
    assert_eq!(open, [("one-in".to_owned(), "10.1.2.10:443".to_owned(), true)]);
    let closed = BASE.replace("name = \"edge\"", "name = \"edge\"\ndefault-policy = \"drop\"");
    assert!(ways(&closed).is_empty());
    let narrow =
        BASE.replace("name = \"one-in\"", "name = \"one-in\"\n  source = \"192.0.2.0/24\"");
    assert_eq!(ways(&narrow), [("one-in".to_owned(), "10.1.2.10:443".to_owned(), false)]);
    // nobody listens there: the way in ends in front of the server
    let deaf = BASE.replace("internal = \"one:443\"", "internal = \"one:444\"");
    assert!(ways(&deaf).is_empty(), "{:?}", ways(&deaf));
}

/// A device behind the first one lets some senders, or some ports, through: each part is told for
/// itself, and what is refused there is not told at all.
#[test]
fn a_device_further_on_may_let_a_part_of_them_pass() {
    let chain = |policy: &str| {
        format!(
            r#"
[[segment]]
name = "internet"
internet = true
[[segment]]
name = "between"
[[host]]
name = "mail"
address = "10.2.0.10/24"
gateway = "10.2.0.1"
[[host]]
name = "files"
address = "10.2.0.11/24"
gateway = "10.2.0.1"
[[device]]
name = "outer"
  [[device.interface]]
  name = "uplink"
  realm = "external"
  segment = "internet"
  address = "203.0.113.2/28"
  also = ["203.0.113.5"]
  [[device.interface]]
  name = "link"
  realm = "internal"
  address = "10.1.0.1/30"
  segment = "between"
  [[device.route]]
  to = "0.0.0.0/0"
  via = "203.0.113.1"
  [[device.rule]]
  name = "whole"
  type = "static"
  internal = "10.1.0.2"
  external = "203.0.113.5"
[[device]]
name = "inner"
default-policy = "drop"
  [[device.interface]]
  name = "link"
  realm = "external"
  address = "10.1.0.2/30"
  segment = "between"
  [[device.interface]]
  name = "floor"
  realm = "internal"
  address = "10.2.0.1/24"
  [[device.route]]
  to = "0.0.0.0/0"
  via = "10.1.0.1"
  [[device.rule]]
  name = "mail-in"
  type = "forward"
  external = "link:25/tcp"
  internal = "mail:25"
  [[device.rule]]
  name = "files-in"
  type = "forward"
  external = "link:8443/tcp"
  internal = "files:443"
  [[device.policy]]
  from = "external"
  into = "internal"
  {policy}
"#
        )
    };
    let ways = |policy: &str| -> Vec<String> {
        let plan = loaded(&chain(policy)).plan;
        let found = exposure(&plan, None, None, 0);
        let one = |e: &zarnet_analysis::exposure::Exposed| {
            let ports: Vec<_> = e.ports().list().to_vec();
            let sources = e.sources().as_addresses().to_string();
            let who = if e.everybody { "everybody" } else { &sources };
            format!("{ports:?} to {} for {who}", e.server)
        };
        found.exposed.iter().map(one).collect()
    };
    assert_eq!(
        ways("accept = \"any\""),
        [
            "[(25, 25)] to 10.2.0.10:25 for everybody",
            "[(8443, 8443)] to 10.2.0.11:443 for everybody"
        ]
    );
    assert_eq!(
        ways("accept = \"25/tcp\"\n  source = \"192.0.2.0/24\""),
        ["[(25, 25)] to 10.2.0.10:25 for 192.0.2.0-192.0.2.255"]
    );
}

/// Three edges side by side, each with a rule that hides another.
fn three_edges() -> String {
    let one = |i: usize| {
        format!(
            "[[device]]\nname = \"d{i}\"\n  [[device.interface]]\n  name = \"in\"\n  realm = \
             \"internal\"\n  address = \"10.{i}.0.1/24\"\n  [[device.interface]]\n  name = \"out\"\n  \
             realm = \"external\"\n  segment = \"internet\"\n  address = \"203.0.113.{}/30\"\n  \
             [[device.rule]]\n  name = \"all-{i}\"\n  type = \"overload\"\n  as = \"out\"\n  \
             [[device.rule]]\n  name = \"some-{i}\"\n  type = \"exempt\"\n  source = \
             \"10.{i}.0.0/28\"\n",
            i * 4 + 1
        )
    };
    let edges: String = (1..4).map(one).collect();
    format!("[[segment]]\nname = \"internet\"\ninternet = true\n{edges}")
}

/// Where a change is of one device only, the packets of the others need not be gone through to know
/// what it brings and takes away.
#[test]
fn devices_that_stay_as_they_are_need_not_be_audited() {
    let text = three_edges();
    let before = loaded(&text).plan;
    for (from, to, changed) in [
        ("name = \"all-2\"\n", "name = \"all-2\"\n  enabled = false\n", 1),
        ("source = \"10.3.0.0/28\"", "source = \"10.9.0.0/28\"", 1),
        ("name = \"d1\"\n", "name = \"d1\"\ndefault-policy = \"drop\"\n", 1),
        // the address is taken, whoever could have handed it out
        ("10.1.0.1/24", "10.1.0.2/24", 3),
        ("internet = true", "internet = false", 3),
        ("name = \"d2\"", "name = \"e2\"", 1),
    ] {
        let after = loaded(&text.replacen(from, to, 1)).plan;
        let [old, new] = differing(&before, &after);
        assert_eq!(new.iter().filter(|d| **d).count(), changed, "{to}");
        let told = |all: Vec<Finding>| -> Vec<(&str, String)> {
            all.into_iter().map(|f| (f.name, f.message)).collect()
        };
        let whole = [told(audit(&before)), told(audit(&after))];
        let some =
            [told(audit_devices(&before, |d| old[d])), told(audit_devices(&after, |d| new[d]))];
        for (a, b) in [(0, 1), (1, 0)] {
            let only = |all: &[Vec<(&str, String)>; 2]| -> Vec<(String, String)> {
                let here = all[a].iter().filter(|f| !all[b].contains(f));
                here.map(|f| (f.0.to_owned(), f.1.clone())).collect()
            };
            assert_eq!(only(&some), only(&whole), "{to}");
        }
    }
    assert!(audit(&before).iter().any(|f| f.name == "rule-shadowed"));
}
