//! Tables as CSV. Rows are made by hand: a table may have millions of them. Names come from a plan
//! and are quoted where they need it.

use std::io::{self, Write};
use std::net::{IpAddr, Ipv6Addr};

use zarnet_core::net::{Endpoint, Instant};

use super::ends::ProtocolName;
use super::naming::Position;

/// The digits of each octet of an address with a point behind them, and how many digits these are.
const OCTETS: [([u8; 4], u8); 256] = {
    let mut octets = [([b'.'; 4], 0); 256];
    let mut n = 0;
    while n < 256 {
        let digits = [b'0' + (n / 100) as u8, b'0' + (n / 10 % 10) as u8, b'0' + (n % 10) as u8];
        octets[n] = match n {
            0..10 => ([digits[2], b'.', 0, 0], 1),
            10..100 => ([digits[1], digits[2], b'.', 0], 2),
            _ => ([digits[0], digits[1], digits[2], b'.'], 3),
        };
        n += 1;
    }
    octets
};

/// The three digits of each number below a thousand, the first one lowest.
const DIGITS: [u32; 1000] = {
    let mut digits = [0; 1000];
    let mut n = 0;
    while n < 1000 {
        let (hundreds, tens, ones) = (n / 100, n / 10 % 10, n % 10);
        digits[n] = 0x30_3030 | (hundreds | (tens << 8) | (ones << 16)) as u32;
        n += 1;
    }
    digits
};

/// The digits of a number below a million, the first one lowest, and how many these are.
#[inline(always)]
fn six_digits(number: u32) -> (u64, usize) {
    let three = |n: u32| u64::from(DIGITS[n as usize % DIGITS.len()]);
    let all = three(number / 1000) | three(number % 1000) << 24;
    let is_longer = |power: u32| usize::from(number >= power);
    let length = 1
        + is_longer(10)
        + is_longer(100)
        + is_longer(1000)
        + is_longer(10_000)
        + is_longer(100_000);
    (all >> (8 * (6 - length)), length)
}

/// A row in the making.
#[derive(Default)]
pub struct Row {
    buffer: Vec<u8>,
    digits: itoa::Buffer,
}

impl Row {
    /// A field of text, quoted where it needs it. One that a spreadsheet would take for a formula
    /// gets an apostrophe first.
    pub fn text(&mut self, text: &str) {
        if text.starts_with(['=', '+', '-', '@', '\t', '\r']) {
            self.text(&format!("'{text}"));
            return;
        }
        if text.bytes().any(|b| matches!(b, b',' | b'"' | b'\n' | b'\r')) {
            self.buffer.push(b'"');
            self.buffer.extend(text.replace('"', "\"\"").bytes());
            self.buffer.push(b'"');
        } else {
            self.buffer.extend_from_slice(text.as_bytes());
        }
        self.buffer.push(b',');
    }

    /// Begins the row anew with the fields of another.
    pub(super) fn begin_with(&mut self, lead: &Self) {
        self.buffer.clear();
        self.buffer.extend_from_slice(&lead.buffer);
    }

    /// Empties the row for the next one.
    pub(super) fn clear(&mut self) {
        self.buffer.clear();
    }

    /// File and line of a place, both empty where there is none.
    pub fn place(&mut self, place: Option<&Position>) {
        self.text(place.map_or("", |p| p.file.as_str()));
        self.text(&place.map(|p| p.line.to_string()).unwrap_or_default());
    }

    /// Adds the first octets of some. All are copied, and at once: to copy a few takes longer.
    #[inline(always)]
    fn put<const N: usize>(&mut self, octets: [u8; N], length: usize) {
        let end = self.buffer.len() + length;
        self.buffer.extend_from_slice(&octets);
        self.buffer.truncate(end);
    }

    /// Adds the digits of a whole number, and an octet behind them.
    #[inline(always)]
    fn digits(&mut self, number: u64, behind: u8) {
        match u32::try_from(number) {
            Ok(number) if number < 1_000_000 => {
                let (digits, length) = six_digits(number);
                self.put((digits | u64::from(behind) << (8 * length)).to_le_bytes(), length + 1);
            }
            _ => {
                self.buffer.extend_from_slice(self.digits.format(number).as_bytes());
                self.buffer.push(behind);
            }
        }
    }

    /// Adds a whole number.
    pub fn number(&mut self, number: u64) {
        self.digits(number, b',');
    }

    /// A protocol by its name, or else by its number.
    pub(super) fn protocol(&mut self, protocol: ProtocolName) {
        match protocol.known() {
            Some(name) => self.text(name),
            None => self.number(protocol.0.map_or(0, |p| p.0.into())),
        }
    }

