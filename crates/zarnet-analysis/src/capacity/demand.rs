//! What is asked of a supply in its busiest hour, and how far that is what a formula takes it to
//! be.

use super::Resource;
use super::erlang;
use zarnet_core::device::Supply;
use zarnet_core::named;
use zarnet_core::net::Instant;

/// No forecast looks for more than this.
pub const MOST_UNITS: u64 = 1 << 20;

named! {
    /// Something that a forecast rests on and that the traffic contradicts.
    Assumption {
        Bursts, "bursts",
            "Requests come in bursts, not independently of each other: more are refused than the \
             formula says.",
            "Requests come in bursts, not independently of each other.",
            "Take the simulation, or more than the formula asks for.";
        HeavyHolders, "heavy-holders",
            "A few hosts hold far more than the others: a limit for each host may help more than \
             a larger supply.",
            "A few hosts hold far more than the others.",
            "`ports-per-host`, before a larger supply.";
        FewHosts, "few-hosts",
            "There are hardly more hosts than there is to hand out: fewer are refused than the \
             formula says.",
            "There are hardly more hosts than there is to hand out.",
            "One for each host is enough for sure.";
        Retries, "retries",
            "Refused hosts try again: each is counted once for the time that it would have held.",
            "Refused hosts try again.",
            "Each is counted once for the time that it would have held.";
        ShortRecord, "short-record",
            "The traffic is short against the time that each holds: use has not settled yet.",
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
    /// The busiest hour, or all of the traffic where it is shorter.
    pub from: Instant,
    /// When the window ends.
    pub until: Instant,
    /// Requests a second, refused ones included.
    pub rate: f64,
    /// For how long each holds, in seconds, on the average.
    pub holds: f64,
    /// How much would be in use if there were no end to it, in erlang: rate times holding time.
    pub offered: f64,
    /// How much was in use, on the average.
    pub carried: f64,
    /// Share of requests that were refused.
    pub refused: f64,
    /// Variance of requests over their mean, in stretches of the hour: 1 where they are
    /// independent.
    pub burstiness: f64,
    /// What the traffic contradicts.
    pub contradicted: Vec<Assumption>,
}

/// An hour.
const HOUR: u64 = 3_600_000_000_000;
/// Stretches that an hour is looked at in.
const STRETCHES: usize = 60;

/// What was asked of a resource between two instants of the traffic, in its busiest hour.
pub fn demand(resource: &Resource, from: Instant, until: Instant) -> Demand {
    let hour = busiest(resource, from, until);
    of_hour(resource, hour)
}

/// The hour with the most in use or refused.
fn busiest(resource: &Resource, from: Instant, until: Instant) -> (Instant, Instant) {
    let length = until.0.saturating_sub(from.0);
    if length <= HOUR {
        return (from, until);
    }
    let step = HOUR / 12;
    let starts =
        (0..=(length - HOUR).div_ceil(step)).map(|n| from.0 + (n * step).min(length - HOUR));
    let weigh = |start: u64| {
        let (a, b) = (Instant(start), Instant(start + HOUR));
        (refusals(resource, a, b), resource.series.mean(a, b))
    };
    let best = starts
        .map(|s| (weigh(s), s))
        .reduce(|best, next| if next.0 > best.0 { next } else { best });
    let start = best.map_or(from.0, |b| b.1);
    (Instant(start), Instant(start + HOUR))
}

fn refusals(resource: &Resource, from: Instant, until: Instant) -> u64 {
    let spans = resource.series.spans();
    let range = spans.partition_point(|s| s.from < from)..spans.partition_point(|s| s.from < until);
    spans[range].iter().map(|s| u64::from(s.refused)).sum()
}

/// What was asked of a resource between two instants.
pub fn of_hour(resource: &Resource, (from, until): (Instant, Instant)) -> Demand {
    let series = &resource.series;
    let seconds = (until.0.saturating_sub(from.0) as f64 / 1e9).max(1e-9);
    let (begun, carried) = (series.begun_between(from, until) as f64, series.mean(from, until));
    let holds = holding_time(resource, (from, until), begun);
    let refused = refusals(resource, from, until) as f64;
    // a host that wants a whole address wants one, however often it asks
    let unit = matches!(resource.supply, Supply::Pool(_));
    let wanted = if unit { once_each(resource, from, until, holds) } else { refused };
    let rate = (begun + wanted) / seconds;
    let offered = if begun > 0.0 { rate * holds } else { carried };
    let mut d = Demand {
        from,
        until,
        rate,
        holds,
        offered,
        carried,
        refused: if begun + wanted > 0.0 { wanted / (begun + wanted) } else { 0.0 },
        burstiness: burstiness(resource, from, until),
        contradicted: Vec::new(),
    };
    d.contradicted = contradicted(resource, &d, refused > wanted * 1.2 && wanted > 0.0, unit);
    d
}

/// For how long what began in an hour holds, in seconds. What lived when the hour began is carried
/// by it, but did not begin in it: over all of the traffic both agree, and in an hour that lies
/// half a holding time later they nearly do.
fn holding_time(resource: &Resource, (from, until): (Instant, Instant), begun: f64) -> f64 {
    let series = &resource.series;
    let end = series.spans().last().map_or(until, |s| s.from.max(until));
    let whole = series.mean(Instant::ZERO, end) * (end.0 as f64 / 1e9) / series.begun.max(1) as f64;
    let later = |at: Instant| Instant(at.0.saturating_add((whole * 0.5e9) as u64));
    let length = until.0.saturating_sub(from.0) as f64 / 1e9;
    if begun < 30.0 || later(until) > end || whole > length / 2.0 {
        return whole;
    }
    series.mean(later(from), later(until)) * length / begun
}

/// Requests of hosts that were refused in an hour: one for each time that the host would have held
/// it.
fn once_each(resource: &Resource, from: Instant, until: Instant, holds: f64) -> f64 {
    let one = |r: &super::Refused| {
        let within = r.times.iter().filter(|t| (from..until).contains(*t));
        let mut counted: Option<Instant> = None;
        let fresh = within.filter(|t| {
            let new = counted.is_none_or(|c| (**t - c).as_secs_f64() >= holds);
            if new {
                counted = Some(**t);
            }
            new
        });
        fresh.count() as f64
    };
    resource.refused.iter().map(one).sum()
}

fn burstiness(resource: &Resource, from: Instant, until: Instant) -> f64 {
    let spans = resource.series.reduced(from, until, STRETCHES);
    let counts: Vec<f64> =
        spans.iter().map(|s| f64::from(s.begun) + f64::from(s.refused)).collect();
    let n = counts.len() as f64;
    let mean = counts.iter().sum::<f64>() / n;
    if mean <= 0.0 {
        return 1.0;
    }
    counts.iter().map(|c| (c - mean) * (c - mean)).sum::<f64>() / (n - 1.0) / mean
}

fn contradicted(resource: &Resource, d: &Demand, retries: bool, unit: bool) -> Vec<Assumption> {
    let mut list = Vec::new();
    let usable = resource.series.usable.unwrap_or(u64::MAX);
    if resource.series.begun == 0 {
        return vec![Assumption::NeverInUse];
    }
    // of sixty stretches, independent ones exceed 1.5 once in a hundred hours
    if d.burstiness > 1.5 {
        list.push(Assumption::Bursts);
    }
    let held: u64 = resource.holders.iter().map(|h| h.held).sum();
    let mean = held as f64 / resource.holders.len().max(1) as f64;
    if !unit && resource.holders.first().is_some_and(|h| h.held as f64 > 5.0 * mean && h.held >= 20)
    {
        list.push(Assumption::HeavyHolders);
    }
    let mut hosts: Vec<_> = resource.holders.iter().map(|h| h.host).collect();
    hosts.extend(resource.refused.iter().map(|r| r.host));
    hosts.sort_unstable();
    hosts.dedup();
    if unit && usable < u64::MAX && (hosts.len() as u64) < usable.saturating_mul(2) {
        list.push(Assumption::FewHosts);
    }
    if retries {
        list.push(Assumption::Retries);
    }
    let length = d.until.0.saturating_sub(d.from.0) as f64 / 1e9;
    if d.holds > length / 3.0 {
        list.push(Assumption::ShortRecord);
    }
    list
}

/// What a load that has grown comes to, by Erlang's formula.
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

impl Demand {
    /// The same load, `growth` times.
    pub fn grown(&self, usable: u64, growth: f64) -> Forecast {
        let offered = self.offered * growth;
        let refusal = erlang::refusal(usable, offered);
        let a_second = self.rate * growth * refusal;
        let every = if a_second > 0.0 { 1.0 / a_second } else { f64::INFINITY };
        Forecast { growth, offered, refusal, every }
    }

    /// How many times the load may grow so that no more than `target` is refused; below 1 if it is
    /// too much already.
    pub fn headroom(&self, usable: u64, target: f64) -> Option<f64> {
        (self.offered > 0.0).then(|| erlang::offered_for(usable, target) / self.offered)
    }

    /// The fewest that refuse no more than `target` of a load `growth` times this one.
    pub fn needed(&self, target: f64, growth: f64, most: u64) -> Option<u64> {
        erlang::servers_for(self.offered * growth, target, most)
    }
}
