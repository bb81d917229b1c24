//! Fills a store with a made-up day of translations, to see how fast it is and how much room it
//! takes: `fill STORE RECORDS [HOURS]`. With `-` as the store the events are made and thrown away.

use std::net::{IpAddr, Ipv4Addr};
use std::path::Path;
use std::time::Instant;

use zarnet_core::device::EndCause;
use zarnet_core::net::Protocol;
use zarnet_formats::nat_log::{EventKind, LogNames, Name, TranslationEvent};
use zarnet_store::{Limits, StoreWriter};

/// Internal hosts; external addresses, each for the same hosts always.
const HOSTS: u32 = 100_000;
const ADDRESSES: u32 = 256;
/// 2026-08-01T00:00:00Z, in milliseconds since 1970.
const BEGINS: i64 = 1_785_542_400_000;

/// A stream of numbers that is the same every time (xorshift).
struct Random(u64);

impl Random {
    fn next(&mut self) -> u64 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        self.0
    }

    fn unit(&mut self) -> f64 {
        (self.next() >> 11) as f64 / (1u64 << 53) as f64
    }

    /// How long a connection lasts, in milliseconds: most a few seconds, some for long.
    fn length(&mut self) -> i64 {
        let normal = (-2.0 * self.unit().max(1e-12).ln()).sqrt()
            * (std::f64::consts::TAU * self.unit()).cos();
        ((2.5 + 1.6 * normal).exp() * 1000.0).min(86_400_000.0) as i64
    }
}

/// The events of a day, in the order of their time.
struct Day {
    random: Random,
    /// How many ports each address has given so far.
    ports: Vec<u16>,
    /// Ends that are still to come, by the second.
    ends: Vec<Vec<TranslationEvent>>,
    records: u64,
    milliseconds: i64,
    device: Name,
    rules: [Name; 3],
}

impl Day {
    fn play(&mut self, mut take: impl FnMut(&TranslationEvent)) {
        let mut second = 0;
        for i in 0..self.records {
            let since =
                (i as i128 * i128::from(self.milliseconds) / i128::from(self.records)) as i64;
            while second < since / 1000 {
                self.end_of(second as usize, &mut take);
                second += 1;
            }
            take(&self.begin(since));
        }
        for second in second as usize..self.ends.len() {
            self.end_of(second, &mut take);
        }
    }

    fn end_of(&mut self, second: usize, take: &mut impl FnMut(&TranslationEvent)) {
        let Some(ends) = self.ends.get_mut(second) else { return };
        let mut ends = std::mem::take(ends);
        ends.sort_unstable_by_key(|event| event.at);
        ends.iter().for_each(take);
    }

    fn begin(&mut self, since: i64) -> TranslationEvent {
        let host = (self.random.next() % u64::from(HOSTS)) as u32;
        let address = host % ADDRESSES;
        // every port once before any comes again, in an order that nobody guesses
        let port = loop {
            let given = &mut self.ports[address as usize];
            *given = given.wrapping_add(1);
            let port = given.wrapping_mul(40_503).wrapping_add(address as u16);
            if port >= 1024 {
                break port;
            }
        };
        let is_udp = self.random.next().is_multiple_of(3);
        let address_of = |base: [u8; 4], n: u32| {
            IpAddr::V4(Ipv4Addr::from_bits(Ipv4Addr::from(base).to_bits() + n))
        };
        let mut event =
            TranslationEvent::new(BEGINS + since, EventKind::MappingCreated, self.device);
        event.protocol = Some(if is_udp { Protocol::UDP } else { Protocol::TCP });
        event.internal = Some(address_of([10, 0, 0, 0], host));
        event.internal_port = Some(32_768 + (self.random.next() % 28_232) as u16);
        event.external = Some(address_of([198, 18, 0, 0], address));
        event.external_port = Some(port);
        event.rule = Some(self.rules[(self.random.next() % 3) as usize]);
        let timer = if is_udp { 300_000 } else { 240_000 };
        let ends = since + self.random.length() + timer;
        let cause = if self.random.next().is_multiple_of(64) {
            EndCause::Cleared
        } else {
            EndCause::Expired
        };
        let end = TranslationEvent {
            at: BEGINS + ends,
            kind: EventKind::MappingEnded,
            cause: Some(cause),
            ..event
        };
        let second = (ends / 1000) as usize;
        if second >= self.ends.len() {
            self.ends.resize_with(second + 1, Vec::new);
        }
        self.ends[second].push(end);
        event
    }
}

/// Processor time of this process so far, in seconds, where the system tells.
fn processor_time() -> f64 {
    let text = std::fs::read_to_string("/proc/self/stat").unwrap_or_default();
    let fields: Vec<&str> = text.rsplit(')').next().unwrap_or("").split_whitespace().collect();
    let ticks = |n: usize| fields.get(n).and_then(|f| f.parse::<f64>().ok()).unwrap_or(0.0);
    (ticks(11) + ticks(12)) / 100.0
}

fn main() {
    let mut arguments = std::env::args().skip(1);
    let (Some(root), Some(records)) = (arguments.next(), arguments.next()) else {
        panic!("fill STORE RECORDS [HOURS]");
    };
    let records: u64 = records.parse().expect("a number of records");
    let hours: i64 = arguments.next().map_or(24, |h| h.parse().expect("a number of hours"));
    let mut names = LogNames::default();
    let device = names.obtain("harbour-edge");
    let rules = ["kiosks-out", "office-lines-out", "ferries-out"].map(|name| names.obtain(name));
    let mut day = Day {
        random: Random(0x9e37_79b9_7f4a_7c15),
        ports: vec![0; ADDRESSES as usize],
        ends: Vec::new(),
        records,
        milliseconds: hours * 3_600_000,
        device,
        rules,
    };
    let (begun, before) = (Instant::now(), processor_time());
    if root == "-" {
        let mut sum = 0i64;
        day.play(|event| sum = sum.wrapping_add(event.at));
        std::hint::black_box(sum);
    } else {
        let mut writer = StoreWriter::open(Path::new(&root), Limits::default(), &mut names)
            .expect("a store can be made");
        day.play(|event| writer.take(event, &names).expect("the store can be written"));
        writer.commit(&names).expect("the store can be written");
        let done = writer.recorded();
        println!(
            "{} records in files, {:.2} octets a record and order",
            done.records,
            done.octets as f64 / done.records as f64 / 2.0
        );
    }
    let time = processor_time() - before;
    println!(
        "{records} records: {time:.1} s of processor time, {:.0} ns a record, {:.1} s",
        time * 1e9 / records as f64,
        begun.elapsed().as_secs_f64()
    );
}
