//! Load profiles: flows that are made up, at random times and of random lengths, the same on every
//! machine for one seed.

use std::net::IpAddr;

use rand_chacha::ChaCha12Rng;
use rand_chacha::rand_core::{Rng, SeedableRng};
use rand_distr::{Distribution, Exp, Exp1, LogNormal, Pareto};

use super::{Ending, Flow, Party};
use crate::net::{AddressSet, Instant, Protocol};

/// How long the flows of a profile last. Times in nanoseconds.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Length {
    /// Every value is the same.
    Fixed(u64),
    /// Anything from one to the other, each as likely.
    Uniform(u64, u64),
    /// Exponential, with this mean.
    Exponential(u64),
    /// Log-normal: its median, and the standard deviation of the logarithm.
    LogNormal(u64, f64),
    /// Pareto: the least, and the shape; the smaller the shape, the more of it is in few flows.
    Pareto(u64, f64),
}

/// Who takes part, each as likely as any other.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Crowd {
    named: Vec<Party>,
    addresses: AddressSet,
}

impl Crowd {
    /// Parties by name, and addresses.
    pub fn new(named: Vec<Party>, addresses: AddressSet) -> Self {
        Self { named, addresses }
    }

    /// Number of flows, at most; saturates at `u128::MAX`.
    pub fn count(&self) -> u128 {
        self.addresses.count().saturating_add(self.named.len() as u128)
    }

    fn nth(&self, n: u128) -> Option<Party> {
        if let Some(party) = usize::try_from(n).ok().and_then(|n| self.named.get(n)) {
            return Some(*party);
        }
        let mut left = n - self.named.len() as u128;
        for range in self.addresses.ranges() {
            if left < range.count() {
                return range.nth(left).map(Party::Address);
            }
            left -= range.count();
        }
        None
    }

    fn pick(&self, random: &mut ChaCha12Rng) -> Party {
        let n = (u128::from(random.next_u64()) * self.count().min(u128::from(u64::MAX))) >> 64;
        self.nth(n).unwrap_or(Party::Address(IpAddr::from([0, 0, 0, 0])))
    }

    /// The addresses in it that no name stands for.
    pub fn addresses(&self) -> &AddressSet {
        &self.addresses
    }
}

/// A load profile: flows that are generated from a seed.
#[derive(Debug, Clone, PartialEq)]
pub struct Load {
    /// When the load begins.
    pub start: Instant,
    /// For how long flows begin, in nanoseconds.
    pub lasts: u64,
    /// Who starts flows; at least one.
    pub sources: Crowd,
    /// Whom they are for; at least one.
    pub destinations: Crowd,
    /// Number of the flows' protocol above IP.
    pub protocol: Protocol,
    /// Destination port of the flows; `None` for a protocol without ports.
    pub destination_port: Option<u16>,
    /// Flows a second, over all sources; above 0.
    pub rate: f64,
    /// How long each lasts.
    pub each_lasts: Length,
    /// How each flow ends; `None` as the protocol does by default.
    pub ending: Option<Ending>,
    /// Where its random choices start from.
    pub seed: u64,
}

impl Length {
    /// The mean in nanoseconds; infinite for a distribution that has none.
    pub fn mean(self) -> f64 {
        match self {
            Self::Fixed(length) | Self::Exponential(length) => length as f64,
            Self::Uniform(least, most) => (least as f64 + most as f64) / 2.0,
            Self::LogNormal(median, sigma) => median as f64 * (sigma * sigma / 2.0).exp(),
            Self::Pareto(least, shape) if shape > 1.0 => least as f64 * shape / (shape - 1.0),
            Self::Pareto(..) => f64::INFINITY,
        }
    }
}

impl Load {
    /// How many of its flows may be in a table at a time: those that begin while one lasts and for
    /// `idle` nanoseconds after.
    pub fn most_alive(&self, idle: f64) -> f64 {
        self.rate * (self.each_lasts.mean() + idle).min(self.lasts as f64) / 1e9
    }

    /// Its flows, in the order of their start: independent of each other, so that the gaps are
    /// exponential.
    pub fn flows(&self) -> LoadFlows {
        let random = ChaCha12Rng::seed_from_u64(self.seed);
        LoadFlows { load: self.clone(), random, at: 0.0 }
    }
}

/// Flows in the making.
#[derive(Debug, Clone)]
pub struct LoadFlows {
    load: Load,
    random: ChaCha12Rng,
    /// Seconds since the profile began.
    at: f64,
}

