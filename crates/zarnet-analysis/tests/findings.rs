//! Findings of `check`: each is told where it should be, and no more once it is mended.

use zarnet_analysis::audit::audit;
use zarnet_core::finding::{FINDINGS, Severity};
use zarnet_core::plan::Plan;
use zarnet_testkit::edge::{OVERLOAD, plan, plan_text};
use zarnet_testkit::town::TOWN;

fn build(text: &str) -> Plan {
    match zarnet_formats::plan::from_text(std::path::Path::new("test.toml"), text.into()) {
        Ok(loaded) => loaded.plan,
        Err(error) => panic!("{error:?}\n{text}"),
    }
}

/// One edge with a host behind it; `rules` is TOML of the device, `around` of the plan.
fn edge(device: &str, around: &str) -> String {
    format!(
        r#"
[[segment]]
name = "world"
internet = true

[[host]]
name = "web"
address = "10.0.0.20/24"
gateway = "10.0.0.1"
listens = ["443/tcp"]

[[host]]
name = "desk"
address = "10.0.0.30/24"
gateway = "10.0.0.1"
{around}
[[device]]
name = "edge"
behaviour = {{ preset = "bcp", filtering = "address-dependent" }}

  [[device.interface]]
  name = "floor"
  realm = "internal"
  address = "10.0.0.1/24"

  [[device.interface]]
  name = "uplink"
  realm = "external"
  segment = "world"
  address = "192.0.2.1/28"

  [[device.route]]
  to = "0.0.0.0/0"
  via = "192.0.2.14"
{device}"#
    )
}

fn rule(name: &str, kind: &str, keys: &str) -> String {
    format!(
        "  [[device.rule]]\n  name = \"{name}\"\n  type = \"{kind}\"\n  hairpin = \
         [\"internal\"]\n  {}\n",
        keys.replace("; ", "\n  ")
    )
}

fn names(text: &str) -> Vec<&'static str> {
    audit(&build(text)).into_iter().map(|f| f.name).collect()
}

