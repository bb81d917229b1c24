//! Changes of a plan on its text: what is changed is changed, and everything else stays to the
//! letter.

use std::path::Path;

use zarnet_core::plan::edit::{Edit, List, Table, Value};
use zarnet_core::plan::{AclId, DeviceId, HostId, InterfaceId, PoolId, RuleId, SegmentId};
use zarnet_formats::files::Reach;
use zarnet_formats::plan::{Loaded, edited, from_text, load};

const PLAN: &str = r#"# the head of the file
plan = "a corner shop"                      # its name

[addresses]
tills = "10.0.0.0/25"                       # half of them
empty = []

[[segment]]
name = "world"
internet = true

[[host]]                                    # by the door
name = "till"
address = "10.0.0.5/24"

[[device]]
name = "edge"
behaviour = "bcp"                           # as it came

  [[device.interface]]
  name = "shop"
  realm = "internal"
  address = "10.0.0.1/24"

  [[device.interface]]
  name = "street"
  realm = "external"
  segment = "world"
  address = "192.0.2.1/28"

  # the only way out
  [[device.route]]
  to = "0.0.0.0/0"
  via = "192.0.2.14"

  [[device.acl]]
  name = "short"
  entries = [{ drop = "23/tcp" }]

  [[device.acl]]
  name = "long"
  entries = [
    { drop = "23/tcp" },                    # no telnet
    { accept = "any" },
  ]

  [[device.pool]]
  name = "lines"
  addresses = "192.0.2.8"

  # what came first
  [[device.rule]]
  name = "one"
  type = "pool"
  source = "tills"                          # not all of them
  as = "lines"

  # what came later
  [[device.rule]]
  name = "two"
  type = "overload"
  source = ["10.0.0.5", "10.0.0.6"]
  as = "street"

# the end of the file
"#;

const EDGE: DeviceId = DeviceId(0);

fn loaded() -> Loaded {
    from_text(Path::new("shop.toml"), PLAN.into()).unwrap_or_else(|e| panic!("{e:?}"))
}

/// What an edit takes out (`-`) and puts in (`+`), line by line.
fn changed(edit: Edit) -> Vec<String> {
    let after = edited(&loaded(), &[vec![edit]]).unwrap_or_else(|e| panic!("{e:?}"));
    let (old, new): (Vec<&str>, Vec<&str>) =
        (PLAN.lines().collect(), after.sources.0[0].text().lines().collect());
    // the longest common beginning and end; what is between was changed
    let same = old.iter().zip(&new).take_while(|(a, b)| a == b).count();
    let rest =
        old[same..].iter().rev().zip(new[same..].iter().rev()).take_while(|(a, b)| a == b).count();
    let gone = old[same..old.len() - rest].iter().map(|l| format!("-{l}"));
    gone.chain(new[same..new.len() - rest].iter().map(|l| format!("+{l}"))).collect()
}

fn set(table: Table, key: &str, value: &str) -> Edit {
    Edit::Set(table, key.into(), value.into())
}

fn append(table: Table, key: &str, value: &str) -> Edit {
    Edit::Append(table, key.into(), value.into())
}

#[test]
fn a_key_is_set_where_it_stands_or_behind_the_others() {
    let rule = Table::Rule(EDGE, RuleId(0));
    assert_eq!(
        changed(set(rule, "source", "10.0.0.0/24")),
        [
            "-  source = \"tills\"                          # not all of them",
            "+  source = \"10.0.0.0/24\"                          # not all of them"
        ]
    );
    assert_eq!(changed(set(rule, "when-exhausted", "street")), ["+  when-exhausted = \"street\""]);
    assert_eq!(
        changed(set(Table::Host(HostId(0)), "gateway", "10.0.0.1")),
        ["+gateway = \"10.0.0.1\""]
    );
    assert_eq!(
        changed(set(Table::Interface(EDGE, InterfaceId(1)), "ingress-acl", "short")),
        ["+  ingress-acl = \"short\""]
    );
    assert_eq!(
        changed(set(Table::Route(EDGE, 0), "via", "192.0.2.13")),
        ["-  via = \"192.0.2.14\"", "+  via = \"192.0.2.13\""]
    );
    assert_eq!(
        changed(set(Table::Groups, "tills", "10.0.0.0/24"))[1],
        "+tills = \"10.0.0.0/24\"                       # half of them"
    );
    assert_eq!(
        changed(Edit::Unset(Table::Interface(EDGE, InterfaceId(0)), "realm".into())),
        ["-  realm = \"internal\""]
    );
}

#[test]
fn a_preset_becomes_a_table_when_a_key_is_added_to_it() {
    let edit = Edit::Set(Table::Behaviour(EDGE), "ports-per-host".into(), Value::Number(64));
    let lines = changed(edit);
    assert!(
        lines[1].starts_with("+behaviour = { preset = \"bcp\", ports-per-host = 64 }"),
        "{lines:?}"
    );
}