    /// Address and port, both empty where there is none.
    pub fn end(&mut self, end: Option<Endpoint>) {
        let Some(end) = end else { return self.buffer.extend_from_slice(b",,") };
        match end.address {
            IpAddr::V4(a) => {
                let (mut text, mut at) = ([0; 24], 0);
                for octet in a.octets() {
                    let (digits, length) = OCTETS[usize::from(octet)];
                    text[at..at + 4].copy_from_slice(&digits);
                    at += usize::from(length) + 1;
                }
                text[at - 1] = b',';
                self.put(text, at);
            }
            IpAddr::V6(a) => {
                self.address_v6(a);
                self.buffer.push(b',');
            }
        }
        match end.port {
            0 => self.buffer.push(b','),
            port => self.digits(port.into(), b','),
        }
    }

    /// An IPv6 address as RFC 5952 §4 has it.
    fn address_v6(&mut self, address: Ipv6Addr) {
        if address.to_ipv4_mapped().is_some() {
            return self.buffer.extend_from_slice(address.to_string().as_bytes());
        }
        let groups = address.segments();
        // the longest run of zeros, the first of several; one alone is written
        let (mut gap, mut from) = (8..8, 0);
        for at in 0..=8 {
            if groups.get(at).is_none_or(|group| *group != 0) {
                if at - from > gap.len().max(1) {
                    gap = from..at;
                }
                from = at + 1;
            }
        }
        self.groups(&groups[..gap.start]);
        if !gap.is_empty() {
            self.buffer.extend_from_slice(b"::");
            self.groups(&groups[gap.end..]);
        }
    }

    /// Groups of hexadecimal digits, without leading zeros.
    fn groups(&mut self, groups: &[u16]) {
        for (i, group) in groups.iter().enumerate() {
            if i > 0 {
                self.buffer.push(b':');
            }
            let digits = (16 - group.leading_zeros()).div_ceil(4).max(1);
            let digit = |n: u32| b"0123456789abcdef"[usize::from(group >> (4 * n) & 15)];
            self.buffer.extend((0..digits).rev().map(digit));
        }
    }

    /// Whether something is so.
    pub fn flag(&mut self, flag: bool) {
        if flag { self.put(*b"true,\0\0\0", 5) } else { self.put(*b"false,\0\0", 6) }
    }

    /// Seconds with milliseconds; empty for a fixed mapping.
    pub fn time(&mut self, time: Option<Instant>) {
        if let Some(Instant(nanoseconds)) = time {
            let milliseconds = nanoseconds / 1_000_000;
            self.digits(milliseconds / 1000, b'.');
            let part = DIGITS[(milliseconds % 1000) as usize];
            self.put((part | u32::from(b',') << 24).to_le_bytes(), 4);
        } else {
            self.buffer.push(b',');
        }
    }

    /// Writes the row with a line end, and begins another.
    pub fn write(&mut self, out: &mut dyn Write) -> io::Result<()> {
        if let Some(last) = self.buffer.last_mut() {
            *last = b'\n';
        }
        out.write_all(&self.buffer)?;
        self.buffer.clear();
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        /// Against the library: numbers of any length, and times.
        #[test]
        fn numbers_are_written_as_the_library_does(number: u64, shift in 0u32..64, flag: bool) {
            let number = number >> shift;
            let mut row = Row::default();
            row.number(number);
            row.time(Some(Instant(number)));
            row.flag(flag);
            let (seconds, part) = (number / 1_000_000_000, number / 1_000_000 % 1000);
            let written = format!("{number},{seconds}.{part:03},{flag},");
            prop_assert_eq!(String::from_utf8_lossy(&row.buffer), written);
        }

        /// Against the library, with runs of zeros anywhere.
        #[test]
        fn addresses_are_written_as_the_library_does(groups: [u16; 8], zeros: u8, port: u16) {
            let group = |n: usize| if zeros >> n & 1 == 1 { 0 } else { groups[n] >> (n % 4 * 4) };
            let groups: [u16; 8] = std::array::from_fn(group);
            let mapped = Ipv6Addr::new(0, 0, 0, 0, 0, 0xFFFF, groups[6], groups[7]);
            for address in [Ipv6Addr::from(groups), mapped] {
                let mut row = Row::default();
                row.end(Some(Endpoint::new(IpAddr::V6(address), port)));
                let port = if port > 0 { port.to_string() } else { String::new() };
                let written = format!("{address},{port},");
                prop_assert_eq!(String::from_utf8_lossy(&row.buffer), written);
            }
        }
    }
}
