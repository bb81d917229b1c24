//! What pictures of use show, on the terminal and in files alike.

mod picture;
pub mod terminal;

use std::net::IpAddr;

use zarnet_analysis::capacity::{Outlook, Resource};
use zarnet_core::device::{Span, Supply};
use zarnet_core::net::Instant;

use zarnet_analysis::capacity::CapacityAnalysis;

pub use picture::{Kind, drawn};

/// Use of a resource over time, as it is drawn.
pub struct Curve<'a> {
    /// The resource's use between two instants, in stretches.
    series: &'a zarnet_core::device::Series,
    /// The first instant of the chart.
    pub from: Instant,
    /// The last instant of the chart.
    pub until: Instant,
    /// How much there is.
    pub usable: Option<u64>,
    /// The most that was in use.
    pub peak: u64,
}

impl<'a> Curve<'a> {
    /// The curve of a resource in a window.
    pub fn of(r: &'a Resource, (from, until): (Instant, Instant)) -> Self {
        let (series, usable) = (&r.series, r.series.usable);
        let peak = series.unavailable().peak.count.max(series.peak.count);
        Self { series, from, until, usable, peak }
    }

    /// With what rests, in so many stretches; empty where nothing does.
    pub fn resting(&self, count: usize) -> Vec<Span> {
        let rest = self.series.with_rest.as_ref();
        rest.map(|rest| rest.reduced(self.from, self.until, count)).unwrap_or_default()
    }

    /// In so many stretches.
    pub fn stretches(&self, count: usize) -> Vec<Span> {
        self.series.reduced(self.from, self.until, count)
    }

    /// The top of the scale.
    pub fn top(&self) -> f64 {
        let usable = self.usable.unwrap_or(0).max(self.peak).max(1) as f64;
        // what is hardly in use is drawn on its own scale
        if (self.peak as f64) < usable * 0.05 { (self.peak as f64 * 1.25).max(1.0) } else { usable }
    }
}

/// Use of one address over time, as a strip.
pub struct Strip<'a> {
    /// The external address of the curve.
    pub address: IpAddr,
    /// Use of the address's ports over time.
    pub curve: Curve<'a>,
}

/// So many strips can be read.
const MOST_STRIPS: usize = 16;

/// The addresses that a resource's ports are on; those of the same device and protocol.
pub fn strips<'a>(analysis: &'a CapacityAnalysis, of: &Resource) -> Vec<Strip<'a>> {
    let same = |r: &&Resource| match (r.supply, of.supply) {
        (Supply::Ports(_, p, a), Supply::Ports(_, q, b) | Supply::PortsOfAll(_, q, b)) => {
            r.device == of.device && p == q && a == b
        }
        (Supply::Blocks(_, p, a), Supply::Blocks(_, q, b) | Supply::BlocksOfAll(_, q, b)) => {
            r.device == of.device && p == q && a == b
        }
        _ => false,
    };
    let strip = |r: &'a Resource| match r.supply {
        Supply::Ports(address, ..) | Supply::Blocks(address, ..) => {
            Some(Strip { address, curve: Curve::of(r, (analysis.from, analysis.until)) })
        }
        Supply::Pool(_)
        | Supply::PortsOfAll(..)
        | Supply::BlocksOfAll(..)
        | Supply::Mappings
        | Supply::Sessions => None,
    };
    let mut list: Vec<Strip> = analysis.resources.iter().filter(same).filter_map(strip).collect();
    list.sort_by_key(|s| std::cmp::Reverse(s.curve.peak));
    list.truncate(MOST_STRIPS);
    list.sort_by_key(|s| s.address);
    list
}

/// How much is refused by how many there are.
pub struct BySize {
    /// Size and share refused.
    pub points: Vec<(u64, f64)>,
    /// How much can be handed out.
    pub usable: u64,
    /// How much the target needs.
    pub needed: Option<u64>,
    /// The share that is wanted.
    pub target: f64,
}

/// The least share that is drawn.
pub const LEAST_SHARE: f64 = 1e-5;

impl BySize {
    /// The curve of refused shares for a demand.
    pub fn of(o: &Outlook, usable: u64, target: f64) -> Self {
        let needed = o.needed;
        let far = needed.unwrap_or(usable).max(usable).max(1);
        let last = far + far / 4 + 2;
        let first = (usable.min(needed.unwrap_or(usable)) / 2).max(1);
        let step = ((last - first) / 120).max(1);
        let points = (0..=(last - first) / step).map(|n| first + n * step);
        // more never refuse more, though hosts that are dealt out by chance may seem to
        let points = points.scan(1.0f64, |least, n| {
            *least = least.min(o.model.refusal_of_size(n, 1.0));
            Some((n, *least))
        });
        let points = points.collect();
        Self { points, usable, needed, target }
    }
}
