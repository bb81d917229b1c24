//! What is to be expected of a supply: the formula that fits it, held against what was measured.

use zarnet_core::device::Supply;
use zarnet_core::named;
use zarnet_core::net::Instant;
use zarnet_core::plan::Plan;

use super::demand::{Demand, MOST_UNITS, demand, of_hour};
use super::measured::Measured;
use super::model::{AddressLoad, Model};
use super::{Assumption, Resource, SampleSpread};

named! {
    /// What a forecast comes to.
    Verdict {
        Enough, "enough",
            "There is enough: the formula says so, and the record bears it out.",
            "no more than the target (`--target`, 0.1 % unless given) was refused in the hour and in \
             all of the record, the formula computes no more, and both agree within the interval",
            "";
        TooFew, "too-few",
            "There is too little: more than the target is refused.",
            "more was refused, or is computed and not contradicted. A size is named only where both \
             agree",
            "";
        Contradicted, "contradicted",
            "The record contradicts the formula: nothing is recommended by it.",
            "they differ by more than chance explains: the reasons that the record shows are named, \
             and nothing is recommended by the formula",
            "";
        Unknown, "unknown",
            "The record is too short to tell.",
            "the hour ends before one use has lasted, or nothing was asked for",
            "";
    }
}

/// What a load that has grown comes to.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Forecast {
    /// How many times the load of the busiest hour.
    pub growth: f64,
    /// That load, in erlang.
    pub offered: f64,
    /// Share of requests refused.
    pub refusal: f64,
    /// Seconds between refusals, on the average; infinite where there are none.
    pub every: f64,
}

/// What is to be expected of a resource.
#[derive(Debug, Clone)]
pub struct Outlook {
    /// What was asked of it.
    pub demand: Demand,
    /// The formula that fits it.
    pub model: Model,
    /// The share refused over all of the record; what is tried again and again is one request.
    pub overall: f64,
    /// The formula, for loads that have grown.
    pub forecasts: Vec<Forecast>,
    /// What it comes to.
    pub verdict: Verdict,
    /// Whether the formula computes what was measured, as far as that can be told: what it says of
    /// other sizes and loads is worth something then.
    pub agrees: bool,
    /// How many times the load may grow until the target is missed; `None` where it never is.
    pub headroom: Option<f64>,
    /// The size that meets the target, where formula and record agree.
    pub needed: Option<u64>,
    /// How many hosts are served at the target.
    pub users: Option<u64>,
    /// The same loads, simulated.
    pub simulated: Vec<Simulated>,
    /// Of addresses that hosts stay on: how unlike they are.
    pub imbalance: Option<Imbalance>,
}

/// Simulations of a load.
#[derive(Debug, Clone)]
pub struct Simulated {
    /// How many times the load.
    pub growth: f64,
    /// Share refused in the busiest hour.
    pub refused: SampleSpread,
    /// Requests of all runs together.
    pub requests: u64,
    /// In how many of them somebody was refused.
    pub ran_out: usize,
    /// When for the first time, in seconds, on the average of these.
    pub first: Option<f64>,
}

/// How unlike addresses are that hosts stay on.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Imbalance {
    /// The address that refuses the largest share.
    pub worst: std::net::IpAddr,
    /// The share that it refused in the hour.
    pub refused: f64,
    /// What is asked of it, over the mean of all.
    pub factor: f64,
    /// Hosts that were refused while other addresses had something left.
    pub stuck: u64,
}

/// Loads that a forecast is made of, against the busiest hour.
pub(super) const GROWTHS: [f64; 5] = [1.0, 1.25, 1.5, 2.0, 3.0];
/// No forecast is made from fewer requests.
const LEAST_REQUESTS: u64 = 10;

