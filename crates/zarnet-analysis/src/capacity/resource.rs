//! What can run out, and who has it.

use std::collections::{BTreeMap, HashMap};
use std::net::IpAddr;

use foldhash::fast::RandomState;
use zarnet_core::Reason;
use zarnet_core::device::{MappingRow, Series, Supply};
use zarnet_core::net::{AddressSet, Instant, Protocol};
use zarnet_core::plan::{self, DeviceId, Plan, PoolId, RuleId, RuleKind};
use zarnet_core::predict::{FirstRefusal, Held, Holder, Prediction, Shortage};
use zarnet_core::traffic::Flow;

/// A supply of a device: how much there is, how much of it is in use, and what came of that.
#[derive(Debug, Clone)]
pub struct Resource {
    /// The device that has the resource.
    pub device: DeviceId,
    /// Which supply of the device it is.
    pub supply: Supply,
    /// Use over all the traffic, and how much there is.
    pub series: Series,
    /// The moment that holders, `in_use` and `next_release` are of.
    pub at: Instant,
    /// How much of it is in use at that moment.
    pub in_use: u64,
    /// When less is in use for the first time after it.
    pub next_release: Option<Instant>,
    /// Who has it, most first; every internal host, each once.
    pub holders: Vec<Holder>,
    /// Who found nothing left of it.
    pub refused: Vec<Refused>,
    /// Each flow that did, in order.
    pub lost: Vec<Lost>,
    /// Hosts that had some of it, and how many uses each began, over all of the traffic.
    pub hosts: Vec<(IpAddr, u32)>,
    /// Flows that found nothing left of it.
    pub refused_flows: u64,
}

/// A flow that found nothing left.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Lost {
    /// The flow.
    pub flow: Flow,
    /// When it began.
    pub at: Instant,
    /// When the same was asked for in vain again.
    pub again: Option<Instant>,
    /// When the same was asked for and had.
    pub served: Option<Instant>,
    /// How often a second the same is asked for, in vain or not.
    pub rate: f64,
    /// Whether it names its source port: the same again is no other flow then.
    pub names_port: bool,
}

impl Lost {
    /// Whether nothing came of it, and it is the last try. `gap`: within so many seconds hosts try
    /// again, if they do.
    pub fn is_in_vain(&self, gap: Option<f64>) -> bool {
        const SURELY: f64 = 120.0;
        let gap = if self.names_port { Some(SURELY) } else { gap };
        !gap.is_some_and(|gap| self.is_followed_within(gap))
    }

    /// Whether the same is asked for again, in vain or not, within so many seconds.
    fn is_followed_within(&self, gap: f64) -> bool {
        let soon = |at: Option<Instant>| at.is_some_and(|a| (a - self.at).as_secs_f64() <= gap);
        soon(self.again) || soon(self.served)
    }
}

/// Within how many seconds refused hosts try again: where the same follows on a refusal far more
/// often than it would by chance. `None` where it does not.
pub fn retry_gap(lost: &[Lost]) -> Option<f64> {
    let own: Vec<&Lost> = lost.iter().filter(|l| !l.names_port).collect();
    let excess = |gap: f64| {
        let seen = own.iter().filter(|l| l.is_followed_within(gap)).count() as f64;
        let by_chance: f64 = own.iter().map(|l| -(-l.rate * gap).exp_m1()).sum();
        (seen, by_chance)
    };
    let gaps = [1.0, 3.0, 10.0, 30.0].map(|gap| (gap, excess(gap)));
    let is_clear = |(_, (seen, by_chance)): &(f64, (f64, f64))| {
        *seen > by_chance * 1.5 && seen - by_chance > 3.0 * by_chance.max(1.0).sqrt()
    };
    // the one that tells the most apart
    let clear = gaps.into_iter().filter(is_clear);
    clear.max_by(|a, b| (a.1.0 - a.1.1).total_cmp(&(b.1.0 - b.1.1))).map(|g| g.0)
}

/// A host that found nothing left.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Refused {
    /// Address of the host.
    pub host: IpAddr,
    /// Why, the first time.
    pub reason: Reason,
    /// The rule, the first time.
    pub rule: Option<RuleId>,
    /// Number of its flows that were refused.
    pub flows: u64,
    /// When a flow was first refused.
    pub first: Instant,
    /// When a flow was last refused.
    pub last: Instant,
}

