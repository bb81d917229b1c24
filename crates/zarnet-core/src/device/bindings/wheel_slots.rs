//! The slots of a timer wheel, level by level.

/// Slots of a level.
pub(super) const SLOTS: u64 = 1 << SLOT_BITS;
/// As a power of two.
pub(super) const SLOT_BITS: u32 = 13;

/// Entries of one slot, or of a part of it.
#[derive(Debug, Clone, Copy)]
struct Piece {
    entries: [u32; PIECE],
    /// The piece that was filled before this one.
    before: u32,
}

/// Entries of a piece: with its link, four lines of a cache.
const PIECE: usize = 63;
/// No piece.
const NO_PIECE: u32 = u32::MAX;

/// The last piece of a slot, and how much of it is filled.
#[derive(Debug, Clone, Copy)]
struct Slot {
    last: u32,
    filled: u32,
}

/// The slots' entries, in pieces that are used again: growing moves nothing, and nothing is left
/// unused but half a piece a slot.
#[derive(Debug, Clone, Default)]
pub(super) struct Pieces {
    pieces: Vec<Piece>,
    free: Vec<u32>,
}

impl Pieces {
    #[inline(always)]
    fn push(&mut self, slot: &mut Slot, id: u32) {
        if slot.last == NO_PIECE || slot.filled as usize == PIECE {
            let piece = Piece { entries: [0; PIECE], before: slot.last };
            slot.last = match self.free.pop() {
                Some(place) => {
                    self.pieces[place as usize] = piece;
                    place
                }
                None => {
                    self.pieces.push(piece);
                    self.pieces.len() as u32 - 1
                }
            };
            slot.filled = 0;
        }
        self.pieces[slot.last as usize].entries[slot.filled as usize] = id;
        slot.filled += 1;
    }

    /// Moves the entries of a slot over.
    fn drain(&mut self, slot: Slot, into: &mut Vec<u32>) {
        let (mut at, mut filled) = (slot.last, slot.filled as usize);
        while at != NO_PIECE {
            let piece = &self.pieces[at as usize];
            into.extend_from_slice(&piece.entries[..filled]);
            self.free.push(at);
            (at, filled) = (piece.before, PIECE);
        }
    }
}

/// The slots of one level.
#[derive(Debug, Clone, Default)]
pub(super) struct Level {
    /// Empty until the first entry is filed here.
    slots: Vec<Slot>,
    /// A bit for every slot that holds something.
    occupied: Vec<u64>,
    /// Entries in all slots.
    filed: usize,
}

impl Level {
    /// Adds entries to their slots.
    #[inline]
    pub(super) fn push_all(&mut self, pieces: &mut Pieces, entries: &[(u16, u32)]) {
        if self.slots.is_empty() && !entries.is_empty() {
            self.slots = vec![Slot { last: NO_PIECE, filled: 0 }; SLOTS as usize];
            self.occupied = vec![0; SLOTS as usize / 64];
        }
        for &(slot, id) in entries {
            let slot = usize::from(slot);
            let place = &mut self.slots[slot];
            if place.last == NO_PIECE {
                self.occupied[slot / 64] |= 1 << (slot % 64);
            }
            pieces.push(place, id);
        }
        self.filed += entries.len();
    }

    /// Reads where the next entry of a slot will stand.
    #[inline(always)]
    pub(super) fn touch(&self, pieces: &Pieces, slot: usize) -> u32 {
        let Some(slot) = self.slots.get(slot) else { return 0 };
        let piece = pieces.pieces.get(slot.last as usize);
        piece.map_or(0, |p| p.entries[slot.filled as usize % PIECE])
    }

    pub(super) fn drain(&mut self, pieces: &mut Pieces, slot: usize, into: &mut Vec<u32>) {
        if self.filed == 0 || self.occupied[slot / 64] >> (slot % 64) & 1 == 0 {
            return;
        }
        let before = into.len();
        pieces.drain(
            std::mem::replace(&mut self.slots[slot], Slot { last: NO_PIECE, filled: 0 }),
            into,
        );
        self.occupied[slot / 64] &= !(1 << (slot % 64));
        self.filed -= into.len() - before;
    }

    /// How many slots after `slot` the next one that holds something comes, going round once.
    pub(super) fn next_after(&self, slot: u64) -> Option<u64> {
        if self.filed == 0 {
            return None;
        }
        let first = (slot + 1) % SLOTS;
        let words = self.occupied.len() as u64;
        // the word that the search begins in is looked at twice: its upper bits first, its lower
        // ones last
        for step in 0..=words {
            let word = (first / 64 + step) % words;
            let bits = self.occupied[word as usize];
            let bits = match step {
                0 => bits & u64::MAX << (first % 64),
                s if s == words => bits & !(u64::MAX << (first % 64)),
                _ => bits,
            };
            if bits != 0 {
                let found = word * 64 + u64::from(bits.trailing_zeros());
                return Some((found + SLOTS - first) % SLOTS + 1);
            }
        }
        None
    }
}