/// What is found in the first, and not in the second.
#[test]
fn each_finding_is_told_and_goes_when_it_is_mended() {
    let over = |name: &str, source: &str| {
        rule(name, "overload", &format!("source = \"{source}\"; as = \"uplink\""))
    };
    let other = |name: &str, source: &str| {
        rule(name, "overload", &format!("source = \"{source}\"; as = \"192.0.2.6\""))
    };
    let policy = |entry: &str| format!("  [[device.policy]]\n  {}\n", entry.replace("; ", "\n  "));
    let all = || over("all", "10.0.0.0/24");
    let plain = |device: String| edge(&device, "");
    let drop = |device: String| {
        edge(&device, "").replace("name = \"edge\"", "name = \"edge\"\ndefault-policy = \"drop\"")
    };
    let out = policy("from = \"internal\"; into = \"external\"; accept = \"any\"");
    let filter = |entries: &str| {
        edge(&format!("  [[device.acl]]\n  name = \"in\"\n  entries = [{entries}]\n{}", all()), "")
            .replace("realm = \"internal\"", "realm = \"internal\"\n  ingress-acl = \"in\"")
    };
    let door = |internal: &str, keys: &str| {
        rule(
            "door",
            "forward",
            &format!("external = \"uplink:8443/tcp\"; internal = \"{internal}\"{keys}"),
        )
    };
    let machine = |keys: &str| {
        rule(
            "machine",
            "static",
            &format!("internal = \"10.0.0.20\"; external = \"192.0.2.5\"{keys}"),
        )
    };
    let pool = |more: &str| {
        format!(
            "  [[device.pool]]\n  name = \"lines\"\n  addresses = \"192.0.2.8-192.0.2.9\"\n{}",
            rule("lines-out", "pool", &format!("as = \"lines\"{more}"))
        )
    };
    let behind = |port: u16| {
        format!(
            "[[device]]\nname = \"inner\"\n  [[device.interface]]\n  name = \"in\"\n  realm = \
             \"internal\"\n  address = \"10.9.0.1/24\"\n  [[device.interface]]\n  name = \
             \"link\"\n  segment = \"lan\"\n  realm = \"external\"\n  address = \"10.0.0.7/24\"\n \
              [[device.route]]\n  to = \"0.0.0.0/0\"\n  via = \"10.0.0.1\"\n  [[device.rule]]\n  \
              name = \"on\"\n  type = \"forward\"\n  external = \"link:{port}/tcp\"\n  internal = \
              \"10.9.0.4:80\"\n  hairpin = [\"internal\"]\n"
        )
    };
    let with_second_line = |keys: &str| {
        let second = "  [[device.interface]]\n  name = \"lane\"\n  realm = \"external\"\n  \
                      segment = \"world\"\n  address = \"203.0.113.2/28\"\n  [[device.route]]\n  \
                      to = \"0.0.0.0/0\"\n  via = \"203.0.113.1\"\n";
        let on_it = rule("door", "forward", "external = \"lane:443/tcp\"; internal = \"web:443\"");
        plain(format!("{second}{on_it}{}", all()))
            .replace("preset = \"bcp\"", &format!("{keys}preset = \"bcp\""))
    };
    let on_lan = |text: String| {
        let inside = "realm = \"internal\"\n  address = \"10.0.0.1";
        let text = text.replace(inside, &format!("segment = \"lan\"\n  {inside}"));
        let hosts =
            text.replace("gateway = \"10.0.0.1\"", "gateway = \"10.0.0.1\"\nsegment = \"lan\"");
        format!("[[segment]]\nname = \"lan\"\n{hosts}")
    };
    let with_inner = |port: u16| {
        on_lan(format!(
            "{}{}",
            plain(format!("{}{}", door("10.0.0.7:8443", ""), all())),
            behind(port)
        ))
    };
    let expectation = |becomes: &str| {
        edge(
            &all(),
            &format!(
                "[[expect]]\nflow = \"desk -> 198.51.100.80:443/tcp\"\nbecomes = \"{becomes}\"\n"
            ),
        )
    };
    let public = |verdict: &str| {
        edge(&policy(&format!("from = \"external\"; into = \"internal\"; {verdict} = \"any\"")), "")
            .replace("10.0.0.", "198.51.100.")
    };
    let cases: Vec<(&str, String, String)> = vec![
        (
            "rule-shadowed",
            plain(all() + &other("desk", "10.0.0.30")),
            plain(other("desk", "10.0.0.30") + &all()),
        ),
        (
            "rule-partly-shadowed",
            plain(other("low", "10.0.0.1-10.0.0.99") + &over("middle", "10.0.0.50-10.0.0.150")),
            plain(other("low", "10.0.0.1-10.0.0.49") + &over("middle", "10.0.0.50-10.0.0.150")),
        ),
        (
            "rule-redundant",
            plain(over("desk", "10.0.0.30") + &all()),
            plain(other("desk", "10.0.0.30") + &all()),
        ),
        ("rule-never-matches", drop(all()), drop(format!("{out}{}", all()))),
        ("rule-disabled", plain(all() + "  enabled = false\n"), plain(all())),
        (
            "policy-entry-shadowed",
            drop(format!(
                "{out}{}{}",
                policy("from = \"internal\"; into = \"external\"; drop = \"53/udp\""),
                all()
            )),
            drop(format!(
                "{}{out}{}",
                policy("from = \"internal\"; into = \"external\"; drop = \"53/udp\""),
                all()
            )),
        ),
        (
            "filter-entry-shadowed",
            filter("{ accept = \"any\" }, { drop = \"23/tcp\" }"),
            filter("{ drop = \"23/tcp\" }, { accept = \"any\" }"),
        ),
        (
            "filter-drops-everything",
            filter("{ drop = \"23/tcp\" }"),
            filter("{ drop = \"23/tcp\" }, { accept = \"any\" }"),
        ),
        (
            "refused-by-policy",
            drop(format!("{out}{}{}", door("web:443", ""), all())),
            drop(format!(
                "{out}{}{}{}",
                policy("from = \"external\"; into = \"internal\"; accept = \"443/tcp\""),
                door("web:443", ""),
                all()
            )),
        ),
        (
            "translation-wider-than-policy",
            drop(format!(
                "{out}{}{}{}",
                policy("from = \"external\"; into = \"internal\"; accept = \"443/tcp\""),
                machine(""),
                all()
            )),
            drop(format!(
                "{out}{}{}{}",
                policy(
                    "from = [\"external\", \"internal\"]; into = \"internal\"; accept = \"443/tcp\""
                ),
                machine("; service = \"443/tcp\""),
                all()
            )),
        ),
        (
            "remote-administration-open",
            plain(door("desk:22", "") + &all()),
            plain(door("desk:22", "; source = \"198.51.100.0/28\"") + &all()),
        ),
        (
            "whole-host-exposed",
            plain(machine("") + &all()),
            plain(machine("; service = \"443/tcp\"") + &all()),
        ),
        (
            "device-service-open",
            plain(all())
                .replace("realm = \"external\"", "realm = \"external\"\n  services = \"22/tcp\""),
            plain(all()),
        ),
        ("open-from-outside", public("accept"), public("drop")),
        (
            "forward-not-listening",
            plain(door("web:8080", "") + &all()),
            plain(door("web:443", "") + &all()),
        ),
        (
            "server-undeclared",
            plain(door("10.0.0.21:443", "") + &all()),
            plain(door("web:443", "") + &all()),
        ),
        (
            "answer-by-other-line",
            with_second_line(""),
            with_second_line("answers-leave = \"as-came\", "),
        ),
        (
            "realm-used-once",
            plain(all()).replace("realm = \"external\"", "realm = \"extern\""),
            plain(all()),
        ),
        ("chain-ends-here", with_inner(9443), with_inner(8443)),
        (
            "pool-unused",
            plain(all() + "  [[device.pool]]\n  name = \"spare\"\n  addresses = \"192.0.2.8\"\n"),
            plain(all()),
        ),
        (
            "pool-smaller-than-sources",
            plain(pool("; source = \"10.0.0.0/24\"")),
            plain(pool("; source = \"10.0.0.0/24\"; when-exhausted = \"uplink\"")),
        ),
        ("expectation-fails", expectation("192.0.2.9"), expectation("192.0.2.1")),
    ];
    for (name, wrong, right) in &cases {
        assert!(names(wrong).contains(name), "{name} is not told: {:?}\n{wrong}", names(wrong));
        assert!(!names(right).contains(name), "{name} is told all the same\n{right}");
    }
}

