//! Each formula against the engine: random settings, and the share that is computed against what
//! many plays of it show. `SETTINGS=200 cargo test --release -p zarnet-analysis --test models --
//! --nocapture` for the whole measurement.

use std::convert::Infallible;
use std::net::IpAddr;

use rand_chacha::ChaCha12Rng;
use rand_chacha::rand_core::{Rng, SeedableRng};
use zarnet_analysis::capacity::model::{AddressLoad, Model};
use zarnet_analysis::capacity::{Resource, SampleSpread, of_hour, resources};
use zarnet_core::device::Supply;
use zarnet_core::net::{AddressRange, AddressSet, Instant, Protocol};
use zarnet_core::predict::{Moment, Options, predict};
use zarnet_core::traffic::{Crowd, Flow, Item, Length, Load, OneByOne, Party};
use zarnet_testkit::edge::{OVERLOAD, plan, plan_text, pool};

const S: u64 = 1_000_000_000;
/// Plays of each setting.
const PLAYS: u64 = 10;

fn settings() -> usize {
    std::env::var("SETTINGS").ok().and_then(|n| n.parse().ok()).unwrap_or(6)
}

/// Random numbers for a setting.
struct Dice(ChaCha12Rng);

impl Dice {
    fn of(seed: u64) -> Self {
        Self(ChaCha12Rng::seed_from_u64(seed))
    }

    fn between(&mut self, low: f64, high: f64) -> f64 {
        low + (self.0.next_u64() >> 11) as f64 / (1u64 << 53) as f64 * (high - low)
    }

    fn whole(&mut self, low: u64, high: u64) -> u64 {
        low + self.0.next_u64() % (high - low + 1)
    }
}

/// A load from so many hosts, over so long.
fn load(hosts: u64, rate: f64, lasts: u64, each: Length, seed: u64) -> Load {
    let first = u32::from_be_bytes([10, 1, 0, 10]);
    let last = IpAddr::from((first + hosts as u32 - 1).to_be_bytes());
    let sources = AddressRange::new(IpAddr::from(first.to_be_bytes()), last).unwrap();
    let set = |range: AddressRange| -> AddressSet { std::iter::once(range).collect() };
    Load {
        start: Instant::ZERO,
        lasts: lasts * S,
        sources: Crowd::new(Vec::new(), set(sources)),
        destinations: Crowd::new(Vec::new(), set(AddressRange::one([198, 51, 100, 10].into()))),
        protocol: Protocol::UDP,
        destination_port: Some(53),
        rate,
        each_lasts: each,
        ending: None,
        seed,
    }
}

fn text(behaviour: &str, rules: &str) -> String {
    plan_text(behaviour, "{ udp-timeout = 1 }", rules).replace("10.0.0.1/24", "10.0.0.1/8")
}

/// Ports 3000 on, so many of them.
fn ports(count: u64, more: &str) -> String {
    format!("{{ port-classes = [\"1-65535 -> 3000-{}\"]{more} }}", 2999 + count)
}

fn supplies(text: &str, flows: impl Iterator<Item = Flow>) -> Vec<Resource> {
    let items = flows.map(|f| Ok::<_, Infallible>(Item::Flow(f)));
    let options = Options { moment: Moment::End, record: true, ..Options::default() };
    resources(&mut predict(plan(text), OneByOne(items), Vec::new(), options).unwrap(), true)
}

/// Whether a computed share is what plays show of a supply in a window; `None` where hardly anything
/// is refused, or nearly everything.
fn holds(shares: &[f64], computed: f64) -> Option<bool> {
    let spread = SampleSpread::of(shares).unwrap();
    (0.002..0.9).contains(&spread.mean).then(|| spread.holds(computed))
}

/// Plays settings until enough of them can be judged, and tells how many of those hold.
fn measured(name: &str, setting: impl Fn(u64) -> Option<bool>) {
    let (mut held, mut judged) = (0, 0);
    for seed in 1..=settings() as u64 * 4 {
        if judged == settings() {
            break;
        }
        if let Some(holds) = setting(seed) {
            judged += 1;
            held += usize::from(holds);
        }
    }
    println!("{name}: {held} of {judged} settings inside their interval");
    // of few settings two may lie outside by chance, of many seven in a hundred
    let least = if judged < 50 { judged.saturating_sub(2) } else { judged * 93 / 100 };
    assert!(judged > 0 && held >= least, "{name}: {held} of {judged}");
}

