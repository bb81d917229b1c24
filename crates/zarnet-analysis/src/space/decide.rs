//! The diagram of a decision, found by cutting packets wherever a condition changes and asking
//! about one of each piece.

use std::collections::HashMap;
use std::ops::Range;
use std::rc::Rc;

use foldhash::fast::RandomState;
use rand_chacha::ChaCha12Rng;
use rand_chacha::rand_core::{Rng, SeedableRng};

use super::conditions::{Conditions, Constraint};
use super::cut::{Cut, representative};
use super::diagram::{Diagram, Nodes, Part};
use super::regions::{Held, Regions};
use super::steps::Steps;
use super::{Field, Point, is_ipv4};

/// What asking a device about one packet counts for, in steps.
const ASKED: usize = 400;
/// So many intervals and conditions of fields that were cut are kept.
const KEPT: usize = 1 << 20;
/// So many of the last answers are kept.
const RECENT: usize = 1 << 12;

/// The diagram of `answer`, which must give one number to all packets that meet the same of those
/// conditions that matter to them, 0 to those outside of their scope and to those between two
/// families, which there are not; `None` if it takes more steps than there are. It is asked about
/// one packet of each piece.
pub fn decide(
    conditions: &Conditions,
    steps: &mut Steps,
    answer: impl FnMut(Point) -> u32,
) -> Option<Diagram> {
    let constraints = &conditions.list[..];
    // sets of conditions are told apart by the exclusive or of a random number for each: 128 bits
    // make two that meet by chance less likely than a fault of the machine
    let mut random = ChaCha12Rng::seed_from_u64(0x5a17_3e2e);
    let mut draw = || u128::from(random.next_u64()) << 64 | u128::from(random.next_u64());
    let marks: Vec<u128> = constraints.iter().map(|_| draw()).collect();
    let mut cutter = Cutter {
        constraints,
        minds: constraints.iter().map(minds).collect(),
        scoped: conditions.is_scoped(),
        regions: conditions.regions(),
        marks,
        answer,
        steps,
        nodes: Nodes::default(),
        cuts: HashMap::default(),
        kept: 0,
        known: HashMap::default(),
        recent: vec![None; RECENT],
        parts: Vec::new(),
        met: (0..constraints.len() as u32).collect(),
    };
    let root = cutter.part(0, 0..constraints.len(), &mut [0; 5])?;
    Some(Diagram::new(cutter.nodes, root))
}

/// A bit for each field that a condition minds.
fn minds(constraint: &Constraint) -> u8 {
    let bit = |(i, field): (usize, &Field)| u8::from(constraint.of(*field).is_some()) << i;
    Field::ALL.iter().enumerate().map(bit).sum()
}

/// Whether a sender that was just decided on is of another family than the receiver.
fn is_mixed(field: usize, point: &Point) -> bool {
    let [receiver, sender] = [Field::Destination, Field::Source].map(|end| point[end as usize]);
    field == Field::Source as usize && is_ipv4(receiver) != is_ipv4(sender)
}

/// The first field: where conditions matter depends on it.
const RECEIVERS: usize = Field::Destination as usize;

/// The last field: what comes of it is asked, and not cut any further.
const LAST: usize = Field::ALL.len() - 1;

struct Cutter<'a, F> {
    constraints: &'a [Constraint],
    minds: Vec<u8>,
    /// Whether nothing is asked of packets that do not meet the first.
    scoped: bool,
    regions: &'a Regions,
    marks: Vec<u128>,
    answer: F,
    steps: &'a mut Steps,
    nodes: Nodes,
    /// Fields that were cut, by the conditions that mind them: many parts are cut alike.
    cuts: HashMap<(usize, u128), Rc<Cut>, RandomState>,
    /// What they hold.
    kept: usize,
    /// Parts by field and conditions that are still met.
    known: HashMap<(usize, u128), Part, RandomState>,
    /// Of the last field the last few, for there are too many.
    recent: Vec<Option<(u128, Part)>>,
    /// Parts that the fields being decided lead to.
    parts: Vec<Part>,
    /// Conditions that are met on the way to the field being decided, list behind list, each in
    /// ascending order.
    met: Vec<u32>,
}

