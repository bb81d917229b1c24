//! Places for many small things, in pieces that never move: growing copies nothing, and a place is
//! one line of a cache.

/// No place: no mapping, no next session.
pub(in crate::device) const NONE: u32 = u32::MAX;

/// So many places a piece.
const PIECE: usize = 1 << 12;

/// An arena of places, numbered from 0.
#[derive(Debug, Clone)]
pub(super) struct Arena<T> {
    /// Each has room for [`PIECE`] places from the beginning.
    pieces: Vec<Vec<T>>,
    len: u32,
}

impl<T: Copy> Arena<T> {
    pub(super) const fn new() -> Self {
        Self { pieces: Vec::new(), len: 0 }
    }

    pub(super) fn len(&self) -> u32 {
        self.len
    }

    /// Adds a value, and gives its place.
    #[inline]
    pub(super) fn push(&mut self, value: T) -> u32 {
        let id = self.len;
        if (id as usize).is_multiple_of(PIECE) {
            self.pieces.push(Vec::with_capacity(PIECE));
        }
        self.pieces[id as usize / PIECE].push(value);
        self.len += 1;
        id
    }
}

impl<T> std::ops::Index<u32> for Arena<T> {
    type Output = T;

    #[inline(always)]
    fn index(&self, id: u32) -> &T {
        &self.pieces[id as usize / PIECE][id as usize % PIECE]
    }
}

impl<T> std::ops::IndexMut<u32> for Arena<T> {
    #[inline(always)]
    fn index_mut(&mut self, id: u32) -> &mut T {
        &mut self.pieces[id as usize / PIECE][id as usize % PIECE]
    }
}
