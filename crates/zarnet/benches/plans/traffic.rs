//! Made-up traffic, the same on every machine: 60 % TCP, 36 % UDP, 4 % queries over ten minutes, one
//! flow in nine on ends that were used shortly before.

use std::cell::RefCell;
use std::collections::HashMap;
use std::fmt::Write as _;
use std::fs::File;
use std::io::{self, BufWriter, Write};
use std::net::Ipv4Addr;
use std::path::{Path, PathBuf};

/// A file of traffic.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Kind {
    /// None at all.
    None,
    /// A flow list as CSV.
    List,
    /// The same as JSON Lines.
    JsonLines,
    /// The list, packed.
    Gzip,
    /// The same otherwise.
    Zstd,
    /// The list, its lines in no order.
    OutOfOrder,
    /// The flows between IPv6 addresses.
    V6,
    /// All flows to one external end.
    Hairpin,
    /// As many flows from a load profile.
    Load,
    /// As many packets of a tenth of the flows.
    Packets,
}

/// Seconds that the traffic lasts.
const SPAN: u64 = 600;

/// Where files of traffic lie; each is made when it is first asked for.
pub struct Traffic<'a> {
    folder: &'a Path,
    flows: u64,
    made: RefCell<HashMap<Kind, PathBuf>>,
}

/// A generator of its own, the same on every machine.
struct Numbers(u64);

impl Numbers {
    fn next(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9E37_79B9_7F4A_7C15);
        let z = (self.0 ^ self.0 >> 30).wrapping_mul(0xBF58_476D_1CE4_E5B9);
        let z = (z ^ z >> 27).wrapping_mul(0x94D0_49BB_1331_11EB);
        z ^ z >> 31
    }

    fn below(&mut self, n: u64) -> u64 {
        ((u128::from(self.next()) * u128::from(n)) >> 64) as u64
    }
}

#[derive(Clone, Copy)]
struct Flow {
    start: u64,
    protocol: usize,
    source: Ipv4Addr,
    source_port: u64,
    destination: Ipv4Addr,
    destination_port: u64,
    lasts: u64,
}

const PROTOCOLS: [&str; 3] = ["tcp", "udp", "icmp"];

fn flows(count: u64) -> impl Iterator<Item = Flow> {
    let hosts = (count / 50).clamp(16, 262_144);
    let (mut numbers, mut recent) = (Numbers(1846), Vec::<Flow>::new());
    (0..count).map(move |i| {
        let protocol = [0, 0, 0, 0, 0, 0, 1, 1, 1, 1][numbers.below(10) as usize];
        let protocol = if numbers.below(25) == 0 { 2 } else { protocol };
        let port = match numbers.below(16) {
            _ if protocol == 2 => 0,
            0..=8 => [443, 53][protocol],
            9..=12 => [80, 443][protocol],
            _ => 1024 + numbers.below(32_768),
        };
        let inside = u32::from(Ipv4Addr::new(10, 64, 1, 0)) + numbers.below(hosts) as u32;
        let outside = u32::from(Ipv4Addr::new(198, 18, 4, 0)) + numbers.below(64_000) as u32;
        let each = [50, 200, 1000, 3000, 8000, 20_000, 60_000, 180_000][numbers.below(8) as usize];
        let mut flow = Flow {
            start: i * SPAN * 1000 / count,
            protocol,
            source: inside.into(),
            source_port: 1024 + numbers.below(64_511),
            destination: outside.into(),
            destination_port: port,
            lasts: each * (500 + numbers.below(1024)) / 1000,
        };
        if numbers.below(9) == 0 && !recent.is_empty() {
            let known = recent[numbers.below(recent.len() as u64) as usize];
            flow = Flow { start: flow.start, lasts: flow.lasts, ..known };
        } else if recent.len() < 1024 {
            recent.push(flow);
        } else {
            recent[(i & 1023) as usize] = flow;
        }
        flow
    })
}

impl<'a> Traffic<'a> {
    /// So many flows, in files of a folder.
    pub fn new(folder: &'a Path, flows: u64) -> Self {
        Self { folder, flows, made: RefCell::default() }
    }

    /// The plain list, for a floor.
    pub fn plain(&self) -> io::Result<String> {
        Ok(self.file(Kind::List)?.display().to_string())
    }

    /// A file of traffic.
    pub fn file(&self, kind: Kind) -> io::Result<PathBuf> {
        if let Some(path) = self.made.borrow().get(&kind) {
            return Ok(path.clone());
        }
        let path = self.folder.join(format!("{kind:?}").to_lowercase());
        let mut out = BufWriter::new(File::create(&path)?);
        match kind {
            Kind::Gzip => {
                let mut packer = flate2::write::GzEncoder::new(out, flate2::Compression::default());
                packer.write_all(&std::fs::read(self.file(Kind::List)?)?)?;
                packer.finish()?.flush()?;
            }
            Kind::Zstd => {
                let mut list = File::open(self.file(Kind::List)?)?;
                zstd::stream::copy_encode(&mut list, &mut out, 3)?;
                out.flush()?;
            }
            Kind::None => {}
            Kind::Packets => self.packets(&mut out).and_then(|()| out.flush())?,
            Kind::Load => out.write_all(self.load().as_bytes()).and_then(|()| out.flush())?,
            Kind::List | Kind::JsonLines | Kind::OutOfOrder | Kind::V6 | Kind::Hairpin => {
                self.list(kind, &mut out).and_then(|()| out.flush())?;
            }
        }
        self.made.borrow_mut().insert(kind, path.clone());
        Ok(path)
    }

