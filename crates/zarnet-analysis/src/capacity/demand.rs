//! What is asked of a supply in its busiest hour, as the record shows it.

use zarnet_core::device::{Lengths, Supply};
use zarnet_core::named;
use zarnet_core::net::Instant;

use super::measured::{Measured, lost_between};
use super::resource::retry_gap;
use super::{Lost, Resource};

/// No forecast looks for more than this.
pub const MOST_UNITS: u64 = 1 << 20;

named! {
    /// Something that the record shows and that a forecast has to reckon with.
    Assumption {
        Bursts, "bursts",
            "Requests come in bursts, not independently of each other: more are refused than \
             Erlang's formula says. Hayward's rule reckons with it.",
            "Requests come in bursts, not independently of each other.",
            "Take the simulation, or Hayward's rule, which is used then.";
        Smooth, "smooth",
            "Requests come more evenly than by chance: fewer are refused than Erlang's formula \
             says. Hayward's rule reckons with it.",
            "Requests come more evenly than by chance.",
            "Take care that real traffic does so too: a list made by hand often does.";
        HeavyHolders, "heavy-holders",
            "A few hosts hold far more than the others: a limit for each host may help more than \
             a larger supply.",
            "A few hosts hold far more than the others.",
            "`ports-per-host`, before a larger supply.";
        FewHosts, "few-hosts",
            "There are hardly more hosts than there is to hand out: Engset's formula reckons with \
             it.",
            "There are hardly more hosts than there is to hand out.",
            "One for each host is enough for sure.";
        Unbalanced, "unbalanced",
            "Hosts stay on their addresses, and some of these are asked for far more than others.",
            "Some addresses are asked for far more than others, and hosts stay on theirs.",
            "`pooling = \"arbitrary\"`, another `pick`, or a limit for each host.";
        Rests, "rests",
            "Ports rest after their use (`hold-down-timeout`): that counts as holding them.",
            "A port that rests after its use cannot be had.",
            "The rest counts as holding time.";
        Retries, "retries",
            "Refused hosts try again: what is tried again and again is counted once.",
            "Refused hosts try again.",
            "What is tried again and again is counted once.";
        ShortRecord, "short-record",
            "The traffic is short against the time that each holds: use has not settled in it.",
            "The traffic is short against the time that each holds.",
            "Take a longer record.";
        NeverInUse, "never-in-use",
            "Nothing of it was asked for: there is nothing to forecast from.",
            "Nothing of it was asked for.",
            "Nothing can be said.";
    }
}

/// What was asked of a supply in its busiest hour.
#[derive(Debug, Clone, PartialEq)]
pub struct Demand {
    /// The busiest hour, or all of the time in which something was asked for where that is shorter.
    pub from: Instant,
    /// When the window ends.
    pub until: Instant,
    /// Requests a second, refused ones included.
    pub rate: f64,
    /// For how long each holds, in seconds, on the average, with the rest of a port.
    pub holds: f64,
    /// How much was in use, on the average, with what rested.
    pub carried: f64,
    /// The share of requests that was refused.
    pub measured: Measured,
    /// Hosts that asked, over all of the traffic.
    pub hosts: u64,
    /// For how many holding times the traffic has gone on by the end of the window: use has settled
    /// after some of them.
    pub settled: f64,
    /// Variance over mean of how much would be in use if there were no end to it; 1 where requests
    /// are independent of each other, and where the record cannot tell.
    pub peakedness: f64,
    /// What a forecast has to reckon with.
    pub contradicted: Vec<Assumption>,
}

/// An hour.
const HOUR: u64 = 3_600_000_000_000;
/// Stretches that an hour is looked at in, to see bursts.
const STRETCHES: usize = 3600;

/// What was asked of a resource between two instants of the traffic, in its busiest hour.
pub fn demand(resource: &Resource, from: Instant, until: Instant) -> Demand {
    let mut demand = of_hour(resource, busiest(resource, from, until));
    demand.settled = demand.until.0.saturating_sub(from.0) as f64 / 1e9 / demand.holds.max(1e-9);
    if demand.settled < 3.0 && !demand.contradicted.contains(&Assumption::NeverInUse) {
        demand.contradicted.push(Assumption::ShortRecord);
    }
    demand
}

