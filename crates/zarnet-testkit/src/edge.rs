//! A device between `floor` (10.0.0.0/24) and `uplink`, driven packet by packet in a notation of
//! one line.

use std::path::Path;
use std::sync::Arc;

use zarnet_core::device::{Device, MappingRow, Outcome};
use zarnet_core::event::Action;
use zarnet_core::net::{AddressSet, Endpoint, IcmpError, Instant, Packet, Protocol, Signal, Tuple};
use zarnet_core::plan::{InterfaceId, Plan};
use zarnet_core::traffic::Ending;
use zarnet_core::traffic::{Flow, Party};

/// The plan of one edge; `behaviour`, `timers` are inline tables, `rules` is TOML of pools, rules
/// and policies.
pub fn plan_text(behaviour: &str, timers: &str, rules: &str) -> String {
    format!(
        r#"
[[segment]]
name = "world"
internet = true

[[device]]
name = "edge"
behaviour = {behaviour}
timers = {timers}

  [[device.interface]]
  name = "floor"
  realm = "internal"
  address = ["10.0.0.1/24", "fd00::1/8"]

  [[device.interface]]
  name = "uplink"
  realm = "external"
  segment = "world"
  address = ["192.0.2.1/28", "2001:db8:ffff::1/48"]

  [[device.route]]
  to = "0.0.0.0/0"
  via = "192.0.2.14"
{rules}
"#
    )
}

/// Builds a plan that must be right.
pub fn plan(text: &str) -> Arc<Plan> {
    match zarnet_formats::plan::from_text(Path::new("test.toml"), text.into()) {
        Ok(loaded) => Arc::new(loaded.plan),
        Err(error) => panic!("{error:?}\n{text}"),
    }
}

/// Everybody inside overloads the outside interface.
pub const OVERLOAD: &str = r#"
  [[device.rule]]
  name = "all"
  type = "overload"
  as = "uplink"
"#;

/// A pool rule over so many addresses from 192.0.2.8 on.
pub fn pool(count: u8, more: &str) -> String {
    let last = 7 + count;
    format!(
        r#"
  [[device.pool]]
  name = "lines"
  addresses = "192.0.2.8-192.0.2.{last}"
  {more}
  [[device.rule]]
  name = "lines-out"
  type = "pool"
  as = "lines"
"#
    )
}

/// A device under test.
pub struct Edge(pub Device);

impl Edge {
    pub fn new(behaviour: &str, timers: &str, rules: &str) -> Self {
        let plan = plan(&plan_text(behaviour, timers, rules));
        let taken: AddressSet =
            ["10.0.0.1", "192.0.2.1", "192.0.2.14"].iter().filter_map(|t| t.parse().ok()).collect();
        Self(Device::new(&plan.devices[0], &Arc::new(taken), 7))
    }

    pub fn bcp(rules: &str) -> Self {
        Self::new("\"bcp\"", "{}", rules)
    }

    /// Sends `PROTOCOL[.SIGNAL] SOURCE > DESTINATION @SECONDS`; what starts with 10 comes in by
    /// `floor`. Gives `SOURCE > DESTINATION` as it leaves, `itself`, or the reason for a drop.
    pub fn send(&mut self, text: &str) -> String {
        let (packet, at, inside) = parse(text);
        match self.0.receive(at, InterfaceId(if inside { 0 } else { 1 }), packet) {
            Outcome::Forwarded(out) => {
                format!("{} > {}", out.packet.source(), out.packet.destination())
            }
            Outcome::Answered(_) | Outcome::Consumed(..) => "itself".into(),
            Outcome::Dropped(refusal) => refusal.reason.name().into(),
        }
    }

    /// Sends packets one after the other, and holds what becomes of each against what is said
    /// behind `=>`.
    pub fn play(&mut self, script: &str) {
        for line in script.lines().map(str::trim).filter(|l| !l.is_empty()) {
            let (packet, wanted) =
                line.split_once("=>").unwrap_or_else(|| panic!("no => in {line}"));
            assert_eq!(self.send(packet.trim()), wanted.trim(), "{line}");
        }
    }

    /// Sends the ICMP error `FROM > TO about PROTOCOL SOURCE > DESTINATION @SECONDS`. Gives it as
    /// it leaves, or the reason for a drop.
    pub fn error(&mut self, text: &str) -> String {
        let (outer, about) = text.split_once(" about ").unwrap();
        let (from, to) = outer.split_once(" > ").unwrap();
        let (about, at, _) = parse(about);
        let error = IcmpError { from: from.parse().unwrap(), to: to.parse().unwrap(), about };
        match self.0.receive_error(
            at,
            InterfaceId(if from.starts_with("10.") { 0 } else { 1 }),
            error,
        ) {
            Ok(out) => {
                format!("{} > {} about {}", out.error.from, out.error.to, out.error.about.ends)
                    .replace("->", ">")
            }
            Err(refusal) => refusal.reason.name().into(),
        }
    }

