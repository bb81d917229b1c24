//! A small estate and traffic that is played on it: one edge between 10.20.0.0/24 (`floor`: h0 is
//! .11, h1 is .12) and the internet (`street`).

use std::convert::Infallible;
use std::path::Path;
use std::sync::Arc;

use zarnet_core::device::MappingRow;
use zarnet_core::event::{Action, Event};
use zarnet_core::net::{Endpoint, Instant, Protocol};
use zarnet_core::plan::{DeviceId, InterfaceId, Plan};
use zarnet_core::predict::{Halt, Moment, Options, Prediction, predict};
use zarnet_core::traffic::{Ending, OneByOne};
use zarnet_core::traffic::{Flow, Item, Party};

pub const HOSTS: &str = r#"
[[segment]]
name = "world"
internet = true
[[host]]
name = "h0"
address = "10.20.0.11/24"
gateway = "10.20.0.1"
[[host]]
name = "h1"
address = "10.20.0.12/24"
gateway = "10.20.0.1"
"#;

pub const EDGE: &str = r#"
  [[device.interface]]
  name = "floor"
  realm = "internal"
  address = "10.20.0.1/24"
  [[device.interface]]
  name = "street"
  realm = "external"
  segment = "world"
  address = "203.0.113.2/27"
  [[device.route]]
  to = "0.0.0.0/0"
  via = "203.0.113.1"
"#;

/// A plan of hosts and an edge with these keys and rules, each `NAME TYPE KEY = VALUE; ...`.
pub fn edge(keys: &str, rules: &[&str]) -> Arc<Plan> {
    let mut text = format!("{HOSTS}[[device]]\nname = \"edge\"\n{keys}\n{EDGE}");
    for rule in rules {
        text += &written(rule);
    }
    plan(text)
}

pub fn written(rule: &str) -> String {
    let mut words = rule.splitn(3, ' ');
    let (name, kind) = (words.next().unwrap(), words.next().unwrap());
    let more = words.next().unwrap_or("").replace("; ", "\n  ");
    format!("  [[device.rule]]\n  name = \"{name}\"\n  type = \"{kind}\"\n  {more}\n")
}

pub fn plan(text: String) -> Arc<Plan> {
    match zarnet_formats::plan::from_text(Path::new("corner.toml"), text.clone()) {
        Ok(loaded) => Arc::new(loaded.plan),
        Err(error) => panic!("{error:?}\n{text}"),
    }
}

pub const OUT: &str = "out overload as = \"street\"";

pub fn seconds(text: &str) -> Instant {
    Instant((text.parse::<f64>().unwrap() * 1e9).round() as u64)
}

fn end(plan: &Plan, text: &str) -> (Party, Option<u16>) {
    let text = text.replace("h0", "10.20.0.11").replace("h1", "10.20.0.12");
    let (who, port) = text.split_once(':').unwrap_or((&text, ""));
    let party = match (who.split_once('/'), plan.device(who)) {
        (Some((device, interface)), _) => {
            let device = plan.device(device).unwrap();
            let interfaces = &plan.devices[device.index()].interfaces;
            Party::Interface(
                device,
                InterfaceId(interfaces.iter().position(|i| i.name == interface).unwrap() as u16),
            )
        }
        (None, Some(device)) => Party::Device(device),
        (None, None) => Party::Address(who.parse().unwrap()),
    };
    (party, port.parse().ok())
}

/// `START PROTOCOL SOURCE>DESTINATION [LASTS [ENDING [ROUND-TRIP]]]`; h0 and h1 stand for their
/// addresses, a device's name for its own traffic.
pub fn flow(plan: &Plan, line: &str) -> Flow {
    let words: Vec<&str> = line.split_whitespace().collect();
    let protocol: Protocol = words[1].parse().unwrap();
    let (source, destination) = words[2].split_once('>').unwrap();
    let ((source, source_port), (destination, destination_port)) =
        (end(plan, source), end(plan, destination));
    let ending = words.get(4).map(|e| match *e {
        "close" => Ending::Close,
        "reset" => Ending::Reset,
        _ => Ending::Silent,
    });
    Flow {
        start: seconds(words[0]),
        protocol,
        source,
        source_port,
        destination,
        destination_port,
        lasts: words.get(3).map_or(0, |l| seconds(l).0),
        ending,
        round_trip: words.get(5).map(|r| seconds(r).0),
    }
}

pub struct Played {
    pub plan: Arc<Plan>,
    pub prediction: Prediction,
}

/// Plays lines of traffic, with events, and takes the table at a moment.
pub fn play(plan: &Arc<Plan>, lines: &[&str], events: Vec<Event>, at: Option<f64>) -> Played {
    let flows: Vec<Flow> = lines.iter().map(|l| flow(plan, l)).collect();
    let moment = at.map_or(Moment::End, |at| Moment::At(Instant((at * 1e9) as u64)));
    let once = |stepwise, sources| {
        let items = flows.iter().map(|f| Ok::<Item, Infallible>(Item::Flow(*f)));
        let options = Options { moment, stepwise, sources, ..Options::default() };
        predict(plan.clone(), OneByOne(items), events.clone(), options)
    };
    // step by step, and the short way: both come to the same
    let [slow, quick] = [true, false].map(|stepwise| match once(stepwise, None) {
        Err(Halt::SourcesNeeded) => {
            let address = |f: &Flow| if let Party::Address(a) = f.source { Some(a) } else { None };
            once(stepwise, Some(flows.iter().filter_map(address).collect())).unwrap()
        }
        prediction => prediction.unwrap(),
    });
    assert_eq!((&slow.tally, slow.at), (&quick.tally, quick.at));
    for (a, b) in slow.tables.iter().zip(&quick.tables) {
        assert_eq!((&a.mappings, &a.sessions), (&b.mappings, &b.sessions), "{lines:?}");
    }
    Played { plan: plan.clone(), prediction: slow }
}

pub fn event(at: f64, action: Action) -> Event {
    Event { at: Instant((at * 1e9) as u64), device: DeviceId(0), action }
}

impl Played {
    /// What was not translated: `REASON [DEVICE] [RULE]`, in order.
    pub fn lost(&self) -> Vec<String> {
        let all = self.prediction.not_translated.iter();
        all.map(|n| {
            let device = n.device.map(|d| &self.plan.devices[d.index()]);
            let rule = device.zip(n.rule).map(|(d, r)| format!(" {}", d.rules[r.index()].name));
            let device = device.map(|d| format!(" {}", d.name));
            format!("{}{}{}", n.reason, device.unwrap_or_default(), rule.unwrap_or_default())
        })
        .collect()
    }

    pub fn dynamic(&self) -> Vec<&MappingRow> {
        self.prediction.tables.iter().flat_map(|t| &t.mappings).filter(|m| !m.fixed).collect()
    }

    /// External ends of dynamic mappings, by internal end.
    pub fn external(&self, internal: &str) -> Vec<Endpoint> {
        let (Party::Address(address), port) = end(&self.plan, internal) else { panic!() };
        let own = |m: &&&MappingRow| {
            m.internal.address == address && port.is_none_or(|p| m.internal.port == p)
        };
        self.dynamic().iter().filter(own).map(|m| m.external).collect()
    }
}

pub fn nothing() -> [String; 0] {
    []
}
