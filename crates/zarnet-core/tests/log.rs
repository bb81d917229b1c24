//! The translation log that devices write of what happens to their tables (RFC 8158).

use std::convert::Infallible;
use std::sync::Arc;

use zarnet_core::device::{EndCause, LogEntry, LogEvent, Quota};
use zarnet_core::event::{Action, Event};
use zarnet_core::net::Instant;
use zarnet_core::plan::{DeviceId, Log, Plan};
use zarnet_core::predict::{Options, log};
use zarnet_core::traffic::{Flow, Item, OneByOne};
use zarnet_testkit::played::{EDGE, HOSTS, OUT, edge, event, flow, plan, written};

/// The log of some lines of traffic.
fn logged(
    plan: &Arc<Plan>,
    lines: &[&str],
    events: Vec<Event>,
    all_as: Option<Log>,
    stepwise: bool,
) -> Vec<LogEntry> {
    let flows: Vec<Flow> = lines.iter().map(|line| flow(plan, line)).collect();
    let items = flows.into_iter().map(|f| Ok::<Item, Infallible>(Item::Flow(f)));
    let options = Options { stepwise, ..Options::default() };
    let mut all = Vec::new();
    log(plan.clone(), OneByOne(items), events, options, all_as, |_, _, entries| {
        all.extend(entries)
    })
    .unwrap();
    all
}

/// What was logged, a line each: seconds, what, ends and cause.
fn lines(logged: &[LogEntry]) -> Vec<String> {
    let ended = |cause: Option<EndCause>| cause.map_or("made".into(), |c| format!("{c:?}"));
    let line = |entry: &LogEntry| {
        let what = match entry.event {
            LogEvent::Session(t, cause) => {
                format!(
                    "session {} {} {} {}",
                    t.internal,
                    t.external,
                    t.peer.unwrap(),
                    ended(cause)
                )
            }
            LogEvent::Mapping(t, cause) => {
                format!("mapping {} {} {}", t.internal, t.external, ended(cause))
            }
            LogEvent::Address(t, cause) => {
                format!("address {} {} {}", t.internal, t.external, ended(cause))
            }
            LogEvent::Block(b, cause) => {
                format!(
                    "block {} {} {}-{} {}",
                    b.host,
                    b.external,
                    b.ports.0,
                    b.ports.1,
                    ended(cause)
                )
            }
            LogEvent::AddressesExhausted(pool) => format!("pool {} exhausted", pool.0),
            LogEvent::PortsExhausted(address, protocol) => format!("ports {address} {protocol}"),
            LogEvent::QuotaExceeded(quota) => format!("{quota:?}"),
        };
        format!("{} {what}", entry.at)
    };
    logged.iter().map(line).collect()
}

const TWO: [&str; 2] = [
    "1 udp 10.20.0.11:4000>198.51.100.1:53 2 silent",
    "2 udp 10.20.0.11:4000>198.51.100.2:53 2 silent",
];
/// Something later, so that the timers run out before the log ends.
const LATER: &str = "1000 udp 10.20.0.12:5000>198.51.100.1:53 1 silent";

#[test]
fn rfc8158_s4_6_3_mappings_are_logged_when_they_begin_and_end() {
    let plan = edge("", &[OUT]);
    let log = logged(&plan, &[TWO[0], TWO[1], LATER], vec![], Some(Log::Mappings), false);
    assert_eq!(
        lines(&log),
        [
            "1s mapping 10.20.0.11:4000 203.0.113.2:4000 made",
            "5m4s mapping 10.20.0.11:4000 203.0.113.2:4000 Expired",
            "16m40s mapping 10.20.0.12:5000 203.0.113.2:5000 made",
        ]
    );
}

#[test]
fn rfc8158_s4_6_1_a_rule_logs_sessions_or_mappings() {
    let plan = edge("", &[&format!("{OUT}; log = \"sessions\"")]);
    let log = logged(&plan, &[TWO[0], TWO[1], LATER], vec![], None, false);
    assert_eq!(
        lines(&log)[..4],
        [
            "1s session 10.20.0.11:4000 203.0.113.2:4000 198.51.100.1:53 made",
            "2s session 10.20.0.11:4000 203.0.113.2:4000 198.51.100.2:53 made",
            "5m3s session 10.20.0.11:4000 203.0.113.2:4000 198.51.100.1:53 Expired",
            "5m4s session 10.20.0.11:4000 203.0.113.2:4000 198.51.100.2:53 Expired",
        ]
    );
    let unlogged = edge("", &[OUT]);
    assert!(logged(&unlogged, &TWO, vec![], None, false).is_empty());
}

#[test]
fn rfc8158_s4_6_3_fixed_mappings_begin_with_the_log_and_end_with_their_rule() {
    let rule = "web static internal = \"10.20.0.11\"; external = \"203.0.113.9\"";
    let plan = edge("", &[rule]);
    let events = vec![
        event(5.0, Action::Disable(zarnet_core::plan::RuleId(0))),
        event(9.0, Action::Enable(zarnet_core::plan::RuleId(0))),
    ];
    let log = logged(&plan, &[LATER], events, Some(Log::Mappings), false);
    assert_eq!(
        lines(&log),
        [
            "0s address 10.20.0.11 203.0.113.9 made",
            "5s address 10.20.0.11 203.0.113.9 RuleDisabled",
            "9s address 10.20.0.11 203.0.113.9 made",
        ]
    );
}

