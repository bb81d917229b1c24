//! Rules that nearly matched, and the conditions that kept them from it.

use std::collections::BTreeMap;
use std::net::IpAddr;

use zarnet_core::device::Condition;
use zarnet_core::net::{AddressSet, Packet, PortRange};
use zarnet_core::network::{Hop, Network};
use zarnet_core::observe::{By, Stage, StageResult};
use zarnet_core::plan::{DeviceId, DevicePlan, InterfaceId, Rule, RuleId, RuleKind};
use zarnet_core::predict::Scene;

/// A rule that did not match, and why not.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NearMiss {
    /// The device that has the rule.
    pub device: DeviceId,
    /// The rule that nearly takes part.
    pub rule: RuleId,
    /// What kept it from matching: nearest to matching are those with the fewest.
    pub unmet: Vec<Condition>,
    /// Whether it is its external end that was looked at.
    pub inbound: bool,
    /// What the packet has, for the first of them.
    pub has: String,
    /// What the rule wants there.
    pub needs: String,
    /// How far what it has is from what the rule wants: ports, or bits of an address that differ.
    pub distance: u32,
}

/// Of rules that lack the same conditions, so many of the nearest are suspected.
const MOST_ALIKE: usize = 8;

/// Every rule of the device at which a way ended or where nothing was translated, the nearest
/// first.
pub fn near_misses(scene: &Scene) -> Vec<NearMiss> {
    let followed = &scene.followed;
    let hops = if followed.delivered() { &followed.back.hops } else { &followed.forth.hops };
    let Some(hop) = hops.last().filter(|_| followed.negative) else { return Vec::new() };
    let inbound = |hop: &Hop| inbound_misses(&scene.network, hop);
    let mut found = if followed.delivered() { Vec::new() } else { inbound(hop) };
    found.extend(followed.forth.hops.iter().flat_map(|hop| outbound_misses(&scene.network, hop)));
    found.sort_by_key(|n| (n.unmet.len(), n.distance));
    found
}

/// The nearest first, and of those that lack the same conditions a few.
pub(super) fn nearest(mut misses: Vec<NearMiss>) -> Vec<NearMiss> {
    misses.sort_by_key(|n| n.distance);
    let mut counts: BTreeMap<Vec<Condition>, usize> = BTreeMap::new();
    misses.retain(|n| {
        let count = counts.entry(n.unmet.clone()).or_default();
        *count += 1;
        *count <= MOST_ALIKE
    });
    // among equals, rules are suspected in their order
    misses.sort_by_key(|n| n.rule);
    misses
}

/// How far a packet is from what a rule wants.
fn distance(rule: &Rule, unmet: &[Condition], packet: Packet, inbound: bool) -> u32 {
    let (from, to) = (packet.source(), packet.destination());
    let one = |condition: &Condition| match condition {
        Condition::Service => match &rule.kind {
            RuleKind::Forward(f) => port_distance(f.ports, to.port),
            RuleKind::Exempt
            | RuleKind::Static(_)
            | RuleKind::Pool { .. }
            | RuleKind::Overload { .. } => {
                let all = rule.service.0.iter().map(|s| port_distance(s.ports, to.port));
                all.min().unwrap_or(0)
            }
        },
        Condition::Source if inbound => bits_apart(&rule.parties.source, from.address),
        Condition::Source => bits_apart(&rule.senders(), from.address),
        Condition::Destination => bits_apart(&rule.parties.destination, to.address),
        Condition::Enabled | Condition::From | Condition::Into | Condition::Direction => 0,
    };
    unmet.iter().map(one).sum()
}

fn port_distance(ports: PortRange, port: u16) -> u32 {
    u32::from(ports.first.saturating_sub(port)).max(port.saturating_sub(ports.last).into())
}

/// The bits from the first on in which an address differs from the nearest end of a set.
fn bits_apart(set: &AddressSet, address: IpAddr) -> u32 {
    let apart = |end: IpAddr| match (end, address) {
        (IpAddr::V4(a), IpAddr::V4(b)) => 32 - (a.to_bits() ^ b.to_bits()).leading_zeros(),
        (IpAddr::V6(a), IpAddr::V6(b)) => 128 - (a.to_bits() ^ b.to_bits()).leading_zeros(),
        _ => 128,
    };
    set.ranges().flat_map(|r| [r.first(), r.last()]).map(apart).min().unwrap_or(128)
}

