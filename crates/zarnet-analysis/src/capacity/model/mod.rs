//! The formula that fits a supply: by who asks, how, and for what.

pub mod engset;
pub mod erlang;

use zarnet_core::named;

named! {
    /// A formula, with what it takes for granted.
    Formula {
        ErlangB, "erlang-b",
            "Erlang's loss formula: many hosts that ask independently of each other.",
            "ports, places in the table",
            "independent requests, many hosts";
        Engset, "engset",
            "Engset's loss formula: so many hosts, of which each asks for one at a time.",
            "whole addresses, and blocks of ports: each host asks for one at a time",
            "independent hosts, one each";
        Hayward, "hayward",
            "Erlang's loss formula by Hayward's rule: requests that come in bursts, or more evenly \
             than by chance, as the record shows.",
            "where requests come in bursts, or more evenly than by chance, by more than chance \
             explains",
            "bursts like those of the record";
        EachAddress, "each-address",
            "Erlang's loss formula for each address, for a host stays on the address that it has.",
            "ports of several addresses with `pooling = \"paired\"`: Erlang's formula for each of \
             them",
            "independent requests, hosts that stay on their addresses";
    }
}

/// The load of one address where hosts stay on theirs.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct AddressLoad {
    /// How much it can hand out.
    pub usable: u64,
    /// What is asked of it, in erlang.
    pub offered: f64,
}

/// A load, with the formula that tells what becomes of it.
#[derive(Debug, Clone, PartialEq)]
pub enum Model {
    /// Erlang's loss formula for so many erlang.
    ErlangB {
        /// What is asked for, in erlang.
        offered: f64,
    },
    /// Engset's loss formula.
    Engset {
        /// How many hosts ask.
        hosts: u64,
        /// How often a host that has none asks, times how long it would hold.
        idle_load: f64,
    },
    /// Hayward's rule.
    Hayward {
        /// What is asked for, in erlang.
        offered: f64,
        /// Variance over mean of how many would be in use if there were no end to them.
        peakedness: f64,
    },
    /// Each address on its own.
    EachAddress {
        /// The addresses that are in use.
        addresses: Vec<AddressLoad>,
        /// What each host asks for, in erlang, the most first.
        hosts: Vec<f64>,
    },
}

/// Hosts are dealt out to addresses anew until so many were, to see how a size does on the average.
const DEALT: u64 = 20_000;

impl Model {
    /// Which formula it is.
    pub fn formula(&self) -> Formula {
        match self {
            Self::ErlangB { .. } => Formula::ErlangB,
            Self::Engset { .. } => Formula::Engset,
            Self::Hayward { .. } => Formula::Hayward,
            Self::EachAddress { .. } => Formula::EachAddress,
        }
    }

    /// What would be in use on the average if there were no end to it, in erlang, of a load that is
    /// `growth` times this one.
    pub fn offered(&self, growth: f64) -> f64 {
        match self {
            Self::ErlangB { offered } | Self::Hayward { offered, .. } => offered * growth,
            Self::Engset { hosts, idle_load } => {
                engset::offered(*hosts as f64 * growth, *idle_load)
            }
            Self::EachAddress { addresses, .. } => {
                addresses.iter().map(|a| a.offered).sum::<f64>() * growth
            }
        }
    }

    /// The share of requests that is refused of a load `growth` times this one, with so much to
    /// hand out as there is.
    pub fn refusal(&self, usable: u64, growth: f64) -> f64 {
        match self {
            Self::ErlangB { offered } => erlang::refusal(usable, offered * growth),
            Self::Engset { hosts, idle_load } => {
                engset::refusal(usable, *hosts as f64 * growth, *idle_load)
            }
            Self::Hayward { offered, peakedness } => {
                erlang::refusal_between(usable as f64 / peakedness, offered * growth / peakedness)
            }
            Self::EachAddress { addresses, .. } => {
                let lost = addresses
                    .iter()
                    .map(|a| a.offered * erlang::refusal(a.usable, a.offered * growth));
                let all: f64 = addresses.iter().map(|a| a.offered).sum();
                if all > 0.0 { lost.sum::<f64>() / all } else { 0.0 }
            }
        }
    }

