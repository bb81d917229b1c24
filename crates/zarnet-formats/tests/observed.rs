//! Tables as devices show them: every form that is read, and what is said of those that are not.

use std::io::Write;
use std::path::Path;

use zarnet_core::plan::{DeviceId, Plan};
use zarnet_formats::observed::Observed;
use zarnet_formats::observed::{ColumnMap, Form, read};
use zarnet_formats::plan::from_text;
use zarnet_formats::traffic::Given;

fn plan(devices: &[&str]) -> Plan {
    let text: String = devices.iter().map(|d| format!("[[device]]\nname = \"{d}\"\n")).collect();
    from_text(Path::new("plan.toml"), text).map_err(|e| format!("{e:?}")).unwrap().plan
}

/// Entries as `DEVICE PROTOCOL INTERNAL EXTERNAL PEER LINE`, or the names of what is wrong with
/// their lines.
fn table(
    text: &str,
    columns: Option<&str>,
    of: Option<DeviceId>,
    devices: &[&str],
) -> Result<Vec<String>, Vec<String>> {
    let mut file = tempfile::NamedTempFile::new().unwrap();
    file.write_all(text.as_bytes()).unwrap();
    let map = columns.map(|c| ColumnMap::parse(c).unwrap());
    let told = |o: &Observed| {
        let protocol = o.protocol.map_or("any".into(), |p| p.to_string());
        let peer = o.peer.map_or("-".into(), |p| p.to_string());
        format!("{} {protocol} {} {} {peer} {}", o.device.0, o.internal, o.external, o.line)
    };
    let form = Form { columns: map.as_ref(), of };
    match read(&Given::File(file.path().into()), form, &plan(devices)) {
        Ok(entries) => Ok(entries.iter().map(told).collect()),
        Err(errors) => Err(errors
            .iter()
            .map(|e| format!("{}:{}", e.line.map_or("-".into(), |l| l.to_string()), e.fault.name()))
            .collect()),
    }
}

fn one(text: &str) -> Result<Vec<String>, Vec<String>> {
    table(text, None, None, &["edge"])
}

#[test]
fn our_own_names_in_any_order() {
    let wanted = Ok(vec!["0 tcp 10.0.0.5:1000 192.0.2.1:2000 - 2".to_owned()]);
    assert_eq!(
        one("protocol,internal,internal-port,external,external-port\n\
             tcp,10.0.0.5,1000,192.0.2.1,2000\n"),
        wanted
    );
    assert_eq!(one("external,internal,protocol\n192.0.2.1:2000,10.0.0.5:1000,TCP\n"), wanted);
    // columns of our own table that say nothing of what is there
    assert_eq!(
        one("rule,type,internal,external,protocol,sessions\n\
             a,b,10.0.0.5:1000,192.0.2.1:2000,tcp,7\n"),
        wanted
    );
    assert_eq!(one("internal;external;protocol\n10.0.0.5:1000;192.0.2.1:2000;tcp\n"), wanted);
    assert_eq!(one("internal\texternal\tprotocol\n10.0.0.5:1000\t192.0.2.1:2000\ttcp\n"), wanted);
    assert_eq!(
        one("# taken at noon\ninternal,external,peer\n10.0.0.5,192.0.2.1,any\n\
             10.0.0.6,192.0.2.2,198.51.100.1:53\n"),
        Ok(vec![
            "0 any 10.0.0.5 192.0.2.1 - 3".into(),
            "0 any 10.0.0.6 192.0.2.2 198.51.100.1:53 4".into()
        ])
    );
    assert_eq!(
        one("internal,external\n[fd00::5]:80,[2001:db8::1]:81\nfd00::6,2001:db8::2\n"),
        Ok(vec![
            "0 any [fd00::5]:80 [2001:db8::1]:81 - 2".into(),
            "0 any fd00::6 2001:db8::2 - 3".into()
        ])
    );
}

