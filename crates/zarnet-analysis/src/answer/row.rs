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

    /// Adds a whole number.
    pub fn number(&mut self, number: u64) {
        self.buffer.extend_from_slice(self.digits.format(number).as_bytes());
        self.buffer.push(b',');
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
                let (mut text, mut at) = ([0; 20], 0);
                for octet in a.octets() {
                    let (digits, length) = OCTETS[usize::from(octet)];
                    text[at..at + 4].copy_from_slice(&digits);
                    at += usize::from(length) + 1;
                }
                text[at - 1] = b',';
                self.buffer.extend_from_slice(&text[..at]);
            }
            IpAddr::V6(a) => {
                self.address_v6(a);
                self.buffer.push(b',');
            }
        }
        if end.port > 0 {
            self.buffer.extend_from_slice(self.digits.format(end.port).as_bytes());
        }
        self.buffer.push(b',');
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
        self.buffer.extend_from_slice(if flag { b"true," } else { b"false," });
    }

    /// Seconds with milliseconds; empty for a fixed mapping.
    pub fn time(&mut self, time: Option<Instant>) {
        if let Some(Instant(nanoseconds)) = time {
            let milliseconds = nanoseconds / 1_000_000;
            self.buffer.extend_from_slice(self.digits.format(milliseconds / 1000).as_bytes());
            let part = milliseconds % 1000;
            self.buffer.extend([
                b'.',
                b'0' + (part / 100) as u8,
                b'0' + (part / 10 % 10) as u8,
                b'0' + (part % 10) as u8,
            ]);
        }
        self.buffer.push(b',');
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
