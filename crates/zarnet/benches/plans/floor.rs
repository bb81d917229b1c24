//! The least that predicting a table can take: traffic is read as its own generator writes it, and a
//! table is kept of 20 octets an entry, with an index, an array by external port and a timing wheel.
//! Nothing is validated, no rule is matched, no table is printed.

use std::error::Error;
use std::fs::File;
use std::hint::black_box;
use std::io::Read;

/// Ticks of the wheel are 128 ms; it reaches 17 minutes.
const TICK: u32 = 7;
const SLOTS: usize = 8192;
/// Milliseconds after the last packet: TCP, UDP, queries.
const TIMEOUTS: [u32; 3] = [240_000, 300_000, 60_000];
/// So many are read before they are entered: what each waits for is waited for together.
const BATCH: usize = 32;

/// Inside address, outside address, both ports, protocol.
type Key = [u32; 4];

/// Flow or packet: its key, its hash, the tick it comes at, and the tick its entry is due at.
type Item = (Key, u32, u32, u32);

#[derive(Clone, Copy)]
struct Entry {
    key: [u32; 3],
    /// Pool address and protocol above, port below.
    external: u32,
    due: u32,
}

struct Table {
    entries: Vec<Entry>,
    free: Vec<u32>,
    /// Hash above, entry + 1 below; 0 is free.
    index: Vec<u64>,
    by_port: Vec<u32>,
    taken: Vec<u64>,
    next_port: Vec<u32>,
    wheel: Vec<Vec<u32>>,
    now: u32,
    live: usize,
    made: u64,
    refused: u64,
}

fn hash(k: &Key) -> u32 {
    let a = (u64::from(k[0]) << 32 | u64::from(k[1])) ^ 0x9E37_79B9_7F4A_7C15;
    let b = (u64::from(k[2]) << 32 | u64::from(k[3])) ^ 0xD1B5_4A32_D192_ED03;
    let product = u128::from(a) * u128::from(b);
    let folded = (product >> 64) as u64 ^ product as u64;
    (folded ^ folded >> 32) as u32
}

impl Table {
    fn new(pool: usize) -> Self {
        Self {
            entries: Vec::new(),
            free: Vec::new(),
            index: vec![0; 1024],
            by_port: vec![0; pool << 18],
            taken: vec![0; pool << 12],
            next_port: vec![1024; pool << 2],
            wheel: vec![Vec::new(); SLOTS],
            now: 0,
            live: 0,
            made: 0,
            refused: 0,
        }
    }

    fn touch(&self, hash: u32) {
        black_box(self.index[hash as usize & (self.index.len() - 1)]);
    }

    /// The entry of a key, or the free place where it would go.
    fn find(&self, key: &Key, hash: u32) -> Result<usize, usize> {
        let mask = self.index.len() - 1;
        let mut at = hash as usize & mask;
        while self.index[at] != 0 {
            let i = (self.index[at] as u32 - 1) as usize;
            let e = &self.entries[i];
            let same = || e.key == key[..3] && e.external >> 16 & 3 == key[3];
            if (self.index[at] >> 32) as u32 == hash && same() {
                return Ok(i);
            }
            at = (at + 1) & mask;
        }
        Err(at)
    }

    fn port(&mut self, group: usize) -> Option<u32> {
        for step in 0..64_512 {
            let port = (self.next_port[group] - 1024 + step) % 64_512 + 1024;
            let word = &mut self.taken[group << 10 | (port >> 6) as usize];
            if *word >> (port & 63) & 1 == 0 {
                *word |= 1 << (port & 63);
                self.next_port[group] = port + 1;
                return Some(port);
            }
        }
        None
    }

