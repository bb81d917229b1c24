//! Decision diagrams over intervals: a node decides on one field, equal nodes are one node.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

use foldhash::fast::RandomState;

use super::steps::Steps;
use super::{Area, Field, Intervals, Point};

/// A node, or a number at the end of a way.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub(super) struct Part(u32);

const LEAF: u32 = 1 << 31;

impl Part {
    pub(super) fn leaf(value: u32) -> Self {
        Self(value | LEAF)
    }

    fn value(self) -> Option<u32> {
        (self.0 & LEAF != 0).then_some(self.0 & !LEAF)
    }
}

/// A decision on a field: the part that follows, by the last number that leads to it.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
struct Node {
    field: u8,
    ways: Vec<(u128, Part)>,
}

/// The nodes of all diagrams, each stored once.
#[derive(Debug, Clone, Default)]
pub(super) struct Nodes {
    list: Vec<Arc<Node>>,
    known: HashMap<Arc<Node>, u32, RandomState>,
}

impl Nodes {
    /// A decision; ways beside each other that lead to one part are one way, and a decision that
    /// decides nothing is none.
    pub(super) fn node(
        &mut self,
        field: usize,
        ways: impl IntoIterator<Item = (u128, Part)>,
    ) -> Part {
        let mut merged: Vec<(u128, Part)> = Vec::new();
        for (last, part) in ways {
            match merged.last_mut() {
                Some(m) if m.1 == part => m.0 = last,
                _ => merged.push((last, part)),
            }
        }
        if let [(_, only)] = merged[..] {
            return only;
        }
        let node = Arc::new(Node { field: field as u8, ways: merged });
        if let Some(known) = self.known.get(&node) {
            return Part(*known);
        }
        let number = self.list.len() as u32;
        self.list.push(node.clone());
        self.known.insert(node, number);
        Part(number)
    }

    fn get(&self, part: Part) -> &Node {
        &self.list[part.0 as usize]
    }
}

/// A number for every packet.
#[derive(Debug, Clone)]
pub struct Diagram {
    nodes: Nodes,
    root: Part,
}

impl Diagram {
    pub(super) fn new(nodes: Nodes, root: Part) -> Self {
        Self { nodes, root }
    }

    /// One number for all.
    pub fn constant(value: u32) -> Self {
        Self { nodes: Nodes::default(), root: Part::leaf(value) }
    }

    /// How many decisions it has.
    pub fn size(&self) -> usize {
        self.nodes.list.len()
    }

    /// The number of a packet.
    pub fn value(&self, point: Point) -> u32 {
        let mut part = self.root;
        loop {
            if let Some(value) = part.value() {
                return value;
            }
            let node = self.nodes.get(part);
            let n = point[usize::from(node.field)];
            part = node.ways[node.ways.partition_point(|w| w.0 < n)].1;
        }
    }

    /// Two into one, number by number.
    pub fn combined(&self, other: &Self, with: impl Fn(u32, u32) -> u32) -> Self {
        let mut nodes = Nodes::default();
        let mut known = HashMap::default();
        let root = combine((self, self.root), (other, other.root), &with, &mut nodes, &mut known);
        Self { nodes, root }
    }

    /// The packets of a number, as few products of sets as are found.
    pub fn areas(&self, value: u32) -> Vec<Area> {
        let all = self.all_areas(&mut Steps::default(), |v| v == value);
        all.and_then(|mut all| all.remove(&value)).unwrap_or_default()
    }

    /// The packets of every number that is wanted, in one walk; `None` if they are more than there
    /// are steps for.
    pub fn all_areas(
        &self,
        steps: &mut Steps,
        wanted: impl Fn(u32) -> bool,
    ) -> Option<BTreeMap<u32, Vec<Area>>> {
        let mut found: BTreeMap<u32, Vec<Area>> = BTreeMap::new();
        let mut reaches: HashMap<Part, bool, RandomState> = HashMap::default();
        self.walk(self.root, &wanted, steps, &mut Area::all(), &mut found, &mut reaches)?;
        Some(found.into_iter().map(|(value, list)| (value, Area::merged(list))).collect())
    }

    fn walk(
        &self,
        part: Part,
        wanted: &impl Fn(u32) -> bool,
        steps: &mut Steps,
        area: &mut Area,
        found: &mut BTreeMap<u32, Vec<Area>>,
        reaches: &mut HashMap<Part, bool, RandomState>,
    ) -> Option<()> {
        if let Some(v) = part.value() {
            if wanted(v) {
                steps.take(area.0.iter().map(|i| i.list().len()).sum())?;
                found.entry(v).or_default().push(area.clone());
            }
            return Some(());
        }
        if !self.reaches(part, wanted, reaches) {
            return Some(());
        }
        let node = self.nodes.get(part);
        steps.take(node.ways.len())?;
        // all ways to one part are one set
        let mut sets: Vec<(Part, Vec<(u128, u128)>)> = Vec::new();
        let mut position: HashMap<Part, usize, RandomState> = HashMap::default();
        let mut first = 0;
        for (last, next) in &node.ways {
            if self.reaches(*next, wanted, reaches) {
                let at = *position.entry(*next).or_insert_with(|| {
                    sets.push((*next, Vec::new()));
                    sets.len() - 1
                });
                sets[at].1.push((first, *last));
            }
            first = last.saturating_add(1);
        }
        for (next, intervals) in sets {
            let field = usize::from(node.field);
            let before = std::mem::replace(&mut area.0[field], Intervals::new(intervals));
            let walked = self.walk(next, wanted, steps, area, found, reaches);
            area.0[field] = before;
            walked?;
        }
        Some(())
    }