#[test]
fn a_text_is_added_to_a_list_or_makes_one() {
    let lines = changed(append(Table::Rule(EDGE, RuleId(1)), "source", "10.0.0.7"));
    assert_eq!(lines[1], "+  source = [\"10.0.0.5\", \"10.0.0.6\", \"10.0.0.7\"]");
    let lines = changed(append(Table::Rule(EDGE, RuleId(0)), "source", "till"));
    assert_eq!(
        lines[1],
        "+  source = [\"tills\", \"till\"]                          # not all of them"
    );
    assert_eq!(
        changed(append(Table::Pool(EDGE, PoolId(0)), "addresses", "192.0.2.9"))[1],
        "+  addresses = [\"192.0.2.8\", \"192.0.2.9\"]"
    );
    assert_eq!(changed(append(Table::Groups, "empty", "till"))[1], "+empty = [\"till\"]");
    let routed = Value::Entry(vec![("to", "198.51.100.0/29".into()), ("via", "192.0.2.1".into())]);
    let lines = changed(Edit::Append(Table::Segment(SegmentId(0)), "routed".into(), routed));
    assert_eq!(lines, ["+routed = [{ to = \"198.51.100.0/29\", via = \"192.0.2.1\" }]"]);
}

#[test]
fn a_text_in_a_list_becomes_another() {
    let two = Edit::Replace(
        Table::Rule(EDGE, RuleId(1)),
        "source".into(),
        "10.0.0.6".into(),
        "10.0.0.9".into(),
    );
    assert_eq!(changed(two)[1], "+  source = [\"10.0.0.5\", \"10.0.0.9\"]");
    let one =
        Edit::Replace(Table::Rule(EDGE, RuleId(0)), "source".into(), "tills".into(), "till".into());
    assert_eq!(changed(one)[1], "+  source = \"till\"                          # not all of them");
}

#[test]
fn an_entry_of_a_filter_is_written_like_the_others() {
    let accept = || Value::Entry(vec![("accept", "443/tcp".into())]);
    let short = |before| changed(Edit::InsertEntry(EDGE, AclId(0), before, accept()));
    assert_eq!(short(None)[1], "+  entries = [{ drop = \"23/tcp\" }, { accept = \"443/tcp\" }]");
    assert_eq!(short(Some(0))[1], "+  entries = [{ accept = \"443/tcp\" }, { drop = \"23/tcp\" }]");
    let long = changed(Edit::InsertEntry(EDGE, AclId(1), Some(1), accept()));
    assert!(long.contains(&"+    { accept = \"443/tcp\" },".to_owned()), "{long:?}");
}

#[test]
fn a_table_is_inserted_in_the_layout_of_those_beside_it() {
    let fields = || {
        vec![("name", Value::from("three")), ("type", "overload".into()), ("as", "street".into())]
    };
    let rule = [
        "+  [[device.rule]]",
        "+  name = \"three\"",
        "+  type = \"overload\"",
        "+  as = \"street\"",
    ];
    let sorted = |mut lines: Vec<String>| {
        lines.retain(|l| l.len() > 1);
        lines
    };
    assert_eq!(sorted(changed(Edit::Insert(EDGE, List::Rules, None, fields()))), rule);
    assert_eq!(sorted(changed(Edit::Insert(EDGE, List::Rules, Some(1), fields()))), rule);
    // a kind that the device has none of yet comes behind the rest
    let policy = vec![("from", Value::from("internal")), ("accept", "any".into())];
    let after =
        edited(&loaded(), &[vec![Edit::Insert(EDGE, List::Policies, None, policy)]]).unwrap();
    assert_eq!(after.plan.devices[0].policies.len(), 1);
    let route = vec![("to", Value::from("10.9.0.0/16")), ("via", "10.0.0.5".into())];
    let after = edited(&loaded(), &[vec![Edit::Insert(EDGE, List::Routes, None, route)]]).unwrap();
    assert_eq!(after.plan.devices[0].routes.len(), 2);
    assert!(after.sources.0[0].text().ends_with("# the end of the file\n"));
}

#[test]
fn a_list_with_a_line_for_each_goes_on_so() {
    let lines =
        "source = [\n    \"10.0.0.5\",                          # the till\n    \"10.0.0.6\",\n  ]";
    let text = PLAN.replace("source = [\"10.0.0.5\", \"10.0.0.6\"]", lines);
    let loaded = from_text(Path::new("shop.toml"), text).unwrap();
    let after =
        edited(&loaded, &[vec![append(Table::Rule(EDGE, RuleId(1)), "source", "10.0.0.7")]])
            .unwrap();
    let wanted = lines.replace("\n  ]", "\n    \"10.0.0.7\",\n  ]");
    assert!(after.sources.0[0].text().contains(&wanted), "{}", after.sources.0[0].text());
}

/// A rule moves with the comment that stands right above it.
#[test]
fn a_rule_moves_with_its_comment() {
    let after = edited(&loaded(), &[vec![Edit::MoveRule(EDGE, RuleId(1), RuleId(0))]]).unwrap();
    let names: Vec<&str> = after.plan.devices[0].rules.iter().map(|r| r.name.as_str()).collect();
    assert_eq!(names, ["two", "one"]);
    let text = after.sources.0[0].text();
    let at = |what: &str| text.find(what).unwrap_or_else(|| panic!("{what} is gone"));
    assert!(
        at("# what came later") < at("name = \"two\"")
            && at("name = \"two\"") < at("# what came first")
    );
    assert_eq!(text.matches('#').count(), PLAN.matches('#').count());
}