    fn enter(&mut self, (key, hash, _, due): &Item, may_begin: bool) {
        let at = match self.find(key, *hash) {
            Ok(i) => {
                self.entries[i].due = self.entries[i].due.max(*due);
                return;
            }
            Err(_) if !may_begin => return,
            Err(at) => at,
        };
        let addresses = self.next_port.len() >> 2;
        let address = (key[0].wrapping_mul(0x9E37_79B1) as usize * addresses) >> 32;
        let group = address << 2 | key[3] as usize;
        let Some(port) = self.port(group) else {
            self.refused += 1;
            return;
        };
        let external = (group as u32) << 16 | port;
        let entry = Entry { key: [key[0], key[1], key[2]], external, due: *due };
        let i = match self.free.pop() {
            Some(i) => {
                self.entries[i as usize] = entry;
                i
            }
            None => {
                self.entries.push(entry);
                self.entries.len() as u32 - 1
            }
        };
        self.index[at] = u64::from(*hash) << 32 | u64::from(i + 1);
        self.by_port[external as usize] = i + 1;
        self.arm(*due, i);
        self.live += 1;
        self.made += 1;
        if self.live * 4 > self.index.len() * 3 {
            self.grow();
        }
    }

    fn grow(&mut self) {
        let mask = self.index.len() * 2 - 1;
        for place in std::mem::replace(&mut self.index, vec![0; mask + 1]) {
            if place != 0 {
                let mut at = (place >> 32) as usize & mask;
                while self.index[at] != 0 {
                    at = (at + 1) & mask;
                }
                self.index[at] = place;
            }
        }
    }

    fn arm(&mut self, due: u32, i: u32) {
        let slot = due.min(self.now + SLOTS as u32 - 1) as usize & (SLOTS - 1);
        self.wheel[slot].push(i);
    }

    /// Ends what is due before a tick.
    fn advance(&mut self, tick: u32) {
        while self.now < tick {
            let due = std::mem::take(&mut self.wheel[self.now as usize & (SLOTS - 1)]);
            for some in due.chunks(16) {
                let key = |i: u32| {
                    let e = &self.entries[i as usize];
                    [e.key[0], e.key[1], e.key[2], e.external >> 16 & 3]
                };
                let hashes: Vec<u32> = some.iter().map(|i| hash(&key(*i))).collect();
                hashes.iter().for_each(|h| self.touch(*h));
                some.iter().zip(hashes).for_each(|(i, h)| self.expire(*i, h));
            }
            self.now += 1;
        }
    }

    fn expire(&mut self, i: u32, hash: u32) {
        let Entry { external, due, .. } = self.entries[i as usize];
        if due > self.now {
            return self.arm(due, i);
        }
        self.free.push(i);
        self.taken[external as usize >> 6] &= !(1 << (external & 63));
        self.by_port[external as usize] = 0;
        let (mask, wanted) = (self.index.len() - 1, u64::from(hash) << 32 | u64::from(i + 1));
        let mut hole = hash as usize & mask;
        while self.index[hole] != wanted {
            hole = (hole + 1) & mask;
        }
        let mut at = (hole + 1) & mask;
        while self.index[at] != 0 {
            let home = (self.index[at] >> 32) as usize;
            if at.wrapping_sub(home) & mask >= at.wrapping_sub(hole) & mask {
                self.index[hole] = self.index[at];
                hole = at;
            }
            at = (at + 1) & mask;
        }
        self.index[hole] = 0;
        self.live -= 1;
    }
}

/// `flows FILE POOL` or `packets FILE POOL`: POOL is the number of external addresses.
pub fn run(arguments: &[String]) -> Result<(), Box<dyn Error>> {
    if let [kind, file] = arguments
        && kind == "plan"
    {
        return plan(&std::fs::read_to_string(file)?);
    }
    let [kind, file, pool] = arguments else {
        return Err("flows|packets FILE POOL, plan FILE".into());
    };
    let mut table = Table::new(pool.parse()?);
    match kind.as_str() {
        "flows" => flows(File::open(file)?, &mut table)?,
        _ => packets(&std::fs::read(file)?, &mut table),
    }
    println!("made {} live {} refused {}", table.made, table.live, table.refused);
    Ok(())
}

/// The least that any command can do with a plan: its notation is read, and nothing made of it.
fn plan(text: &str) -> Result<(), Box<dyn Error>> {
    let tables = toml::de::DeTable::parse(text)?;
    println!("{} tables", tables.get_ref().len());
    Ok(())
}

