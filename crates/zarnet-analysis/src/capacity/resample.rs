//! A busiest hour drawn anew from a list of flows: pieces of it in another order, and for a larger
//! load several of them at a time, from other hosts.

use std::collections::{HashMap, HashSet};
use std::net::IpAddr;

use rand_chacha::ChaCha12Rng;
use rand_chacha::rand_core::{Rng, SeedableRng};
use zarnet_core::net::{AddressSet, Instant};
use zarnet_core::plan::Plan;
use zarnet_core::traffic::{Flow, Item, Party};

/// An hour that can be drawn anew.
pub(super) struct Hour<'a> {
    plan: &'a Plan,
    /// The flows of the hour, in order.
    flows: &'a [Flow],
    from: u64,
    /// How long it is.
    length: u64,
    /// How long a piece is: bursts within it stay as they are.
    piece: u64,
    /// So long something is played before, so that use has settled.
    before: u64,
    /// Addresses that stand in for each sender, one after the other.
    spare: HashMap<IpAddr, Vec<IpAddr>>,
}

/// Bursts that repeat themselves do so by the minute, mostly.
const MINUTE: u64 = 60_000_000_000;

impl<'a> Hour<'a> {
    /// An hour of a list, of which each use lasts `holds` nanoseconds. `None` where too little
    /// happens in it.
    pub(super) fn of(
        plan: &'a Plan,
        flows: &'a [Flow],
        (from, until): (Instant, Instant),
        holds: u64,
    ) -> Option<Self> {
        let length = until.0.saturating_sub(from.0);
        let range =
            flows.partition_point(|f| f.start < from)..flows.partition_point(|f| f.start <= until);
        let flows = flows.get(range).filter(|f| f.len() >= 10)?;
        let mut piece = holds.saturating_mul(5).clamp(length / 20, length / 4).max(1);
        if piece > MINUTE && length > 10 * MINUTE {
            piece = piece / MINUTE * MINUTE;
        }
        let before = holds.saturating_mul(3).min(length);
        let spare = spare(plan, flows);
        Some(Self { plan, flows, from: from.0, length, piece, before, spare })
    }

    /// How many flows one draw has about, for a load so many times as large.
    pub(super) fn flows(&self, growth: f64) -> f64 {
        self.flows.len() as f64 * growth * (1.0 + self.before as f64 / self.length.max(1) as f64)
    }

    /// The window of a draw in which use has settled.
    pub(super) fn window(&self) -> (Instant, Instant) {
        (Instant(self.before), Instant(self.before + self.length))
    }

    /// A draw of a load `growth` times this one.
    pub(super) fn draw(&self, growth: f64, seed: u64) -> Vec<Item> {
        let mut random = ChaCha12Rng::seed_from_u64(seed);
        let whole = growth.floor() as usize;
        let part = growth - whole as f64;
        let mut items: Vec<Item> = Vec::new();
        for layer in 0..whole + usize::from(part > 1e-9) {
            let kept = if layer < whole { 1.0 } else { part };
            let choice = random.next_u64();
            self.layer(layer, |host| chance(host, choice) < kept, &mut random, &mut items);
        }
        items.sort_by_key(Item::at);
        items
    }

    /// One load's worth, in pieces, of the hosts that are kept.
    fn layer(
        &self,
        layer: usize,
        is_kept: impl Fn(IpAddr) -> bool,
        random: &mut ChaCha12Rng,
        items: &mut Vec<Item>,
    ) {
        let end = self.before + self.length;
        let room = self.length.saturating_sub(self.piece);
        let mut at = 0;
        while at < end {
            // a piece keeps its place within the minute
            let phase = at % MINUTE;
            let start = match room > 10 * MINUTE {
                true => (random.next_u64() % (room / MINUTE)) * MINUTE + phase,
                false => random.next_u64() % (room + 1),
            };
            let first = self.from + start.min(room);
            let last = first + self.piece.min(end - at);
            let range = self.flows.partition_point(|f| f.start.0 < first)
                ..self.flows.partition_point(|f| f.start.0 < last);
            for flow in &self.flows[range] {
                let Some(host) = self.sender(flow) else { continue };
                if !is_kept(host) {
                    continue;
                }
                let mut flow = Flow { start: Instant(at + flow.start.0 - first), ..*flow };
                if layer > 0 {
                    match self.spare.get(&host).and_then(|s| s.get(layer - 1)) {
                        Some(other) => flow.source = Party::Address(*other),
                        // the host itself sends more: from other ports
                        None => flow.source_port = None,
                    }
                }
                items.push(Item::Flow(flow));
            }
            at += self.piece;
        }
    }