fn length(dice: &mut Dice, mean: f64) -> Length {
    let nanoseconds = (mean * 1e9) as u64;
    match dice.whole(0, 2) {
        0 => Length::Fixed(nanoseconds),
        1 => Length::Exponential(nanoseconds),
        _ => Length::Uniform(0, 2 * nanoseconds),
    }
}

/// The share of a supply in a window after use has settled.
fn share(list: &[Resource], is: impl Fn(Supply) -> bool, from: u64, until: u64) -> f64 {
    let window = (Instant(from * S), Instant(until * S));
    list.iter().find(|r| is(r.supply)).map_or(0.0, |r| of_hour(r, window).measured.share)
}

#[test]
fn erlangs_formula_is_what_ports_do() {
    measured("erlang-b", |seed| {
        let mut dice = Dice::of(seed);
        let (size, mean) = (dice.whole(5, 40), dice.between(20.0, 200.0));
        let offered = size as f64 * dice.between(0.5, 1.2);
        let (each, rest) = (length(&mut dice, mean), dice.whole(0, 1) * 60);
        let rate = offered / (mean + 1.0 + rest as f64);
        let (warm, long) = ((mean * 6.0) as u64 + rest * 3, (3000.0 / rate) as u64);
        let more = if rest > 0 { format!(", hold-down-timeout = {rest}") } else { String::new() };
        let text = text(&ports(size, &more), OVERLOAD);
        let one = |n: u64| {
            let load = load(60_000, rate, warm + long, each, seed * 100 + n);
            let list = supplies(&text, load.flows());
            share(&list, |s| matches!(s, Supply::Ports(..)), warm, warm + long)
        };
        let shares: Vec<f64> = (0..PLAYS).map(one).collect();
        holds(&shares, Model::ErlangB { offered }.refusal(size, 1.0))
    });
}

#[test]
fn engsets_formula_is_what_pools_do() {
    measured("engset", |seed| {
        let mut dice = Dice::of(seed);
        let (size, mean) = (dice.whole(2, 6), dice.between(20.0, 200.0));
        let hosts = size + dice.whole(1, 2 * size);
        let each = Length::Fixed((mean * 1e9) as u64);
        // a host asks by itself, and what it sends while it has an address makes it last
        let one_rate = dice.between(0.05, 1.0) / (mean + 1.0);
        let idle_load = (one_rate * (mean + 1.0)).exp_m1();
        let rate = one_rate * hosts as f64;
        let (warm, long) = ((mean * 20.0) as u64, (4000.0 / rate) as u64);
        let text = text("\"bcp\"", &pool(size as u8, ""));
        let one = |n: u64| {
            let load = load(hosts, rate, warm + long, each, seed * 100 + n);
            let list = supplies(&text, load.flows());
            share(&list, |s| matches!(s, Supply::Pool(_)), warm, warm + long)
        };
        let shares: Vec<f64> = (0..PLAYS).map(one).collect();
        holds(&shares, Model::Engset { hosts, idle_load }.refusal(size, 1.0))
    });
}

#[test]
fn engsets_formula_is_what_blocks_do() {
    measured("engset, blocks", |seed| {
        let mut dice = Dice::of(seed);
        let (size, mean) = (dice.whole(2, 12), dice.between(20.0, 200.0));
        let hosts = size + dice.whole(1, 2 * size);
        let each = Length::Fixed((mean * 1e9) as u64);
        let one_rate = dice.between(0.05, 0.6) / (mean + 1.0);
        let idle_load = (one_rate * (mean + 1.0)).exp_m1();
        let rate = one_rate * hosts as f64;
        let (warm, long) = ((mean * 20.0) as u64, (4000.0 / rate) as u64);
        let text = text(&ports(size * 16, ", block-size = 16"), OVERLOAD);
        let one = |n: u64| {
            let load = load(hosts, rate, warm + long, each, seed * 100 + n);
            let list = supplies(&text, load.flows());
            share(&list, |s| matches!(s, Supply::Blocks(..)), warm, warm + long)
        };
        let shares: Vec<f64> = (0..PLAYS).map(one).collect();
        holds(&shares, Model::Engset { hosts, idle_load }.refusal(size, 1.0))
    });
}