#[test]
fn rfc8158_s4_6_10_blocks_are_logged_for_their_host() {
    let plan = edge("behaviour = { preset = \"bcp\", block-size = 256 }", &[OUT]);
    let log = logged(&plan, &[TWO[0], TWO[1], LATER], vec![], Some(Log::Blocks), false);
    assert_eq!(
        lines(&log),
        [
            "1s block 10.20.0.11 203.0.113.2 1024-1279 made",
            "5m4s block 10.20.0.11 203.0.113.2 1024-1279 Expired",
            "16m40s block 10.20.0.12 203.0.113.2 1024-1279 made",
        ]
    );
}

#[test]
fn rfc8158_s4_6_5_a_shortage_is_logged_once_in_a_while() {
    let pool = "pool as = \"few\"\n[[device.pool]]\nname = \"few\"\naddresses = [\"203.0.113.10\"]";
    let mut text = String::new();
    for n in 0..50 {
        text += &format!("{} udp 10.20.0.12:{}>198.51.100.1:53 1 silent\n", n + 2, 5000 + n);
    }
    let plan = edge("", &[&format!("lines {pool}")]);
    let mut flows = vec!["1 udp 10.20.0.11:4000>198.51.100.1:53 100 silent"];
    flows.extend(text.lines());
    let log = logged(&plan, &flows, vec![], Some(Log::Mappings), false);
    let exhausted: Vec<String> =
        lines(&log).into_iter().filter(|line| line.ends_with("exhausted")).collect();
    assert_eq!(exhausted, ["2s pool 0 exhausted", "22s pool 0 exhausted", "42s pool 0 exhausted"]);
}

#[test]
fn rfc8158_s4_6_7_limits_are_logged_with_how_much_they_allow() {
    let plan = edge("behaviour = { preset = \"bcp\", ports-per-host = 1 }", &[OUT]);
    let flows = [TWO[0], "2 udp 10.20.0.11:4001>198.51.100.1:53 2 silent"];
    let log = logged(&plan, &flows, vec![], Some(Log::Mappings), false);
    let quota = log.iter().find_map(|entry| match entry.event {
        LogEvent::QuotaExceeded(quota) => Some(quota),
        _ => None,
    });
    assert_eq!(quota, Some(Quota::OfHost(1, "10.20.0.11".parse().unwrap())));
}

#[test]
fn the_fast_path_logs_what_the_steps_log() {
    let mut text = String::new();
    for n in 0..400u32 {
        let (host, port) = (11 + n % 2, 4000 + n * 7 % 90);
        text +=
            &format!("{} tcp 10.20.0.{host}:{port}>198.51.100.{}:443 3 close 0.1\n", n * 3, n % 9);
    }
    let flows: Vec<&str> = text.lines().collect();
    for behaviour in ["", "behaviour = { preset = \"bcp\", block-size = 256 }"] {
        let plan = edge(behaviour, &[OUT]);
        for all_as in [Log::Sessions, Log::Mappings, Log::Blocks] {
            let [quick, slow] = [false, true]
                .map(|stepwise| lines(&logged(&plan, &flows, vec![], Some(all_as), stepwise)));
            assert_eq!(quick, slow);
        }
    }
}

#[test]
fn entries_come_in_the_order_of_their_time() {
    let mut text = String::new();
    for n in 0..9000 {
        text += &format!(
            "{}.{} udp 10.20.0.11:{}>198.51.100.1:53 1 silent\n",
            n / 10,
            n % 10,
            1024 + n
        );
    }
    let flows: Vec<&str> = text.lines().collect();
    let plan = edge("", &[OUT]);
    let log = logged(&plan, &flows, vec![], Some(Log::Mappings), false);
    assert!(log.len() > 9000 && log.is_sorted_by_key(|entry| entry.at));
}

/// A second edge beside the first, with a host of its own.
const BESIDE: &str = r#"
[[host]]
name = "h2"
address = "10.30.0.11/24"
gateway = "10.30.0.1"
[[device]]
name = "beside"
  [[device.interface]]
  name = "hall"
  realm = "internal"
  address = "10.30.0.1/24"
  [[device.interface]]
  name = "lane"
  realm = "external"
  segment = "world"
  address = "203.0.113.34/27"
  [[device.route]]
  to = "0.0.0.0/0"
  via = "203.0.113.33"
"#;

#[test]
fn entries_of_several_devices_come_in_one_order() {
    let text = format!(
        "{HOSTS}[[device]]\nname = \"edge\"\n{EDGE}{}{BESIDE}{}",
        written(OUT),
        written(&OUT.replace("street", "lane"))
    );
    let plan = plan(text);
    let mut text = String::new();
    for n in 0..5000u32 {
        // two in a row on the one, then one on the other, some of them at one time
        let host = if n % 3 < 2 { "10.20.0.11" } else { "10.30.0.11" };
        text += &format!("{} udp {host}:{}>198.51.100.1:53 1 silent\n", n / 2, 1024 + n);
    }
    let flows: Vec<&str> = text.lines().collect();
    let mut all: Vec<(Instant, DeviceId)> = Vec::new();
    let items = flows.iter().map(|f| Ok::<Item, Infallible>(Item::Flow(flow(&plan, f))));
    let (options, all_as) = (Options::default(), Some(Log::Mappings));
    log(plan.clone(), OneByOne(items), vec![], options, all_as, |_, device, entries| {
        all.extend(entries.iter().map(|entry| (entry.at, device)));
    })
    .unwrap();
    assert!(all.is_sorted(), "by time, and at one time by device");
    // each mapping is made once; most have ended too
    for (device, made) in [(DeviceId(0), 3334), (DeviceId(1), 1666)] {
        let count = all.iter().filter(|entry| entry.1 == device).count();
        assert!((made + made / 2..=2 * made).contains(&count), "{count} of {made}");
    }
}