impl<F: FnMut(Point) -> u32> Cutter<'_, F> {
    /// The part that decides from a field on; `met`: where the conditions stand that are met so
    /// far.
    fn part(&mut self, field: usize, met: Range<usize>, point: &mut Point) -> Option<Part> {
        self.steps.take(met.len())?;
        let end = self.met.len();
        // those that do not mind this field go on as they are
        let (mut base, mut minded) = (0u128, 0u128);
        for at in met.clone() {
            let c = self.met[at];
            if self.minds(c, field) {
                minded ^= self.marks[c as usize];
            } else {
                base ^= self.marks[c as usize];
                self.met.push(c);
            }
        }
        let always = end..self.met.len();
        let part = if minded == 0 {
            point[field] = representative(Field::ALL[field], 0, Field::ALL[field].most()).0;
            self.piece(field, base, (always, &[]), point)
        } else {
            let cut = self.cut(field, minded, met)?;
            self.pieces(field, (base, always), &cut, point)
        };
        self.met.truncate(end);
        part
    }

    /// The part that a field leads to that is cut into pieces.
    fn pieces(
        &mut self,
        field: usize,
        (base, always): (u128, Range<usize>),
        cut: &Cut,
        point: &mut Point,
    ) -> Option<Part> {
        self.steps.take(cut.intervals.len())?;
        let from = self.parts.len();
        let is_scoped = self.scoped && self.met[always.clone()].first() != Some(&0);
        let mut mattering = Vec::new();
        for piece in &cut.pieces {
            point[field] = piece.number;
            let active = cut.met(piece);
            let (base, always) = match field {
                RECEIVERS => self.mattering((base, always.clone()), active, &mut mattering),
                _ => (base, always.clone()),
            };
            let is_beside = is_scoped && active.first() != Some(&0);
            let part = match is_beside || is_mixed(field, point) {
                true => Part::leaf(0),
                false => self.piece(field, base ^ piece.key, (always, active), point)?,
            };
            self.parts.push(part);
        }
        let parts = &self.parts[from..];
        let part = match parts.iter().all(|p| *p == parts[0]) {
            true => parts[0],
            false => {
                let ways = cut.intervals.iter().map(|(last, at)| (*last, parts[*at as usize]));
                self.nodes.node(field, ways)
            }
        };
        self.parts.truncate(from);
        Some(part)
    }

    /// Of conditions that do not mind the receiver, as one number and by where they stand, those that
    /// matter to receivers that meet some others. `known`: what that came to for other receivers.
    fn mattering(
        &mut self,
        (base, always): (u128, Range<usize>),
        active: &[u32],
        known: &mut Vec<(Held, u128, Range<usize>)>,
    ) -> (u128, Range<usize>) {
        if self.regions.are_everywhere() {
            return (base, always);
        }
        let held = self.regions.held(active);
        if held.is_all() {
            return (base, always);
        }
        if let Some((_, base, some)) = known.iter().find(|known| known.0 == held) {
            return (*base, some.clone());
        }
        let (mut base, from) = (0, self.met.len());
        for at in always {
            let c = self.met[at];
            if self.regions.matters(c, held) {
                base ^= self.marks[c as usize];
                self.met.push(c);
            }
        }
        known.push((held, base, from..self.met.len()));
        (base, from..self.met.len())
    }

    /// The part that numbers of a field lead to that meet the same conditions. `key`: these, as one
    /// number, and `met`: those that do not mind the field, and those that do.
    fn piece(
        &mut self,
        field: usize,
        key: u128,
        met: (Range<usize>, &[u32]),
        point: &mut Point,
    ) -> Option<Part> {
        if field < LAST {
            if let Some(known) = self.known.get(&(field, key)) {
                return Some(*known);
            }
            let from = self.met.len();
            self.merge(met);
            let part = self.part(field + 1, from..self.met.len(), point)?;
            self.met.truncate(from);
            self.known.insert((field, key), part);
            return Some(part);
        }
        let place = key as usize % RECENT;
        if let Some((_, part)) = self.recent[place].filter(|(other, _)| *other == key) {
            return Some(part);
        }
        self.steps.take(ASKED)?;
        let part = Part::leaf((self.answer)(*point));
        self.recent[place] = Some((key, part));
        Some(part)
    }

    /// Puts two ascending lists of conditions as one behind the others.
    fn merge(&mut self, (always, active): (Range<usize>, &[u32])) {
        let mut rest = always;
        for &c in active {
            let before = self.met[rest.clone()].partition_point(|a| *a < c);
            self.met.extend_from_within(rest.start..rest.start + before);
            self.met.push(c);
            rest.start += before;
        }
        self.met.extend_from_within(rest);
    }

    fn minds(&self, condition: u32, field: usize) -> bool {
        self.minds[condition as usize] >> field & 1 == 1
    }

    /// How the conditions that mind a field cut it. `key`: these, as one number.
    fn cut(&mut self, field: usize, key: u128, met: Range<usize>) -> Option<Rc<Cut>> {
        if let Some(known) = self.cuts.get(&(field, key)) {
            return Some(known.clone());
        }
        let minds = &self.minds;
        let minding =
            self.met[met].iter().copied().filter(|c| minds[*c as usize] >> field & 1 == 1);
        let cut = Cut::new(Field::ALL[field], minding, self.constraints, &self.marks, self.steps)?;
        let cut = Rc::new(cut);
        self.kept += cut.size();
        if self.kept > KEPT {
            self.cuts.clear();
            self.kept = cut.size();
        }
        self.cuts.insert((field, key), cut.clone());
        Some(cut)
    }
}
