//! The answer of `capacity` as JSON.

use super::named::CapacityAnswer;
use crate::answer::SHAPE;
use crate::answer::change::diff;
use crate::answer::ends::ProtocolName;
use crate::capacity::{Forecast, Holder, Refused, Resource, listed, supply_name};
use crate::capacity::{Outlook, Trial};
use serde::Serialize;
use std::net::IpAddr;
use zarnet_core::device::Supply;
use zarnet_core::net::Instant;
use zarnet_core::plan::Pool;

/// The answer as a shape.
#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct CapacityShape<'a> {
    shape: u32,
    from: f64,
    until: f64,
    resources: Vec<ResourceShape<'a>>,
    refused_by_limits: usize,
    forecast: Vec<ForecastShape<'a>>,
    sizing: Vec<SizingShape<'a>>,
    remedies: Vec<RemedyShape<'a>>,
}

#[derive(Serialize, Clone)]
#[serde(rename_all = "kebab-case")]
pub struct Which<'a> {
    pub device: &'a str,
    pub kind: &'static str,
    pub name: String,
    pub address: Option<IpAddr>,
    pub protocol: Option<ProtocolName>,
    pub ports: Option<String>,
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
    peak: u64,
    peak_at: Option<f64>,
    first_full: Option<f64>,
    full_for: f64,
    first_refusal: Option<f64>,
    last_refusal: Option<f64>,
    refused_flows: u64,
    refused_hosts: usize,
    next_release: Option<f64>,
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

