//! A million rows of a device's table, written and read one by one, against the least that either
//! could do in the same run: the same octets put into a file, and the same JSON gone through.
//! `cargo bench -p zarnet-formats` prints rows a second, the ratio, and the memory at its peak.

use std::fs::File;
use std::hint::black_box;
use std::io::{BufReader, BufWriter, Read, Write};
use std::net::{IpAddr, Ipv4Addr};
use std::time::{Duration, Instant as Clock};

use serde::de::IgnoredAny;
use zarnet_core::net::{Prefix, Protocol};
use zarnet_formats::ietf_nat::{Row, RowWriter, Told, read_rows};

const ROWS: u32 = 1_000_000;
const TURNS: u32 = 5;

/// A row as a device with our module tells it.
fn row(n: u32) -> Row {
    let inside = IpAddr::V4(Ipv4Addr::from_bits(0x0a40_0000 + n / 16));
    let outside = IpAddr::V4(Ipv4Addr::from_bits(0xc612_0000 + n % 100));
    let port = 1024 + (n / 100 % 60_000) as u16;
    Row {
        index: n + 1,
        protocol: Some(Protocol::TCP),
        internal: Prefix::holding(inside, 32),
        internal_ports: Some((port, port)),
        external: Prefix::holding(outside, 32),
        external_ports: Some((port, port)),
        lifetime: Some(n % 7_440),
        told: Told {
            rule: Some("all-out".to_owned()),
            state: Some("established".to_owned()),
            created: Some("2026-08-01T06:00:00Z".to_owned()),
            idle: Some(n % 60),
            sessions: Some(1),
            chosen_freely: Some(true),
        },
        ..Row::default()
    }
}

fn write(out: impl Write) {
    let mut writer = RowWriter::begin(out).expect("a temporary file");
    for n in 0..ROWS {
        writer.row(1, &row(n)).expect("a temporary file");
    }
    writer.end().and_then(|mut out| out.flush()).expect("a temporary file");
}

/// The least time of some turns.
fn least(mut work: impl FnMut()) -> Duration {
    let turn = |work: &mut dyn FnMut()| {
        let begin = Clock::now();
        work();
        begin.elapsed()
    };
    (0..TURNS).map(|_| turn(&mut work)).min().unwrap_or_default()
}

/// What the process held at most, where the system tells.
fn peak() -> Option<String> {
    let status = std::fs::read_to_string("/proc/self/status").ok()?;
    status.lines().find_map(|l| l.strip_prefix("VmHWM:")).map(|l| l.trim().to_owned())
}

fn told(what: &str, took: Duration, floor: Duration, of_what: &str) {
    let rate = f64::from(ROWS) / took.as_secs_f64();
    let ratio = took.as_secs_f64() / floor.as_secs_f64();
    println!("{what:<8} {rate:>10.0} rows a second, {ratio:.1} times {of_what}");
}

fn main() {
    // `cargo test --all-targets` runs benches once, for nothing
    if !std::env::args().any(|a| a == "--bench") {
        return;
    }
    let folder = tempfile::tempdir().expect("a temporary folder");
    let path = folder.path().join("table.json");
    let create = || BufWriter::new(File::create(&path).expect("a temporary file"));
    let open = || BufReader::new(File::open(&path).expect("a temporary file"));

    write(create());
    let read = least(|| {
        let mut live = 0_u64;
        let count =
            read_rows(open(), &mut |row| live += u64::from(black_box(row).lifetime > Some(9)));
        assert_eq!(count.expect("rows that were just written"), u64::from(ROWS));
        black_box(live);
    });
    let written = least(|| write(create()));
    if let Some(peak) = peak() {
        println!("memory   {peak} at the peak of {ROWS} rows written and read");
    }
    // the floors come last: they hold all octets at once
    let gone_through = least(|| {
        let all: IgnoredAny = serde_json::from_reader(open()).expect("JSON that was just written");
        black_box(all);
    });
    let mut octets = Vec::new();
    open().read_to_end(&mut octets).expect("a temporary file");
    let copied = least(|| {
        create().write_all(&octets).expect("a temporary file");
    });
    told("import", read, gone_through, "the same JSON gone through");
    told("export", written, copied, "the same octets put into a file");
}