#[test]
fn other_tables_by_a_map_of_their_columns() {
    let map = Some("protocol=4,internal=1,external=3");
    let text = "inside,age,outside,proto\n10.0.0.5:1000,17,192.0.2.1:2000,udp\n";
    assert_eq!(
        table(text, map, None, &["edge"]),
        Ok(vec!["0 udp 10.0.0.5:1000 192.0.2.1:2000 - 2".into()])
    );
    let bare = "10.0.0.5:1000,17,192.0.2.1:2000,udp\n";
    assert_eq!(
        table(bare, map, None, &["edge"]),
        Ok(vec!["0 udp 10.0.0.5:1000 192.0.2.1:2000 - 1".into()])
    );
    let name = |text: &str| ColumnMap::parse(text).map_err(|f| f.name()).err();
    assert_eq!(name("internal=1,external=2"), None);
    assert_eq!(name("internal=1"), Some("missing-column"));
    assert_eq!(name("internal=1,outside=2"), Some("unknown-column"));
    assert_eq!(name("internal=0,external=2"), Some("malformed-line"));
    assert_eq!(name("internal=one,external=2"), Some("malformed-line"));
    assert_eq!(name("internal"), Some("malformed-line"));
}

#[test]
fn the_answer_of_a_prediction_is_a_table_too() {
    let end =
        |address: &str, port: &str| format!("{{ \"address\": \"{address}\", \"port\": {port} }}");
    let (internal, external) = (end("10.0.0.5", "1000"), end("192.0.2.1", "null"));
    let text = format!(
        "{{ \"shape\": 1, \"mappings\": [ {{ \"device\": \"edge\", \"protocol\": \"tcp\", \
         \"internal\": {internal}, \"external\": {external}, \"peer\": null }} ] }}"
    );
    assert_eq!(one(&text), Ok(vec!["0 tcp 10.0.0.5:1000 192.0.2.1 - 1".into()]));
    assert_eq!(one("{ \"shape\": 1 }"), Err(vec!["-:missing-column".into()]));
    assert_eq!(one("{ \"shape\": "), Err(vec!["-:malformed-line".into()]));
    assert_eq!(one("{ \"mappings\": [ { \"internal\": 7 }, 8 ] }").unwrap_err().len(), 2);
}

#[test]
fn whose_table_it_is_must_be_known() {
    let text = "internal,external\n10.0.0.5,192.0.2.1\n10.0.0.6,192.0.2.1\n";
    assert_eq!(
        table(text, None, None, &["edge", "box"]),
        Err(vec!["-:missing-column".into()]),
        "told once"
    );
    let of_box = table(text, None, Some(DeviceId(1)), &["edge", "box"]).unwrap();
    assert!(of_box.iter().all(|e| e.starts_with("1 ")));
    let named = "device,internal,external\nbox,10.0.0.5,192.0.2.1\nbix,10.0.0.6,192.0.2.1\n";
    assert_eq!(table(named, None, None, &["edge", "box"]), Err(vec!["3:unknown-host".into()]));
}

#[test]
fn all_that_is_wrong_is_told_with_its_line() {
    let text = "protocol,internal,external\ntcp,10.0.0.5:1000,192.0.2.1\nhttp,10.0.0.5,192.0.2.1\n\
                tcp,10.0.0.256,192.0.2.1\ntcp,10.0.0.5:70000,192.0.2.1\ntcp,,192.0.2.1\ntcp\n";
    let wanted =
        ["3:bad-field", "4:bad-field", "5:bad-field", "6:missing-column", "7:missing-column"];
    assert_eq!(one(text).unwrap_err(), wanted);
    assert_eq!(one(""), Err(vec!["-:empty-file".into()]));
    assert_eq!(one("inside,outside\n"), Err(vec!["-:unknown-column".into()]));
    assert_eq!(one("internal,internal,external\n"), Err(vec!["-:column-twice".into()]));
    assert_eq!(
        read(&Given::File("/nowhere/at/all".into()), Form::default(), &plan(&["edge"]))
            .unwrap_err()[0]
            .fault
            .name(),
        "unreadable"
    );
}
