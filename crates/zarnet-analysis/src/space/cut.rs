//! A field, cut wherever a condition changes.

use std::collections::HashMap;
use std::ops::Range;

use foldhash::fast::RandomState;

use super::Field;
use super::conditions::Constraint;
use super::steps::Steps;

/// Intervals of a field, and the pieces that they make up.
pub(super) struct Cut {
    /// The last number of each interval, in ascending order, and its piece.
    pub intervals: Vec<(u128, u32)>,
    /// The pieces, in the order of their first numbers.
    pub pieces: Vec<Piece>,
    /// Conditions that the pieces meet.
    met: Vec<u32>,
}

/// Numbers of a field that meet the same conditions.
pub(super) struct Piece {
    /// The conditions, as the exclusive or of their marks.
    pub key: u128,
    /// One of the numbers.
    pub number: u128,
    /// Whether it is one that says much to a person.
    is_wished: bool,
    met: Range<usize>,
}

/// A number of an interval that somebody might really send, and whether it is one that says much to
/// a person.
pub(super) fn representative(field: Field, first: u128, last: u128) -> (u128, bool) {
    let wishes: &[u128] = match field {
        Field::Protocol => &[6, 17, 1],
        Field::DestinationPort => &[443, 80, 53],
        Field::SourcePort => &[50_000],
        // of the documentation addresses (RFC 5737)
        Field::Destination => &[0xffff_c633_6450, 0xffff_c000_0250],
        Field::Source => &[0xffff_c633_644d, 0xffff_c000_024d],
    };
    let wished = wishes.iter().copied().find(|w| (first..=last).contains(w));
    // the first address of a prefix is rarely a machine's
    let second = matches!(field, Field::Destination | Field::Source) && last - first > 1;
    (wished.unwrap_or(first + u128::from(second)), wished.is_some())
}

/// Where a condition begins to be met, or is no longer met.
type Edge = (u128, bool, u32);

impl Cut {
    /// Cuts a field by conditions that mind it, by position among all; `None` if that takes more
    /// steps than there are.
    pub(super) fn new(
        field: Field,
        minding: impl Iterator<Item = u32>,
        constraints: &[Constraint],
        marks: &[u128],
        steps: &mut Steps,
    ) -> Option<Self> {
        let mut edges: Vec<Edge> = Vec::new();
        for c in minding {
            for (first, last) in
                constraints[c as usize].of(field).into_iter().flat_map(|s| s.list())
            {
                edges.push((*first, true, c));
                if let Some(behind) = last.checked_add(1).filter(|b| *b <= field.most()) {
                    edges.push((behind, false, c));
                }
            }
        }
        steps.take(edges.len())?;
        // conditions come mostly in the order of their numbers: such runs are merged, not sorted
        edges.sort();
        let mut cut = Self { intervals: Vec::new(), pieces: Vec::new(), met: Vec::new() };
        let mut places = HashMap::<u128, u32, RandomState>::default();
        let (mut here, mut active, mut i, mut start) = (0, Vec::<(u32, u32)>::new(), 0, 0);
        loop {
            let turning = edges[i..].iter().take_while(|e| e.0 == start).count();
            let turning = &edges[i..i + turning];
            here = turning.iter().fold(here, |key, e| key ^ marks[e.2 as usize]);
            turn(&mut active, turning);
            i += turning.len();
            let last = edges.get(i).map_or(field.most(), |e| e.0 - 1);
            let (number, is_wished) = representative(field, start, last);
            let at = *places.entry(here).or_insert(cut.pieces.len() as u32);
            match cut.pieces.get_mut(at as usize) {
                None => {
                    steps.take(active.len())?;
                    let from = cut.met.len();
                    cut.met.extend(active.iter().map(|a| a.0));
                    let met = from..cut.met.len();
                    cut.pieces.push(Piece { key: here, number, is_wished, met });
                }
                Some(piece) if is_wished && !piece.is_wished => {
                    (piece.number, piece.is_wished) = (number, true)
                }
                Some(_) => {}
            }
            cut.intervals.push((last, at));
            if i >= edges.len() {
                return Some(cut);
            }
            start = last + 1;
        }
    }

    /// The conditions that a piece meets, in ascending order.
    pub(super) fn met(&self, piece: &Piece) -> &[u32] {
        &self.met[piece.met.clone()]
    }

    /// How much it holds.
    pub(super) fn size(&self) -> usize {
        self.intervals.len() + self.pieces.len() + self.met.len()
    }
}

/// Notes that conditions begin to be met, or are no longer met: intervals of one may touch, so that
/// how often is counted.
fn turn(active: &mut Vec<(u32, u32)>, edges: &[Edge]) {
    /// With more at once, the list is made anew: to move what lies behind each would take longer.
    const FEW: usize = 8;
    if edges.len() > FEW {
        let counted = |(_, begins, c): &Edge| (*c, if *begins { 1 } else { u32::MAX });
        active.extend(edges.iter().map(counted));
        active.sort_unstable_by_key(|a| a.0);
        active.dedup_by(|next, kept| {
            let same = next.0 == kept.0;
            kept.1 = if same { kept.1.wrapping_add(next.1) } else { kept.1 };
            same
        });
        return active.retain(|a| a.1 > 0);
    }
    for &(_, begins, c) in edges {
        match active.binary_search_by_key(&c, |a| a.0) {
            Ok(at) if begins => active[at].1 += 1,
            Ok(at) if active[at].1 > 1 => active[at].1 -= 1,
            Ok(at) => {
                active.remove(at);
            }
            Err(at) => active.insert(at, (c, 1)),
        }
    }
}
