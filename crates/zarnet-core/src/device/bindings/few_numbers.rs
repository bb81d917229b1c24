//! A short list of what is known by a number, as blocks are: most hosts have one.

/// Some numbers, in ascending order.
#[derive(Debug, Clone)]
pub(super) struct FewNumbers<T> {
    first: Option<T>,
    #[expect(
        clippy::box_collection,
        reason = "nearly always none: eight octets, where a list takes twenty-four"
    )]
    more: Option<Box<Vec<T>>>,
}

impl<T> Default for FewNumbers<T> {
    fn default() -> Self {
        Self { first: None, more: None }
    }
}

impl<T: Copy + Ord> FewNumbers<T> {
    pub(super) fn is_empty(&self) -> bool {
        self.first.is_none()
    }

    /// All of them.
    pub(super) fn iter(&self) -> impl Iterator<Item = T> + '_ {
        self.first.into_iter().chain(self.more.iter().flat_map(|more| more.iter().copied()))
    }

    pub(super) fn add(&mut self, number: T) {
        let Some(first) = self.first else {
            self.first = Some(number);
            return;
        };
        let later = number.max(first);
        self.first = Some(number.min(first));
        let more = self.more.get_or_insert_default();
        more.insert(more.partition_point(|n| *n < later), later);
    }

    pub(super) fn remove(&mut self, number: T) {
        if self.first == Some(number) {
            self.first = self.more.as_mut().map(|more| more.remove(0));
        } else if let Some(more) = &mut self.more {
            more.retain(|n| *n != number);
        }
        self.more.take_if(|more| more.is_empty());
    }
}