/// Rules of the hop's device that a first packet on its way out does not match, where none
/// translated its source.
pub(super) fn outbound_misses(network: &Network, hop: &Hop) -> Vec<NearMiss> {
    let kept = hop
        .steps
        .iter()
        .any(|s| s.stage == Stage::Source && matches!(s.result, StageResult::Unchanged(_)));
    let Some((ingress, egress)) = hop.ingress.zip(egress(hop)).filter(|_| kept) else {
        return Vec::new();
    };
    let device = &network.devices()[hop.device.index()];
    let rules = device.plan().rules.iter().enumerate();
    let dynamic = rules.filter(|(_, r)| {
        matches!(r.kind, RuleKind::Pool { .. } | RuleKind::Overload { .. } | RuleKind::Static(_))
    });
    dynamic
        .filter_map(|(i, rule)| {
            let id = RuleId(i as u16);
            let unmet = device.unmet_outbound(id, ingress, egress, hop.packet);
            let first = *unmet.first()?;
            let (has, needs) = outbound(device.plan(), rule, first, (ingress, egress), hop.packet);
            let distance = distance(rule, &unmet, hop.packet, false);
            let device = hop.device;
            Some(NearMiss { device, rule: id, unmet, inbound: false, has, needs, distance })
        })
        .collect()
}

/// Fixed rules of the hop's device that a packet for one of its external ends does not match, where
/// none let it in.
pub(super) fn inbound_misses(network: &Network, hop: &Hop) -> Vec<NearMiss> {
    let entered = hop.steps.iter().any(|s| {
        s.stage == Stage::Destination && matches!(s.result, StageResult::Translated { .. })
    });
    let Some(ingress) = hop.ingress.filter(|_| !entered) else { return Vec::new() };
    let device = &network.devices()[hop.device.index()];
    let rules = device.plan().rules.iter().enumerate();
    rules
        .filter_map(|(i, rule)| {
            let id = RuleId(i as u16);
            let unmet = device.unmet_inbound(id, ingress, hop.packet)?;
            let first = *unmet.first().filter(|_| !unmet.contains(&Condition::Destination))?;
            let (has, needs) = inbound(device.plan(), rule, first, ingress, hop.packet);
            let distance = distance(rule, &unmet, hop.packet, true);
            let device = hop.device;
            Some(NearMiss { device, rule: id, unmet, inbound: true, has, needs, distance })
        })
        .collect()
}

/// Rules of the hop's device that would translate a first packet if they were enabled: those that
/// match it, and are looked at before the one that did.
pub fn disabled_matches(network: &Network, hop: &Hop) -> Vec<RuleId> {
    let device = &network.devices()[hop.device.index()];
    let is_new =
        hop.steps.iter().any(|s| s.stage == Stage::Session && s.result == StageResult::New);
    let Some(ingress) = hop.ingress.filter(|_| is_new) else { return Vec::new() };
    let taken_by = |stage: Stage| {
        let mut taken = hop.steps.iter().filter(|s| s.stage == stage);
        taken.find_map(|s| if let By::Rule(id) = s.by { Some(id) } else { None })
    };
    let (entered, left) = (taken_by(Stage::Destination), taken_by(Stage::Source));
    let source = hop.steps.iter().any(|s| s.stage == Stage::Source);
    let egress = egress(hop).filter(|_| source);
    let disabled = |unmet: Vec<Condition>| unmet == [Condition::Enabled];
    let rules = (0..device.plan().rules.len() as u16).map(RuleId);
    let would_match = |id: &RuleId| {
        let inbound = device.unmet_inbound(*id, ingress, hop.packet).is_some_and(disabled)
            && is_before(device.plan(), *id, entered);
        let outbound = egress.is_some_and(|e| {
            disabled(device.unmet_outbound(*id, ingress, e, hop.packet))
                && is_before(device.plan(), *id, left)
        });
        inbound || outbound
    };
    rules.filter(would_match).collect()
}

