//! Reads one TOML table: takes known keys out of it with their places, and reports what is left
//! over.

use std::cell::RefCell;
use std::ops::Range;

use toml::Spanned;
use toml::de::{DeTable, DeValue};
use zarnet_core::limits;
use zarnet_core::net::is_hidden;
use zarnet_core::plan::field::Keys;
use zarnet_core::plan::{Place, Placed, PlanError, Problem, Problems, Setting};

pub(crate) type Text = Placed<String>;
type Value<'a> = &'a Spanned<DeValue<'a>>;

/// Where problems are collected while several tables are read.
pub(crate) type Collected = RefCell<Problems>;

pub(crate) fn place(file: u16, span: Range<usize>) -> Place {
    let bound = |n: usize| u32::try_from(n).unwrap_or(u32::MAX);
    Place { file, start: bound(span.start), end: bound(span.end) }
}

/// A table that is being read.
pub(crate) struct Reader<'a> {
    file: u16,
    table: &'a DeTable<'a>,
    /// Where the table begins.
    pub place: Place,
    what: &'static str,
    /// Which keys there may be, by [`mark`]: most tables have few of those that they may have.
    there: u64,
    asked: RefCell<Vec<&'static str>>,
    problems: &'a Collected,
}

/// One of 64 bits for a key, which others may share.
#[inline]
fn mark(key: &str) -> u64 {
    let octets = key.as_bytes();
    let (first, last) = (octets.first(), octets.last());
    let number = first.into_iter().chain(last).fold(octets.len(), |n, o| n * 5 + usize::from(*o));
    1 << (number % 64)
}

impl<'a> Reader<'a> {
    pub(crate) fn new(
        file: u16,
        table: &'a DeTable<'a>,
        place: Place,
        what: &'static str,
        problems: &'a Collected,
    ) -> Self {
        let there = table.keys().fold(0, |all, key| all | mark(key.get_ref()));
        // most tables have fewer keys to ask for
        let asked = RefCell::new(Vec::with_capacity(24));
        Self { file, table, place, what, there, asked, problems }
    }

    pub(crate) fn report(&self, error: PlanError, place: Place) {
        self.problems.borrow_mut().push(Problem::new(error, place));
    }

    fn at(&self, span: Range<usize>) -> Place {
        place(self.file, span)
    }

    fn get(&self, key: &'static str) -> Option<Value<'a>> {
        self.asked.borrow_mut().push(key);
        self.look_up(key)
    }

    #[inline]
    fn look_up(&self, key: &str) -> Option<Value<'a>> {
        if self.there & mark(key) == 0 { None } else { self.table.get(key) }
    }

    fn wrong_type(&self, key: &str, wanted: &'static str, value: Value<'a>) {
        let got = type_name(value.get_ref());
        self.report(PlanError::WrongType { key: key.into(), wanted, got }, self.at(value.span()));
    }

    /// The text behind a key, whatever it shows; reports another type.
    fn any_text(&self, key: &'static str) -> Option<Text> {
        let value = self.get(key)?;
        let Some(text) = value.get_ref().as_str() else {
            self.wrong_type(key, "text", value);
            return None;
        };
        Some(Text::new(text.into(), self.at(value.span())))
    }

    /// Reports a character that acts instead of showing.
    fn shows(&self, key: &str, text: &Text) {
        // most texts hold nothing else
        if text.value.bytes().all(|octet| matches!(octet, b' '..=b'~')) {
            return;
        }
        if let Some(hidden) = text.value.chars().find(|c| is_hidden(*c)) {
            let error = PlanError::HiddenCharacter { key: key.into(), code: hidden.into() };
            self.report(error, text.place);
        }
    }

    /// Text or a number that must be there, as text.
    pub(crate) fn needed_scalar(&self, key: &'static str) -> Option<Text> {
        self.is_there(key).then(|| self.scalar(key)).flatten()
    }

    /// A table behind a key, or in the list behind it.
    fn inner(&self, key: &str, what: &'static str, value: Value<'a>) -> Option<Self> {
        match value.get_ref() {
            DeValue::Table(table) => {
                Some(Reader::new(self.file, table, self.at(value.span()), what, self.problems))
            }
            DeValue::String(_)
            | DeValue::Integer(_)
            | DeValue::Float(_)
            | DeValue::Boolean(_)
            | DeValue::Datetime(_)
            | DeValue::Array(_) => {
                self.wrong_type(key, "a table", value);
                None
            }
        }
    }