/// What is to be expected of a resource, the `n`-th of all, in traffic between two instants; `None`
/// where nothing limits it or too little was asked for, and of an address that is one of several
/// which serve the same hosts.
pub(super) fn outlook(
    plan: &Plan,
    all: &[Resource],
    n: usize,
    (from, until): (Instant, Instant),
    target: f64,
) -> Option<Outlook> {
    let resource = &all[n];
    let usable = resource.series.usable?;
    if usable == 0 || is_part_of_all(plan, all, resource) {
        return None;
    }
    let mut demand = demand(resource, from, until);
    // of a handful of requests nothing can be said
    if resource.series.begun + resource.refused_flows < LEAST_REQUESTS || demand.rate <= 0.0 {
        return None;
    }
    let (model, imbalance) = model(plan, all, resource, &demand);
    if imbalance.is_some_and(|i| i.factor > 1.5 || i.stuck > 0) {
        demand.contradicted.push(Assumption::Unbalanced);
    }
    let forecast = |growth: f64| {
        let refusal = model.refusal(usable, growth);
        let a_second = demand.rate * growth * refusal;
        let every = if a_second > 0.0 { 1.0 / a_second } else { f64::INFINITY };
        Forecast { growth, offered: model.offered(growth), refusal, every }
    };
    let whole = of_hour(resource, (from, until)).measured;
    let verdict = verdict(&demand, whole, model.refusal(usable, 1.0), target);
    let agrees = demand.measured.agrees(model.refusal(usable, 1.0));
    let is_told = agrees && matches!(verdict, Verdict::Enough | Verdict::TooFew);
    let headroom = model.headroom(usable, target);
    let users = headroom.filter(|_| is_told).map(|h| (demand.hosts as f64 * h) as u64);
    let needed = is_told.then(|| model.needed(target, 1.0, MOST_UNITS)).flatten();
    Some(Outlook {
        forecasts: GROWTHS.iter().map(|g| forecast(*g)).collect(),
        overall: whole.share,
        demand,
        model,
        verdict,
        agrees,
        headroom,
        needed,
        users,
        simulated: Vec::new(),
        imbalance,
    })
}

impl Outlook {
    /// Whether what the formula says of other sizes and loads is worth something.
    pub fn tells_sizes(&self) -> bool {
        self.agrees && matches!(self.verdict, Verdict::Enough | Verdict::TooFew)
    }

    /// The size that serves so many users at a target, where that can be told.
    pub fn size_for(&self, users: u64, target: f64) -> Option<u64> {
        let growth = users as f64 / self.demand.hosts.max(1) as f64;
        self.tells_sizes().then(|| self.model.needed(target, growth, MOST_UNITS)).flatten()
    }
}

fn verdict(demand: &Demand, whole: Measured, computed: f64, target: f64) -> Verdict {
    let measured = demand.measured;
    if demand.contradicted.contains(&Assumption::NeverInUse) || demand.settled < 1.0 {
        return Verdict::Unknown;
    }
    let is_refused = measured.share > target || whole.share > target;
    match (computed > target, is_refused) {
        (true, true) => Verdict::TooFew,
        (false, true) => Verdict::Contradicted,
        (true, false) if measured.agrees(computed) => Verdict::TooFew,
        (false, false) if measured.agrees(computed) => Verdict::Enough,
        (_, false) => Verdict::Contradicted,
    }
}

/// The supply of several addresses that a resource is one address of.
pub(super) fn whole_of<'a>(
    plan: &Plan,
    all: impl IntoIterator<Item = &'a Resource>,
    resource: &Resource,
) -> Option<usize> {
    let device = &plan.devices[resource.device.index()];
    let is_of = |r: &Resource| match (r.supply, resource.supply) {
        (Supply::PortsOfAll(target, p, a), Supply::Ports(address, q, b))
        | (Supply::BlocksOfAll(target, p, a), Supply::Blocks(address, q, b)) => {
            r.device == resource.device
                && (p, a) == (q, b)
                && device.listed_by(target).contains(address)
        }
        _ => false,
    };
    all.into_iter().position(is_of)
}

