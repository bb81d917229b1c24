//! The lines that nearly every flow list consists of, read where they lie, many octets at a time: numbers, addresses and
//! protocol names without quotes or spaces. A line of any other kind is left to the careful reader, which also tells what
//! is wrong with it. Nothing here branches on the length of a field: lengths are what a processor guesses worst.

use std::net::IpAddr;

use wide::i8x16;
use zarnet_core::device::Ending;
use zarnet_core::net::{Instant, Protocol};
use zarnet_core::traffic::{Flow, Party};

use super::fields::Column;

/// Room before a line, so that eight octets before any field's end can be read.
pub(super) const BEFORE: usize = 8;
/// Room from the beginning of a line on.
pub(super) const ROOM: usize = 136;
/// The columns up to the destination's address end within so many octets of a plain line.
const FIRST: usize = 64;
/// And those behind it within so many more.
const SECOND: usize = 48;
/// The highest bit of each of eight octets, and the digit `0` in each.
const HIGH: u64 = 0x8080_8080_8080_8080;
const ZEROS: u64 = 0x3030_3030_3030_3030;

/// Some columns of a line, and where their fields and the parts of these end. What is wrong is gathered, and asked for once
/// at the end: what comes of it until then is of no account.
struct Stretch<'a, const N: usize> {
    /// [`BEFORE`], then the octets of the stretch.
    text: &'a [u8; N],
    /// A bit for every octet below `0`: commas, points, line ends and all that does not belong here.
    marks: u64,
    /// Where the next field begins.
    at: usize,
    /// Not 0 if something is wrong.
    wrong: u64,
}

/// A run of octets up to a mark.
struct Run {
    length: usize,
    /// The eight octets before the mark, as digits; those before the run are zero.
    digits: u64,
    mark: u8,
}

/// A bit for each of sixteen octets that is below `0`. Octets from 0x80 on count as such: they are no text of a plain line.
#[inline(always)]
fn marks_of(octets: &[u8]) -> u64 {
    let octets: [u8; 16] = octets.try_into().unwrap_or_default();
    let octets = i8x16::new(octets.map(u8::cast_signed));
    octets.simd_lt(i8x16::splat(b'0' as i8)).to_bitmask().into()
}

#[inline(always)]
fn word_at<const N: usize>(text: &[u8; N], at: usize) -> u64 {
    text.get(at..at + 8).and_then(|w| w.try_into().ok()).map_or(0, u64::from_le_bytes)
}

impl<'a, const N: usize> Stretch<'a, N> {
    #[inline(always)]
    fn new(text: &'a [u8; N]) -> Self {
        let mut marks = 0u64;
        let mut i = 0;
        while BEFORE + i + 16 < N {
            marks |= marks_of(&text[BEFORE + i..BEFORE + i + 16]) << i;
            i += 16;
        }
        Self { text, marks, at: 0, wrong: 0 }
    }

    /// The next run.
    #[inline(always)]
    fn next(&mut self) -> Run {
        let end = self.marks.trailing_zeros() as usize & (FIRST - 1);
        self.marks &= self.marks.wrapping_sub(1);
        let length = end.wrapping_sub(self.at);
        self.at = end + 1;
        let mark = self.text.get(end + BEFORE).copied().unwrap_or(0);
        let digits = word_at(self.text, end) ^ ZEROS;
        // what is longer is refused by its length, and so is nothing
        Run { length, digits: digits & u64::MAX << (length.wrapping_mul(8).wrapping_neg() & 63), mark }
    }

    #[inline(always)]
    fn refuse_if(&mut self, wrong: bool) {
        self.wrong |= u64::from(wrong);
    }

    #[inline(always)]
    fn expect(&mut self, mark: u8, wanted: u8) {
        self.wrong |= u64::from(mark ^ wanted);
    }

    /// The number that a run is; at most seven digits.
    #[inline(always)]
    fn number(&mut self, run: &Run) -> u64 {
        let word = run.digits;
        self.refuse_if(run.length.wrapping_sub(1) > 6);
        self.wrong |= word.wrapping_add(0x7676_7676_7676_7676) & HIGH;
        let pairs = word.wrapping_mul(10).wrapping_add(word >> 8);
        let low = (pairs & 0xFF_0000_00FF).wrapping_mul(0x000F_4240_0000_0064);
        let high = (pairs >> 16 & 0xFF_0000_00FF).wrapping_mul(0x0000_2710_0000_0001);
        low.wrapping_add(high) >> 32
    }

    /// Seconds with at most seven decimals, in nanoseconds, and the mark behind them.
    #[inline(always)]
    fn seconds(&mut self) -> (u64, u8) {
        const SCALE: [u64; 8] = [0, 100_000_000, 10_000_000, 1_000_000, 100_000, 10_000, 1000, 100];
        let run = self.next();
        let whole = self.number(&run) * 1_000_000_000;
        if run.mark != b'.' {
            return (whole, run.mark);
        }
        let part = self.next();
        (whole + self.number(&part) * SCALE[part.length & 7], part.mark)
    }

    #[inline(always)]
    fn address(&mut self) -> u32 {
        let (mut address, mut outside) = (0u32, false);
        for octet in 0..4 {
            let run = self.next();
            let digits = (run.digits >> 32) as u32;
            // hundreds, tens and ones one below the other; of three digits up to 255 nothing is carried
            let value = digits.wrapping_mul(1 + (10 << 8) + (100 << 16)) >> 24;
            // digits only, in their order: no more than 255, and no leading zero, which means octal to some
            let (least, span) = ORDER[run.length & 7];
            outside |= digits.swap_bytes().wrapping_sub(least) > span;
            self.wrong |= u64::from(digits.wrapping_add(0x7676_7676) & 0x8080_8080) | run.length as u64 & !7;
            self.expect(run.mark, if octet < 3 { b'.' } else { b',' });
            address = address << 8 | value;
        }
        self.refuse_if(outside);
        address
    }