/// Disabled rules with an external end that holds an address: enabled they would be answered for.
pub fn disabled_owners(network: &Network, address: IpAddr) -> Vec<(DeviceId, RuleId)> {
    let devices = network.devices().iter().enumerate();
    devices
        .flat_map(|(d, device)| {
            let rules = device.plan().rules.iter().enumerate();
            let owns = move |(i, rule): &(usize, &Rule)| {
                !device.is_enabled(RuleId(*i as u16))
                    && device.plan().external_addresses(rule).contains(address)
            };
            rules.filter(owns).map(move |(i, _)| (DeviceId(d as u16), RuleId(i as u16)))
        })
        .collect()
}

/// Whether a rule is looked at before another one, if there is another.
fn is_before(device: &DevicePlan, rule: RuleId, other: Option<RuleId>) -> bool {
    let Some(other) = other else { return true };
    let mut order = [rule.min(other), rule.max(other)];
    device.put_in_order(&mut order);
    order[0] == rule && rule != other
}

/// The interface that a packet left by, or was to leave by.
pub(super) fn egress(hop: &Hop) -> Option<InterfaceId> {
    hop.steps.iter().find_map(|s| {
        if let StageResult::Routed { interface, .. } = s.result { Some(interface) } else { None }
    })
}

fn realm(device: &DevicePlan, id: InterfaceId) -> String {
    device.interfaces[id.index()].realm.clone().unwrap_or_else(|| "none".into())
}

fn names(realm_set: &zarnet_core::plan::RealmSet) -> String {
    realm_set.names.iter().map(|n| n.value.as_str()).collect::<Vec<_>>().join(", ")
}

fn list(written: &[zarnet_core::plan::Placed<String>], otherwise: &str) -> String {
    let all = written.iter().map(|w| w.value.as_str()).collect::<Vec<_>>().join(", ");
    if all.is_empty() { otherwise.to_owned() } else { all }
}

fn outbound(
    device: &DevicePlan,
    rule: &Rule,
    condition: Condition,
    (ingress, egress): (InterfaceId, InterfaceId),
    packet: Packet,
) -> (String, String) {
    let source = match &rule.kind {
        RuleKind::Static(s) => s.internal.to_string(),
        RuleKind::Exempt
        | RuleKind::Pool { .. }
        | RuleKind::Overload { .. }
        | RuleKind::Forward(_) => list(&rule.written.source, "any"),
    };
    match condition {
        Condition::Enabled => ("disabled".into(), "enabled".into()),
        Condition::From => (realm(device, ingress), names(&rule.from)),
        Condition::Into => (realm(device, egress), names(&rule.into)),
        Condition::Source => (packet.source().address.to_string(), source),
        Condition::Destination => {
            (packet.destination().address.to_string(), list(&rule.written.destination, "any"))
        }
        Condition::Service => (service(packet), list(&rule.written.service, "any")),
        Condition::Direction => ("outbound".into(), "inbound".into()),
    }
}

fn inbound(
    device: &DevicePlan,
    rule: &Rule,
    condition: Condition,
    ingress: InterfaceId,
    packet: Packet,
) -> (String, String) {
    match condition {
        Condition::Enabled => ("disabled".into(), "enabled".into()),
        Condition::From | Condition::Into => {
            let hairpin = names(&rule.hairpin);
            let comma = if hairpin.is_empty() { "" } else { ", " };
            (realm(device, ingress), format!("{}{comma}{hairpin}", names(&rule.into)))
        }
        Condition::Source => {
            (packet.source().address.to_string(), list(&rule.written.source, "any"))
        }
        Condition::Destination => (packet.destination().address.to_string(), String::new()),
        Condition::Service => {
            let needs = match &rule.kind {
                RuleKind::Forward(f) => format!("{}/{}", f.ports, f.protocol),
                RuleKind::Exempt
                | RuleKind::Static(_)
                | RuleKind::Pool { .. }
                | RuleKind::Overload { .. } => list(&rule.written.service, "any"),
            };
            (service(packet), needs)
        }
        Condition::Direction => ("inbound".into(), "outbound".into()),
    }
}

/// The service of a packet's destination.
pub(super) fn service(packet: Packet) -> String {
    match packet.protocol.has_ports() {
        true => format!("{}/{}", packet.destination().port, packet.protocol),
        false => packet.protocol.to_string(),
    }
}