#[test]
fn the_plan_says_what_is_told_and_how_bad_it_is() {
    let shadowed = edge(
        &(rule("all", "overload", "as = \"uplink\"")
            + &rule("desk", "overload", "source = \"desk\"; as = \"192.0.2.6\"")),
        "",
    );
    let severity = |text: &str| {
        audit(&build(text)).into_iter().find(|f| f.name == "rule-shadowed").map(|f| f.severity)
    };
    assert_eq!(severity(&shadowed), Some(Severity::Warning));
    assert_eq!(
        severity(&format!("[check]\ndeny = [\"rule-shadowed\"]\n{shadowed}")),
        Some(Severity::Error)
    );
    assert_eq!(severity(&format!("[check]\nallow = [\"rule-shadowed\"]\n{shadowed}")), None);
    let wrong = zarnet_formats::plan::from_text(
        "t.toml".as_ref(),
        format!("[check]\nallow = [\"rule-shadow\"]\n{shadowed}"),
    );
    assert!(wrong.is_err(), "a name that no finding has is an error of the plan");
}

#[test]
fn a_shadowed_rule_has_a_witness_and_a_repair_that_works() {
    let text = edge(
        &(rule("all", "overload", "as = \"uplink\"")
            + &rule("desk", "overload", "source = \"desk\"; as = \"192.0.2.6\"")),
        "",
    );
    let loaded = zarnet_formats::plan::from_text("t.toml".as_ref(), text).expect("a plan");
    let found = audit(&loaded.plan)
        .into_iter()
        .find(|f| f.name == "rule-shadowed")
        .expect("it is shadowed");
    let witness = found.witness.expect("a witness");
    assert_eq!(witness.source().address, std::net::IpAddr::from([10, 0, 0, 30]));
    let mended = zarnet_formats::plan::edited(&loaded, &[found.edits]).expect("a repair");
    assert!(audit(&mended.plan).iter().all(|f| f.name != "rule-shadowed"));
}