    fn strings(&self, key: &str, value: Value<'a>) -> Vec<Text> {
        let one = |v: Value<'a>| match v.get_ref().as_str() {
            Some(text) => {
                let text = Text::new(text.into(), self.at(v.span()));
                self.shows(key, &text);
                Some(text)
            }
            None => {
                self.wrong_type(key, "text or a list of texts", v);
                None
            }
        };
        match value.get_ref() {
            DeValue::Array(list) => list.iter().filter_map(one).collect(),
            DeValue::String(_)
            | DeValue::Integer(_)
            | DeValue::Float(_)
            | DeValue::Boolean(_)
            | DeValue::Datetime(_)
            | DeValue::Table(_) => one(value).into_iter().collect(),
        }
    }

    /// Text or a number, as text: times may be written either way.
    pub(crate) fn scalar(&self, key: &'static str) -> Option<Text> {
        let value = self.get(key)?;
        let text = scalar(value.get_ref());
        if text.is_none() {
            self.wrong_type(key, "text or a number", value);
        }
        Some(Text::new(text?, self.at(value.span())))
    }

    /// A table whose keys are names.
    pub(crate) fn named(&self, key: &'static str) -> Vec<(Text, Vec<Text>)> {
        let Some(value) = self.get(key) else { return Vec::new() };
        let Some(table) = value.get_ref().as_table() else {
            self.wrong_type(key, "a table of names", value);
            return Vec::new();
        };
        let entry = |(name, value): (&'a Spanned<std::borrow::Cow<'a, str>>, Value<'a>)| {
            let text = Text::new(name.get_ref().to_string(), self.at(name.span()));
            self.shows("name", &text);
            (text, self.strings(name.get_ref(), value))
        };
        table.iter().map(entry).collect()
    }

    /// A table of settings whose keys are looked at later; a table below it is flattened to
    /// `KEY SUBKEY`.
    pub(crate) fn settings(&self, key: &'static str) -> Option<Vec<Setting>> {
        let value = self.get(key)?;
        let table = value.get_ref().as_table()?;
        let mut settings = Vec::new();
        for (name, value) in table.iter() {
            match value.get_ref().as_table() {
                Some(below) => {
                    for (sub, value) in below.iter() {
                        let full = format!("{} {}", name.get_ref(), sub.get_ref());
                        settings.push(self.setting(full, sub.span(), value));
                    }
                }
                None => settings.push(self.setting(name.get_ref().to_string(), name.span(), value)),
            }
        }
        Some(settings)
    }

    fn setting(&self, key: String, span: Range<usize>, value: Value<'a>) -> Setting {
        let one = |v: Value<'a>| {
            let text = scalar(v.get_ref());
            if text.is_none() {
                self.wrong_type(&key, "text or a number", v);
            }
            Some(Text::new(text?, self.at(v.span())))
        };
        let values = match value.get_ref() {
            DeValue::Array(list) => list.iter().filter_map(one).collect(),
            DeValue::String(_)
            | DeValue::Integer(_)
            | DeValue::Float(_)
            | DeValue::Boolean(_)
            | DeValue::Datetime(_)
            | DeValue::Table(_) => one(value).into_iter().collect(),
        };
        Setting { key: Text::new(key, self.at(span)), values }
    }

    /// Whether a key holds a table.
    pub(crate) fn is_table(&self, key: &'static str) -> bool {
        self.look_up(key).is_some_and(|v| v.get_ref().is_table())
    }
}

impl<'a> Keys for Reader<'a> {
    fn place(&self) -> Place {
        self.place
    }

    fn has(&self, key: &'static str) -> bool {
        self.look_up(key).is_some()
    }

    fn report_missing(&self, key: &'static str) {
        self.asked.borrow_mut().push(key);
        let name = self.look_up("name").and_then(|n| n.get_ref().as_str());
        let table = name.map_or(self.what.into(), |n| format!("{} `{n}`", self.what));
        self.report(PlanError::MissingKey { key, table }, self.place);
    }

    fn text(&self, key: &'static str) -> Option<Text> {
        let text = self.any_text(key)?;
        self.shows(key, &text);
        Some(text)
    }

    fn prose(&self, key: &'static str) -> Option<Text> {
        let text = self.any_text(key)?;
        self.shows(key, &Text::new(text.value.replace(['\n', '\t', '\r'], " "), text.place));
        Some(text)
    }

    fn texts(&self, key: &'static str) -> Option<Vec<Text>> {
        let value = self.get(key)?;
        Some(self.strings(key, value))
    }

    fn flag(&self, key: &'static str) -> Option<Placed<bool>> {
        let value = self.get(key)?;
        let flag = value.get_ref().as_bool();
        if flag.is_none() {
            self.wrong_type(key, "true or false", value);
        }
        Some(Placed::new(flag?, self.at(value.span())))
    }

