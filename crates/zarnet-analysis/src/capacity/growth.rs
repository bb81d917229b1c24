//! How a load grows from day to day, by a record of several days or by tables of several moments.

use zarnet_core::net::Instant;

use super::Resource;
use super::spread::student;

/// How much a load grows.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct GrowthRate {
    /// By how much in a month: 0.05 are five per cent.
    pub a_month: f64,
    /// Lower end of the interval that holds it with 95 % confidence.
    pub low: f64,
    /// Upper end of the interval.
    pub high: f64,
    /// Days, or tables, that it was found from; 0 where it was given.
    pub found_from: usize,
}

/// Days of a month, on the average.
const MONTH: f64 = 30.44;
/// Nanoseconds of a day, and of an hour.
const DAY: u64 = 86_400_000_000_000;
const HOUR: u64 = 3_600_000_000_000;

impl GrowthRate {
    /// One that was given.
    pub fn given(a_month: f64) -> Self {
        Self { a_month, low: a_month, high: a_month, found_from: 0 }
    }

    /// By how much was in use on days, counted from anywhere: the straight line through the
    /// logarithms. `None` of fewer than three.
    pub fn through(points: &[(f64, f64)]) -> Option<Self> {
        let points: Vec<(f64, f64)> =
            points.iter().filter(|p| p.1 > 0.0).map(|p| (p.0, p.1.ln())).collect();
        let n = points.len() as f64;
        if points.len() < 3 {
            return None;
        }
        let mean = |of: fn(&(f64, f64)) -> f64| points.iter().map(of).sum::<f64>() / n;
        let (x, y) = (mean(|p| p.0), mean(|p| p.1));
        let squares: f64 = points.iter().map(|p| (p.0 - x).powi(2)).sum();
        if squares <= 0.0 {
            return None;
        }
        let slope = points.iter().map(|p| (p.0 - x) * (p.1 - y)).sum::<f64>() / squares;
        let left: f64 = points.iter().map(|p| (p.1 - y - slope * (p.0 - x)).powi(2)).sum();
        let error = (left / (n - 2.0) / squares).sqrt() * student(points.len() - 2);
        let a_month = |slope: f64| (slope * MONTH).exp_m1();
        let (low, high) = (a_month(slope - error), a_month(slope + error));
        Some(Self { a_month: a_month(slope), low, high, found_from: points.len() })
    }

    /// By the busiest hours of the whole days of a record.
    pub(super) fn of(resource: &Resource, from: Instant, until: Instant) -> Option<Self> {
        let days = (until.0.saturating_sub(from.0)) / DAY;
        let busiest = |day: u64| {
            let hours = (0..24).map(|h| from.0 + day * DAY + h * HOUR);
            hours.map(|h| resource.series.mean(Instant(h), Instant(h + HOUR))).fold(0.0, f64::max)
        };
        let points: Vec<(f64, f64)> = (0..days).map(|d| (d as f64, busiest(d))).collect();
        Self::through(&points)
    }

    /// In how many months a load has grown so many times: the soonest, the likeliest and the latest.
    /// `None` is never.
    pub fn months(&self, times: f64) -> [Option<f64>; 3] {
        [self.high, self.a_month, self.low].map(|rate| match times <= 1.0 {
            true => Some(0.0),
            false => (rate > 0.0).then(|| times.ln() / rate.ln_1p()),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_steady_growth_is_found() {
        let steady: Vec<(f64, f64)> =
            (0..14).map(|d| (f64::from(d), 100.0 * 1.05f64.powf(f64::from(d) / MONTH))).collect();
        let found = GrowthRate::through(&steady).unwrap();
        assert!((found.a_month - 0.05).abs() < 1e-9, "{found:?}");
        assert!(found.high - found.low < 1e-6 && found.found_from == 14);
        // to double at five per cent a month takes 14.2 months
        assert!(found.months(2.0).iter().all(|m| (m.unwrap() - 14.2067).abs() < 1e-3));
        assert_eq!(found.months(0.9), [Some(0.0); 3]);
        assert_eq!(GrowthRate::through(&steady[..2]), None);
        assert_eq!(GrowthRate::through(&[(1.0, 5.0), (1.0, 6.0), (1.0, 7.0)]), None);
    }

    #[test]
    fn what_does_not_grow_is_never_too_much() {
        let level: Vec<(f64, f64)> =
            (0..10).map(|d| (f64::from(d), 100.0 + f64::from(d % 3))).collect();
        let found = GrowthRate::through(&level).unwrap();
        assert!(found.low < 0.0 && found.high > 0.0, "{found:?}");
        let [soonest, _, latest] = found.months(2.0);
        assert!(soonest.is_some() && latest.is_none());
    }
}
