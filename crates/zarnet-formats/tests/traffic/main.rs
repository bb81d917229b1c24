//! Flow lists, scenarios and captures, right and wrong.

mod captures;

use std::io::Write;
use std::net::IpAddr;
use std::path::Path;

use zarnet_core::event::Action;
use zarnet_core::net::{Instant, Protocol};
use zarnet_core::plan::{DeviceId, InterfaceId};
use zarnet_core::traffic::{Flow, Item, Party};
use zarnet_formats::plan::Loaded;
use zarnet_formats::traffic::{Attempt, Fault, Given, Reading, Traffic, TrafficError};

fn plan() -> Loaded {
    let text = r#"
[[host]]
name = "kiosk-1"
address = "10.0.0.5/24"
[[device]]
name = "edge"
  [[device.interface]]
  name = "floor"
  realm = "internal"
  address = "10.0.0.1/24"
  [[device.rule]]
  name = "all"
  type = "overload"
  as = "floor"
"#;
    zarnet_formats::plan::from_text(Path::new("p.toml"), text.into()).unwrap()
}

fn file(contents: &[u8]) -> tempfile::NamedTempFile {
    let mut file = tempfile::NamedTempFile::new().unwrap();
    file.write_all(contents).unwrap();
    file
}

fn open(
    contents: &[u8],
    skip_bad: bool,
) -> Result<(Traffic, tempfile::NamedTempFile), Vec<TrafficError>> {
    let file = file(contents);
    let given = [Given::File(file.path().into())];
    let seen_at = Some((DeviceId(0), InterfaceId(0)));
    Traffic::open(&given, &plan(), Reading { seen_at, skip_bad, ..Reading::default() })
        .map(|t| (t, file))
}

/// The items, or the first error by line and name.
fn read(contents: &[u8], attempt: Attempt) -> Result<Vec<Item>, (Option<u64>, &'static str)> {
    let (traffic, _file) = open(contents, false).map_err(|e| (e[0].line, e[0].fault.name()))?;
    traffic.items(attempt).map(|i| i.map_err(|e| (e.line, e.fault.name()))).collect()
}

fn flows(text: &str) -> Vec<Flow> {
    let items = read(text.as_bytes(), Attempt::Sorted).unwrap();
    items.into_iter().map(|i| if let Item::Flow(f) = i { f } else { panic!("{i:?}") }).collect()
}

#[test]
fn a_list_in_any_order_of_columns_with_what_people_put_into_lists() {
    let text = "\u{feff}# made by hand\r\n\
                protocol,source,start,destination,destination-port,ends\r\n\
                tcp,kiosk-1,1.5,198.51.100.80,443,silent\r\n\r\n\"udp\", 10.0.0.9 \
                ,2m,198.51.100.53,53,\r\n\
                icmp,10.0.0.9,90s,198.51.100.53,,\r\n";
    let flows = flows(text);
    let starts: Vec<u64> = flows.iter().map(|f| f.start.0 / 1_000_000).collect();
    assert_eq!(starts, [1500, 90_000, 120_000], "sorted by start");
    assert!(matches!(flows[0].source, Party::Host(_)));
    assert_eq!(flows[2].source, Party::Address("10.0.0.9".parse().unwrap()));
    assert_eq!(flows[1].protocol, Protocol::ICMP);
}

#[test]
fn times_of_day_count_from_the_earliest() {
    let csv = "start,protocol,source,destination\n2026-05-01T08:00:10Z,gre,10.0.0.5,198.51.100.1\n\
               2026-05-01T08:00:00+00:00,gre,10.0.0.5,198.51.100.1\n";
    let starts: Vec<Instant> = flows(csv).iter().map(|f| f.start).collect();
    assert_eq!(starts, [Instant(0), Instant(10_000_000_000)]);
}

#[test]
fn json_lines_have_the_same_names() {
    let text = "{\"start\": 3, \"protocol\": \"udp\", \"source\": \"kiosk-1\", \"destination\": \
                \"198.51.100.53\", \"destination-port\": 53, \"lasts\": null}\n";
    let flows = flows(text);
    assert_eq!((flows[0].start, flows[0].destination_port), (Instant(3_000_000_000), Some(53)));
}

#[test]
fn packed_lists_are_read_as_they_are() {
    let text = "start,protocol,source,destination\n0,gre,10.0.0.5,198.51.100.1\n";
    let mut packer = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    packer.write_all(text.as_bytes()).unwrap();
    assert_eq!(read(&packer.finish().unwrap(), Attempt::Streaming).unwrap().len(), 1);
    let zst = zstd::encode_all(text.as_bytes(), 1).unwrap();
    assert_eq!(read(&zst, Attempt::Streaming).unwrap().len(), 1);
}