#[test]
fn every_finding_has_one_name() {
    let mut names: Vec<&str> = FINDINGS.iter().map(|f| f.name).collect();
    names.sort_unstable();
    names.dedup();
    assert_eq!(names.len(), FINDINGS.len());
    assert!(names.len() >= 30);
}

/// RFC 4787 §5 REQ-5, RFC 5382 §5 REQ-5, RFC 5508 §3.2 REQ-2: timers below the floor are told, and
/// obeyed.
#[test]
fn rfc4787_req5_timers_below_the_floor_are_told() {
    let text = plan_text(
        "\"bcp\"",
        "{ udp-timeout = 60, tcp-idle-timeout = 60, icmp-timeout = 5 }",
        OVERLOAD,
    );
    let told: Vec<String> = audit(&plan(&text))
        .into_iter()
        .filter(|f| f.name == "timer-below-minimum")
        .map(|f| f.message)
        .collect();
    assert_eq!(told.len(), 3, "{told:?}");
}

/// What is wrong around the devices is found, each with its place.
#[test]
fn gateways_routes_and_prefixes_that_lead_nowhere_are_found() {
    let found = |change: &[(&str, &str)]| {
        let text = change.iter().fold(TOWN.to_owned(), |text, (from, to)| text.replace(from, to));
        let mut names: Vec<&str> = audit(&plan(&text)).iter().map(|f| f.name).collect();
        // what the town is built with is told by the test below
        let known = [
            "routed-address-unused",
            "gateway-not-held",
            "device-service-open",
            "host-without-gateway",
        ];
        names.retain(|n| !known.contains(n));
        names
    };
    let route = "  [[device.rule]]\n  name = \"shop-in\"";
    let to = |prefix: &str, via: &str| {
        format!(
            "  [[device.route]]\n  to = \"{prefix}\"\n  via = \"{via}\"\n  [[device.rule]]\n  \
             name = \"shop-in\""
        )
    };
    assert_eq!(found(&[]), [""; 0]);
    assert_eq!(found(&[(route, &to("10.9.0.0/16", "10.1.0.77"))]), ["next-hop-not-held"]);
    assert_eq!(found(&[(route, &to("10.9.0.0/16", "10.1.0.5"))]), [""; 0], "a host may be one");
    assert_eq!(
        found(&[("gateway = \"10.1.0.1\"", "gateway = \"10.2.0.1\"")]),
        ["gateway-outside-prefix"]
    );
    assert_eq!(
        found(&[("address = \"10.1.0.1/24\"", "address = \"10.1.0.1/8\"")]),
        ["prefixes-overlap"]
    );
}

#[test]
fn the_town_has_few_findings() {
    let names: Vec<&str> = audit(&plan(TOWN)).iter().map(|f| f.name).collect();
    let warnings = ["routed-address-unused", "routed-address-unused", "device-service-open"];
    assert_eq!(
        names,
        [&["gateway-not-held", "gateway-not-held"], &warnings[..], &["host-without-gateway"]]
            .concat()
    );
}