/// The hour with the most refused or in use, while something is still asked for.
fn busiest(resource: &Resource, from: Instant, until: Instant) -> (Instant, Instant) {
    let asked = |s: &&zarnet_core::device::Span| s.begun > 0 || s.refused > 0;
    let last = resource.series.spans().iter().rev().find(asked).map_or(from, |s| s.from);
    // what was asked for last is part of it
    let until = until.min(Instant(last.0.saturating_add(1))).max(from);
    let length = until.0.saturating_sub(from.0);
    if length <= HOUR {
        return (from, until);
    }
    let step = HOUR / 12;
    let starts =
        (0..=(length - HOUR).div_ceil(step)).map(|n| from.0 + (n * step).min(length - HOUR));
    let weigh = |start: u64| {
        let (a, b) = (Instant(start), Instant(start + HOUR));
        (lost_between(&resource.lost, a, b).count(), resource.series.unavailable().mean(a, b))
    };
    let best = starts
        .map(|s| (weigh(s), s))
        .reduce(|best, next| if next.0 > best.0 { next } else { best });
    let start = best.map_or(from.0, |b| b.1);
    (Instant(start), Instant(start + HOUR))
}

/// What was asked of a resource between two instants.
pub fn of_hour(resource: &Resource, (from, until): (Instant, Instant)) -> Demand {
    let series = &resource.series;
    let seconds = (until.0.saturating_sub(from.0) as f64 / 1e9).max(1e-9);
    let begun = series.begun_between(from, until) as f64;
    let holds = holding_time(resource, (from, until), begun);
    let hosts = asking(resource);
    let gap = retry_gap(&resource.lost);
    let lost: Vec<&Lost> =
        lost_between(&resource.lost, from, until).filter(|l| l.is_in_vain(gap)).collect();
    let refused = lost.len() as f64;
    let requests = begun + refused;
    let tries = lost_between(&resource.lost, from, until).count() as f64;
    let times: Vec<Instant> = lost.iter().map(|l| l.at).collect();
    let per_host =
        matches!(resource.supply, Supply::Pool(_) | Supply::Blocks(..) | Supply::BlocksOfAll(..));
    // what repeats itself tells nothing of how requests come
    let weight = if tries > 0.0 { refused / tries } else { 1.0 };
    let peakedness = match per_host {
        true => 1.0,
        false => peakedness(resource, (from, until), holds, weight),
    };
    let mut d = Demand {
        from,
        until,
        rate: requests / seconds,
        holds,
        carried: resource.series.unavailable().mean(from, until),
        measured: Measured::of(series, &times, (from, until), peakedness),
        hosts,
        settled: f64::INFINITY,
        peakedness,
        contradicted: Vec::new(),
    };
    d.contradicted = contradicted(resource, &d, tries > refused * 1.2 && tries > 0.0, per_host);
    d
}

/// Hosts that had some of it or were refused.
fn asking(resource: &Resource) -> u64 {
    let had = resource.hosts.iter().map(|h| h.0);
    let mut all: Vec<_> = had.chain(resource.refused.iter().map(|r| r.host)).collect();
    all.sort_unstable();
    all.dedup();
    all.len() as u64
}

/// For how long what began in an hour holds, in seconds. All uses together, followed to their end
/// even behind the traffic, are the mean over all of it. What lived when the hour began did not
/// begin in it: in an hour that lies half a holding time later what lives and what began nearly
/// agree.
fn holding_time(resource: &Resource, (from, until): (Instant, Instant), begun: f64) -> f64 {
    let series = resource.series.unavailable();
    let whole = series.area() / resource.series.begun.max(1) as f64 / 1e9;
    let end = resource.series.spans().last().map_or(until, |s| s.from);
    let later = |at: Instant| Instant(at.0.saturating_add((whole * 0.5e9) as u64));
    let length = until.0.saturating_sub(from.0) as f64 / 1e9;
    // and only where the hour is one of several: otherwise the whole says it better
    let is_part = end.0.saturating_sub(from.0) > 2 * HOUR;
    if !is_part || begun < 300.0 || later(until) > end || whole > length / 4.0 {
        return whole;
    }
    series.mean(later(from), later(until)) * length / begun
}

