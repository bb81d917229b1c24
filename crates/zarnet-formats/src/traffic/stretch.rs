//! A stretch of a line of a list, read where it lies, many octets at a time, without branches on
//! the length of a field.

use wide::i8x16;

use super::v6_fast as v6;

/// Room from the beginning of a line on: a stretch that begins behind another, or behind two long
/// addresses.
pub(super) const ROOM: usize = STRETCH + v6::WIDTH + AROUND;
/// So many octets of a line are looked at at once. Most lines are no longer; of others, the first
/// stretch reaches to the destination's address, and the second to the end.
const STRETCH: usize = 64;
/// A stretch, and room for eight octets from any place that a field can seem to begin at.
const AROUND: usize = 2 * STRETCH + 8;
/// The digit `0` in each of eight octets.
const ZEROS: u64 = 0x3030_3030_3030_3030;

/// Some columns of a line, and where their fields and the parts of these end. What is wrong is
/// gathered, and asked for once at the end: what comes of it until then is of no account.
pub(super) struct Stretch<'a> {
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
    pub at: usize,
    /// Not 0 if something is wrong.
    pub wrong: u64,
}

/// A run of octets up to a mark.
pub(super) struct Run {
    pub length: usize,
    /// Its octets as digits, the last one highest, zeros below the first. What is longer than eight
    /// octets is refused by its length, and so is nothing.
    digits: u64,
    pub mark: u8,
}

/// A bit for each octet before a place.
#[inline(always)]
fn before(at: usize) -> u64 {
    (1 << (at & (STRETCH - 1))) - 1
}

impl<'a> Stretch<'a> {
    #[inline(always)]
    pub(super) fn new(text: &'a [u8; AROUND]) -> Self {
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
    pub(super) fn next(&mut self) -> Run {
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
    pub(super) fn expect(&mut self, mark: u8, wanted: u8) {
        self.wrong |= u64::from(mark ^ wanted);
    }

    /// The number that a run is; at most eight digits.
    #[inline(always)]
    pub(super) fn number(&mut self, run: &Run) -> u64 {
        self.wrong |= run.length.wrapping_sub(1) as u64 & !7;
        let pairs = run.digits.wrapping_mul(10).wrapping_add(run.digits >> 8);
        let low = (pairs & 0xFF_0000_00FF).wrapping_mul(0x000F_4240_0000_0064);
        let high = (pairs >> 16 & 0xFF_0000_00FF).wrapping_mul(0x0000_2710_0000_0001);
        low.wrapping_add(high) >> 32
    }

    /// Seconds with at most eight decimals, in nanoseconds, and the mark behind them.
    #[inline(always)]
    pub(super) fn seconds(&mut self) -> (u64, u8) {
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
    pub(super) fn address(&mut self) -> u32 {
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
    pub(super) fn port(&mut self) -> (Option<u16>, u8) {
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
    pub(super) fn word(&mut self) -> (u64, u8) {
        let start = self.at;
        let run = self.next();
        self.words |= before(self.at - 1) & !before(start);
        (if run.length == 0 { 0 } else { run.digits | run.length as u64 }, run.mark)
    }

    /// Whether the line goes on behind the stretch.
    #[inline(always)]
    pub(super) fn has_no_end(&self) -> bool {
        self.ends == 0
    }

    /// What was wrong up to here, letters outside of words too.
    #[inline(always)]
    pub(super) fn faults(&self) -> u64 {
        self.wrong | (self.letters & !self.words & before(self.at - 1))
    }
}

/// The least octet of an address by its length, digit by digit. Four digits are less than that.
const LEAST: [u32; 8] = [0, 0, 0x100, 0x1_0000, 1 << 31, 0, 0, 0];

/// What a word's run holds in place of digits, and its length.
pub(super) const fn letters(word: &[u8]) -> u64 {
    let (mut value, mut i) = (word.len() as u64, 0);
    while i < word.len() {
        value |= ((word[i] ^ b'0') as u64) << (8 * (8 - word.len() + i));
        i += 1;
    }
    value
}