#[derive(Serialize)]
struct Stretch {
    from: f64,
    least: u32,
    most: u32,
    last: u32,
    refused: u32,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct ForecastShape<'a> {
    #[serde(flatten)]
    which: Which<'a>,
    growth: f64,
    offered: f64,
    refusal: f64,
    seconds_between_refusals: Option<f64>,
    simulated: Option<SimulatedShape>,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct SimulatedShape {
    refusal: f64,
    low: f64,
    high: f64,
    runs: usize,
    ran_out: usize,
    first_refusal: Option<f64>,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct SizingShape<'a> {
    #[serde(flatten)]
    which: Which<'a>,
    target: f64,
    usable: u64,
    needed: Option<u64>,
    busiest_from: f64,
    busiest_until: f64,
    requests_a_second: f64,
    holds: f64,
    offered: f64,
    carried: f64,
    headroom: Option<f64>,
    months: Option<f64>,
    rests_on: Vec<&'static str>,
    contradicted: Vec<&'static str>,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct RemedyShape<'a> {
    #[serde(flatten)]
    which: Which<'a>,
    remedy: &'static str,
    title: &'a str,
    cost: &'static str,
    obstacle: Option<&'a str>,
    refused_flows: Option<u64>,
    refused_hosts: Option<u64>,
    peak: Option<u64>,
    usable_then: Option<u64>,
    diff: Option<String>,
}

/// Stretches that use over time is told in.
const STRETCHES: usize = 240;

/// What a number from the formula rests on.
const RESTS_ON: [&str; 3] = ["independent-requests", "many-hosts", "no-retries"];

impl<'a> CapacityAnswer<'a> {
    /// What a resource is called.
    pub(super) fn which(self, r: &Resource) -> Which<'a> {
        let name = supply_name(&self.loaded.plan, r.device, r.supply).swap_remove(0);
        let device = self.naming().device(r.device);
        let span = |(low, high): (u16, u16)| Some(format!("{low}-{high}"));
        let (kind, address, protocol, ports) = match r.supply {
            Supply::Pool(_) => ("pool", None, None, None),
            Supply::PortsOfAll(_, protocol, range) => ("ports", None, Some(protocol), span(range)),
            Supply::Ports(address, protocol, range) => {
                ("ports", Some(address), Some(protocol), span(range))
            }
            Supply::Blocks(address, protocol, range) => {
                ("blocks", Some(address), Some(protocol), span(range))
            }
            Supply::Mappings => ("mappings", None, None, None),
            Supply::Sessions => ("sessions", None, None, None),
        };
        Which {
            device,
            kind,
            name,
            address,
            protocol: protocol.map(|p| ProtocolName(Some(p))),
            ports,
        }
    }

    pub(super) fn whole(self) -> CapacityShape<'a> {
        let analysis = self.analysis;
        let outlooks = || {
            analysis
                .resources
                .iter()
                .zip(&analysis.outlooks)
                .filter_map(|(r, o)| Some((r, o.as_ref()?)))
        };
        let forecast = |(r, o): (&Resource, &'a Outlook)| {
            let which = self.which(r);
            let one = move |f: &'a Forecast| ForecastShape {
                which: which.clone(),
                growth: f.growth,
                offered: f.offered,
                refusal: f.refusal,
                seconds_between_refusals: f.every.is_finite().then_some(f.every),
                simulated: o.simulated.iter().find(|s| s.growth == f.growth).map(|s| {
                    SimulatedShape {
                        refusal: s.refused.mean,
                        low: s.refused.low.max(0.0),
                        high: s.refused.high.min(1.0),
                        runs: s.refused.runs,
                        ran_out: s.ran_out,
                        first_refusal: s.first,
                    }
                }),
            };
            o.forecasts.iter().map(one)
        };
        CapacityShape {
            shape: SHAPE,
            from: analysis.from.seconds(),
            until: analysis.until.seconds(),
            resources: analysis.resources.iter().map(|r| self.resource(r)).collect(),
            refused_by_limits: analysis.elsewhere,
            forecast: outlooks().flat_map(forecast).collect(),
            sizing: outlooks().map(|(r, o)| self.sizing(r, o)).collect(),
            remedies: analysis.trials.iter().map(|t| self.remedy(t)).collect(),
        }
    }

    fn resource(self, r: &Resource) -> ResourceShape<'a> {
        let timed = !self.analysis.observed;
        let (s, pool) = (&r.series, self.pool_of(r));
        let holder = |h: &Holder| HolderShape {
            host: h.host,
            held: h.held,
            since: timed.then(|| h.since.seconds()),
            until: timed.then(|| h.until.seconds()),
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
            peak: s.peak.count,
            peak_at: timed.then(|| s.peak.at.seconds()),
            first_full: s.first_full.filter(|_| timed).map(Instant::seconds),
            full_for: s.full_for(self.analysis.until) as f64 / 1e9,
            first_refusal: s.first_refusal.map(Instant::seconds),
            last_refusal: s.last_refusal.map(Instant::seconds),
            refused_flows: r.refused_flows,
            refused_hosts: r.refused.len(),
            next_release: r.next_release.map(Instant::seconds),
            holders: r.holders.iter().map(holder).collect(),
            refused: r.refused.iter().map(refused).collect(),
            resolution: s.resolution() as f64 / 1e9,
            over_time,
        }
    }

    fn sizing(self, r: &Resource, o: &Outlook) -> SizingShape<'a> {
        let d = &o.demand;
        SizingShape {
            which: self.which(r),
            target: self.target,
            usable: r.series.usable.unwrap_or(0),
            needed: o.needed,
            busiest_from: d.from.seconds(),
            busiest_until: d.until.seconds(),
            requests_a_second: d.rate,
            holds: d.holds,
            offered: d.offered,
            carried: d.carried,
            headroom: o.headroom,
            months: o.months.map(|m| m.max(0.0)),
            rests_on: RESTS_ON.to_vec(),
            contradicted: d.contradicted.iter().map(|c| c.name()).collect(),
        }
    }

    fn remedy(self, t: &'a Trial) -> RemedyShape<'a> {
        let peak = t.outcome.as_ref().and_then(|o| o.peak);
        RemedyShape {
            which: self.which(&self.analysis.resources[t.of]),
            remedy: t.kind.name(),
            title: &t.title,
            cost: t.kind.sentence(),
            obstacle: t.obstacle.as_deref(),
            refused_flows: t.outcome.as_ref().map(|o| o.refused),
            refused_hosts: t.outcome.as_ref().map(|o| o.hosts),
            peak: peak.map(|p| p.0),
            usable_then: peak.and_then(|p| p.1),
            diff: t.changed.as_ref().map(|c| diff(&self.loaded.sources, &c.sources)),
        }
    }
}
