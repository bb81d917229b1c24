//! Translation events as syslog messages (RFC 5424), one structured-data element each:
//! `zarnet@32473`, by the enterprise number for documentation (RFC 5612).

use std::io::Write;

use super::fields::{EventDraft, FIELDS, Field};
use super::noted::in_this_age;
use super::time::{TimeText, time_of};
use super::{LogNames, Noted, TranslationEvent};

/// The structured-data element of an event.
const ELEMENT: &str = "zarnet@32473";
/// Facility local0, severity informational (RFC 5424 §6.2.1); exhaustion and limits are warnings.
const INFORMATION: u8 = 16 * 8 + 6;
const WARNING: u8 = 16 * 8 + 4;
/// A host name has no more octets, a message is read no further (RFC 5424 §6.1, §6.2.4).
const MOST_IN_HOST_NAME: usize = 255;
/// The most octets of a message.
pub const MOST_IN_MESSAGE: usize = 65_536;

fn is_printable(c: char) -> bool {
    c.is_ascii_graphic()
}

/// Appends the message of an event, without an end of line.
pub fn syslog_line(
    event: &TranslationEvent,
    names: &LogNames,
    time: &mut TimeText,
    out: &mut Vec<u8>,
) {
    let priority = if event.kind.begins().is_some() { INFORMATION } else { WARNING };
    let device = names.get(event.device);
    let is_host_name =
        !device.is_empty() && device.len() <= MOST_IN_HOST_NAME && device.chars().all(is_printable);
    let host = if is_host_name { device } else { "-" };
    let _ = write!(out, "<{priority}>1 {} {host} nat - translation [{ELEMENT}", time.of(event.at));
    let mut value = Vec::new();
    for (field, name) in FIELDS {
        value.clear();
        let is_told = field == Field::Device && is_host_name;
        if !is_told && field.write(event, names, &mut value) {
            let _ = write!(out, " {name}=\"");
            escape(&value, out);
            out.push(b'"');
        }
    }
    out.push(b']');
}

/// RFC 5424 §6.3.3: what must be escaped in a value.
fn escape(value: &[u8], out: &mut Vec<u8>) {
    for octet in value {
        if matches!(octet, b'"' | b'\\' | b']') {
            out.push(b'\\');
        }
        // a message is one line
        out.push(if octet.is_ascii_control() { b'?' } else { *octet });
    }
}

/// Reads a message. What is none is counted, and so is one of another matter.
pub fn parse_line(
    line: &[u8],
    names: &mut LogNames,
    noted: &mut Noted,
) -> Option<TranslationEvent> {
    let Some((time, host, data)) = std::str::from_utf8(line).ok().and_then(parts) else {
        noted.bad_messages += 1;
        return None;
    };
    noted.messages += 1;
    let Some(parameters) = element(data) else {
        noted.other_records += 1;
        return None;
    };
    let event = event(time, host, parameters, names);
    match event {
        Some(_) => noted.events += 1,
        None => noted.bad_records += 1,
    }
    event
}

/// The time, the host and the structured data of a message (RFC 5424 §6).
fn parts(line: &str) -> Option<(&str, &str, &str)> {
    let (priority, rest) = line.strip_prefix('<')?.split_once('>')?;
    let rest = rest.strip_prefix('1')?.strip_prefix(' ')?;
    priority.parse::<u8>().ok().filter(|p| *p < 192)?;
    let mut rest = rest.splitn(6, ' ');
    let (time, host) = (rest.next()?, rest.next()?);
    // application, process and message id
    rest.by_ref().nth(2)?;
    Some((time, host, rest.next()?))
}

/// The parameters of our element, behind its name.
fn element(data: &str) -> Option<&str> {
    let mut rest = data;
    while let Some(inside) = rest.strip_prefix('[') {
        let end = end_of_element(inside)?;
        let (element, after) = (&inside[..end], &inside[end + 1..]);
        let (name, parameters) = element.split_once(' ').unwrap_or((element, ""));
        if name == ELEMENT {
            return Some(parameters);
        }
        rest = after;
    }
    None
}

/// Where an element ends: at a bracket that is not inside a value.
fn end_of_element(inside: &str) -> Option<usize> {
    let (mut quoted, mut escaped) = (false, false);
    for (at, octet) in inside.bytes().enumerate() {
        match octet {
            _ if escaped => escaped = false,
            b'\\' if quoted => escaped = true,
            b'"' => quoted = !quoted,
            b']' if !quoted => return Some(at),
            _ => {}
        }
    }
    None
}

