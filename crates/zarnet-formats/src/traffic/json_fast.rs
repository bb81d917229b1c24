//! The lines that nearly every JSON Lines list consists of: their values are put into a line of CSV
//! and read as one (see [`csv_fast`](super::csv_fast)). A line of any other kind is left to the
//! careful reader.

use zarnet_core::traffic::Flow;

use super::csv_fast;
use super::stretch::ROOM;

/// The usual columns; see there.
const COLUMNS: usize = 8;

/// The longest value that a plain line has, with room for the marks between: an address.
const LONGEST: usize = 15;

/// The flow of a line without its end, if it is a plain one.
#[inline]
pub(super) fn flow(line: &[u8]) -> Option<Flow> {
    let line = line.strip_suffix(b"\r").unwrap_or(line);
    let mut rest = line.strip_prefix(b"{")?;
    let mut values: [&[u8]; COLUMNS] = [b""; COLUMNS];
    let mut seen = 0u32;
    loop {
        rest = spaces(rest).strip_prefix(b"\"")?;
        let end = memchr::memchr(b'"', rest)?;
        let column = column(&rest[..end])?;
        // of several values for one name the last counts: rare enough to be left to others
        if seen >> column & 1 == 1 {
            return None;
        }
        seen |= 1 << column;
        rest = spaces(spaces(&rest[end + 1..]).strip_prefix(b":")?);
        let length = match rest.strip_prefix(b"\"") {
            Some(text) => {
                values[column] = &text[..memchr::memchr(b'"', text)?];
                values[column].len() + 2
            }
            None => {
                let is_digit = |c: &u8| c.is_ascii_digit() || *c == b'.';
                let length = rest.iter().position(|c| !is_digit(c))?;
                values[column] = number(&rest[..length])?;
                length
            }
        };
        if values[column].len() > LONGEST || values[column].contains(&b'\\') {
            return None;
        }
        rest = spaces(&rest[length..]);
        match rest {
            [b',', behind @ ..] => rest = behind,
            [b'}'] => break,
            _ => return None,
        }
    }
    let lasts = 6;
    if seen >> lasts & 1 == 0 {
        values[lasts] = b"0";
    }
    let mut text = [0; ROOM];
    let mut at = 0;
    for value in values {
        text[at..at + value.len()].copy_from_slice(value);
        at += value.len();
        text[at] = b',';
        at += 1;
    }
    text[at - 1] = b'\n';
    csv_fast::flow(&text, COLUMNS).filter(|(_, length)| *length == at).map(|(flow, _)| flow)
}

/// Which of the usual columns has a name.
#[inline]
fn column(name: &[u8]) -> Option<usize> {
    Some(match name {
        b"start" => 0,
        b"protocol" => 1,
        b"source" => 2,
        b"source-port" => 3,
        b"destination" => 4,
        b"destination-port" => 5,
        b"lasts" => 6,
        b"ends" => 7,
        _ => return None,
    })
}

/// A number as JSON has it: no zero before another digit, one point at most, and digits around it.
fn number(text: &[u8]) -> Option<&[u8]> {
    match text {
        [] | [b'0', b'0'..=b'9', ..] | [b'.', ..] | [.., b'.'] => None,
        _ => (text.iter().filter(|c| **c == b'.').count() <= 1).then_some(text),
    }
}

fn spaces(mut text: &[u8]) -> &[u8] {
    while let [b' ', rest @ ..] = text {
        text = rest;
    }
    text
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use zarnet_core::plan::Plan;

    use super::super::clock::Clock;
    use super::super::fields::Context;
    use super::super::json_list::careful;
    use super::super::names::Names;
    use super::*;

    fn near_plain() -> impl Strategy<Value = String> {
        let field = |name: &'static str, plain: &'static str| {
            let value = prop_oneof![
                6 => plain.prop_map(|v| format!("\"{v}\"")),
                6 => plain.prop_map(|v| v),
                1 => "[0-9a-z. :\\\\\"-]{0,9}".prop_map(|v| format!("\"{v}\"")),
                1 => Just("null".to_owned()),
            ];
            let spelt = prop_oneof![12 => Just(name), 1 => Just("lasts"), 1 => Just("round-trip")];
            (spelt, value, "[ ]{0,1}").prop_map(|(n, v, gap)| format!("\"{n}\":{gap}{v}"))
        };
        let address = "[12]?[0-9]?[0-9](\\.[12]?[0-9]?[0-9]){3}";
        let fields = (
            field("start", "[0-9]{1,6}(\\.[0-9]{0,9})?"),
            field("protocol", "tcp|udp|icmp|gre"),
            field("source", address),
            field("source-port", "[0-9]{1,5}"),
            field("destination", address),
            field("destination-port", "[0-9]{1,5}"),
            field("lasts", "[0-9]{1,6}(\\.[0-9]{0,9})?"),
            field("ends", "close|reset|silent"),
        );
        (fields, 4usize..9, "[ ]{0,1}").prop_map(|((a, b, c, d, e, f, g, h), count, gap)| {
            let fields = [a, b, c, d, e, f, g, h];
            format!("{{{gap}{}{gap}}}", fields[..count].join(&format!(",{gap}")))
        })
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(4000))]

        /// What is read the fast way is read the same the careful way.
        #[test]
        fn plain_lines_mean_the_same_to_both_readers(line in near_plain()) {
            let (names, mut clock) = (Names::new(&Plan::default()), Clock::default());
            let context = &mut Context { names: &names, clock: &mut clock };
            if let Some(plain) = flow(line.as_bytes()) {
                prop_assert_eq!(careful(line.as_bytes(), context), Ok(plain));
            }
        }
    }

    /// The short way is for what is usual, or it would be of no use.
    #[test]
    fn usual_lines_are_plain() {
        for line in [
            r#"{"start":0.25,"protocol":"tcp","source":"10.64.27.206","source-port":47226,"destination":"198.18.148.68","destination-port":6829,"lasts":0.073}"#,
            r#"{"start": 12, "protocol": "icmp", "source": "192.168.100.200", "destination": "198.51.100.200", "ends": "silent"}"#,
            r#"{"lasts":"1.5","source":"10.0.0.1","start":"7","protocol":"udp","destination":"203.0.113.7","destination-port":"53"}"#,
        ] {
            assert!(flow(line.as_bytes()).is_some(), "{line}");
        }
    }
}