/// What ran out or could: of every device, pools first, then ports by address, then what the device
/// has all of. Where `given` is set, holders are those of the prediction's table; else those at
/// each resource's first refusal, where it had one. What was in use over time is taken out of the
/// prediction, for there may be much of it.
pub fn resources(prediction: &mut Prediction, given: bool) -> Vec<Resource> {
    let mut list = Vec::new();
    for position in 0..prediction.tables.len() {
        let Some(history) = &mut prediction.tables[position].history else { continue };
        let mut hosts = history.hosts_of_supplies();
        let supplies = history.take_supplies();
        let prediction = &*prediction;
        let table = &prediction.tables[position];
        let device = &prediction.plan.devices[table.device.index()];
        let firsts: Vec<Option<&FirstRefusal>> = (0..supplies.len() as u32)
            .map(|n| first_refusal(prediction, table.device, n).filter(|_| !given))
            .collect();
        let told: Vec<Option<Supply>> = supplies
            .iter()
            .zip(&firsts)
            .map(|((supply, series), first)| {
                Some(*supply).filter(|s| first.is_none() && is_told(*s, series))
            })
            .collect();
        let mut now = by_supply(device, &told, table.mappings.iter().filter(|m| !m.fixed).copied());
        for (number, (supply, series)) in supplies.into_iter().enumerate() {
            let first = firsts[number];
            let at = first.map_or(prediction.at, |f| f.at);
            let (refused, lost) = refused(prediction, table.device, number as u32);
            list.push(Resource {
                device: table.device,
                supply,
                at,
                in_use: series.at(at).into(),
                next_release: next_release(&series, at),
                series,
                holders: first.map_or_else(|| now[number].take(), |f| f.holders.clone()),
                refused,
                refused_flows: lost.len() as u64,
                lost,
                hosts: std::mem::take(&mut hosts[number]),
            });
        }
    }
    list.sort_by_key(|r| (r.device, r.supply));
    list
}

/// Whether it is not known who held a resource when it first refused somebody.
fn lacks_first(resource: &Resource) -> bool {
    resource.series.first_refusal != Some(resource.at)
}

/// The same of one whose holders are told.
pub(super) fn lacks_holders(resource: &Resource) -> bool {
    lacks_first(resource) && is_told(resource.supply, &resource.series)
}

/// Tells who holds what of a device at a moment, of the resources that did not refuse anybody.
pub(super) fn take_holders(
    plan: &Plan,
    (device, rows): (DeviceId, impl Iterator<Item = MappingRow>),
    at: Instant,
    resources: &mut [Resource],
) {
    let own = |r: &Resource| r.device == device && lacks_first(r);
    let told = |r: &Resource| (own(r) && lacks_holders(r)).then_some(r.supply);
    let told: Vec<Option<Supply>> = resources.iter().map(told).collect();
    let held = by_supply(&plan.devices[device.index()], &told, rows);
    for (resource, mut held) in resources.iter_mut().zip(held).filter(|(r, _)| own(r)) {
        resource.at = at;
        resource.in_use = resource.series.at(at).into();
        resource.next_release = next_release(&resource.series, at);
        resource.holders = held.take();
    }
}

/// When less is in use for the first time after a moment; what rests is not free yet.
fn next_release(series: &Series, at: Instant) -> Option<Instant> {
    series.unavailable().next_release(at)
}

/// Whether it is told who has a supply: everybody has some of what a device has without end.
fn is_told(supply: Supply, series: &Series) -> bool {
    series.usable.is_some() || !matches!(supply, Supply::Mappings | Supply::Sessions)
}

fn first_refusal(prediction: &Prediction, device: DeviceId, number: u32) -> Option<&FirstRefusal> {
    let recording = prediction.recording.as_ref()?;
    recording.first_refusals.iter().find(|f| f.device == device && f.supply == number)
}