#[test]
fn haywards_rule_is_what_bursts_do() {
    measured("hayward", |seed| {
        let mut dice = Dice::of(seed);
        let (size, mean, burst) = (dice.whole(20, 60), dice.between(40.0, 200.0), dice.whole(2, 3));
        let offered = size as f64 * dice.between(0.6, 1.0);
        let rate = offered / (mean + 1.0);
        let (warm, long) = ((mean * 6.0) as u64, (1200.0 / rate) as u64);
        let text = text(&ports(size, ""), OVERLOAD);
        let one = |n: u64| {
            // each request of a load becomes so many at the same moment, each as long as it likes
            let rare =
                load(60_000, rate / burst as f64, warm + long, Length::Fixed(0), seed * 100 + n);
            let mut dice = Dice::of(seed * 1000 + n);
            let mut flows: Vec<Flow> = Vec::new();
            for flow in rare.flows() {
                for k in 0..burst {
                    let lasts = (-dice.between(1e-12, 1.0).ln() * mean * 1e9) as u64;
                    let port = Some(20_000 + (flows.len() % 40_000) as u16);
                    let source = match flow.source {
                        Party::Address(IpAddr::V4(a)) => {
                            Party::Address(IpAddr::V4((a.to_bits() + k as u32 * 65_536).into()))
                        }
                        other => other,
                    };
                    flows.push(Flow { lasts, source, source_port: port, ..flow });
                }
            }
            let list = supplies(&text, flows.into_iter());
            share(&list, |s| matches!(s, Supply::Ports(..)), warm, warm + long)
        };
        let shares: Vec<f64> = (0..PLAYS).map(one).collect();
        // for exponential lengths the peakedness of bursts is known
        let peakedness = 1.0 + (burst as f64 - 1.0) / 2.0;
        holds(&shares, Model::Hayward { offered, peakedness }.refusal(size, 1.0))
    });
}

#[test]
fn each_address_on_its_own_is_what_paired_hosts_do() {
    measured("each-address", |seed| {
        let mut dice = Dice::of(seed);
        let (size, mean, addresses) =
            (dice.whole(8, 30), dice.between(20.0, 100.0), dice.whole(2, 4));
        let offered = (size * addresses) as f64 * dice.between(0.5, 1.0);
        // a host that has nothing for a while may go elsewhere: these hardly ever have nothing
        let hosts = ((offered / dice.between(4.0, 8.0)) as u64).max(addresses);
        let rate = offered / (mean + 1.0);
        let (warm, long) = ((mean * 6.0) as u64, (4000.0 / rate) as u64);
        let rules = pool(addresses as u8, "pick = \"by-source\"")
            .replace("type = \"pool\"", "type = \"overload\"");
        let text = text(&ports(size, ""), &rules);
        let mut asked: std::collections::BTreeMap<Supply, f64> = Default::default();
        let mut shares = Vec::new();
        for n in 0..PLAYS {
            let each = Length::Exponential((mean * 1e9) as u64);
            let load = load(hosts, rate, warm + long, each, seed * 100 + n);
            let list = supplies(&text, load.flows());
            shares.push(share(&list, |s| matches!(s, Supply::PortsOfAll(..)), warm, warm + long));
            // hosts stay where they are, the same in every play
            for r in list.iter().filter(|r| matches!(r.supply, Supply::Ports(..))) {
                *asked.entry(r.supply).or_default() += (r.series.begun + r.refused_flows) as f64;
            }
        }
        let all: f64 = asked.values().sum();
        let loads =
            asked.values().map(|n| AddressLoad { usable: size, offered: offered * n / all });
        let loads = loads.collect();
        let model = Model::EachAddress { addresses: loads, hosts: Vec::new() };
        holds(&shares, model.refusal(size * addresses, 1.0))
    });
}
