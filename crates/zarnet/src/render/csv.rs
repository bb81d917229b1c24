//! Tables as CSV. Rows are made by hand: a table may have millions of them. Names come from a plan and are quoted where
//! they need it.

use std::io::{self, Write};
use std::net::IpAddr;

use zarnet_core::net::{Endpoint, Instant};

use super::answer::{Answer, ProtocolName};

/// The mappings.
pub fn mappings(out: &mut dyn Write, answer: Answer<'_>) -> io::Result<()> {
    out.write_all(
        b"device,rule,type,protocol,internal,internal-port,external,external-port,peer,peer-port,fixed,chosen-freely,created,expires,sessions\n",
    )?;
    let mut row = Row::default();
    for (device, m) in answer.mapping_rows() {
        row.text(answer.device(device));
        row.text(answer.rule(device, m.rule));
        row.text(m.kind);
        row.protocol(ProtocolName(m.protocol));
        row.end(Some(m.internal));
        row.end(Some(m.external));
        row.end(m.peer);
        row.text(if m.fixed { "true" } else { "false" });
        row.text(if m.freely { "true" } else { "false" });
        row.time(m.created);
        row.time(m.expires);
        row.number(m.sessions.into());
        row.write(out)?;
    }
    Ok(())
}

/// The sessions.
pub fn sessions(out: &mut dyn Write, answer: Answer<'_>) -> io::Result<()> {
    out.write_all(
        b"device,rules,protocol,state,original-source,original-source-port,original-destination,original-destination-port,\
translated-source,translated-source-port,translated-destination,translated-destination-port,created,last-active,expires\n",
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

/// A row in the making.
#[derive(Default)]
pub struct Row {
    buffer: Vec<u8>,
    digits: itoa::Buffer,
}

impl Row {
    /// A field of text, quoted where it needs it.
    pub fn text(&mut self, text: &str) {
        if text.bytes().any(|b| matches!(b, b',' | b'"' | b'\n' | b'\r')) {
            self.buffer.push(b'"');
            self.buffer.extend(text.replace('"', "\"\"").bytes());
            self.buffer.push(b'"');
        } else {
            self.buffer.extend_from_slice(text.as_bytes());
        }
        self.buffer.push(b',');
    }

    /// A whole number.
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
                for (i, octet) in a.octets().into_iter().enumerate() {
                    if i > 0 {
                        self.buffer.push(b'.');
                    }
                    self.buffer.extend_from_slice(self.digits.format(octet).as_bytes());
                }
            }
            IpAddr::V6(a) => self.buffer.extend_from_slice(a.to_string().as_bytes()),
        }
        self.buffer.push(b',');
        if end.port > 0 {
            self.buffer.extend_from_slice(self.digits.format(end.port).as_bytes());
        }
        self.buffer.push(b',');
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

    /// Ends the row.
    pub fn write(&mut self, out: &mut dyn Write) -> io::Result<()> {
        if let Some(last) = self.buffer.last_mut() {
            *last = b'\n';
        }
        out.write_all(&self.buffer)?;
        self.buffer.clear();
        Ok(())
    }
}