    fn text_or_flag(&self, key: &'static str) -> Option<Text> {
        let value = self.look_up(key)?;
        match value.get_ref().as_bool() {
            Some(flag) => {
                self.asked.borrow_mut().push(key);
                Some(Text::new(flag.to_string(), self.at(value.span())))
            }
            None => self.text(key),
        }
    }

    fn number(&self, key: &'static str) -> Option<Placed<i64>> {
        let value = self.get(key)?;
        let number = value
            .get_ref()
            .as_integer()
            .and_then(|n| i64::from_str_radix(n.as_str(), n.radix()).ok());
        if number.is_none() {
            self.wrong_type(key, "a whole number", value);
        }
        Some(Placed::new(number?, self.at(value.span())))
    }

    fn tables(&self, key: &'static str, what: &'static str) -> Vec<Self> {
        let Some(value) = self.get(key) else { return Vec::new() };
        let one = |v: Value<'a>| self.inner(key, what, v);
        match value.get_ref() {
            DeValue::Array(list) => list.iter().filter_map(one).collect(),
            DeValue::String(_)
            | DeValue::Integer(_)
            | DeValue::Float(_)
            | DeValue::Boolean(_)
            | DeValue::Datetime(_)
            | DeValue::Table(_) => one(value).into_iter().collect(),
        }
    }

    fn finish(self) {
        let asked = self.asked.borrow();
        for (key, _) in self.table.iter().filter(|(k, _)| !asked.contains(&k.get_ref().as_ref())) {
            let name = key.get_ref();
            let near = self.problems.borrow().nearest(name, asked.iter().copied());
            let error = PlanError::UnknownKey { key: name.to_string(), table: self.what, near };
            self.report(error, self.at(key.span()));
        }
    }
}

fn scalar(value: &DeValue<'_>) -> Option<String> {
    match value {
        DeValue::String(text) => Some(text.to_string()),
        DeValue::Integer(n) => Some(i64::from_str_radix(n.as_str(), n.radix()).ok()?.to_string()),
        DeValue::Float(f) => Some(f.as_str().to_string()),
        DeValue::Boolean(b) => Some(b.to_string()),
        DeValue::Datetime(d) => Some(d.to_string()),
        DeValue::Array(_) | DeValue::Table(_) => None,
    }
}

fn type_name(value: &DeValue<'_>) -> &'static str {
    match value {
        DeValue::String(_) => "text",
        DeValue::Integer(_) => "a whole number",
        DeValue::Float(_) => "a number",
        DeValue::Boolean(_) => "true or false",
        DeValue::Datetime(_) => "a date",
        DeValue::Array(_) => "a list",
        DeValue::Table(_) => "a table",
    }
}

/// Parses a TOML file, and gives its problems in the order of their places, the first of each run
/// of followers only: after an unclosed bracket every line would be another. A text with more
/// values than are taken is not parsed at all.
pub(crate) fn parse<'a>(file: u16, text: &'a str, problems: &Collected) -> Spanned<DeTable<'a>> {
    // a value takes an octet at least
    if text.len() > limits::VALUES && values(text) > limits::VALUES {
        let error = PlanError::TooMany { what: "values in a file", most: limits::VALUES };
        problems.borrow_mut().push(Problem::new(error, place(file, 0..0)));
        return Spanned::new(0..0, DeTable::new());
    }
    let (table, errors) = DeTable::parse_recoverable(text);
    let mut errors: Vec<_> =
        errors.iter().map(|e| (e.span().unwrap_or(0..0), e.message())).collect();
    errors.sort_by_key(|e| e.0.start);
    let (mut counted, mut line): (usize, usize) = (0, 0);
    let mut last: Option<usize> = None;
    for (span, message) in errors {
        let start = span.start.clamp(counted, text.len());
        line += memchr::memchr_iter(b'\n', &text.as_bytes()[counted..start]).count();
        counted = start;
        if last.is_none_or(|l| line > l + 1) {
            let error = PlanError::Syntax(message.trim().replace('\n', ", "));
            problems.borrow_mut().push(Problem::new(error, place(file, span)));
        }
        last = Some(line);
    }
    table
}

/// At least as many values as a text holds: each has a sign of its own that separates it from
/// others, or that it opens with.
fn values(text: &str) -> usize {
    let text = text.as_bytes();
    // a point may separate the names of tables, a line end may end a comment
    memchr::memchr3_iter(b',', b'=', b'[', text).count()
        + memchr::memchr2_iter(b'{', b'.', text).count() / 2
        + memchr::memchr_iter(b'\n', text).count() / 4
}