    pub fn restart(&mut self, seconds: f64) {
        self.0.act(time(seconds), &Action::Restart);
    }

    pub fn mappings(&mut self, seconds: f64) -> Vec<MappingRow> {
        self.mappings_at(time(seconds))
    }

    pub fn mappings_at(&mut self, at: Instant) -> Vec<MappingRow> {
        mappings_at(&mut self.0, at)
    }
}

/// A device's table at a moment.
pub fn mappings_at(device: &mut Device, at: Instant) -> Vec<MappingRow> {
    device.expire(at);
    let mut rows = Vec::new();
    device.list_mappings(at, &mut rows);
    rows
}

fn time(seconds: f64) -> Instant {
    Instant((seconds * 1e9).round() as u64)
}

fn endpoint(text: &str) -> Endpoint {
    if let Some((address, port)) = text.strip_prefix('[').and_then(|t| t.split_once("]:")) {
        return Endpoint::new(address.parse::<std::net::IpAddr>().unwrap(), port.parse().unwrap());
    }
    let (address, port) = text.split_once(':').unwrap_or((text, "0"));
    Endpoint::new(address.parse::<std::net::IpAddr>().unwrap(), port.parse().unwrap())
}

/// A flow that is over with its answer and then says nothing more, from a packet's notation.
pub fn flow(text: &str) -> Flow {
    let (packet, start, _) = parse(text);
    let port = |p: u16| Some(p).filter(|p| *p > 0);
    Flow {
        start,
        protocol: packet.protocol,
        source: Party::Address(packet.source().address),
        source_port: port(packet.source().port),
        destination: Party::Address(packet.destination().address),
        destination_port: port(packet.destination().port),
        lasts: 0,
        ending: Some(Ending::Silent),
        round_trip: None,
    }
}

fn parse(text: &str) -> (Packet, Instant, bool) {
    let words: Vec<&str> = text.split_whitespace().collect();
    let [kind, source, ">", destination, at] = words[..] else { panic!("not a packet: {text}") };
    let (protocol, signal) = kind.split_once('.').unwrap_or((kind, ""));
    let protocol: Protocol = protocol.parse().unwrap();
    let signal = match (protocol, signal) {
        (Protocol::TCP, "") => Signal::Syn,
        (Protocol::ICMP, "") => Signal::Query,
        (_, "") => Signal::Plain,
        (_, "synack") => Signal::SynAck,
        (_, "fin") => Signal::Fin,
        (_, "rst") => Signal::Rst,
        (_, "reply") => Signal::Reply,
        (_, "data") => Signal::Plain,
        (_, other) => panic!("no signal {other}"),
    };
    let ends = Tuple { source: endpoint(source), destination: endpoint(destination) };
    let at = at.strip_prefix('@').unwrap().parse().unwrap();
    (
        Packet { protocol, signal, ends },
        time(at),
        source.starts_with("10.") || source.starts_with("[fd"),
    )
}

/// Holds something against random cases of a file's test: as many as `CASES` says, from the seed
/// that `SEED` says; otherwise so many from a fixed seed, and half as many from a fresh one. A case
/// that fails is told with its seed, and made smaller.
pub fn cases<S: proptest::strategy::Strategy>(
    file: &'static str,
    count: u32,
    strategy: S,
    test: impl Fn(S::Value) -> Result<(), proptest::test_runner::TestCaseError>,
) {
    let of = |name: &str| std::env::var(name).ok().and_then(|v| v.parse::<u64>().ok());
    let fresh = std::time::SystemTime::now()
        .duration_since(std::time::UNIX_EPOCH)
        .map_or(0, |d| d.as_nanos() as u64);
    let runs = match (of("CASES"), of("SEED")) {
        (None, None) => vec![(u64::from(count), 1), (u64::from(count / 2), fresh)],
        (cases, seed) => vec![(cases.unwrap_or(count.into()), seed.unwrap_or(fresh))],
    };
    for (cases, seed) in runs {
        let config = proptest::test_runner::Config {
            cases: cases as u32,
            max_global_rejects: u32::MAX,
            source_file: Some(file),
            ..Default::default()
        };
        let mut bytes = [0; 32];
        bytes[..8].copy_from_slice(&seed.to_le_bytes());
        let rng = proptest::test_runner::TestRng::from_seed(
            proptest::test_runner::RngAlgorithm::ChaCha,
            &bytes,
        );
        let mut runner = proptest::test_runner::TestRunner::new_with_rng(config, rng);
        if let Err(error) = runner.run(&strategy, &test) {
            panic!("seed {seed} of {cases} cases: {error}");
        }
    }
}
