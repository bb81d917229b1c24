//! The list of what is wrong with a plan, and hints of what was meant.

use super::{Place, PlanError, Problem};
use crate::limits;

/// What is wrong with a plan: the first [`limits::PROBLEMS`] that were found are kept, further ones
/// are counted.
#[derive(Debug, Clone, Default)]
pub struct Problems {
    kept: Vec<Problem>,
    more: usize,
}

impl Problems {
    /// Adds a problem, or only counts it beyond the limit.
    pub fn push(&mut self, problem: Problem) {
        if self.kept.len() < limits::PROBLEMS { self.kept.push(problem) } else { self.more += 1 }
    }

    /// Adds the problems of another list.
    pub fn append(&mut self, others: Self) {
        self.more += others.more;
        others.kept.into_iter().for_each(|p| self.push(p));
    }

    /// Number of problems found, kept or not.
    pub fn count(&self) -> usize {
        self.kept.len() + self.more
    }

    /// Whether nothing is wrong.
    pub fn is_empty(&self) -> bool {
        self.count() == 0
    }

    /// Whether no further problem is kept: what only adds to the list may stop.
    pub fn is_full(&self) -> bool {
        self.kept.len() >= limits::PROBLEMS
    }

    /// The problems that are kept.
    pub fn kept(&self) -> &[Problem] {
        &self.kept
    }

    /// The error that was added last, to be put more exactly.
    pub(super) fn last_error_mut(&mut self) -> Option<&mut PlanError> {
        self.kept.last_mut().filter(|_| self.more == 0).map(|p| &mut p.error)
    }

    /// Keeps only some of the problems.
    pub fn retain(&mut self, keep: impl FnMut(&Problem) -> bool) {
        self.kept.retain(keep);
    }

    /// Puts the problems in the order of their places, each once.
    pub fn sort(&mut self) {
        self.kept.sort_by_key(|p| p.place);
        self.kept.dedup();
    }

    /// The nearest of some names, as [`nearest`] finds it, while hints are still looked for: nobody
    /// reads a hundred.
    pub fn nearest<'a>(
        &self,
        wanted: &str,
        names: impl Iterator<Item = &'a str>,
    ) -> Option<String> {
        (self.count() < limits::PROBLEMS_SHOWN).then(|| nearest(wanted, names)).flatten()
    }

    /// Reports that there is more of something than there may be, at the first that is too much.
    pub(super) fn limit(
        &mut self,
        what: &'static str,
        most: usize,
        mut places: impl Iterator<Item = Place>,
    ) -> bool {
        let beyond = places.nth(most);
        if let Some(place) = beyond {
            self.push(Problem::new(PlanError::TooMany { what, most }, place));
        }
        beyond.is_none()
    }
}

impl From<Problem> for Problems {
    fn from(problem: Problem) -> Self {
        Self { kept: vec![problem], more: 0 }
    }
}

/// The candidate that differs least from `wanted`, if it is near enough to be a slip. Of a very
/// long name, and among very many ([`limits::NAME_TRIED`], [`limits::CANDIDATES`]), none is looked
/// for.
pub fn nearest<'a>(wanted: &str, candidates: impl Iterator<Item = &'a str>) -> Option<String> {
    let length = wanted.chars().count();
    if length > limits::NAME_TRIED {
        return None;
    }
    let most = 1 + length / 3;
    let mut best: Option<(usize, &str)> = None;
    for (tried, candidate) in candidates.enumerate() {
        if tried >= limits::CANDIDATES {
            return None;
        }
        // what was cut short is near, however much is missing
        if length > 2 && candidate.starts_with(wanted) && best.is_none_or(|b| b.0 > 1) {
            best = Some((1, candidate));
            continue;
        }
        // what is much longer or shorter differs by that at least
        if candidate.chars().take(length + most + 1).count().abs_diff(length) > most {
            continue;
        }
        let found = (strsim::damerau_levenshtein(wanted, candidate), candidate);
        // names may come in any order: of equally near ones, always the same is told
        if found.0 <= most && best.is_none_or(|b| found < b) {
            best = Some(found);
        }
    }
    best.map(|b| b.1.to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_slip_finds_its_name_in_any_order() {
        let names = ["kiosks", "offices", "kiosk-3", "kiosk-4"];
        assert_eq!(
            nearest("kiosk-5", names.into_iter()),
            nearest("kiosk-5", names.into_iter().rev())
        );
        assert_eq!(nearest("ofices", names.into_iter()).as_deref(), Some("offices"));
        assert_eq!(nearest("something else", names.into_iter()), None);
        assert_eq!(
            nearest("proto", ["device", "protocol"].into_iter()).as_deref(),
            Some("protocol")
        );
    }

    #[test]
    fn hints_are_not_looked_for_where_that_takes_long() {
        let long = "a".repeat(limits::NAME_TRIED + 1);
        assert_eq!(nearest(&long, [long.as_str()].into_iter()), None);
        let many = vec!["kiosks"; limits::CANDIDATES + 1];
        assert_eq!(nearest("kiosk", many.into_iter()), None);
    }

    #[test]
    fn a_flood_of_problems_is_counted_and_not_kept() {
        let mut problems = Problems::default();
        for n in 0..limits::PROBLEMS as u32 + 500 {
            let place = Place { file: 0, start: n, end: n };
            problems.push(Problem::new(PlanError::AcceptOrDrop, place));
        }
        assert_eq!(
            (problems.kept().len(), problems.count()),
            (limits::PROBLEMS, limits::PROBLEMS + 500)
        );
        assert!(problems.is_full());
    }
}
