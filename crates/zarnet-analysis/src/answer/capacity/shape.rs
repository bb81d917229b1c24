//! The answer of `capacity` as JSON.

use super::named::{CapacityAnswer, Which};
use super::outlook_shape::{ForecastShape, RemedyShape, SizingShape};
use crate::answer::SHAPE;
use crate::capacity::{BlockUse, GrowthRate, Holder, Percentiles, Refused, Resource, listed};
use serde::Serialize;
use std::net::IpAddr;
use zarnet_core::net::Instant;
use zarnet_core::plan::{DeviceId, Pool};

/// The answer as a shape.
#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct CapacityShape<'a> {
    shape: u32,
    from: f64,
    until: f64,
    resources: Vec<ResourceShape<'a>>,
    refused_by_limits: usize,
    as_it_is: AsItIs,
    ports_of_hosts: Vec<PortsOfHosts<'a>>,
    observed_rows: Option<ObservedRows>,
    forecast: Vec<ForecastShape<'a>>,
    sizing: Vec<SizingShape<'a>>,
    remedies: Vec<RemedyShape<'a>>,
    recommended: Vec<&'a str>,
}

/// What comes of the traffic without a remedy.
#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct AsItIs {
    refused_flows: u64,
    refused_hosts: u64,
    untranslated_flows: u64,
}

/// Ports that hosts had at most at a time.
#[derive(Serialize)]
struct PortsOfHosts<'a> {
    device: &'a str,
    hosts: u64,
    p50: u64,
    p95: u64,
    p99: u64,
    most: u64,
}

/// Rows of an observed table that are not counted.
#[derive(Serialize)]
struct ObservedRows {
    unexplained: u64,
    outside: u64,
    repeated: u64,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct ResourceShape<'a> {
    #[serde(flatten)]
    which: Which<'a>,
    at: f64,
    listed: Option<u64>,
    lost_to_prefixes: Vec<IpAddr>,
    usable: Option<u64>,
    in_use: u64,
    most: u64,
    most_at: Option<f64>,
    with_rest: Option<u64>,
    above: Vec<Above>,
    first_full: Option<f64>,
    full_for: f64,
    first_refusal: Option<f64>,
    last_refusal: Option<f64>,
    refused_flows: u64,
    refused_hosts: usize,
    next_release: Option<f64>,
    blocks: Option<BlockShape>,
    growth: Option<GrowthShape>,
    alert: Option<AlertShape>,
    holders: Vec<HolderShape<'a>>,
    refused: Vec<RefusedShape<'a>>,
    resolution: f64,
    over_time: Vec<Stretch>,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct HolderShape<'a> {
    host: IpAddr,
    held: u64,
    since: Option<f64>,
    until: Option<f64>,
    idle: Option<f64>,
    rules: Vec<&'a str>,
    external: Option<IpAddr>,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct RefusedShape<'a> {
    host: IpAddr,
    reason: &'static str,
    rule: Option<&'a str>,
    flows: u64,
    first: f64,
    last: f64,
}

/// For how long so much was in use.
#[derive(Serialize)]
struct Above {
    share: f64,
    seconds: f64,
}

#[derive(Serialize)]
struct Stretch {
    from: f64,
    least: u32,
    most: u32,
    last: u32,
    refused: u32,
}

/// Blocks of ports.
#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct BlockShape {
    size: u64,
    on_address: u64,
    addresses: u64,
    hosts: u64,
    sharing: f64,
    each: f64,
    unused_ports: u64,
}

/// How use grows, and in how many months there is too little.
#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct GrowthShape {
    a_month: f64,
    low: f64,
    high: f64,
    found_from: usize,
    soonest: Option<f64>,
    months: Option<f64>,
    latest: Option<f64>,
}

/// From how much on there is so much time left.
#[derive(Serialize)]
struct AlertShape {
    minutes: f64,
    level: u64,
}

/// Stretches that use over time is told in.
const STRETCHES: usize = 240;