    /// The same with another size. Of addresses that hosts stay on, the size is a whole number of
    /// addresses, and hosts are dealt out to them by chance.
    pub fn refusal_of_size(&self, size: u64, growth: f64) -> f64 {
        let Self::EachAddress { addresses, hosts } = self else {
            return self.refusal(size, growth);
        };
        let each = addresses.iter().map(|a| a.usable).max().unwrap_or(0).max(1);
        let count = size / each;
        if count == 0 {
            return 1.0;
        }
        let all: f64 = hosts.iter().sum();
        let deals = (DEALT / hosts.len().max(1) as u64).clamp(4, 200);
        let mut dealt: Vec<(u64, f64)> = Vec::with_capacity(hosts.len());
        let mut lost = 0.0;
        for n in 0..deals {
            dealt.clear();
            let place = |i: usize| mixed(n << 32 | i as u64) % count;
            dealt.extend(hosts.iter().enumerate().map(|(i, load)| (place(i), load * growth)));
            dealt.sort_unstable_by_key(|d| d.0);
            for own in dealt.chunk_by(|a, b| a.0 == b.0) {
                let load: f64 = own.iter().map(|d| d.1).sum();
                lost += load * erlang::refusal(each, load);
            }
        }
        if all > 0.0 { lost / deals as f64 / (all * growth) } else { 0.0 }
    }

    /// How many times the load may grow so that no more than `target` is refused; below 1 if it is
    /// too much already. `None` where no load is too much.
    pub fn headroom(&self, usable: u64, target: f64) -> Option<f64> {
        const MOST: f64 = 1e7;
        if self.offered(1.0) <= 0.0 || self.refusal(usable, MOST) <= target {
            return None;
        }
        // every load has its refusals, however rare
        if target <= 0.0 {
            return Some(0.0);
        }
        let (mut low, mut high) = (0.0, MOST);
        // first within a factor of two, which is found fast: few servers are cheap to ask about
        let mut guess = 1.0;
        while guess < MOST && self.refusal(usable, guess) <= target {
            low = guess;
            guess *= 2.0;
        }
        high = guess.min(high);
        // the logarithm of what is refused is nearly straight, so that the chord finds the place
        // fast; an end that stays twice counts half, or the other would creep up to it (Illinois)
        let excess = |refusal: f64| (refusal / target).ln();
        let mut below = excess(self.refusal(usable, low));
        let mut above = excess(self.refusal(usable, high));
        let mut was_met = None;
        while high - low > high * 1e-5 {
            let chord = low + (high - low) * (-below / (above - below));
            // nothing refused has no logarithm
            let is_inside = chord > low && chord < high;
            let next = if is_inside { chord } else { (low + high) / 2.0 };
            let refusal = self.refusal(usable, next);
            let is_met = refusal <= target;
            let stays = if was_met.replace(is_met) == Some(is_met) { 0.5 } else { 1.0 };
            if is_met {
                (low, below, above) = (next, excess(refusal), above * stays);
            } else {
                (high, above, below) = (next, excess(refusal), below * stays);
            }
        }
        Some(low)
    }

    /// The smallest size that refuses no more than `target` of a load `growth` times this one;
    /// `None` if that is more than `most`, or if no size does it.
    pub fn needed(&self, target: f64, growth: f64, most: u64) -> Option<u64> {
        let step = match self {
            Self::EachAddress { addresses, hosts } => {
                let each = addresses.iter().map(|a| a.usable).max().unwrap_or(0).max(1);
                // a host that is alone on an address may want more than that has
                let worst = hosts.first().map_or(0.0, |h| h * growth);
                let all: f64 = hosts.iter().sum::<f64>() * growth;
                if worst * erlang::refusal(each, worst) > target * all {
                    return None;
                }
                each
            }
            Self::ErlangB { .. } | Self::Engset { .. } | Self::Hayward { .. } => 1,
        };
        let meets = |n: u64| self.refusal_of_size(n * step, growth) <= target;
        let (mut low, mut high) = (0, most / step);
        if !meets(high) {
            return None;
        }
        while low < high {
            let middle = low + (high - low) / 2;
            if meets(middle) { high = middle } else { low = middle + 1 }
        }
        Some(low * step)
    }
}

/// A number that looks like chance, and is the same for the same one (SplitMix64).
fn mixed(n: u64) -> u64 {
    let n = n.wrapping_add(0x9e37_79b9_7f4a_7c15);
    let n = (n ^ (n >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
    let n = (n ^ (n >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
    n ^ (n >> 31)
}