fn event(
    time: &str,
    host: &str,
    parameters: &str,
    names: &mut LogNames,
) -> Option<TranslationEvent> {
    let at = time_of(time).filter(|at| in_this_age(*at))?;
    let (mut draft, mut rest) = (EventDraft::default(), parameters.trim_start());
    let mut unescaped = String::new();
    while !rest.is_empty() {
        let (name, value) = rest.split_once("=\"")?;
        let end = end_of_value(value)?;
        let raw = &value[..end];
        rest = value[end + 1..].trim_start();
        // other fields are of other makers
        let Some(field) = Field::of_name(name) else { continue };
        let value = if raw.contains('\\') {
            unescape(raw, &mut unescaped);
            &unescaped
        } else {
            raw
        };
        draft.take(field, value, names)?;
    }
    let device = match draft.device {
        Some(device) => device,
        None if host == "-" => return None,
        None => names.obtain(host),
    };
    draft.event(at, draft.kind?, device)
}

fn end_of_value(value: &str) -> Option<usize> {
    let mut escaped = false;
    value.bytes().position(|octet| {
        let ends = octet == b'"' && !escaped;
        escaped = octet == b'\\' && !escaped;
        ends
    })
}

fn unescape(raw: &str, into: &mut String) {
    into.clear();
    let mut characters = raw.chars().peekable();
    while let Some(c) = characters.next() {
        let escapes = c == '\\' && matches!(characters.peek(), Some('"' | '\\' | ']'));
        into.push(if escapes { characters.next().unwrap_or(c) } else { c });
    }
}

/// Messages out of a stream: each ends with its line, or begins with its length (RFC 6587 §3.4).
#[derive(Debug, Default)]
pub struct Frames {
    held: Vec<u8>,
    /// Where what was not yet read begins.
    at: usize,
    /// Whether what follows belongs to a line that is too long.
    skips: bool,
}

impl Frames {
    /// Takes more of the stream.
    pub fn push(&mut self, octets: &[u8]) {
        self.held.drain(..self.at);
        self.at = 0;
        self.held.extend(octets);
    }

    /// The next message that is complete. `ended`: nothing more will come, and the last line may
    /// lack its end.
    pub fn next(&mut self, ended: bool, noted: &mut Noted) -> Option<&[u8]> {
        loop {
            let rest = &self.held[self.at..];
            if let Some((digits, length)) = counted(rest).filter(|_| !self.skips) {
                let from = self.at + digits;
                if rest.len() < digits + length {
                    if ended && !rest.is_empty() {
                        noted.bad_messages += 1;
                        self.at = self.held.len();
                    }
                    return None;
                }
                self.at = from + length;
                return Some(&self.held[from..from + length]);
            }
            let Some(end) = memchr::memchr(b'\n', rest) else {
                if rest.len() > MOST_IN_MESSAGE || ended && self.skips {
                    noted.bad_messages += u64::from(!self.skips);
                    (self.skips, self.at) = (true, self.held.len());
                } else if ended && !rest.is_empty() {
                    let from = std::mem::replace(&mut self.at, self.held.len());
                    return Some(&self.held[from..]);
                }
                return None;
            };
            let (from, skipped) = (self.at, std::mem::take(&mut self.skips));
            self.at += end + 1;
            let line = self.held[from..from + end].trim_ascii_start();
            let (from, length) = (from + end - line.len(), line.trim_ascii_end().len());
            if !skipped && length > 0 {
                return Some(&self.held[from..from + length]);
            }
        }
    }
}

/// How many octets the count of a message takes, with the space behind it, and the count.
fn counted(octets: &[u8]) -> Option<(usize, usize)> {
    let digits = octets.iter().take(6).take_while(|o| o.is_ascii_digit()).count();
    let is_count = digits > 0 && octets.get(digits) == Some(&b' ') && octets[0] != b'0';
    let length = std::str::from_utf8(&octets[..digits]).ok()?.parse().ok()?;
    (is_count && length <= MOST_IN_MESSAGE).then_some((digits + 1, length))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn messages(pieces: &[&[u8]]) -> (Vec<String>, u64) {
        let (mut frames, mut noted, mut all) = (Frames::default(), Noted::default(), Vec::new());
        let mut take = |frames: &mut Frames, ended, noted: &mut Noted| {
            while let Some(message) = frames.next(ended, noted) {
                all.push(String::from_utf8_lossy(message).into_owned());
            }
        };
        for piece in pieces {
            frames.push(piece);
            take(&mut frames, false, &mut noted);
        }
        take(&mut frames, true, &mut noted);
        (all, noted.bad_messages)
    }

    #[test]
    fn rfc6587_s3_4_messages_are_counted_or_end_with_a_line() {
        let (all, bad) = messages(&[b"<1>1 a\n5 <1>1 5 <2>1", b" <3>1 b\r\n\n<4>1 c"]);
        assert_eq!((all.join("|").as_str(), bad), ("<1>1 a|<1>1 |<2>1 |<3>1 b|<4>1 c", 0));
    }

    #[test]
    fn a_message_without_end_is_passed_over() {
        let long = vec![b'x'; 3 * MOST_IN_MESSAGE];
        let (all, bad) = messages(&[&long, &long, b"\n<1>1 next\n", b"400 <1>1 cut"]);
        assert_eq!((all.join("|").as_str(), bad), ("<1>1 next", 2));
    }
}
