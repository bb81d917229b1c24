//! The lines that nearly every flow list consists of, read where they lie, many octets at a time:
//! numbers, addresses and protocol names without quotes or spaces. A line of any other kind is left
//! to the careful reader, which also tells what is wrong with it. Nothing here branches on the
//! length of a field: lengths are what a processor guesses worst.

use std::net::IpAddr;

use wide::i8x16;
use zarnet_core::net::{Instant, Protocol};
use zarnet_core::traffic::Ending;
use zarnet_core::traffic::{Flow, Party};

use super::fields::Column;

/// Room from the beginning of a line on: a stretch that begins behind another.
pub(super) const ROOM: usize = STRETCH + AROUND;
/// So many octets of a line are looked at at once. Most lines are no longer; of others, the first
/// stretch reaches to the destination's address, and the second to the end.
const STRETCH: usize = 64;
/// A stretch, and room for eight octets from any place that a field can seem to begin at.
const AROUND: usize = 2 * STRETCH + 8;
/// The digit `0` in each of eight octets.
const ZEROS: u64 = 0x3030_3030_3030_3030;

/// Some columns of a line, and where their fields and the parts of these end. What is wrong is
/// gathered, and asked for once at the end: what comes of it until then is of no account.
struct Stretch<'a> {
    /// The octets of the stretch, and a few more.
    text: &'a [u8; AROUND],
    /// A bit for every octet below `0`: commas, points, line ends and all that does not belong
    /// here.
    marks: u64,
    /// A bit for every line end.
    ends: u64,
    /// A bit for every octet above `9`: what belongs in words only.
    letters: u64,
    /// A bit for every octet of a word.
    words: u64,
    /// Where the next field begins.
    at: usize,
    /// Not 0 if something is wrong.
    wrong: u64,
}

/// A run of octets up to a mark.
struct Run {
    length: usize,
    /// Its octets as digits, the last one highest, zeros below the first. What is longer than eight
    /// octets is refused by its length, and so is nothing.
    digits: u64,
    mark: u8,
}

/// A bit for each octet before a place.
#[inline(always)]
fn before(at: usize) -> u64 {
    (1 << (at & (STRETCH - 1))) - 1
}

impl<'a> Stretch<'a> {
    #[inline(always)]
    fn new(text: &'a [u8; AROUND]) -> Self {
        let (mut marks, mut ends, mut letters) = (0u64, 0u64, 0u64);
        let mut i = 0;
        while i < STRETCH {
            let octets: [u8; 16] = text[i..i + 16].try_into().unwrap_or_default();
            // as signed numbers: octets from 0x80 on count as marks, which they are not
            let octets = i8x16::new(octets.map(u8::cast_signed));
            marks |= u64::from(octets.simd_lt(i8x16::splat(b'0' as i8)).to_bitmask()) << i;
            ends |= u64::from(octets.simd_eq(i8x16::splat(b'\n' as i8)).to_bitmask()) << i;
            letters |= u64::from(octets.simd_gt(i8x16::splat(b'9' as i8)).to_bitmask()) << i;
            i += 16;
        }
        Self { text, marks, ends, letters, words: 0, at: 0, wrong: 0 }
    }

    /// The next run.
    #[inline(always)]
    fn next(&mut self) -> Run {
        // with no mark left this is the last octet, which is then no mark that is asked for
        let end = (self.marks | 1 << (STRETCH - 1)).trailing_zeros() as usize;
        self.marks &= self.marks.wrapping_sub(1);
        let length = end.wrapping_sub(self.at);
        let mark = self.text[end];
        let from: &[u8; 8] =
            self.text[self.at & (2 * STRETCH - 1)..].first_chunk().unwrap_or(&[0; 8]);
        let digits =
            (u64::from_le_bytes(*from) ^ ZEROS) << (length.wrapping_mul(8).wrapping_neg() & 63);
        self.at = end + 1;
        Run { length, digits, mark }
    }

    #[inline(always)]
    fn expect(&mut self, mark: u8, wanted: u8) {
        self.wrong |= u64::from(mark ^ wanted);
    }

    /// The number that a run is; at most eight digits.
    #[inline(always)]
    fn number(&mut self, run: &Run) -> u64 {
        self.wrong |= run.length.wrapping_sub(1) as u64 & !7;
        let pairs = run.digits.wrapping_mul(10).wrapping_add(run.digits >> 8);
        let low = (pairs & 0xFF_0000_00FF).wrapping_mul(0x000F_4240_0000_0064);
        let high = (pairs >> 16 & 0xFF_0000_00FF).wrapping_mul(0x0000_2710_0000_0001);
        low.wrapping_add(high) >> 32
    }

    /// Seconds with at most eight decimals, in nanoseconds, and the mark behind them.
    #[inline(always)]
    fn seconds(&mut self) -> (u64, u8) {
        const SCALE: [u64; 16] = [
            0,
            100_000_000,
            10_000_000,
            1_000_000,
            100_000,
            10_000,
            1000,
            100,
            10,
            0,
            0,
            0,
            0,
            0,
            0,
            0,
        ];
        let run = self.next();
        let whole = self.number(&run) * 1_000_000_000;
        if run.mark != b'.' {
            return (whole, run.mark);
        }
        let part = self.next();
        (whole + self.number(&part) * SCALE[part.length & 15], part.mark)
    }

