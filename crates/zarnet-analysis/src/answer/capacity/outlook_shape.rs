//! What is to be expected of supplies, and what could be done, as JSON.

use std::net::IpAddr;

use serde::Serialize;

use super::named::{CapacityAnswer, Which};

use crate::answer::change::diff;
use crate::capacity::{Forecast, Measured, Outlook, Resource, Trial};

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
pub(super) struct ForecastShape<'a> {
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
    requests: u64,
    ran_out: usize,
    first_refusal: Option<f64>,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
pub(super) struct SizingShape<'a> {
    #[serde(flatten)]
    which: Which<'a>,
    target: f64,
    usable: u64,
    verdict: &'static str,
    agrees: bool,
    formula: &'static str,
    needed: Option<u64>,
    busiest_from: f64,
    busiest_until: f64,
    requests_a_second: f64,
    holds: f64,
    offered: f64,
    carried: f64,
    computed: f64,
    measured: MeasuredShape,
    refused_overall: f64,
    hosts: u64,
    peakedness: f64,
    headroom: Option<f64>,
    users: Option<u64>,
    asked_users: Option<AskedUsers>,
    imbalance: Option<ImbalanceShape>,
    rests_on: &'static str,
    contradicted: Vec<&'static str>,
}

/// The share that was refused in the busiest hour.
#[derive(Serialize)]
struct MeasuredShape {
    requests: u64,
    refused: u64,
    share: f64,
    low: f64,
    high: f64,
}

/// What so many users need.
#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct AskedUsers {
    users: u64,
    refusal: f64,
    needed: Option<u64>,
}

#[derive(Serialize)]
struct ImbalanceShape {
    worst: IpAddr,
    refused: f64,
    factor: f64,
    stuck: u64,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
pub(super) struct RemedyShape<'a> {
    #[serde(flatten)]
    which: Which<'a>,
    remedy: &'a str,
    title: &'a str,
    cost: String,
    addresses: u64,
    obstacle: Option<&'a str>,
    refused_flows: Option<u64>,
    refused_hosts: Option<u64>,
    untranslated_flows: Option<u64>,
    served_flows: Option<u64>,
    lost_flows: Option<u64>,
    losers: Vec<IpAddr>,
    most: Option<u64>,
    usable_then: Option<u64>,
    diff: Option<String>,
}

impl<'a> CapacityAnswer<'a> {
    pub(super) fn forecast(self, r: &Resource, o: &'a Outlook) -> Vec<ForecastShape<'a>> {
        let which = self.which(r);
        let one = move |f: &'a Forecast| ForecastShape {
            which: which.clone(),
            growth: f.growth,
            offered: f.offered,
            refusal: f.refusal,
            seconds_between_refusals: f.every.is_finite().then_some(f.every),
            simulated: o.simulated.iter().find(|s| s.growth == f.growth).map(|s| SimulatedShape {
                refusal: s.refused.mean,
                low: s.refused.low.max(0.0),
                high: s.refused.high.min(1.0),
                runs: s.refused.runs,
                requests: s.requests,
                ran_out: s.ran_out,
                first_refusal: s.first,
            }),
        };
        o.forecasts.iter().map(one).collect()
    }

    pub(super) fn sizing(self, r: &Resource, o: &Outlook) -> SizingShape<'a> {
        let (d, usable) = (&o.demand, r.series.usable.unwrap_or(0));
        let Measured { requests, refused, share, low, high } = d.measured;
        SizingShape {
            which: self.which(r),
            target: self.target,
            usable,
            verdict: o.verdict.name(),
            agrees: o.agrees,
            formula: o.model.formula().name(),
            needed: o.needed,
            busiest_from: d.from.seconds(),
            busiest_until: d.until.seconds(),
            requests_a_second: d.rate,
            holds: d.holds,
            offered: o.model.offered(1.0),
            carried: d.carried,
            computed: o.model.refusal(usable, 1.0),
            measured: MeasuredShape { requests, refused, share, low, high },
            refused_overall: o.overall,
            hosts: d.hosts,
            peakedness: d.peakedness,
            headroom: o.headroom,
            users: o.users,
            asked_users: self.users.map(|users| AskedUsers {
                users,
                refusal: o.model.refusal(usable, users as f64 / d.hosts.max(1) as f64),
                needed: o.size_for(users, self.target),
            }),
            imbalance: o.imbalance.map(|i| ImbalanceShape {
                worst: i.worst,
                refused: i.refused,
                factor: i.factor,
                stuck: i.stuck,
            }),
            rests_on: o.model.formula().advice(),
            contradicted: d.contradicted.iter().map(|c| c.name()).collect(),
        }
    }

    pub(super) fn remedy(self, t: &'a Trial) -> RemedyShape<'a> {
        const MOST_LOSERS: usize = 20;
        let outcome = t.outcome.as_ref();
        let peak = outcome.and_then(|o| o.peak);
        let cost: Vec<&str> = t.kinds.iter().map(|k| k.sentence()).collect();
        RemedyShape {
            which: self.which(&self.analysis.resources[t.of]),
            remedy: &t.name,
            title: &t.title,
            cost: cost.join(" "),
            addresses: t.addresses,
            obstacle: t.obstacle.as_deref(),
            refused_flows: outcome.map(|o| o.refused),
            refused_hosts: outcome.map(|o| o.hosts),
            untranslated_flows: outcome.map(|o| o.untranslated),
            served_flows: outcome.map(|o| o.served),
            lost_flows: outcome.map(|o| o.lost),
            losers: outcome
                .into_iter()
                .flat_map(|o| o.losers.iter().take(MOST_LOSERS).map(|l| l.host))
                .collect(),
            most: peak.map(|p| p.0),
            usable_then: peak.and_then(|p| p.1),
            diff: t.changed.as_ref().map(|c| diff(&self.loaded.sources, &c.sources)),
        }
    }
}