/// Each list of changes speaks of the plan that the one before it leads to.
#[test]
fn changes_follow_each_other() {
    let insert = Edit::Insert(
        EDGE,
        List::Rules,
        Some(0),
        vec![("name", "zero".into()), ("type", "exempt".into())],
    );
    let disable = Edit::Set(Table::Rule(EDGE, RuleId(0)), "enabled".into(), Value::Flag(false));
    let after = edited(&loaded(), &[vec![insert], vec![disable]]).unwrap();
    let states: Vec<(&str, bool)> =
        after.plan.devices[0].rules.iter().map(|r| (r.name.as_str(), r.enabled)).collect();
    assert_eq!(states, [("zero", false), ("one", true), ("two", true)]);
}

/// What cannot be written, or makes no plan, is refused, and the plan stays.
#[test]
fn what_makes_no_plan_is_refused() {
    let refused = |edit| edited(&loaded(), &[vec![edit]]).err().map(|e| e.is_some());
    assert_eq!(
        refused(set(Table::Rule(EDGE, RuleId(0)), "as", "nowhere")),
        Some(true),
        "no such target"
    );
    assert_eq!(
        refused(Edit::Unset(Table::Rule(EDGE, RuleId(0)), "service".into())),
        Some(false),
        "no such key"
    );
    let gone =
        Edit::Replace(Table::Rule(EDGE, RuleId(0)), "source".into(), "other".into(), "till".into());
    assert_eq!(refused(gone), Some(false), "no such text");
}

/// A change is made in the file that has the table, and in no other.
#[test]
fn the_file_that_has_it_is_changed() {
    let folder = tempfile::tempdir().unwrap();
    let at = |name: &str| folder.path().join(name);
    std::fs::write(at("shop.toml"), format!("include = [\"hosts.toml\"]\n{PLAN}")).unwrap();
    std::fs::write(
        at("hosts.toml"),
        "# others\n[[host]]\nname = \"desk\"\naddress = \"10.0.0.9/24\"\n",
    )
    .unwrap();
    let loaded = load(&at("shop.toml"), Reach::anywhere()).unwrap_or_else(|e| panic!("{e:?}"));
    let desk = loaded.plan.host("desk").unwrap();
    let after = edited(&loaded, &[vec![set(Table::Host(desk), "gateway", "10.0.0.1")]]).unwrap();
    assert_eq!(after.sources.0[0].text(), loaded.sources.0[0].text());
    assert_eq!(
        after.sources.0[1].text(),
        "# others\n[[host]]\nname = \"desk\"\naddress = \"10.0.0.9/24\"\ngateway = \"10.0.0.1\"\n"
    );
}

/// A text of several lines in a rule looks like the header of the next table.
#[test]
fn what_only_looks_like_a_header_stays_with_its_table() {
    let note = "  name = \"one\"\n  note = \"\"\"\n[see the list]\n[[device.rule]]\n\"\"\"\n";
    let text = PLAN.replace("  name = \"one\"\n", note);
    let plan = from_text(Path::new("shop.toml"), text.clone()).unwrap_or_else(|e| panic!("{e:?}"));
    let rule = RuleId(0);
    let after = |edit| edited(&plan, &[vec![edit]]).unwrap().sources.0[0].text().to_owned();
    let removed = after(Edit::RemoveRule(EDGE, rule));
    assert!(!removed.contains("[see the list]") && removed.contains("# what came later"));
    let moved = after(Edit::MoveRule(EDGE, RuleId(1), rule));
    assert!(moved.contains(note), "{moved}");
    let limited = after(Edit::Set(Table::Rule(EDGE, rule), "limit".into(), Value::Number(5)));
    assert!(limited.contains(note) && limited.contains("  limit = 5\n"), "{limited}");
}

/// As if each line had been changed in a file with the other kind of line ends.
#[test]
fn lines_end_as_they_did() {
    let with_returns = |text: &str| text.replace('\n', "\r\n");
    let plan = from_text(Path::new("shop.toml"), with_returns(PLAN)).unwrap();
    let own = Value::Entry(vec![("name", "more".into()), ("addresses", "192.0.2.9".into())]);
    let Value::Entry(keys) = own else { unreachable!() };
    let edits = || {
        [
            set(Table::Rule(EDGE, RuleId(0)), "note", "by the door"),
            append(Table::Groups, "tills", "10.0.0.200"),
            Edit::Insert(EDGE, List::Pools, None, keys.clone()),
            Edit::RemoveRule(EDGE, RuleId(1)),
            Edit::MoveRule(EDGE, RuleId(1), RuleId(0)),
        ]
    };
    for (plain, edit) in edits().into_iter().zip(edits()) {
        let wanted = edited(&loaded(), &[vec![plain]]).unwrap();
        let after = edited(&plan, &[vec![edit]]).unwrap();
        assert_eq!(after.sources.0[0].text(), with_returns(wanted.sources.0[0].text()));
    }
}
