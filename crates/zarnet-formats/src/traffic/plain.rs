//! The lines that nearly every flow list consists of, read sixty-four octets at a time: numbers, addresses and protocol
//! names without quotes or spaces. A line of any other kind is left to the careful reader, which also tells what is
//! wrong with it. Nothing here branches on the length of a field: lengths are what a processor guesses worst.

use std::net::IpAddr;

use zarnet_core::device::Ending;
use zarnet_core::net::{Instant, Protocol};
use zarnet_core::traffic::{Flow, Party};

use super::fields::Column;

/// Longest line that is read this way.
const LONGEST: usize = 64;
/// Room before the line, so that eight octets before any field's end can be read.
const BEFORE: usize = 8;
/// The highest bit of each of eight octets, and the digit `0` in each.
const HIGH: u64 = 0x8080_8080_8080_8080;
const ZEROS: u64 = 0x3030_3030_3030_3030;

/// A line with room around it, and where its fields and their parts end.
struct Line {
    text: [u8; BEFORE + LONGEST + 8],
    /// A bit for every octet below `0`: commas, points and all that does not belong here.
    marks: u64,
    /// Where the next field begins.
    at: usize,
}

/// A run of octets up to a mark.
struct Run {
    length: usize,
    /// The eight octets before the mark, as digits; those before the run are zero.
    digits: u64,
    mark: u8,
}

/// A bit for each of eight octets that is below `0`; octets from 0x80 on are no text of a plain line. Kept out of line: a
/// compiler that sees eight of these at once makes something slower of them.
#[inline(never)]
fn marks_of(word: u64) -> u64 {
    let below = !(((word | HIGH) - ZEROS) | word) & HIGH;
    below.wrapping_mul(0x0002_0408_1020_4081) >> 56
}

impl Line {
    #[inline(always)]
    fn new(line: &[u8]) -> Option<Self> {
        // one mark more than fits stands for the end of the line
        if line.len() >= LONGEST {
            return None;
        }
        let mut text = [b','; BEFORE + LONGEST + 8];
        text[BEFORE..BEFORE + line.len()].copy_from_slice(line);
        let mut marks = 0u64;
        for (i, word) in text[BEFORE..BEFORE + LONGEST].chunks_exact(8).enumerate() {
            marks |= marks_of(u64::from_le_bytes(word.try_into().ok()?)) << (8 * i);
        }
        Some(Self { text, marks, at: 0 })
    }

    /// The next run.
    #[inline(always)]
    fn next(&mut self) -> Run {
        let end = self.marks.trailing_zeros() as usize & 63;
        self.marks &= self.marks.wrapping_sub(1);
        let length = end.wrapping_sub(self.at);
        self.at = end + 1;
        // what lies before the mark and the mark itself, in one look
        let around: [u8; 9] = self.text[end..end + 9].try_into().unwrap_or_default();
        let [before @ .., mark] = around;
        let digits = u64::from_le_bytes(before) ^ ZEROS;
        Run { length, digits: digits & !(u64::MAX >> (8 * length.min(7))), mark }
    }

    /// Seconds with at most seven decimals, in nanoseconds.
    #[inline(always)]
    fn seconds(&mut self) -> Option<u64> {
        const SCALE: [u64; 8] = [0, 100_000_000, 10_000_000, 1_000_000, 100_000, 10_000, 1000, 100];
        let run = self.next();
        let whole = u64::from(run.number()?) * 1_000_000_000;
        if run.mark == b',' {
            return Some(whole);
        }
        let part = self.next();
        if run.mark != b'.' || part.mark != b',' {
            return None;
        }
        Some(whole + u64::from(part.number()?) * SCALE[part.length & 7])
    }

    #[inline(always)]
    fn address(&mut self) -> Option<u32> {
        let (mut address, mut wrong) = (0u32, false);
        for octet in 0..4 {
            let run = self.next();
            let word = (run.digits >> 32) as u32;
            let (hundreds, tens, ones) = (word >> 8 & 255, word >> 16 & 255, word >> 24);
            let value = hundreds * 100 + tens * 10 + ones;
            // digits only; no leading zero, which means octal to some
            wrong |= word.wrapping_add(0x7676_7676) & 0x8080_8080 != 0;
            wrong |= (run.length.wrapping_sub(1) > 2) | (value > 255);
            wrong |= ((run.length == 2) & (tens == 0)) | ((run.length == 3) & (hundreds == 0));
            wrong |= run.mark != if octet < 3 { b'.' } else { b',' };
            address = address << 8 | value & 255;
        }
        (!wrong).then_some(address)
    }

    /// A port; nothing is none.
    #[inline(always)]
    fn port(&mut self) -> Option<Option<u16>> {
        let run = self.next();
        if run.mark != b',' {
            return None;
        }
        if run.length == 0 {
            return Some(None);
        }
        u16::try_from(run.number()?).ok().map(Some)
    }