    fn sender(&self, flow: &Flow) -> Option<IpAddr> {
        address(self.plan, flow.source)
    }

    /// Everybody who sends in any draw.
    pub(super) fn senders(&self) -> impl Iterator<Item = IpAddr> + '_ {
        let own = self.flows.iter().filter_map(|f| self.sender(f));
        own.chain(self.spare.values().flatten().copied())
    }
}

fn address(plan: &Plan, party: Party) -> Option<IpAddr> {
    match party {
        Party::Address(address) => Some(address),
        Party::Host(id) => Some(plan.hosts[id.index()].address),
        Party::Device(_) | Party::Interface(..) => None,
    }
}

/// A number between 0 and 1 that is the same for the same host.
fn chance(host: IpAddr, choice: u64) -> f64 {
    let bits = match host {
        IpAddr::V4(a) => u64::from(a.to_bits()),
        IpAddr::V6(a) => a.to_bits() as u64 ^ (a.to_bits() >> 64) as u64,
    };
    let mut random = ChaCha12Rng::seed_from_u64(bits ^ choice);
    (random.next_u64() >> 11) as f64 / (1u64 << 53) as f64
}

/// So many loads at a time are drawn at most, with a stand-in for each of their hosts.
const LAYERS: usize = 3;

/// Addresses that nobody has, beside each sender, which every list of the plan treats as it.
fn spare(plan: &Plan, flows: &[Flow]) -> HashMap<IpAddr, Vec<IpAddr>> {
    let senders: HashSet<IpAddr> = flows.iter().filter_map(|f| address(plan, f.source)).collect();
    let mut taken: HashSet<IpAddr> = senders.clone();
    taken.extend(plan.hosts.iter().map(|h| h.address));
    taken.extend(plan.devices.iter().flat_map(|d| &d.interfaces).flat_map(|i| i.own()));
    let lists: Vec<&AddressSet> = plan
        .devices
        .iter()
        .flat_map(|d| {
            let rules = d.rules.iter().map(|r| &r.parties.source);
            let policies = d.policies.iter().map(|p| &p.parties.source);
            let entries = d.acls.iter().flat_map(|a| &a.entries).map(|e| &e.parties.source);
            rules.chain(policies).chain(entries)
        })
        .collect();
    let linked: Vec<_> = plan
        .devices
        .iter()
        .flat_map(|d| &d.interfaces)
        .flat_map(|i| i.addresses.iter().map(|a| a.1))
        .collect();
    let mut sorted: Vec<IpAddr> = senders.into_iter().collect();
    sorted.sort_unstable();
    let mut spare: HashMap<IpAddr, Vec<IpAddr>> = HashMap::new();
    for sender in sorted {
        let alike = |other: IpAddr| {
            lists.iter().all(|l| l.contains(sender) == l.contains(other))
                && linked.iter().all(|p| p.contains(sender) == p.contains(other))
                && !linked.iter().any(|p| p.reserved().any(|r| r == other))
        };
        let own: Vec<IpAddr> = beside(sender)
            .filter(|other| !taken.contains(other) && alike(*other))
            .take(LAYERS)
            .collect();
        taken.extend(&own);
        spare.insert(sender, own);
    }
    spare
}

/// Addresses above an address, and below it, up to some way off.
fn beside(address: IpAddr) -> Box<dyn Iterator<Item = IpAddr>> {
    const FAR: u32 = 1024;
    match address {
        IpAddr::V4(a) => {
            let bits = a.to_bits();
            let ways = (1..=FAR).flat_map(move |n| [bits.checked_add(n), bits.checked_sub(n)]);
            Box::new(ways.flatten().map(|b| IpAddr::V4(b.into())))
        }
        IpAddr::V6(a) => {
            let bits = a.to_bits();
            let ways =
                (1..=u128::from(FAR)).flat_map(move |n| [bits.checked_add(n), bits.checked_sub(n)]);
            Box::new(ways.flatten().map(|b| IpAddr::V6(b.into())))
        }
    }
}
