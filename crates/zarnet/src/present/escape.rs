//! What is shown of text from files: characters that act instead of showing are written as escapes,
//! in every form of answer and in messages. Colours of our own pass.

use std::io::{self, Write};

use zarnet_core::net::is_hidden;

/// How a hidden character is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Form {
    /// As `\u{1b}`, for people; sequences that set a colour pass (ECMA-48 §8.3.117).
    Text,
    /// As `\u{1b}`, for CSV, XML and SVG, in which a control character would be an error.
    Plain,
    /// As `\u001b`: hidden characters stand in strings only.
    Json,
}

impl Form {
    fn is_escaped(self, c: char) -> bool {
        is_hidden(c) && c != '\n' && (c != '\t' || self == Self::Json)
    }
}

/// A writer that escapes what passes through it.
#[derive(Debug)]
pub struct Escaping<W: Write> {
    inner: W,
    form: Form,
    /// The beginning of a character or of a sequence, whose rest comes with the next call.
    begun: Vec<u8>,
}

/// No sequence that sets a colour is longer.
const LONGEST_SEQUENCE: usize = 24;

impl<W: Write> Escaping<W> {
    /// A writer into another one.
    pub fn new(inner: W, form: Form) -> Self {
        Self { inner, form, begun: Vec::new() }
    }

    fn text(&mut self, mut text: &str) -> io::Result<()> {
        while let Some((at, c)) = text.char_indices().find(|(_, c)| self.form.is_escaped(*c)) {
            let (before, rest) = text.split_at(at);
            self.inner.write_all(before.as_bytes())?;
            let colour = colour(rest.as_bytes()).filter(|_| self.form == Form::Text);
            match colour {
                Some(length) => self.inner.write_all(&rest.as_bytes()[..length])?,
                None => self.escape(c)?,
            }
            text = &rest[colour.unwrap_or(c.len_utf8())..];
        }
        self.inner.write_all(text.as_bytes())
    }

    fn escape(&mut self, c: char) -> io::Result<()> {
        match self.form {
            Form::Text | Form::Plain => write!(self.inner, "{}", c.escape_unicode()),
            Form::Json => c
                .encode_utf16(&mut [0; 2])
                .iter()
                .try_for_each(|unit| write!(self.inner, "\\u{unit:04x}")),
        }
    }

    /// Writes octets that are text as far as they are, and escapes for what is not.
    fn octets(&mut self, mut octets: &[u8]) -> io::Result<()> {
        loop {
            match std::str::from_utf8(octets) {
                Ok(text) => return self.text(text),
                Err(error) => {
                    let (text, rest) = octets.split_at(error.valid_up_to());
                    self.text(std::str::from_utf8(text).unwrap_or_default())?;
                    self.inner.write_all("\u{fffd}".as_bytes())?;
                    octets = &rest[error.error_len().unwrap_or(rest.len())..];
                }
            }
        }
    }
}

/// How many octets at the end are the beginning of a character or of a sequence.
fn unfinished(octets: &[u8], form: Form) -> usize {
    let tail = &octets[octets.len().saturating_sub(LONGEST_SEQUENCE)..];
    if form == Form::Text
        && let Some(at) = tail.iter().rposition(|b| *b == b'\x1b')
        && is_begun_colour(&tail[at..])
    {
        return tail.len() - at;
    }
    let lead = tail.iter().rev().take(4).position(|b| *b >= 0xc0);
    let Some(back) = lead.map(|n| n + 1) else { return 0 };
    let cut =
        std::str::from_utf8(&octets[octets.len() - back..]).is_err_and(|e| e.error_len().is_none());
    if cut { back } else { 0 }
}

fn is_begun_colour(sequence: &[u8]) -> bool {
    match sequence {
        [b'\x1b'] => true,
        [b'\x1b', b'[', rest @ ..] => rest.iter().all(|b| b.is_ascii_digit() || *b == b';'),
        _ => false,
    }
}

