//! The diagram of a decision, found by cutting packets wherever a condition changes and asking
//! about one of each piece.

use std::collections::HashMap;

use foldhash::fast::RandomState;
use rand_chacha::ChaCha12Rng;
use rand_chacha::rand_core::{Rng, SeedableRng};

use super::conditions::{Conditions, Constraint};
use super::diagram::{Diagram, Nodes, Part};
use super::steps::Steps;
use super::{Field, Point};

/// What is asked about: a packet, and which conditions it meets.
pub struct Cuts<'a> {
    /// One packet of the piece; all of it meet the same conditions.
    pub point: Point,
    /// The conditions that it meets, by position.
    pub met: &'a [u32],
}

/// What asking a device about one packet counts for, in steps.
const ASKED: usize = 400;

/// The diagram of `answer`, which must give one number to all packets that meet the same of some
/// conditions, 0 to those outside of their scope; `None` if it takes more steps than there are.
pub fn decide(
    conditions: &Conditions,
    steps: &mut Steps,
    answer: impl FnMut(Cuts<'_>) -> u32,
) -> Option<Diagram> {
    let constraints = &conditions.list[..];
    // sets of conditions are told apart by the exclusive or of a random number for each: 128 bits
    // make two that meet by chance less likely than a fault of the machine
    let mut random = ChaCha12Rng::seed_from_u64(0x5a17_3e2e);
    let mut draw = || u128::from(random.next_u64()) << 64 | u128::from(random.next_u64());
    let marks: Vec<u128> = constraints.iter().map(|_| draw()).collect();
    let mut cutter = Cutter {
        constraints,
        scoped: conditions.is_scoped(),
        marks,
        answer,
        steps,
        nodes: Nodes::default(),
        known: HashMap::default(),
    };
    let all: Vec<u32> = (0..constraints.len() as u32).collect();
    let root = cutter.part(0, &all, &mut [0; 5])?;
    Some(Diagram::new(cutter.nodes, root))
}

/// Numbers of a field that meet the same conditions.
struct Piece {
    met: Vec<u32>,
    /// One of them, and whether it is one that says much to a person.
    number: u128,
    is_wished: bool,
}

/// Where an interval of a field leads: to a part that is known, or to a piece that is still to be
/// decided.
enum Way {
    To(Part),
    Open(usize),
}

/// Two ascending lists of conditions as one.
fn merged(always: &[u32], active: impl ExactSizeIterator<Item = u32>) -> Vec<u32> {
    let mut met = Vec::with_capacity(always.len() + active.len());
    let mut rest = always;
    for c in active {
        let before = rest.partition_point(|a| *a < c);
        met.extend_from_slice(&rest[..before]);
        met.push(c);
        rest = &rest[before..];
    }
    met.extend_from_slice(rest);
    met
}

/// A number of an interval that somebody might really send: all of them meet the same conditions.
fn representative(field: Field, first: u128, last: u128) -> (u128, bool) {
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

struct Cutter<'a, F> {
    constraints: &'a [Constraint],
    /// Whether nothing is asked of packets that do not meet the first.
    scoped: bool,
    marks: Vec<u128>,
    answer: F,
    steps: &'a mut Steps,
    nodes: Nodes,
    /// Parts by field and conditions that are still met.
    known: HashMap<(usize, u128), Part, RandomState>,
}

impl<F: FnMut(Cuts<'_>) -> u32> Cutter<'_, F> {
    /// The part that decides from a field on; `met`: conditions that are met so far.
    fn part(&mut self, field: usize, met: &[u32], point: &mut Point) -> Option<Part> {
        // conditions are in ascending order
        if self.scoped && met.first() != Some(&0) {
            return Some(Part::leaf(0));
        }
        let Some(&of) = Field::ALL.get(field) else {
            self.steps.take(ASKED + met.len())?;
            return Some(Part::leaf((self.answer)(Cuts { point: *point, met })));
        };
        // those that do not mind this field go on as they are
        let mut base = 0u128;
        let mut minding: Vec<(u32, &[(u128, u128)])> = Vec::new();
        let mut always: Vec<u32> = Vec::new();
        for &c in met {
            match self.constraints[c as usize].of(of) {
                None => {
                    base ^= self.marks[c as usize];
                    always.push(c);
                }
                Some(set) => minding.push((c, set.list())),
            }
        }
        let mut edges: Vec<(u128, bool, u32)> = Vec::new();
        for (c, set) in &minding {
            for (first, last) in *set {
                edges.push((*first, true, *c));
                if let Some(behind) = last.checked_add(1).filter(|b| *b <= of.most()) {
                    edges.push((behind, false, *c));
                }
            }
        }
        self.steps.take(edges.len() + met.len())?;
        edges.sort_unstable();
        let (mut here, mut active, mut i) = (base, Vec::<(u32, u32)>::new(), 0);
        let mut ways: Vec<(u128, Way)> = Vec::new();
        let mut pieces: Vec<(u128, Piece)> = Vec::new();
        let mut places = HashMap::<u128, usize, RandomState>::default();
        let mut start = 0u128;
        loop {
            while i < edges.len() && edges[i].0 == start {
                let (_, begins, c) = edges[i];
                match active.binary_search_by_key(&c, |a| a.0) {
                    Ok(at) if begins => active[at].1 += 1,
                    Ok(at) if active[at].1 > 1 => active[at].1 -= 1,
                    Ok(at) => {
                        active.remove(at);
                    }
                    Err(at) => active.insert(at, (c, 1)),
                }
                here ^= self.marks[c as usize];
                i += 1;
            }
            let last = edges.get(i).map_or(of.most(), |e| e.0 - 1);
            let way = match self.known.get(&(field, here)) {
                Some(part) => Way::To(*part),
                None => {
                    let (number, is_wished) = representative(of, start, last);
                    let at = *places.entry(here).or_insert(pieces.len());
                    match pieces.get_mut(at) {
                        None => {
                            self.steps.take(always.len() + active.len())?;
                            let met = merged(&always, active.iter().map(|a| a.0));
                            pieces.push((here, Piece { met, number, is_wished }));
                        }
                        Some((_, piece)) if is_wished && !piece.is_wished => {
                            (piece.number, piece.is_wished) = (number, true)
                        }
                        Some(_) => {}
                    }
                    Way::Open(at)
                }
            };
            ways.push((last, way));
            if i >= edges.len() {
                break;
            }
            start = last + 1;
        }
        let mut parts: Vec<Part> = Vec::with_capacity(pieces.len());
        for (key, piece) in pieces {
            point[field] = piece.number;
            let part = self.part(field + 1, &piece.met, point)?;
            self.known.insert((field, key), part);
            parts.push(part);
        }
        let ways = ways.into_iter().map(|(last, way)| match way {
            Way::To(part) => (last, part),
            Way::Open(at) => (last, parts[at]),
        });
        Some(self.nodes.node(field, ways))
    }
}
