//! A short list of ports or blocks: most hosts have one.

/// Some numbers, in ascending order.
#[derive(Debug, Clone)]
pub(super) struct FewNumbers<T> {
    first: T,
    more: Vec<T>,
}

impl<T: Copy + Ord> FewNumbers<T> {
    /// One alone.
    pub(super) fn of(number: T) -> Self {
        Self { first: number, more: Vec::new() }
    }

    /// All of them.
    pub(super) fn iter(&self) -> impl Iterator<Item = T> + '_ {
        std::iter::once(self.first).chain(self.more.iter().copied())
    }

    pub(super) fn add(&mut self, number: T) {
        let later = number.max(self.first);
        self.first = number.min(self.first);
        self.more.insert(self.more.partition_point(|n| *n < later), later);
    }

    /// Takes one out, and tells whether none is left.
    pub(super) fn remove(&mut self, number: T) -> bool {
        if self.first != number {
            self.more.retain(|n| *n != number);
        } else if self.more.is_empty() {
            return true;
        } else {
            self.first = self.more.remove(0);
        }
        false
    }
}