#[test]
fn what_is_wrong_is_told_with_its_line() {
    let head = "start,protocol,source,source-port,destination,destination-port,lasts,ends\n";
    let cases: [(&str, Option<u64>, &str); 16] = [
        ("0,tcp,10.0.0.5,1,198.51.100.1,70000,1,", Some(2), "bad-field"),
        ("0,tcp,10.0.0.500,1,198.51.100.1,80,1,", Some(2), "bad-field"),
        ("0,tcq,10.0.0.5,1,198.51.100.1,80,1,", Some(2), "bad-field"),
        ("soon,tcp,10.0.0.5,1,198.51.100.1,80,1,", Some(2), "bad-field"),
        ("-4,tcp,10.0.0.5,1,198.51.100.1,80,1,", Some(2), "negative-time"),
        ("0,tcp,10.0.0.5,1,198.51.100.1,80,-1,", Some(2), "negative-time"),
        ("0,tcp,kiosk-2,1,198.51.100.1,80,1,", Some(2), "unknown-host"),
        ("0,tcp,10.0.0.5,1,2001:db8::1,80,1,", Some(2), "mixed-families"),
        ("0,tcp,10.0.0.5,1,198.51.100.1,,1,", Some(2), "port-missing"),
        ("0,gre,10.0.0.5,,198.51.100.1,80,1,", Some(2), "port-not-possible"),
        ("0,tcp,10.0.0.5,1,198.51.100.1,80,1,abort", Some(2), "unknown-ending"),
        ("0,tcp,10.0.0.5,1,198.51.100.1,80,1", Some(2), "field-count"),
        ("0,tcp,10.0.0.5,1,198.51.100.1,80,1,,,", Some(2), "field-count"),
        ("0,tcp,,1,198.51.100.1,80,1,", Some(2), "missing-column"),
        ("0,tcp,10.0.0.5,1,198.51.100.1,80,1,\u{0}", Some(2), "unknown-ending"),
        ("\n\n0,tcp,x y,1,198.51.100.1,80,1,", Some(4), "unknown-host"),
    ];
    for (line, number, name) in cases {
        assert_eq!(
            read(format!("{head}{line}\n").as_bytes(), Attempt::Streaming),
            Err((number, name)),
            "{line}"
        );
    }
    let whole: [(&[u8], &str); 8] = [
        (b"", "empty-file"),
        (b"\n# nothing\n", "empty-file"),
        (b"0,tcp,10.0.0.5,1,198.51.100.1,80\n", "header-missing"),
        (b"start,protocol,source,destination,destnation-port\n", "unknown-column"),
        (b"start,protocol,source\n", "missing-column"),
        (b"start,start,protocol,source,destination\n", "column-twice"),
        (b"\x7fELF\x02\x01\x01\xff\xfe", "unknown-format"),
        (b"hello there\n", "unknown-format"),
    ];
    for (contents, name) in whole {
        assert_eq!(read(contents, Attempt::Streaming).unwrap_err().1, name, "{contents:?}");
    }
    // a slip in a header names the nearest column
    let Err(errors) = open(b"start,protocol,sorce,destination\n", false).and_then(|(t, f)| {
        let (errors, _) = t.errors();
        drop(f);
        Err::<(), _>(errors)
    }) else {
        panic!()
    };
    assert_eq!(
        errors[0].fault,
        Fault::UnknownColumn { name: "sorce".into(), near: Some("source") }
    );
}

#[test]
fn a_line_without_end_is_refused_and_can_be_passed_over() {
    let mut text = b"start,protocol,source,destination\n0,gre,10.0.0.5,198.51.100.1\n".to_vec();
    text.extend(std::iter::repeat_n(b'x', 100 << 20));
    text.extend(b"\n1,gre,10.0.0.5,198.51.100.1\n");
    assert_eq!(read(&text, Attempt::Streaming), Err((Some(3), "line-too-long")));
    let (traffic, _file) = open(&text, true).unwrap();
    let mut items = traffic.items(Attempt::Streaming);
    assert_eq!(items.by_ref().filter(Result::is_ok).count(), 2);
    assert_eq!(items.skipped().bad, 1);
}

#[test]
fn bad_lines_are_all_told_or_all_counted() {
    let mut text = String::from("start,protocol,source,destination\n");
    (0..30).for_each(|n| {
        text += &format!("{n},gre,10.0.0.{},198.51.100.1\n", if n % 3 == 0 { 999 } else { 5 })
    });
    let (traffic, _file) = open(text.as_bytes(), false).unwrap();
    let (errors, count) = traffic.errors();
    assert_eq!((errors.len(), count), (10, 10));
    assert_eq!(errors.iter().filter_map(|e| e.line).take(3).collect::<Vec<_>>(), [2, 5, 8]);
    let (traffic, _file) = open(text.as_bytes(), true).unwrap();
    let mut items = traffic.items(Attempt::Streaming);
    assert_eq!(items.by_ref().count(), 20);
    assert_eq!(items.skipped().bad, 10);
}

