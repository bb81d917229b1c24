//! Names of rules, each with a number.

use std::collections::HashMap;

use foldhash::fast::RandomState;
use zarnet_formats::nat_log::{LogNames, Name};

/// Numbers of rules.
#[derive(Default)]
pub(super) struct Rules {
    pub names: Vec<String>,
    by_text: HashMap<String, u16, RandomState>,
    /// By the position of the name in the log that is read.
    by_name: HashMap<Name, u16, RandomState>,
    last: Option<(Name, u16)>,
    /// Whether some came that are not written yet.
    pub has_new: bool,
}

/// No store has more; all others are one.
const MOST_RULES: usize = u16::MAX as usize - 1;
const OTHER_RULES: &str = "(other)";

impl Rules {
    pub(super) fn new(names: Vec<String>) -> Self {
        let numbered = names.iter().enumerate();
        let by_text = numbered.map(|(number, name)| (name.clone(), number as u16)).collect();
        Self { names, by_text, ..Self::default() }
    }

    #[inline]
    pub(super) fn number(&mut self, name: Name, names: &LogNames) -> u16 {
        match self.last {
            Some((known, number)) if known == name => number,
            _ => {
                let number = self.look_up(name, names);
                self.last = Some((name, number));
                number
            }
        }
    }

    fn look_up(&mut self, name: Name, names: &LogNames) -> u16 {
        if let Some(number) = self.by_name.get(&name) {
            return *number;
        }
        let full = self.names.len() >= MOST_RULES;
        let text = names.get(name);
        let text = if full && !self.by_text.contains_key(text) { OTHER_RULES } else { text };
        let number = *self.by_text.entry(text.to_owned()).or_insert_with(|| {
            self.names.push(text.to_owned());
            self.has_new = true;
            (self.names.len() - 1) as u16
        });
        self.by_name.insert(name, number);
        number
    }
}