    fn reaches(
        &self,
        part: Part,
        wanted: &impl Fn(u32) -> bool,
        known: &mut HashMap<Part, bool, RandomState>,
    ) -> bool {
        if let Some(v) = part.value() {
            return wanted(v);
        }
        if let Some(known) = known.get(&part) {
            return *known;
        }
        let found = self.nodes.get(part).ways.iter().any(|w| self.reaches(w.1, wanted, known));
        known.insert(part, found);
        found
    }
}

type Known = HashMap<(Part, Part), Part, RandomState>;

fn combine(
    (a, x): (&Diagram, Part),
    (b, y): (&Diagram, Part),
    with: &impl Fn(u32, u32) -> u32,
    nodes: &mut Nodes,
    known: &mut Known,
) -> Part {
    if let (Some(v), Some(w)) = (x.value(), y.value()) {
        return Part::leaf(with(v, w));
    }
    if let Some(known) = known.get(&(x, y)) {
        return *known;
    }
    let field =
        |d: &Diagram, p: Part| if p.value().is_some() { u8::MAX } else { d.nodes.get(p).field };
    let (f, g) = (field(a, x), field(b, y));
    let here = f.min(g);
    let whole = |p: Part| vec![(Field::ALL[usize::from(here)].most(), p)];
    let left = if f == here { a.nodes.get(x).ways.clone() } else { whole(x) };
    let right = if g == here { b.nodes.get(y).ways.clone() } else { whole(y) };
    let (mut i, mut j) = (0, 0);
    let mut ways = Vec::with_capacity(left.len() + right.len());
    while i < left.len() && j < right.len() {
        let last = left[i].0.min(right[j].0);
        ways.push((last, combine((a, left[i].1), (b, right[j].1), with, nodes, known)));
        i += usize::from(left[i].0 == last);
        j += usize::from(right[j].0 == last);
    }
    let part = nodes.node(usize::from(here), ways);
    known.insert((x, y), part);
    part
}

/// A set of packets.
#[derive(Debug, Clone)]
pub struct PacketSet(Diagram);

impl PacketSet {
    /// The set that holds no packet.
    pub fn none() -> Self {
        Self(Diagram::constant(0))
    }

    /// The set that holds every packet.
    pub fn all() -> Self {
        Self(Diagram::constant(1))
    }

    /// The packets of a product of sets.
    pub fn of(area: &Area) -> Self {
        let mut nodes = Nodes::default();
        let mut part = Part::leaf(1);
        for field in Field::ALL.into_iter().rev() {
            let mut ways = Vec::new();
            for (first, last) in area.of(field).list() {
                if let Some(before) = first.checked_sub(1) {
                    ways.push((before, Part::leaf(0)));
                }
                ways.push((*last, part));
            }
            if ways.last().is_none_or(|w| w.0 < field.most()) {
                ways.push((field.most(), Part::leaf(0)));
            }
            part = nodes.node(field as usize, ways);
        }
        Self(Diagram::new(nodes, part))
    }

    /// The packets that a diagram gives a number that is wanted.
    pub fn where_value(diagram: &Diagram, wanted: impl Fn(u32) -> bool) -> Self {
        Self(diagram.combined(&Diagram::constant(0), |v, _| u32::from(wanted(v))))
    }

    /// Every packet that either set holds.
    pub fn union(&self, other: &Self) -> Self {
        Self(self.0.combined(&other.0, |a, b| a | b))
    }

    /// Every packet that both sets hold.
    pub fn intersection(&self, other: &Self) -> Self {
        Self(self.0.combined(&other.0, |a, b| a & b))
    }

    /// What this one holds and the other does not.
    pub fn difference(&self, other: &Self) -> Self {
        Self(self.0.combined(&other.0, |a, b| a & (1 - b)))
    }

    /// Whether it holds a packet.
    pub fn contains(&self, point: Point) -> bool {
        self.0.value(point) == 1
    }

    /// Whether it holds none. Equal diagrams are one, so that this is known at once.
    pub fn is_empty(&self) -> bool {
        self.0.root == Part::leaf(0)
    }

    /// One of its packets; `None` of an empty set.
    pub fn witness(&self) -> Option<Point> {
        let mut point = [0; 5];
        let mut part = self.0.root;
        while part.value().is_none() {
            let node = self.0.nodes.get(part);
            // every node but that of the empty set leads to a packet
            let i = node.ways.iter().position(|w| w.1 != Part::leaf(0))?;
            point[usize::from(node.field)] = if i == 0 { 0 } else { node.ways[i - 1].0 + 1 };
            part = node.ways[i].1;
        }
        (part.value() == Some(1)).then_some(point)
    }

    /// The set as products of sets.
    pub fn areas(&self) -> Vec<Area> {
        self.0.areas(1)
    }
}