/// Variance over mean of how much would be in use if there were no end to it, for requests as they
/// came in an hour. Exact for uses that all last the same, and for such whose length is exponential;
/// in between by how alike two lengths are.
fn peakedness(
    resource: &Resource,
    (from, until): (Instant, Instant),
    holds: f64,
    weight: f64,
) -> f64 {
    let length = until.0.saturating_sub(from.0) as f64 / 1e9;
    let width = length / STRETCHES as f64;
    // what came before the hour, perhaps at another rate, is forgotten after so long
    let settled = holds * 4.0;
    // enough independent looks at it, and enough detail in each
    let looks = (length - settled) / holds;
    if looks < 6.0 || holds < width * 2.0 {
        return 1.0;
    }
    let spans = resource.series.reduced(from, until, STRETCHES);
    let asked: Vec<f64> =
        spans.iter().map(|s| f64::from(s.begun) + f64::from(s.refused) * weight).collect();
    let (within, counted) =
        (((holds / width).round() as usize).max(1), (settled / width).ceil() as usize);
    let fade = (-width / holds).exp();
    let (mut same, mut fading) = (Moments::default(), Moments::default());
    let (mut window, mut faded) = (0.0, 0.0);
    for (i, n) in asked.iter().enumerate() {
        // what comes within a stretch has faded by half of it on the average
        faded = faded * fade + n * fade.sqrt();
        window += n - if i >= within { asked[i - within] } else { 0.0 };
        if i >= counted {
            same.add(window);
            fading.add(faded);
        }
    }
    if same.mean() <= 0.0 || fading.mean() <= 0.0 {
        return 1.0;
    }
    let constant = same.variance() / same.mean();
    let exponential = 0.5 + fading.variance() / fading.mean();
    let likeness = likeness(&resource.series.lengths);
    let z = match likeness {
        k if k >= 0.5 => exponential + (constant - exponential) * (k - 0.5) / 0.5,
        k => 1.0 + (exponential - 1.0) * k / 0.5,
    };
    // chance alone moves it so far
    let chance = 3.0 * (2.0 / looks).sqrt() * 0.8;
    // what is more even than chance cannot be so by more than all of it
    let is_clear = if z > 1.0 { z - 1.0 > chance } else { 1.0 - z > chance.min(0.7) };
    if is_clear { z.max(0.05) } else { 1.0 }
}

/// How alike two lengths are: the shorter of two over the mean. 1 where all are the same, a half
/// where they are exponential.
fn likeness(lengths: &Lengths) -> f64 {
    let mut sample: Vec<u64> = lengths.sample().to_vec();
    if sample.len() < 20 {
        return 0.5;
    }
    sample.sort_unstable();
    let n = sample.len();
    let mean = sample.iter().map(|l| *l as f64).sum::<f64>() / n as f64;
    if mean <= 0.0 {
        return 0.5;
    }
    // in order, the shorter of a pair is the first of it
    let shorter: f64 = sample.iter().enumerate().map(|(i, l)| *l as f64 * (n - 1 - i) as f64).sum();
    (shorter / (n as f64 * (n - 1) as f64 / 2.0) / mean).clamp(0.05, 1.0)
}

/// Sums for a mean and a variance.
#[derive(Default)]
struct Moments {
    n: f64,
    sum: f64,
    squares: f64,
}

impl Moments {
    fn add(&mut self, x: f64) {
        self.n += 1.0;
        self.sum += x;
        self.squares += x * x;
    }

    fn mean(&self) -> f64 {
        self.sum / self.n.max(1.0)
    }

    fn variance(&self) -> f64 {
        (self.squares / self.n.max(1.0) - self.mean() * self.mean()).max(0.0)
    }
}

fn contradicted(resource: &Resource, d: &Demand, retries: bool, per_host: bool) -> Vec<Assumption> {
    let mut list = Vec::new();
    let usable = resource.series.usable.unwrap_or(u64::MAX);
    if resource.series.begun == 0 {
        return vec![Assumption::NeverInUse];
    }
    if d.peakedness > 1.0 {
        list.push(Assumption::Bursts);
    } else if d.peakedness < 1.0 {
        list.push(Assumption::Smooth);
    }
    let held: u64 = resource.holders.iter().map(|h| h.held).sum();
    let mean = held as f64 / resource.holders.len().max(1) as f64;
    if !per_host
        && resource.holders.first().is_some_and(|h| h.held as f64 > 5.0 * mean && h.held >= 20)
    {
        list.push(Assumption::HeavyHolders);
    }
    if per_host && usable < u64::MAX && d.hosts < usable.saturating_mul(2) {
        list.push(Assumption::FewHosts);
    }
    if resource.series.with_rest.is_some() {
        list.push(Assumption::Rests);
    }
    if retries {
        list.push(Assumption::Retries);
    }
    list
}
