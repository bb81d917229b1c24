//! Names of devices, rules and pools, each kept once.

use std::collections::HashMap;
use std::sync::Arc;

/// A name by its position in [`LogNames`].
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Name(pub u32);

/// Names by their positions, and positions by their names.
#[derive(Debug, Clone, Default)]
pub struct LogNames {
    list: Vec<Arc<str>>,
    known: HashMap<Arc<str>, u32>,
}

/// A log cannot make us keep more names than this; all others are one.
const MOST: usize = 1 << 16;
/// What names are called of which there are too many.
const OTHER: &str = "(other)";

impl LogNames {
    /// The position of a name, new if need be.
    pub fn obtain(&mut self, name: &str) -> Name {
        if let Some(known) = self.known.get(name) {
            return Name(*known);
        }
        let full = self.list.len() >= MOST;
        let name: Arc<str> = if full { OTHER } else { name }.into();
        if let Some(known) = self.known.get(&name) {
            return Name(*known);
        }
        let position = self.list.len() as u32;
        self.list.push(name.clone());
        self.known.insert(name, position);
        Name(position)
    }

    /// The name at a position.
    pub fn get(&self, name: Name) -> &str {
        self.list.get(name.0 as usize).map_or(OTHER, |name| name)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_log_cannot_fill_the_memory_with_names() {
        let mut names = LogNames::default();
        for i in 0..MOST + 10 {
            names.obtain(&i.to_string());
        }
        let (first, beyond) = (names.obtain("0"), names.obtain("never seen"));
        assert_eq!((names.get(first), names.get(beyond)), ("0", OTHER));
        assert_eq!(names.list.len(), MOST + 1);
    }
}