    /// A port, and the mark behind it; nothing is none.
    #[inline(always)]
    fn port(&mut self) -> (Option<u16>, u8) {
        let run = self.next();
        if run.length == 0 {
            return (None, run.mark);
        }
        let port = self.number(&run);
        self.wrong |= port >> 16;
        (Some(port as u16), run.mark)
    }

    /// A word of at most seven letters as [`letters`] gives it, and the mark behind it.
    #[inline(always)]
    fn word(&mut self) -> (u64, u8) {
        let run = self.next();
        (if run.length == 0 { 0 } else { run.digits | run.length as u64 }, run.mark)
    }
}

/// The least octet of an address by its length, digit by digit, and how far the greatest lies above it. What has no digits
/// or too many has a digit where there is none, or none where there is one, so that it is outside.
const ORDER: [(u32, u32); 8] = {
    let none = (u32::MAX, 0);
    [none, (0, 9), (0x100, 0x809), (0x1_0000, 0x1_0505), none, none, none, none]
};

/// What a word's run holds in place of digits, and its length.
const fn letters(word: &[u8]) -> u64 {
    let (mut value, mut i) = (word.len() as u64, 0);
    while i < word.len() {
        value |= ((word[i] ^ b'0') as u64) << (8 * (8 - word.len() + i));
        i += 1;
    }
    value
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

/// The flow of the line that begins [`BEFORE`] octets into `text`, with so many of the usual columns, and the line's length
/// with its end; if it is a plain line about TCP, UDP or ICMP between IPv4 addresses.
#[inline(always)]
pub(super) fn flow(text: &[u8; BEFORE + ROOM], columns: usize) -> Option<(Flow, usize)> {
    const TCP: u64 = letters(b"tcp");
    const UDP: u64 = letters(b"udp");
    const ICMP: u64 = letters(b"icmp");
    const NOTHING: u64 = letters(b"");
    const CLOSE: u64 = letters(b"close");
    const RESET: u64 = letters(b"reset");
    const SILENT: u64 = letters(b"silent");
    let mut first = Stretch::new(text.first_chunk::<{ BEFORE + FIRST + 1 }>()?);
    let (start, mark) = first.seconds();
    first.expect(mark, b',');
    let (protocol, mark) = first.word();
    first.expect(mark, b',');
    let protocol = match protocol {
        TCP => Protocol::TCP,
        UDP => Protocol::UDP,
        ICMP => Protocol::ICMP,
        _ => return None,
    };
    let source = first.address();
    let (source_port, mark) = first.port();
    first.expect(mark, b',');
    let destination = first.address();
    let rest = text.get(first.at..first.at + BEFORE + SECOND + 1)?;
    let mut second = Stretch::<{ BEFORE + SECOND + 1 }>::new(rest.try_into().ok()?);
    let (destination_port, mut mark) = second.port();
    let mut lasts = 0;
    if columns > 6 {
        second.expect(mark, b',');
        (lasts, mark) = second.seconds();
    }
    let mut ending = None;
    if columns > 7 {
        second.expect(mark, b',');
        let (word, behind) = second.word();
        mark = behind;
        ending = match word {
            NOTHING => None,
            CLOSE => Some(Ending::Close),
            RESET => Some(Ending::Reset),
            SILENT => Some(Ending::Silent),
            _ => return None,
        };
    }
    if mark == b'\r' {
        let end = second.next();
        second.refuse_if(end.length > 0);
        mark = end.mark;
    }
    second.expect(mark, b'\n');
    if first.wrong | second.wrong != 0 {
        return None;
    }
    let ports = protocol.has_ports();
    if ports && destination_port.is_none() || !ports && destination_port.is_some_and(|p| p > 0) {
        return None;
    }
    let party = |a: u32| Party::Address(IpAddr::V4(a.into()));
    let flow = Flow {
        start: Instant(start),
        protocol,
        source: party(source),
        source_port,
        destination: party(destination),
        destination_port: destination_port.filter(|_| ports),
        lasts,
        ending,
        round_trip: None,
    };
    Some((flow, first.at + second.at))
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
            let mut text = [b'7'; BEFORE + ROOM];
            text[BEFORE..BEFORE + line.len()].copy_from_slice(line);
            for end in [&b"\n"[..], b"\r\n"] {
                text[BEFORE + line.len()..][..end.len()].copy_from_slice(end);
                if let Some((plain, length)) = flow(&text, columns.len()) {
                    prop_assert_eq!(length, line.len() + end.len());
                    prop_assert_eq!(careful(line, &columns, context), Ok(plain));
                }
            }
        }
    }

    /// The short way is for what is usual, or it would be of no use.
    #[test]
    fn usual_lines_are_plain() {
        for line in [
            "0.000,tcp,10.64.27.206,47226,198.18.148.68,6829,0.073,",
            "86399.9999999,icmp,192.168.100.200,65535,198.51.100.200,,86399.999,silent",
            "12,udp,10.0.0.1,,203.0.113.7,53,0,close",
        ] {
            let mut text = [0; BEFORE + ROOM];
            text[BEFORE..BEFORE + line.len()].copy_from_slice(line.as_bytes());
            text[BEFORE + line.len()] = b'\n';
            assert!(flow(&text, 8).is_some(), "{line}");
        }
    }
}