impl LoadFlows {
    fn length(&mut self) -> u64 {
        let random = &mut self.random;
        let drawn = |result: Option<f64>| result.map_or(0, |ns| ns.clamp(0.0, 1e18) as u64);
        match self.load.each_lasts {
            Length::Fixed(length) => length,
            Length::Uniform(least, most) => {
                let span = u128::from(most.saturating_sub(least)) + 1;
                least + ((u128::from(random.next_u64()) * span) >> 64) as u64
            }
            Length::Exponential(mean) => {
                drawn(Exp::new(1.0 / mean as f64).ok().map(|d| d.sample(random)))
            }
            Length::LogNormal(median, sigma) => {
                let factor =
                    LogNormal::new(0.0, sigma).ok().map(|d: LogNormal<f64>| d.sample(random));
                drawn(factor.map(|f| f * median as f64))
            }
            Length::Pareto(least, shape) => {
                drawn(Pareto::new(least as f64, shape).ok().map(|d| d.sample(random)))
            }
        }
    }
}

impl Iterator for LoadFlows {
    type Item = Flow;

    fn next(&mut self) -> Option<Flow> {
        let gap: f64 = Exp1.sample(&mut self.random);
        self.at += gap / self.load.rate;
        let offset = (self.at * 1e9) as u64;
        if offset >= self.load.lasts {
            return None;
        }
        let source = self.load.sources.pick(&mut self.random);
        let destination = self.load.destinations.pick(&mut self.random);
        let lasts = self.length();
        Some(Flow {
            start: Instant(self.load.start.0.saturating_add(offset)),
            protocol: self.load.protocol,
            source,
            source_port: None,
            destination,
            destination_port: self.load.destination_port,
            lasts,
            ending: self.load.ending,
            round_trip: None,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::net::AddressRange;

    fn load(each_lasts: Length) -> Load {
        let set = |text: &str| {
            AddressRange::parse(text).map(|r| AddressSet::from(r.0)).unwrap_or_default()
        };
        Load {
            start: Instant(5_000_000_000),
            lasts: 1_000_000_000_000,
            sources: Crowd::new(Vec::new(), set("10.61.16.0/28")),
            destinations: Crowd::new(Vec::new(), set("198.51.100.80")),
            protocol: Protocol::TCP,
            destination_port: Some(443),
            rate: 20.0,
            each_lasts,
            ending: None,
            seed: 7,
        }
    }

    /// As many as the rate says, within four standard deviations; in order; from every source; the
    /// same again.
    #[test]
    fn a_profile_keeps_its_rate_and_its_seed() {
        let load = load(Length::Exponential(3_000_000_000));
        let flows: Vec<Flow> = load.flows().collect();
        assert!((20_000.0 - flows.len() as f64).abs() < 4.0 * 20_000f64.sqrt(), "{}", flows.len());
        assert!(flows.is_sorted_by_key(|f| f.start));
        assert!(
            flows.iter().all(|f| f.start >= load.start && f.start.0 < load.start.0 + load.lasts)
        );
        let sources: std::collections::HashSet<Party> = flows.iter().map(|f| f.source).collect();
        assert_eq!(sources.len(), 16);
        assert_eq!(flows, load.flows().collect::<Vec<_>>());
        assert_ne!(flows, Load { seed: 8, ..load }.flows().collect::<Vec<_>>());
    }

    /// Each distribution has the middle that was asked for.
    #[test]
    fn lengths_have_their_distribution() {
        let second = 1_000_000_000u64;
        for (length, median) in [
            (Length::Fixed(second), 1.0),
            (Length::Uniform(second, 3 * second), 2.0),
            (Length::Exponential(second), 2f64.ln()),
            (Length::LogNormal(second, 1.5), 1.0),
            (Length::Pareto(second, 2.0), 2f64.sqrt()),
        ] {
            let mut lengths: Vec<u64> = load(length).flows().map(|f| f.lasts).collect();
            lengths.sort_unstable();
            let got = lengths[lengths.len() / 2] as f64 / second as f64;
            assert!((got / median - 1.0).abs() < 0.06, "{length:?}: {got} for {median}");
        }
    }

    /// The very numbers, so that a change of a library shows.
    #[test]
    fn the_first_flows_of_a_seed() {
        let flows: Vec<(u64, u64)> = load(Length::LogNormal(1_000_000_000, 1.0))
            .flows()
            .take(3)
            .map(|f| (f.start.0, f.lasts))
            .collect();
        assert_eq!(
            flows,
            [
                (5_001_472_341, 1_123_329_608),
                (5_015_870_539, 489_620_478),
                (5_023_500_061, 48_897_488)
            ]
        );
    }
}
