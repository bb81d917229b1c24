//! Lists that stand in one array instead of under headers: added to, taken from and put in order,
//! with every comment where it was.

use std::path::Path;

use zarnet_core::plan::edit::{Edit, List, Table, Value};
use zarnet_core::plan::{AclId, DeviceId, RuleId};
use zarnet_formats::plan::{edited, from_text};

const PLAN: &str = r#"segment = [{ name = "world", internet = true }]

[[device]]
name = "edge"
interface = [
  { name = "shop", realm = "internal", address = "10.0.0.1/24" },
  { name = "street", realm = "external", segment = "world", address = "192.0.2.1/28" }
]
route = [{ to = "0.0.0.0/0", via = "192.0.2.14" }]
acl = [{ name = "f", entries = [{ accept = "any" }] }]
rule = [
  # the two tills
  { name = "tills", type = "overload", source = "10.0.0.0/25", as = "street" },  # day and night
  { name = "safe", type = "forward", external = "street:99/tcp", internal = "10.0.0.9" }, # at night
  # everybody else
  { name = "rest", type = "overload", as = "street" }  # the last
]

# what must hold
[[expect]]
flow = "10.0.0.5 -> 198.51.100.80:443/tcp"
"#;

const EDGE: DeviceId = DeviceId(0);

/// The array of rules after changes.
fn rules(edit: Edit) -> Vec<String> {
    let loaded = from_text(Path::new("shop.toml"), PLAN.into()).unwrap();
    let after = edited(&loaded, &[vec![edit]]).unwrap();
    let text = after.sources.0[0].text();
    let (_, list) = text.split_once("rule = [\n").unwrap();
    let (list, rest) = list.split_once("\n]").unwrap();
    assert!(rest.ends_with("internet\n") || rest.contains("# what must hold"));
    list.lines().map(|l| l.trim().to_owned()).collect()
}

fn before() -> Vec<String> {
    let (_, list) = PLAN.split_once("rule = [\n").unwrap();
    list.split_once("\n]").unwrap().0.lines().map(|l| l.trim().to_owned()).collect()
}

fn exempt() -> Vec<(&'static str, Value)> {
    vec![("name", "quiet".into()), ("type", "exempt".into())]
}

const QUIET: &str = r#"{ name = "quiet", type = "exempt" }"#;

#[test]
fn a_rule_is_added_at_the_end_or_before_another() {
    let mut last = before();
    last[4] = r#"{ name = "rest", type = "overload", as = "street" },  # the last"#.into();
    last.push(QUIET.into());
    assert_eq!(rules(Edit::Insert(EDGE, List::Rules, None, exempt())), last);
    let mut second = before();
    second.insert(2, format!("{QUIET},"));
    assert_eq!(rules(Edit::Insert(EDGE, List::Rules, Some(1), exempt())), second);
    let mut third = before();
    // the comment above the rule that it comes before stays above that
    third.insert(3, format!("{QUIET},"));
    assert_eq!(rules(Edit::Insert(EDGE, List::Rules, Some(2), exempt())), third);
}

#[test]
fn a_rule_is_taken_out_with_its_comments_alone() {
    let [above, tills, safe, above_rest, rest] = <[String; 5]>::try_from(before()).unwrap();
    assert_eq!(
        rules(Edit::RemoveRule(EDGE, RuleId(0))),
        [safe.clone(), above_rest.clone(), rest.clone()]
    );
    let without_safe = [above.clone(), tills.clone(), above_rest, rest];
    assert_eq!(rules(Edit::RemoveRule(EDGE, RuleId(1))), without_safe);
    let safe = before()[2].replace(" },", " }");
    assert_eq!(rules(Edit::RemoveRule(EDGE, RuleId(2))), [above, tills, safe]);
}

#[test]
fn a_rule_is_copied_and_moved() {
    let keys = vec![("name", "spare".into()), ("external", "street:98/tcp".into())];
    let mut copied = before();
    let spare = r#"{ name = "spare", type = "forward", external = "street:98/tcp", internal = "10.0.0.9" },"#;
    copied.insert(3, spare.into());
    assert_eq!(rules(Edit::CloneRule(EDGE, RuleId(1), keys, vec![])), copied);
    let moved = rules(Edit::MoveRule(EDGE, RuleId(2), RuleId(1)));
    let named: Vec<&str> = moved.iter().filter_map(|l| l.split('"').nth(1)).collect();
    assert_eq!(named, ["tills", "rest", "safe"]);
}

#[test]
fn lists_of_one_line_stay_on_it() {
    let loaded = from_text(Path::new("shop.toml"), PLAN.into()).unwrap();
    let route = vec![("to", Value::from("10.9.0.0/16")), ("via", "10.0.0.5".into())];
    let drop = Value::Entry(vec![("drop", "23/tcp".into())]);
    let edits = [
        vec![Edit::Insert(EDGE, List::Routes, None, route)],
        vec![Edit::InsertEntry(EDGE, AclId(0), Some(0), drop)],
        vec![Edit::Set(Table::Route(EDGE, 0), "via".into(), "192.0.2.13".into())],
    ];
    let after = edited(&loaded, &edits).unwrap();
    let text = after.sources.0[0].text();
    let list = r#"route = [{ to = "0.0.0.0/0", via = "192.0.2.13" }, { to = "10.9.0.0/16", via = "10.0.0.5" }]"#;
    assert!(text.contains(list), "{text}");
    assert!(text.contains(r#"entries = [{ drop = "23/tcp" }, { accept = "any" }]"#), "{text}");
}

/// A list that is not there yet gets a header below the device, and none of another section's
/// comments; in a device of one line there can be none.
#[test]
fn the_first_of_a_list_stands_below_its_device() {
    let loaded = from_text(Path::new("shop.toml"), PLAN.into()).unwrap();
    let policy = vec![("accept", Value::from("any"))];
    let after =
        edited(&loaded, &[vec![Edit::Insert(EDGE, List::Policies, None, policy.clone())]]).unwrap();
    let text = after.sources.0[0].text();
    let header = "\n]\n\n[[device.policy]]\naccept = \"any\"\n\n# what must hold\n";
    assert!(text.contains(header), "{text}");
    let line =
        r#"device = [{ name = "edge", interface = [{ name = "a", address = "10.0.0.1/24" }] }]"#;
    let loaded = from_text(Path::new("line.toml"), line.into()).unwrap();
    let after = edited(&loaded, &[vec![Edit::Insert(EDGE, List::Policies, None, policy)]]).unwrap();
    assert!(after.sources.0[0].text().contains(r#" }], policy = [{ accept = "any" }] }]"#));
}