    /// A word up to the next comma.
    #[inline(always)]
    fn word(&mut self) -> Option<&[u8]> {
        let run = self.next();
        let end = BEFORE + self.at - 1;
        (run.mark == b',').then(|| self.text.get(end - run.length..end)).flatten()
    }
}

impl Run {
    /// The number that it is; at most seven digits.
    #[inline(always)]
    fn number(&self) -> Option<u32> {
        let word = self.digits;
        if (self.length.wrapping_sub(1) > 6) | (word.wrapping_add(0x7676_7676_7676_7676) & HIGH != 0) {
            return None;
        }
        let pairs = word.wrapping_mul(10).wrapping_add(word >> 8);
        let low = (pairs & 0xFF_0000_00FF).wrapping_mul(0x000F_4240_0000_0064);
        let high = (pairs >> 16 & 0xFF_0000_00FF).wrapping_mul(0x0000_2710_0000_0001);
        Some((low.wrapping_add(high) >> 32) as u32)
    }
}

/// The columns of nearly every list, in their usual order; the last ones may be left out.
const USUAL: [Column; 8] = [
    Column::Start,
    Column::Protocol,
    Column::Source,
    Column::SourcePort,
    Column::Destination,
    Column::DestinationPort,
    Column::Lasts,
    Column::Ends,
];

/// Whether the lines of a list with these columns can be read here.
pub(super) fn suits(columns: &[Column]) -> bool {
    columns.len() >= 6 && USUAL.starts_with(columns)
}

/// The flow of a line with so many of the usual columns, if it is a plain one of TCP, UDP or ICMP between IPv4 addresses.
#[inline(always)]
pub(super) fn flow(line: &[u8], columns: usize) -> Option<Flow> {
    let mut l = Line::new(line)?;
    let start = l.seconds()?;
    let protocol = match l.word()? {
        b"tcp" => Protocol::TCP,
        b"udp" => Protocol::UDP,
        b"icmp" => Protocol::ICMP,
        _ => return None,
    };
    let (source, source_port) = (l.address()?, l.port()?);
    let (destination, destination_port) = (l.address()?, l.port()?);
    let lasts = if columns > 6 { l.seconds()? } else { 0 };
    let ending = match if columns > 7 { l.word()? } else { b"" } {
        b"" => None,
        b"close" => Some(Ending::Close),
        b"reset" => Some(Ending::Reset),
        b"silent" => Some(Ending::Silent),
        _ => return None,
    };
    // the mark behind the last field is the one behind the line
    if l.at != line.len() + 1 {
        return None;
    }
    let ports = protocol.has_ports();
    if ports && destination_port.is_none() || !ports && destination_port.is_some_and(|p| p > 0) {
        return None;
    }
    let party = |a: u32| Party::Address(IpAddr::V4(a.into()));
    Some(Flow {
        start: Instant(start),
        protocol,
        source: party(source),
        source_port,
        destination: party(destination),
        destination_port: destination_port.filter(|_| ports),
        lasts,
        ending,
        round_trip: None,
    })
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use zarnet_core::plan::Plan;

    use super::super::clock::Clock;
    use super::super::csv_list::careful;
    use super::super::fields::{COLUMNS, Context};
    use super::super::names::Names;
    use super::*;

    fn near_plain() -> impl Strategy<Value = String> {
        let field = |plain: &'static str| prop_oneof![9 => plain, 1 => "[0-9a-z. :\"-]{0,12}"];
        let address = || field("[0-9]{1,3}(\\.[0-9]{1,3}){3}|[12]?[0-9]?[0-9](\\.[12]?[0-9]?[0-9]){3}");
        let time = || field("[0-9]{1,9}(\\.[0-9]{0,9})?");
        let port = || field("[0-9]{0,6}");
        (time(), field("tcp|udp|icmp|gre"), address(), port(), address(), port(), time(), field("|close|reset|silent"))
            .prop_map(|(a, b, c, d, e, f, g, h)| format!("{a},{b},{c},{d},{e},{f},{g},{h}"))
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(4000))]

        /// What is read the fast way is read the same the careful way.
        #[test]
        fn plain_lines_mean_the_same_to_both_readers(line in near_plain(), cut in 0usize..80) {
            let columns: Vec<Column> = COLUMNS.iter().take(8).map(|c| c.1).collect();
            prop_assert!(suits(&columns));
            let (names, clock) = (Names::new(&Plan::default()), Clock::default());
            let context = Context { names: &names, clock: &clock };
            let cut = line.len().min(if cut < 70 { usize::MAX } else { cut - 60 });
            let line = &line.as_bytes()[..cut];
            if let Some(plain) = flow(line, columns.len()) {
                prop_assert_eq!(careful(line, &columns, context), Ok(plain));
            }
        }
    }
}