fn flows(mut file: File, table: &mut Table) -> std::io::Result<()> {
    let (mut buffer, mut have) = (vec![0u8; 1 << 18], 0);
    let mut items: Vec<Item> = Vec::with_capacity(BATCH);
    let mut is_header = true;
    loop {
        let got = file.read(&mut buffer[have..])?;
        have += got;
        let whole = memchr::memrchr(b'\n', &buffer[..have]).map_or(0, |i| i + 1);
        let mut text = &buffer[..whole];
        while !text.is_empty() {
            if std::mem::take(&mut is_header) {
                let end = memchr::memchr(b'\n', text).unwrap_or(0);
                text = &text[end + 1..];
                continue;
            }
            items.push(line(&mut text));
            table.touch(items[items.len() - 1].1);
            if items.len() == BATCH || text.is_empty() {
                for item in items.drain(..) {
                    table.advance(item.2);
                    table.enter(&item, true);
                }
            }
        }
        buffer.copy_within(whole..have, 0);
        have -= whole;
        if got == 0 {
            return Ok(());
        }
    }
}

/// The next line as the generator writes it: fifteen numbers or names, each behind one octet that
/// is none of it.
fn line(text: &mut &[u8]) -> Item {
    let mut at = 0;
    let mut number = || {
        let mut value = 0u32;
        while let Some(digit) = text.get(at).map(|c| c.wrapping_sub(b'0')).filter(|d| *d < 10) {
            value = value * 10 + u32::from(digit);
            at += 1;
        }
        at += 1;
        value
    };
    let start = number() * 1000 + number();
    let protocol = match text[at] {
        b't' => 0,
        b'u' => 1,
        _ => 2,
    };
    at += if protocol == 2 { 5 } else { 4 };
    let mut number = || {
        let mut value = 0u32;
        while let Some(digit) = text.get(at).map(|c| c.wrapping_sub(b'0')).filter(|d| *d < 10) {
            value = value * 10 + u32::from(digit);
            at += 1;
        }
        at += 1;
        value
    };
    let mut quad = || number() << 24 | number() << 16 | number() << 8 | number();
    let source = quad();
    let source_port = number();
    let mut quad = || number() << 24 | number() << 16 | number() << 8 | number();
    let destination = quad();
    let destination_port = number();
    let lasts = number() * 1000 + number();
    *text = &text[at..];
    let key = [source, destination, source_port << 16 | destination_port, protocol];
    let due = start + lasts + TIMEOUTS[protocol as usize];
    (key, hash(&key), start >> TICK, due >> TICK)
}

/// Frames of a capture in microseconds, with IPv4 right behind Ethernet.
fn packets(data: &[u8], table: &mut Table) {
    let be = |at: usize| u32::from_be_bytes(data[at..at + 4].try_into().unwrap_or_default());
    let inside = |address: u32| address >> 18 == 0x0A40_0000 >> 18;
    let (mut at, mut first) = (24, None);
    let mut items: Vec<(Item, bool)> = Vec::with_capacity(BATCH);
    while at + 58 <= data.len() || !items.is_empty() {
        while at + 58 <= data.len() && items.len() < BATCH {
            let length = be(at + 8).swap_bytes() as usize;
            let time =
                u64::from(be(at).swap_bytes()) * 1_000_000 + u64::from(be(at + 4).swap_bytes());
            let ip = at + 30;
            let (source, destination) = (be(ip + 12), be(ip + 16));
            let (protocol, ports) = match data[ip + 9] {
                6 => (0, be(ip + 20)),
                17 => (1, be(ip + 20)),
                _ => (2, be(ip + 24) & 0xFFFF_0000),
            };
            let out = inside(source);
            let back = if protocol == 2 { ports } else { ports.rotate_left(16) };
            let key = if out {
                [source, destination, ports, protocol]
            } else {
                [destination, source, back, protocol]
            };
            let now = ((time - *first.get_or_insert(time)) / 1000) as u32;
            let due = now + TIMEOUTS[protocol as usize];
            let item = (key, hash(&key), now >> TICK, due >> TICK);
            table.touch(item.1);
            items.push((item, out));
            at += 16 + length;
        }
        for (item, out) in items.drain(..) {
            table.advance(item.2);
            table.enter(&item, out);
        }
    }
}