#[test]
fn scenarios_hold_flows_and_events() {
    let text = r#"
[[flow]]
start = "1m"
protocol = "tcp"
source = "kiosk-1"
destination = "198.51.100.80"
destination-port = 443
round-trip = 0.2
[[event]]
at = 90
do = "disable"
rule = "all"
[[event]]
at = 30
do = "clear"
host = "kiosk-1"
"#;
    let (traffic, _file) = open(text.as_bytes(), false).unwrap();
    let events = traffic.events();
    assert_eq!(events.iter().map(|e| e.at.0 / 1_000_000_000).collect::<Vec<_>>(), [30, 90]);
    let Action::Clear(clearing) = &events[0].action else { panic!() };
    assert_eq!(clearing.host, Some(IpAddr::from([10, 0, 0, 5])));
    let Some(Ok(Item::Flow(flow))) = traffic.items(Attempt::Streaming).next() else { panic!() };
    assert_eq!(flow.round_trip, Some(200_000_000));
    // everything wrong at once, each with its line
    let wrong = "[[event]]\nat = -1\ndo = \"disable\"\nrule = \"al\"\n[[flow]]\nstart = 1\n\
                 protocol = \"tcp\"\nsorce = \"x\"\n[[event]]\nat = 1\ndo = \"explode\"\n";
    let errors = open(wrong.as_bytes(), false).err().unwrap();
    let lines: Vec<Option<u64>> = errors.iter().map(|e| e.line).collect();
    assert!(
        errors.len() >= 4 && lines.contains(&Some(2)) && lines.contains(&Some(11)),
        "{errors:?}"
    );
}

/// What is wrong with a scenario of one flow: line and name of each fault.
fn wrong_with(more: &str) -> Vec<(Option<u64>, &'static str)> {
    let text = format!(
        "[[flow]]\nstart = 5\nprotocol = \"udp\"\nsource = \"kiosk-1\"\ndestination = \
         \"198.51.100.80\"\ndestination-port = 53\n{more}"
    );
    open(text.as_bytes(), false)
        .err()
        .unwrap_or_default()
        .iter()
        .map(|e| (e.line, e.fault.name()))
        .collect()
}

#[test]
fn a_flow_of_a_scenario_is_sent_again_and_again() {
    let text = "[[flow]]\nstart = 5\nprotocol = \"icmp\"\nsource = \"edge/floor\"\ndestination = \
                \"198.51.100.80\"\nevery = \"30s\"\ncount = 3\n\
                [[flow]]\nstart = \"10s\"\nprotocol = \"gre\"\nsource = \"edge\"\ndestination = \
                \"edge/floor\"\n";
    let all = flows(text);
    let seconds: Vec<u64> = all.iter().map(|f| f.start.0 / 1_000_000_000).collect();
    assert_eq!(seconds, [5, 10, 35, 65]);
    assert_eq!(all[0].source, Party::Interface(DeviceId(0), InterfaceId(0)));
    assert_eq!((all[1].source, all[1].destination), (Party::Device(DeviceId(0)), all[0].source));
}

#[test]
fn what_is_wrong_with_repeating_is_told_with_its_line() {
    assert_eq!(wrong_with("every = \"30s\"\ncount = 1\n"), []);
    assert_eq!(wrong_with("every = \"30s\"\n"), [(Some(7), "scenario")]);
    assert_eq!(wrong_with("count = 4\n"), [(Some(7), "scenario")]);
    for count in ["0", "-1", "10000001"] {
        assert_eq!(
            wrong_with(&format!("every = 30\ncount = {count}\n")),
            [(Some(8), "scenario")],
            "{count}"
        );
    }
    assert_eq!(
        wrong_with("every = \"soon\"\ncount = 0\n"),
        [(Some(7), "bad-field"), (Some(8), "scenario")]
    );
    assert_eq!(wrong_with("every = -5\ncount = 2\n"), [(Some(7), "negative-time")]);
    assert_eq!(wrong_with("every = \"1000000h\"\ncount = 2\n"), [(Some(7), "time-too-long")]);
    assert_eq!(wrong_with("every = \"100h\"\ncount = 10000000\n"), [(Some(1), "time-too-long")]);
    assert_eq!(wrong_with("every = \"1s\"\ncount = \"two\"\n").first().map(|f| f.0), Some(Some(8)));
}

/// The clock of a shuffled list begins at its earliest line, also for a moment that is asked for as
/// a time of day.
#[test]
fn the_origin_of_a_shuffled_list_is_its_earliest_time() {
    let lines = ["2026-08-01T10:00:00Z", "2026-08-01T08:00:00Z", "2026-08-01T09:00:00Z"]
        .map(|t| format!("{t},udp,kiosk-1,198.51.100.53,53\n"));
    let list = format!("start,protocol,source,destination,destination-port\n{}", lines.concat());
    let (traffic, _file) = open(list.as_bytes(), false).unwrap();
    assert_eq!(traffic.time("2026-08-01T09:30:00Z").unwrap().seconds(), 5_400.0);
}

#[test]
fn a_wrong_time_is_told_under_its_own_key() {
    let load = "[[load]]\nsources = \"kiosk-1\"\ndestination = \"198.51.100.80\"\nprotocol = \
                \"udp\"\ndestination-port = 53\n\
                rate = 2\nlasts = \"9s\"\neach-lasts = \"exponential 5s\"\n";
    let errors = open(load.as_bytes(), false).err().unwrap();
    assert!(errors[0].fault.to_string().starts_with("each-lasts: "), "{}", errors[0].fault);
}