impl<'a> CapacityAnswer<'a> {
    pub(super) fn whole(self) -> CapacityShape<'a> {
        let analysis = self.analysis;
        let outlooks = || {
            analysis
                .resources
                .iter()
                .zip(&analysis.outlooks)
                .filter_map(|(r, o)| Some((r, o.as_ref()?)))
        };
        CapacityShape {
            shape: SHAPE,
            from: analysis.from.seconds(),
            until: analysis.until.seconds(),
            resources: (0..analysis.resources.len()).map(|i| self.resource(i)).collect(),
            refused_by_limits: analysis.elsewhere,
            forecast: outlooks().flat_map(|(r, o)| self.forecast(r, o)).collect(),
            sizing: outlooks().map(|(r, o)| self.sizing(r, o)).collect(),
            as_it_is: AsItIs {
                refused_flows: analysis.as_it_is.refused,
                refused_hosts: analysis.as_it_is.hosts,
                untranslated_flows: analysis.as_it_is.untranslated,
            },
            ports_of_hosts: analysis.ports_of_hosts.iter().map(|p| self.ports_of(p)).collect(),
            observed_rows: analysis.observed.then(|| {
                let [unexplained, outside, repeated] = analysis.rows_apart;
                ObservedRows { unexplained, outside, repeated }
            }),
            remedies: analysis.trials.iter().map(|t| self.remedy(t)).collect(),
            recommended: analysis
                .focus()
                .into_iter()
                .filter_map(|i| Some(analysis.best(i)?.name.as_str()))
                .collect(),
        }
    }

    fn ports_of(self, (device, p): &(DeviceId, Percentiles)) -> PortsOfHosts<'a> {
        let Percentiles { count: hosts, p50, p95, p99, most } = *p;
        PortsOfHosts { device: self.naming().device(*device), hosts, p50, p95, p99, most }
    }

    /// How the use of a resource grows, and in how many months there is too little.
    pub fn growth(self, i: usize) -> Option<(GrowthRate, [Option<f64>; 3])> {
        let analysis = self.analysis;
        let rate = (*analysis.growth.get(i)?)?;
        let r = &analysis.resources[i];
        let times = match analysis.outlooks.get(i).and_then(Option::as_ref) {
            Some(outlook) => outlook.headroom?,
            // of a table, until all is in use
            None => r.series.usable? as f64 / (r.in_use > 0).then_some(r.in_use as f64)?,
        };
        Some((rate, rate.months(times)))
    }

    /// From how much in use on as much time is left as is asked for, at the fastest that use rose.
    /// `None` where nothing limits it, or not even an empty supply leaves so long.
    pub fn alert(self, r: &Resource) -> Option<u64> {
        let within = self.alert?;
        let (from, until) = (self.analysis.from, self.analysis.until);
        let unavailable = r.series.unavailable();
        let rise = unavailable.fastest_rise(within.as_nanos() as u64, from, until);
        r.series.usable?.checked_sub(rise.into()).filter(|level| *level > 0)
    }

    fn resource(self, i: usize) -> ResourceShape<'a> {
        let r = &self.analysis.resources[i];
        let timed = !self.analysis.observed;
        let (s, pool) = (&r.series, self.pool_of(r));
        let holder = |h: &Holder| HolderShape {
            host: h.host,
            held: h.held,
            since: (timed || h.until > Instant::ZERO).then(|| h.since.seconds()),
            until: (timed || h.until > Instant::ZERO).then(|| h.until.seconds()),
            idle: h.last_active.map(|l| (r.at - l).as_secs_f64()),
            rules: self.rules(r.device, &h.rules),
            external: h.external,
        };
        let refused = |f: &Refused| RefusedShape {
            host: f.host,
            reason: f.reason.name(),
            rule: f.rule.map(|rule| self.naming().rule(r.device, rule)),
            flows: f.flows,
            first: f.first.seconds(),
            last: f.last.seconds(),
        };
        let stretch = |s: zarnet_core::device::Span| Stretch {
            from: s.from.seconds(),
            least: s.least,
            most: s.most,
            last: s.last,
            refused: s.refused,
        };
        let over_time: Vec<Stretch> = match (timed, self.over_time) {
            (false, _) => Vec::new(),
            (true, true) => s.spans().iter().copied().map(stretch).collect(),
            (true, false) => s
                .reduced(self.analysis.from, self.analysis.until, STRETCHES)
                .into_iter()
                .map(stretch)
                .collect(),
        };
        ResourceShape {
            which: self.which(r),
            at: r.at.seconds(),
            listed: pool.map(|p| u64::try_from(listed(p)).unwrap_or(u64::MAX)),
            lost_to_prefixes: pool.into_iter().flat_map(Pool::lost_to_prefixes).collect(),
            usable: s.usable,
            in_use: r.in_use,
            most: s.peak.count,
            most_at: timed.then(|| s.peak.at.seconds()),
            with_rest: s.with_rest.as_ref().map(|rest| rest.peak.count),
            above: if timed { self.above(r) } else { Vec::new() },
            first_full: s.first_full.filter(|_| timed).map(Instant::seconds),
            full_for: s.full_for(self.analysis.until) as f64 / 1e9,
            first_refusal: s.first_refusal.map(Instant::seconds),
            last_refusal: s.last_refusal.map(Instant::seconds),
            refused_flows: r.refused_flows,
            refused_hosts: r.refused.len(),
            next_release: r.next_release.map(Instant::seconds),
            blocks: self.analysis.blocks.get(i).copied().flatten().map(block),
            growth: self.growth(i).map(|(g, [soonest, months, latest])| GrowthShape {
                a_month: g.a_month,
                low: g.low,
                high: g.high,
                found_from: g.found_from,
                soonest,
                months,
                latest,
            }),
            alert: self
                .alert
                .zip(self.alert(r).filter(|_| timed))
                .map(|(within, level)| AlertShape { minutes: within.as_secs_f64() / 60.0, level }),
            holders: r.holders.iter().map(holder).collect(),
            refused: r.refused.iter().map(refused).collect(),
            resolution: s.resolution() as f64 / 1e9,
            over_time,
        }
    }

    fn above(self, r: &Resource) -> Vec<Above> {
        let Some(usable) = r.series.usable else { return Vec::new() };
        self.time_above(r)
            .map(|(share, time)| Above { share, seconds: time.as_secs_f64() })
            .into_iter()
            .filter(|_| usable > 0)
            .collect()
    }
}

fn block(b: BlockUse) -> BlockShape {
    let BlockUse { size, on_address, addresses, hosts, sharing, each, unused } = b;
    BlockShape { size, on_address, addresses, hosts, sharing, each, unused_ports: unused }
}