/// Whether nothing is to be said of it: an address of several, of which a host may use any, and
/// ports that come in blocks, for it is the blocks that run out.
fn is_part_of_all(plan: &Plan, all: &[Resource], resource: &Resource) -> bool {
    let device = &plan.devices[resource.device.index()];
    let in_blocks = device.behaviour.block_size.is_some()
        && matches!(resource.supply, Supply::Ports(..) | Supply::PortsOfAll(..));
    in_blocks || !device.behaviour.paired && whole_of(plan, all, resource).is_some()
}

/// The formula that fits a resource.
fn model(
    plan: &Plan,
    all: &[Resource],
    resource: &Resource,
    demand: &Demand,
) -> (Model, Option<Imbalance>) {
    let device = &plan.devices[resource.device.index()];
    let offered = demand.rate * demand.holds;
    match resource.supply {
        Supply::Pool(_) | Supply::Blocks(..) | Supply::BlocksOfAll(..) => {
            let length = demand.until.0.saturating_sub(demand.from.0) as f64 / 1e9;
            // a host that takes several blocks asks as several hosts do
            let held: u64 = resource.holders.iter().map(|h| h.held).sum();
            let each = held as f64 / resource.holders.len().max(1) as f64;
            let asking = demand.hosts as f64 * each.max(1.0);
            // time in which they had none, and would have asked
            let idle = (asking - demand.carried).max(0.0) * length;
            let asked = demand.rate * length;
            let idle_load = if idle > 0.0 { asked / idle * demand.holds } else { f64::INFINITY };
            (Model::Engset { hosts: asking.round() as u64, idle_load }, None)
        }
        Supply::PortsOfAll(target, protocol, range) if device.behaviour.paired => {
            let listed = device.listed_by(target);
            let window = (demand.from, demand.until);
            let own = all.iter().filter_map(|r| match r.supply {
                Supply::Ports(address, p, a)
                    if r.device == resource.device
                        && (p, a) == (protocol, range)
                        && listed.contains(address)
                        && r.series.begun > 0 =>
                {
                    Some((address, r.series.usable?, of_hour(r, window)))
                }
                _ => None,
            });
            let own: Vec<(std::net::IpAddr, u64, Demand)> = own.collect();
            let load = |d: &Demand| d.rate * d.holds;
            let addresses: Vec<AddressLoad> = own
                .iter()
                .map(|(_, usable, d)| AddressLoad { usable: *usable, offered: load(d) })
                .collect();
            let begun: f64 = resource.hosts.iter().map(|h| f64::from(h.1)).sum();
            let share = |n: u32| f64::from(n) / begun.max(1.0) * offered;
            let mut hosts: Vec<f64> = resource.hosts.iter().map(|h| share(h.1)).collect();
            hosts.sort_by(|a, b| b.total_cmp(a));
            let worst = own.iter().max_by(|a, b| {
                let by = |d: &Demand| (d.measured.share, load(d));
                by(&a.2).partial_cmp(&by(&b.2)).unwrap_or(std::cmp::Ordering::Equal)
            });
            let mean = addresses.iter().map(|a| a.offered).sum::<f64>() / own.len().max(1) as f64;
            let most = addresses.iter().map(|a| a.offered).fold(0.0, f64::max);
            let imbalance = worst.map(|(address, _, d)| Imbalance {
                worst: *address,
                refused: d.measured.share,
                factor: if mean > 0.0 { most / mean } else { 1.0 },
                stuck: stuck(resource),
            });
            (Model::EachAddress { addresses, hosts }, imbalance)
        }
        Supply::Ports(..) | Supply::PortsOfAll(..) | Supply::Mappings | Supply::Sessions => {
            let peakedness = demand.peakedness;
            let model = match peakedness == 1.0 {
                true => Model::ErlangB { offered },
                false => Model::Hayward { offered, peakedness },
            };
            (model, None)
        }
    }
}

/// Hosts that were refused while something was left on other addresses.
fn stuck(resource: &Resource) -> u64 {
    let usable = resource.series.usable.unwrap_or(0);
    let had_left = |r: &&super::Refused| u64::from(resource.series.at(r.first)) < usable;
    resource.refused.iter().filter(had_left).count() as u64
}
