//! What comes of traffic on a whole plan, against what came of it before.

use std::collections::BTreeMap;
use std::net::IpAddr;

use zarnet_core::predict::Prediction;
use zarnet_core::traffic::{Flow, Party};

use super::{Loser, Outcome};

/// Flows refused for want of something, and the hosts that sent them.
fn refused(prediction: &Prediction) -> (u64, u64) {
    let all = prediction.recording.iter().flat_map(|r| &r.shortages);
    let mut hosts: Vec<_> = all.clone().filter_map(|s| s.host).collect();
    hosts.sort_unstable();
    hosts.dedup();
    (all.count() as u64, hosts.len() as u64)
}

/// Flows that were not translated, by their place in the traffic, with their sender.
pub(super) type Untranslated = BTreeMap<u64, Option<IpAddr>>;

pub(super) fn untranslated(prediction: &Prediction) -> Untranslated {
    let sender = |flow: &Flow| match flow.source {
        Party::Address(address) => Some(address),
        Party::Host(id) => Some(prediction.plan.hosts[id.index()].address),
        Party::Device(_) | Party::Interface(..) => None,
    };
    prediction.not_translated.iter().map(|n| (n.order, sender(&n.flow))).collect()
}

/// What comes of the traffic, against what came of it before.
pub(super) fn outcome(prediction: &Prediction, before: &Untranslated) -> Outcome {
    let (refused, hosts) = refused(prediction);
    let now = untranslated(prediction);
    let lost = now.iter().filter(|(order, _)| !before.contains_key(order));
    let mut by_host: BTreeMap<IpAddr, u64> = BTreeMap::new();
    lost.clone().filter_map(|(_, host)| *host).for_each(|h| *by_host.entry(h).or_default() += 1);
    let mut losers: Vec<Loser> =
        by_host.into_iter().map(|(host, flows)| Loser { host, flows }).collect();
    losers.sort_by_key(|l| (std::cmp::Reverse(l.flows), l.host));
    Outcome {
        refused,
        hosts,
        untranslated: now.len() as u64,
        peak: None,
        served: before.keys().filter(|order| !now.contains_key(order)).count() as u64,
        lost: lost.count() as u64,
        losers,
    }
}