fn refused(prediction: &Prediction, device: DeviceId, number: u32) -> (Vec<Refused>, Vec<Lost>) {
    let mut by_host: BTreeMap<IpAddr, Refused> = BTreeMap::new();
    let mut lost = Vec::new();
    let all = prediction.recording.iter().flat_map(|r| &r.shortages);
    for s in all.filter(|s| s.device == device && s.tried.contains(&Some(number))) {
        let (again, served, names_port) = (s.again, s.served, s.flow.source_port.is_some());
        let rate = rate(prediction, s);
        lost.push(Lost { flow: s.flow, at: s.flow.start, again, served, rate, names_port });
        let (Some(host), at) = (s.host, s.flow.start) else { continue };
        let new = Refused { host, reason: s.reason, rule: s.rule, flows: 0, first: at, last: at };
        let entry = by_host.entry(host).or_insert(new);
        entry.flows += 1;
        (entry.first, entry.last) = (entry.first.min(at), entry.last.max(at));
    }
    let mut list: Vec<Refused> = by_host.into_values().collect();
    list.sort_by_key(|r| (r.first, r.host));
    lost.sort_by_key(|l: &Lost| l.at);
    (list, lost)
}

/// How often a second what a flow asked for is asked for, since it was first refused.
fn rate(prediction: &Prediction, shortage: &Shortage) -> f64 {
    let requests = prediction.recording.as_ref().map(|r| r.requests.as_slice()).unwrap_or_default();
    let Some(request) = requests.get(shortage.request as usize) else { return 0.0 };
    let length = prediction.end.0.saturating_sub(request.since.0) as f64 / 1e9;
    f64::from(request.served + request.refused - 1) / length.max(1.0)
}

/// A supply by its number, and the ports that it is of.
type OfRange = (usize, (u16, u16));

/// What dynamic mappings draw on, in one pass over them, by position of the supply; `None`: one
/// that is not asked for.
fn by_supply(
    device: &plan::DevicePlan,
    supplies: &[Option<Supply>],
    rows: impl Iterator<Item = MappingRow>,
) -> Vec<Held> {
    let mut held: Vec<Held> =
        supplies.iter().map(|_| Held::new(device.behaviour.block_size)).collect();
    let mut pools: HashMap<PoolId, usize> = HashMap::new();
    let mut ports: HashMap<(IpAddr, Protocol), Vec<OfRange>, RandomState> = HashMap::default();
    let mut wide: Vec<(usize, AddressSet, Protocol, (u16, u16))> = Vec::new();
    let mut whole: Vec<usize> = Vec::new();
    for (n, supply) in supplies.iter().enumerate().filter_map(|(n, s)| Some((n, (*s)?))) {
        match supply {
            Supply::Pool(pool) => {
                pools.insert(pool, n);
            }
            Supply::Ports(address, protocol, range) | Supply::Blocks(address, protocol, range) => {
                ports.entry((address, protocol)).or_default().push((n, range));
            }
            Supply::PortsOfAll(target, protocol, range)
            | Supply::BlocksOfAll(target, protocol, range) => {
                wide.push((n, device.listed_by(target), protocol, range))
            }
            Supply::Mappings | Supply::Sessions => whole.push(n),
        }
    }
    for row in rows {
        let mut add = |n: usize| {
            if let Some(supply) = supplies[n] {
                held[n].add(supply, &row);
            }
        };
        let within = |range: (u16, u16)| {
            row.external.port > 0 && (range.0..=range.1).contains(&row.external.port)
        };
        if let (RuleKind::Pool { pool, .. }, "pool") =
            (&device.rules[row.rule.index()].kind, row.kind)
            && let Some(n) = pools.get(pool)
        {
            add(*n);
        }
        if let Some(protocol) = row.protocol {
            let own = ports.get(&(row.external.address, protocol)).into_iter().flatten();
            own.filter(|p| within(p.1)).for_each(|p| add(p.0));
            let all = wide
                .iter()
                .filter(|w| w.2 == protocol && within(w.3) && w.1.contains(row.external.address));
            all.for_each(|w| add(w.0));
        }
        whole.iter().for_each(|n| add(*n));
    }
    held
}

impl Resource {
    /// Flows that were refused and tried again.
    pub(super) fn tries(&self) -> impl Iterator<Item = Flow> + '_ {
        let gap = retry_gap(&self.lost);
        self.lost.iter().filter(move |l| !l.is_in_vain(gap)).map(|l| l.flow)
    }

    /// Whether it is of query ids (RFC 5508 §3.1) and not of ports.
    pub fn is_query(&self) -> bool {
        match self.supply {
            Supply::Ports(_, p, _)
            | Supply::PortsOfAll(_, p, _)
            | Supply::Blocks(_, p, _)
            | Supply::BlocksOfAll(_, p, _) => p.has_query_id(),
            Supply::Pool(_) | Supply::Mappings | Supply::Sessions => false,
        }
    }
}