    #[inline(always)]
    fn address(&mut self) -> u32 {
        let (mut address, mut most, mut lengths) = (0u32, 0, 0);
        for octet in 0..4 {
            let run = self.next();
            let digits = (run.digits >> 32) as u32;
            // hundreds, tens and ones one below the other; of three digits up to 255 nothing is
            // carried
            let value = digits.wrapping_mul(1 + (10 << 8) + (100 << 16)) >> 24;
            address = address << 8 | value;
            // no leading zero, which means octal to some: then this is below nothing, and so more
            // than anything
            most = most.max(digits.swap_bytes().wrapping_sub(LEAST[run.length & 7]));
            lengths |= run.length.wrapping_sub(1);
            self.expect(run.mark, if octet < 3 { b'.' } else { b',' });
        }
        self.wrong |= u64::from(most > 0x2_0505 - LEAST[3]) | lengths as u64 & !3;
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
        let start = self.at;
        let run = self.next();
        self.words |= before(self.at - 1) & !before(start);
        (if run.length == 0 { 0 } else { run.digits | run.length as u64 }, run.mark)
    }

    /// Whether the line goes on behind the stretch.
    #[inline(always)]
    fn has_no_end(&self) -> bool {
        self.ends == 0
    }

    /// What was wrong up to here, letters outside of words too.
    #[inline(always)]
    fn faults(&self) -> u64 {
        self.wrong | (self.letters & !self.words & before(self.at - 1))
    }
}

/// The least octet of an address by its length, digit by digit. Four digits are less than that.
const LEAST: [u32; 8] = [0, 0, 0x100, 0x1_0000, 1 << 31, 0, 0, 0];

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

/// The flow of the line that `text` begins with, with so many of the usual columns, and the line's
/// length with its end; if it is a plain line about TCP, UDP or ICMP between IPv4 addresses.
#[inline(always)]
pub(super) fn flow(text: &[u8; ROOM], columns: usize) -> Option<(Flow, usize)> {
    const TCP: u64 = letters(b"tcp");
    const UDP: u64 = letters(b"udp");
    const ICMP: u64 = letters(b"icmp");
    const NOTHING: u64 = letters(b"");
    const CLOSE: u64 = letters(b"close");
    const RESET: u64 = letters(b"reset");
    const SILENT: u64 = letters(b"silent");
    let mut line = Stretch::new(text.first_chunk()?);
    let (start, mark) = line.seconds();
    line.expect(mark, b',');
    let (protocol, mark) = line.word();
    line.expect(mark, b',');
    // computed, not decided: which comes next is hard to guess
    let known = [(TCP, Protocol::TCP), (UDP, Protocol::UDP), (ICMP, Protocol::ICMP)];
    let protocol = Protocol(known.iter().map(|(word, p)| u8::from(protocol == *word) * p.0).sum());
    if protocol.0 == 0 {
        return None;
    }
    let source = line.address();
    let (source_port, mark) = line.port();
    line.expect(mark, b',');
    let destination = line.address();
    let (mut faults, mut length) = (line.faults(), 0);
    if line.has_no_end() {
        length = line.at;
        line = Stretch::new(text.get(length..)?.first_chunk()?);
    }
    let (destination_port, mut mark) = line.port();
    let mut lasts = 0;
    if columns > 6 {
        line.expect(mark, b',');
        (lasts, mark) = line.seconds();
    }
    let mut ending = None;
    if columns > 7 {
        line.expect(mark, b',');
        let (word, behind) = line.word();
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
        let end = line.next();
        line.wrong |= end.length as u64;
        mark = end.mark;
    }
    line.expect(mark, b'\n');
    faults |= line.faults();
    if faults != 0 {
        return None;
    }
    let ports = protocol.has_ports();
    // no port where there must be one, or one where there is none
    if (ports & destination_port.is_none()) | (!ports & (destination_port.unwrap_or(0) > 0)) {
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
    Some((flow, length + line.at))
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
        let address =
            || field("[0-9]{1,3}(\\.[0-9]{1,3}){3}|[12]?[0-9]?[0-9](\\.[12]?[0-9]?[0-9]){3}");
        let time = || field("[0-9]{1,9}(\\.[0-9]{0,9})?");
        let port = || field("[0-9]{0,6}");
        (
            time(),
            field("tcp|udp|icmp|gre"),
            address(),
            port(),
            address(),
            port(),
            time(),
            field("|close|reset|silent"),
        )
            .prop_map(|(a, b, c, d, e, f, g, h)| format!("{a},{b},{c},{d},{e},{f},{g},{h}"))
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(4000))]

        /// What is read the fast way is read the same the careful way.
        #[test]
        fn plain_lines_mean_the_same_to_both_readers(line in near_plain(), cut in 0usize..80) {
            let columns: Vec<Column> = COLUMNS.iter().take(8).map(|c| c.1).collect();
            prop_assert!(suits(&columns));
            let (names, mut clock) = (Names::new(&Plan::default()), Clock::default());
            let context = &mut Context { names: &names, clock: &mut clock };
            let cut = line.len().min(if cut < 70 { usize::MAX } else { cut - 60 });
            let line = &line.as_bytes()[..cut];
            let mut text = [b'7'; ROOM];
            text[..line.len()].copy_from_slice(line);
            for end in [&b"\n"[..], b"\r\n"] {
                text[line.len()..][..end.len()].copy_from_slice(end);
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
            let mut text = [0; ROOM];
            text[..line.len()].copy_from_slice(line.as_bytes());
            text[line.len()] = b'\n';
            assert!(flow(&text, 8).is_some(), "{line}");
        }
    }
}