    fn list(&self, kind: Kind, out: &mut impl Write) -> io::Result<()> {
        if kind != Kind::JsonLines {
            let columns = "start,protocol,source,source-port,destination,destination-port,lasts";
            writeln!(out, "{columns}")?;
        }
        let mut all: Vec<Flow> = flows(self.flows).collect();
        if kind == Kind::OutOfOrder {
            let mut numbers = Numbers(7);
            (1..all.len()).rev().for_each(|i| all.swap(i, numbers.below(i as u64 + 1) as usize));
        }
        for f in all {
            let (start, lasts) = (seconds(f.start), seconds(f.lasts));
            let name = PROTOCOLS[f.protocol];
            let (from, to) = (f.source_port, f.destination_port);
            match kind {
                Kind::JsonLines => writeln!(
                    out,
                    "{{\"start\":{start},\"protocol\":\"{name}\",\"source\":\"{}\",\
                     \"source-port\":{from},\"destination\":\"{}\",\"destination-port\":{to},\
                     \"lasts\":{lasts}}}",
                    f.source, f.destination
                )?,
                Kind::V6 => {
                    let [a, b, c, d] = f.source.octets();
                    let (high, low) = (u16::from_be_bytes([a, b]), u16::from_be_bytes([c, d]));
                    let there = u32::from(f.destination);
                    writeln!(
                        out,
                        "{start},{name},fd00:0:0:1::{high:x}:{low:x},{from},2001:db8:2::{:x}:{:x},\
                         {to},{lasts}",
                        there >> 16,
                        there & 0xffff
                    )?;
                }
                Kind::Hairpin => {
                    writeln!(out, "{start},tcp,{},{from},192.0.2.200,443,{lasts}", f.source)?
                }
                _ => writeln!(
                    out,
                    "{start},{name},{},{from},{},{to},{lasts}",
                    f.source, f.destination
                )?,
            }
        }
        Ok(())
    }

    fn load(&self) -> String {
        format!(
            "[[load]]\nstart = 0\nlasts = {SPAN}\nsources = \"10.64.1.0-10.64.80.0\"\ndestination = \
             \"198.18.128.0/17\"\nprotocol = \"tcp\"\ndestination-port = 443\nrate = {}\neach-lasts \
             = {{ distribution = \"exponential\", mean = \"20s\" }}\n",
            self.flows / SPAN
        )
    }

    /// Ten packets of each flow, both ways, 2 s from the first to the last.
    fn packets(&self, out: &mut impl Write) -> io::Result<()> {
        let mut events: Vec<(u64, bool, u8, Flow)> = Vec::new();
        for flow in flows(self.flows / 10) {
            for k in 0..10u64 {
                let flags = match k {
                    0 => 2,
                    1 => 18,
                    8 | 9 => 17,
                    _ => 16,
                };
                events.push((flow.start * 1000 + k * 200_000, k % 2 == 0, flags, flow));
            }
        }
        events.sort_by_key(|e| e.0);
        out.write_all(&0xA1B2_C3D4u32.to_le_bytes())?;
        out.write_all(&[2, 0, 4, 0, 0, 0, 0, 0, 0, 0, 0, 0, 255, 255, 0, 0, 1, 0, 0, 0])?;
        for (at, forth, flags, flow) in events {
            let frame = frame(forth, flags, flow);
            let length = (frame.len() as u32).to_le_bytes();
            let at = at + 1_700_000_000_000_000;
            out.write_all(&((at / 1_000_000) as u32).to_le_bytes())?;
            out.write_all(&((at % 1_000_000) as u32).to_le_bytes())?;
            out.write_all(&length)?;
            out.write_all(&length)?;
            out.write_all(&frame)?;
        }
        Ok(())
    }
}

fn seconds(milliseconds: u64) -> String {
    let mut text = String::new();
    let _ = write!(text, "{}.{:03}", milliseconds / 1000, milliseconds % 1000);
    text
}

/// An Ethernet frame with 300 octets of payload.
fn frame(forth: bool, flags: u8, flow: Flow) -> Vec<u8> {
    let ports = |a: u64, b: u64| [(a as u16).to_be_bytes(), (b as u16).to_be_bytes()].concat();
    let (from, to) = (flow.source_port, flow.destination_port);
    let ends = if forth { ports(from, to) } else { ports(to, from) };
    let payload = [0u8; 300];
    let (number, above) = match flow.protocol {
        0 => (6, [&ends[..], &[0; 8], &[0x50, flags, 0xfa, 0xf0, 0, 0, 0, 0], &payload].concat()),
        1 => (17, [&ends[..], &308u16.to_be_bytes(), &[0, 0], &payload].concat()),
        _ => {
            let identifier = (from as u16).to_be_bytes();
            let kind = if forth { 8 } else { 0 };
            (1, [&[kind, 0, 0, 0], &identifier[..], &[0, 1], &payload].concat())
        }
    };
    let length = (20 + above.len() as u16).to_be_bytes();
    let (source, destination) = (flow.source.octets(), flow.destination.octets());
    let (a, b) = if forth { (source, destination) } else { (destination, source) };
    let head = [0x45, 0, length[0], length[1], 0, 0, 0x40, 0, 64, number, 0, 0];
    [&[2, 0, 0, 0, 0, 1, 2, 0, 0, 0, 0, 2, 8, 0][..], &head, &a, &b, &above].concat()
}
