//! What a reader of some file format gives of one table.

use crate::plan::{Place, Placed};

/// A table as it is read: each key is asked for once, and a wrong type is reported where it stands.
pub trait Keys: Sized {
    /// Where the table begins.
    fn place(&self) -> Place;

    /// Whether a key is there.
    fn has(&self, key: &'static str) -> bool;

    /// Reports that a key which the table needs is missing.
    fn report_missing(&self, key: &'static str);

    /// The text behind a key.
    fn text(&self, key: &'static str) -> Option<Placed<String>>;

    /// Text for people, which may have several lines.
    fn prose(&self, key: &'static str) -> Option<Placed<String>>;

    /// Text, or a list of texts.
    fn texts(&self, key: &'static str) -> Option<Vec<Placed<String>>>;

    /// `true` or `false`.
    fn flag(&self, key: &'static str) -> Option<Placed<bool>>;

    /// Text, or `true` or `false` as text.
    fn text_or_flag(&self, key: &'static str) -> Option<Placed<String>>;

    /// A whole number.
    fn number(&self, key: &'static str) -> Option<Placed<i64>>;

    /// A list of tables, or one written inline; `what` one of them is, for messages.
    fn tables(&self, key: &'static str, what: &'static str) -> Vec<Self>;

    /// Reports every key that nobody asked for.
    fn finish(self);

    /// Text that must be there.
    fn needed(&self, key: &'static str) -> Option<Placed<String>> {
        self.is_there(key).then(|| self.text(key)).flatten()
    }

    /// Text or a list that must be there; empty where it is not.
    fn needed_texts(&self, key: &'static str) -> Vec<Placed<String>> {
        self.is_there(key).then(|| self.texts(key)).flatten().unwrap_or_default()
    }

    /// A flag, or what counts where it is left out.
    fn flag_or(&self, key: &'static str, default: bool) -> Placed<bool> {
        self.flag(key).unwrap_or(Placed::new(default, self.place()))
    }

    /// Whether a key is there; that it is not is reported.
    fn is_there(&self, key: &'static str) -> bool {
        let there = self.has(key);
        if !there {
            self.report_missing(key);
        }
        there
    }
}
