//! Tables as CSV. Rows are made by hand: a table may have millions of them. Names come from a plan
//! and are quoted where they need it.

use std::io::{self, Write};
use std::net::IpAddr;

use zarnet_core::net::{Endpoint, Instant};

use super::answer::{Answer, ProtocolName};

/// Writes the table of mappings.
pub fn mappings(out: &mut dyn Write, answer: Answer<'_>) -> io::Result<()> {
    out.write_all(
        b"device,rule,type,protocol,internal,internal-port,external,external-port,\
peer,peer-port,fixed,chosen-freely,created,expires,sessions\n",
    )?;
    let (mut row, mut lead) = (Row::default(), Row::default());
    let mut last = None;
    for (device, m) in answer.mapping_rows() {
        // row after row begins the same
        let begins = (device, m.rule, m.kind, m.protocol);
        if last != Some(begins) {
            last = Some(begins);
            lead.buffer.clear();
            lead.text(answer.device(device));
            lead.text(answer.rule(device, m.rule));
            lead.text(m.kind);
            lead.protocol(ProtocolName(m.protocol));
        }
        row.buffer.extend_from_slice(&lead.buffer);
        row.end(Some(m.internal));
        row.end(Some(m.external));
        row.end(m.peer);
        row.flag(m.fixed);
        row.flag(m.freely);
        row.time(m.created);
        row.time(m.expires);
        row.number(m.sessions.into());
        row.write(out)?;
    }
    Ok(())
}

/// Writes the table of sessions.
pub fn sessions(out: &mut dyn Write, answer: Answer<'_>) -> io::Result<()> {
    out.write_all(
        b"device,rules,protocol,state,original-source,original-source-port,original-destination,\
original-destination-port,translated-source,translated-source-port,translated-destination,\
translated-destination-port,created,last-active,expires\n",
    )?;
    let mut row = Row::default();
    for (device, s) in answer.session_rows() {
        let rules: Vec<&str> = s.rules.iter().flatten().map(|r| answer.rule(device, *r)).collect();
        row.text(answer.device(device));
        row.text(&rules.join(" "));
        row.protocol(ProtocolName(Some(s.protocol)));
        row.text(s.state.name());
        for tuple in [s.original, s.translated] {
            row.end(Some(tuple.source));
            row.end(Some(tuple.destination));
        }
        row.time(Some(s.created));
        row.time(Some(s.last_active));
        row.time(Some(s.expires));
        row.write(out)?;
    }
    Ok(())
}

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

    /// Adds a whole number.
    pub fn number(&mut self, number: u64) {
        self.buffer.extend_from_slice(self.digits.format(number).as_bytes());
        self.buffer.push(b',');
    }

    fn protocol(&mut self, protocol: ProtocolName) {
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
                self.buffer.extend_from_slice(a.to_string().as_bytes());
                self.buffer.push(b',');
            }
        }
        if end.port > 0 {
            self.buffer.extend_from_slice(self.digits.format(end.port).as_bytes());
        }
        self.buffer.push(b',');
    }

    /// Whether something is so.
    fn flag(&mut self, flag: bool) {
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
