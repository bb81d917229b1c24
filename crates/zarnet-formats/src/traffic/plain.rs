//! The lines that nearly every flow list consists of, read sixty-four octets at a time: numbers, addresses and protocol
//! names without quotes or spaces. A line of any other kind is left to the careful reader, which also tells what is
//! wrong with it.

use std::net::IpAddr;

use zarnet_core::device::Ending;
use zarnet_core::net::{Instant, Protocol};
use zarnet_core::traffic::{Flow, Party};

use super::fields::Column;

/// Longest line that is read this way.
const LONGEST: usize = 64;
/// Room before the line, so that eight octets before any field's end can be read.
const BEFORE: usize = 8;
const ONES: u64 = 0x0101_0101_0101_0101;

/// A line with room around it, and where its fields and their parts end.
struct Line {
    text: [u8; BEFORE + LONGEST + 8],
    /// A bit for every octet below `0`: commas, points and all that does not belong here.
    marks: u64,
    at: usize,
}

impl Line {
    #[inline]
    fn new(line: &[u8]) -> Option<Self> {
        // one mark more than fits stands for the end of the line
        if line.len() >= LONGEST {
            return None;
        }
        let mut text = [b','; BEFORE + LONGEST + 8];
        text[BEFORE..BEFORE + line.len()].copy_from_slice(line);
        let mut marks = 0u64;
        for (i, word) in text[BEFORE..BEFORE + LONGEST].chunks_exact(8).enumerate() {
            let word = u64::from_le_bytes(word.try_into().ok()?);
            // the highest bit of each octet that is below `0`; octets from 0x80 on are no text of a plain line
            let below = !(((word | (0x80 * ONES)) - 0x30 * ONES) | word) & (0x80 * ONES);
            marks |= (below.wrapping_mul(0x0002_0408_1020_4081) >> 56) << (8 * i);
        }
        Some(Self { text, marks, at: 0 })
    }

    /// The next run of octets up to a mark: its length, and the mark.
    #[inline]
    fn next(&mut self) -> (usize, u8) {
        let end = self.marks.trailing_zeros() as usize;
        self.marks &= self.marks.wrapping_sub(1);
        let length = end - self.at;
        self.at = end + 1;
        (length, self.text[BEFORE + (end & 63)])
    }

    /// The digits before the mark that was met last, as a number; at most eight of them.
    #[inline]
    fn number(&self, length: usize) -> Option<u32> {
        let end = BEFORE + self.at - 1;
        if length == 0 || length > 8 {
            return None;
        }
        let word = u64::from_le_bytes(self.text[end - 8..end].try_into().ok()?) ^ (0x30 * ONES);
        let word = word & (u64::MAX << (64 - 8 * length));
        if word.wrapping_add(0x76 * ONES) & (0x80 * ONES) != 0 {
            return None;
        }
        let pairs = word.wrapping_mul(10).wrapping_add(word >> 8);
        let low = (pairs & 0xFF_0000_00FF).wrapping_mul(0x000F_4240_0000_0064);
        let high = (pairs >> 16 & 0xFF_0000_00FF).wrapping_mul(0x0000_2710_0000_0001);
        Some((low.wrapping_add(high) >> 32) as u32)
    }

    /// Seconds with at most eight decimals, in nanoseconds.
    #[inline]
    fn seconds(&mut self) -> Option<u64> {
        const SCALE: [u64; 9] = [0, 100_000_000, 10_000_000, 1_000_000, 100_000, 10_000, 1000, 100, 10];
        let (length, mark) = self.next();
        let whole = u64::from(self.number(length)?) * 1_000_000_000;
        if mark == b',' {
            return Some(whole);
        }
        let (length, end) = self.next();
        if mark != b'.' || end != b',' {
            return None;
        }
        Some(whole + u64::from(self.number(length)?) * SCALE[length])
    }

    #[inline]
    fn address(&mut self) -> Option<u32> {
        let mut address = 0;
        for octet in 0..4 {
            let (length, mark) = self.next();
            let value = self.number(length).filter(|_| length <= 3)?;
            // a leading zero means octal to some
            let leading_zero = length > 1 && self.text[BEFORE + self.at - 1 - length] == b'0';
            let wanted = if octet < 3 { b'.' } else { b',' };
            if value > 255 || leading_zero || mark != wanted {
                return None;
            }
            address = address << 8 | value;
        }
        Some(address)
    }

    /// A port; nothing is none.
    #[inline]
    fn port(&mut self) -> Option<Option<u16>> {
        let (length, mark) = self.next();
        if mark != b',' {
            return None;
        }
        if length == 0 {
            return Some(None);
        }
        u16::try_from(self.number(length)?).ok().map(Some)
    }

    /// A word up to the next comma.
    #[inline]
    fn word(&mut self) -> Option<&[u8]> {
        let (length, mark) = self.next();
        let end = BEFORE + self.at - 1;
        (mark == b',').then(|| &self.text[end - length..end])
    }
}

/// The flow of a line, if it is a plain one of a TCP, UDP or ICMP flow between IPv4 addresses.
#[inline]
pub(super) fn flow(line: &[u8], columns: &[Column]) -> Option<Flow> {
    let mut l = Line::new(line)?;
    let (mut start, mut protocol, mut source, mut destination) = (0, Protocol::TCP, 0, 0);
    let (mut source_port, mut destination_port, mut lasts, mut ending) = (None, None, 0, None);
    for column in columns {
        match column {
            Column::Start => start = l.seconds()?,
            Column::Lasts => lasts = l.seconds()?,
            Column::Source => source = l.address()?,
            Column::Destination => destination = l.address()?,
            Column::SourcePort => source_port = l.port()?,
            Column::DestinationPort => destination_port = l.port()?,
            Column::Protocol => {
                protocol = match l.word()? {
                    b"tcp" => Protocol::TCP,
                    b"udp" => Protocol::UDP,
                    b"icmp" => Protocol::ICMP,
                    _ => return None,
                }
            }
            Column::Ends => {
                ending = match l.word()? {
                    b"" => None,
                    b"close" => Some(Ending::Close),
                    b"reset" => Some(Ending::Reset),
                    b"silent" => Some(Ending::Silent),
                    _ => return None,
                }
            }
            Column::RoundTrip => return None,
        }
    }
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
            let (names, clock) = (Names::new(&Plan::default()), Clock::default());
            let context = Context { names: &names, clock: &clock };
            let cut = line.len().min(if cut < 70 { usize::MAX } else { cut - 60 });
            let line = &line.as_bytes()[..cut];
            if let Some(plain) = flow(line, &columns) {
                prop_assert_eq!(careful(line, &columns, context), Ok(plain));
            }
        }
    }
}