/// The length of a sequence that sets a colour.
fn colour(text: &[u8]) -> Option<usize> {
    let end = text.iter().take(LONGEST_SEQUENCE).position(|b| *b == b'm')?;
    (end > 1 && is_begun_colour(&text[..end])).then_some(end + 1)
}

impl<W: Write> Write for Escaping<W> {
    fn write(&mut self, octets: &[u8]) -> io::Result<usize> {
        // nearly everything is printable ASCII in lines
        let odd =
            octets.iter().fold(false, |odd, b| odd | (b.wrapping_sub(0x20) >= 0x5f && *b != b'\n'));
        if !odd && self.begun.is_empty() {
            self.inner.write_all(octets)?;
            return Ok(octets.len());
        }
        let mut all = std::mem::take(&mut self.begun);
        all.extend_from_slice(octets);
        let whole = all.len() - unfinished(&all, self.form);
        self.begun = all.split_off(whole);
        self.octets(&all)?;
        Ok(octets.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        let begun = std::mem::take(&mut self.begun);
        self.octets(&begun)?;
        self.inner.flush()
    }
}

/// A text with its hidden characters escaped.
pub fn escaped(text: &str, form: Form) -> String {
    let mut out = Vec::with_capacity(text.len());
    let mut writer = Escaping::new(&mut out, form);
    // writing into memory does not fail
    let _ = writer.write_all(text.as_bytes()).and_then(|()| writer.flush());
    String::from_utf8(out).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;

    const EVIL: &str = "a\u{1b}]0;title\u{7}b\u{9b}31mc\u{202e}d\u{7f}\re";

    #[test]
    fn what_acts_is_written_out() {
        let shown = "a\\u{1b}]0;title\\u{7}b\\u{9b}31mc\\u{202e}d\\u{7f}\\u{d}e";
        assert_eq!(escaped(EVIL, Form::Text), shown);
        assert_eq!(escaped(EVIL, Form::Plain), shown);
        let json = "a\\u001b]0;title\\u0007b\\u009b31mc\\u202ed\\u007f\\u000de";
        assert_eq!(escaped(EVIL, Form::Json), json);
        assert_eq!(escaped("\u{e0041}", Form::Json), "\\udb40\\udc41");
    }

    #[test]
    fn colours_and_letters_pass() {
        let text = "\x1b[1mbold\x1b[0m \x1b[38;5;9mr\u{f6}d\x1b[0m\n\ttab \u{65e5}\u{672c}";
        assert_eq!(escaped(text, Form::Text), text);
        assert_eq!(escaped("\x1b[1m", Form::Plain), "\\u{1b}[1m");
        assert_eq!(escaped("\x1b[2J\x1b[H", Form::Text), "\\u{1b}[2J\\u{1b}[H");
    }

    #[test]
    fn pieces_of_any_size_mean_the_same() {
        let text = format!("\x1b[1m{EVIL}\x1b[0m \u{65e5}\u{10348} {EVIL}");
        for form in [Form::Text, Form::Plain, Form::Json] {
            let wanted = escaped(&text, form);
            for size in 1..9 {
                let mut out = Vec::new();
                let mut writer = Escaping::new(&mut out, form);
                for piece in text.as_bytes().chunks(size) {
                    writer.write_all(piece).unwrap();
                }
                writer.flush().unwrap();
                assert_eq!(String::from_utf8(out).unwrap(), wanted, "{form:?} in pieces of {size}");
            }
        }
    }

    #[test]
    fn what_is_no_text_is_replaced() {
        let mut out = Vec::new();
        let mut writer = Escaping::new(&mut out, Form::Text);
        writer.write_all(b"a\xff\xfeb\xe6").unwrap();
        writer.flush().unwrap();
        assert_eq!(String::from_utf8(out).unwrap(), "a\u{fffd}\u{fffd}b\u{fffd}");
    }
}
