//! What becomes of a packet, told so that two plans can be compared: without names, and the same
//! for all packets of a piece.

use std::collections::HashMap;
use std::net::IpAddr;

use super::number;
use zarnet_core::Reason;
use zarnet_core::device::{Device, Judged};
use zarnet_core::net::{AddressSet, Packet};
use zarnet_core::plan::{InterfaceId, RuleId, RuleKind, Spread};

/// What becomes of a first packet on a device at rest.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub enum Meaning {
    /// It goes no further.
    Dropped(Reason),
    /// It is for the device itself.
    ToDevice,
    /// The packet leaves the device.
    Leaves {
        /// The interface, by name.
        egress: String,
        /// The next hop; `None` where that is the destination.
        next_hop: Option<IpAddr>,
        /// What its destination becomes.
        destination: DestinationMeaning,
        /// What its source becomes.
        source: SourceMeaning,
    },
}

/// What becomes of a destination.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub enum DestinationMeaning {
    /// The destination stays as it is.
    Same,
    /// Address and port move by so much, wrapping.
    Moved(u128, u16),
    /// One of several servers, by their addresses and how far the port moves.
    Servers(Vec<(IpAddr, u16)>, bool),
    /// A prefix in place of another (RFC 6296): first addresses and how many.
    Prefix(IpAddr, IpAddr, u128),
}

/// What becomes of a source.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub enum SourceMeaning {
    /// The source stays as it is.
    Same,
    /// Address and port move by so much, wrapping.
    Moved(u128, u16),
    /// A prefix in place of another (RFC 6296).
    Prefix(IpAddr, IpAddr, u128),
    /// An address of these, and a port unless it is a whole one.
    Chosen {
        /// The addresses that can be handed out.
        from: Vec<(IpAddr, IpAddr)>,
        /// Whether the host has it for itself.
        whole: bool,
        /// How it is picked, where there are several.
        pick: Option<&'static str>,
    },
}

/// What a device at rest makes of a first packet.
pub fn meaning(device: &Device, ingress: InterfaceId, packet: Packet) -> Meaning {
    let verdict = match device.judge(ingress, packet) {
        Judged::Dropped(refusal) => return Meaning::Dropped(refusal.reason),
        Judged::ToDevice => return Meaning::ToDevice,
        Judged::Forwarded(verdict) => verdict,
    };
    let plan = device.plan();
    let (from, to, out) = (packet.source(), packet.destination(), verdict.out);
    let by = |a: IpAddr, b: IpAddr| number(b).wrapping_sub(number(a));
    let prefix = |rule: Option<zarnet_core::plan::RuleId>| {
        let RuleKind::Static(s) = &plan.rules[rule?.index()].kind else { return None };
        let external = device.external_of(s.external)?;
        let pair = device.prefix_pair(s);
        pair.map(|_| (s.internal.first(), external.first(), external.count()))
    };
    let destination = match verdict.entry {
        Some(rule) => match &plan.rules[rule.index()].kind {
            RuleKind::Forward(f) if f.servers.len() > 1 => {
                let server =
                    |s: &zarnet_core::plan::Server| (s.address, s.port.wrapping_sub(f.ports.first));
                DestinationMeaning::Servers(
                    f.servers.iter().map(server).collect(),
                    f.spread == Spread::BySource,
                )
            }
            RuleKind::Exempt
            | RuleKind::Static(_)
            | RuleKind::Pool { .. }
            | RuleKind::Overload { .. }
            | RuleKind::Forward(_) => match prefix(verdict.entry) {
                Some((inside, outside, count)) => {
                    DestinationMeaning::Prefix(outside, inside, count)
                }
                None => {
                    let moved = (
                        by(to.address, out.destination().address),
                        out.destination().port.wrapping_sub(to.port),
                    );
                    if moved == (0, 0) {
                        DestinationMeaning::Same
                    } else {
                        DestinationMeaning::Moved(moved.0, moved.1)
                    }
                }
            },
        },
        None => DestinationMeaning::Same,
    };
    let source = match (verdict.target, verdict.untranslated) {
        (_, Some(_)) => SourceMeaning::Same,
        (Some(target), _) => chosen(device, target),
        (None, None) => match prefix(verdict.source) {
            Some((inside, outside, count)) => SourceMeaning::Prefix(inside, outside, count),
            None => {
                let moved = (
                    by(from.address, out.source().address),
                    out.source().port.wrapping_sub(from.port),
                );
                if moved == (0, 0) {
                    SourceMeaning::Same
                } else {
                    SourceMeaning::Moved(moved.0, moved.1)
                }
            }
        },
    };
    let egress = plan.interfaces[verdict.egress.index()].name.clone();
    Meaning::Leaves { egress, next_hop: verdict.next_hop, destination, source }
}

/// How a port is found is the same for all that a device translates, and told by its settings.
fn chosen(device: &Device, target: u16) -> SourceMeaning {
    let (set, pick, whole) = device.target_of(target);
    let several = set.count() > 1;
    let from = set.ranges().map(|r| (r.first(), r.last())).collect();
    SourceMeaning::Chosen { from, whole, pick: several.then(|| pick.name()) }
}

/// Tells at little cost that two devices mean the same: what it does not know to be the same is to
/// be looked at closely.
pub struct SameMeaning<'a> {
    before: &'a Device,
    after: &'a Device,
    /// By interface of the one, that of the other with its name.
    interfaces: Vec<Option<InterfaceId>>,
    /// By targets of both, whether they hand out the same.
    targets: HashMap<(u16, u16), bool>,
}

impl<'a> SameMeaning<'a> {
    /// Compares two devices, before and after a change.
    pub fn new(before: &'a Device, after: &'a Device) -> Self {
        let named = |name: &str| after.plan().interfaces.iter().position(|i| i.name == name);
        let interfaces =
            before.plan().interfaces.iter().map(|i| named(&i.name).map(|n| InterfaceId(n as u16)));
        Self { before, after, interfaces: interfaces.collect(), targets: HashMap::new() }
    }

    /// Whether two verdicts on one packet surely mean the same.
    pub fn is_plain(&mut self, was: &Judged, is: &Judged) -> bool {
        match (was, is) {
            (Judged::Dropped(a), Judged::Dropped(b)) => a.reason == b.reason,
            (Judged::ToDevice, Judged::ToDevice) => true,
            (Judged::Forwarded(a), Judged::Forwarded(b)) => {
                let one_way =
                    self.interfaces[a.egress.index()] == Some(b.egress) && a.next_hop == b.next_hop;
                let same_end = a.out == b.out
                    && a.out.source().address.is_ipv4()
                    && a.untranslated.is_some() == b.untranslated.is_some();
                one_way
                    && same_end
                    && self.is_same_target(a.target, b.target)
                    && !self.is_spread(a.entry, b.entry)
            }
            _ => false,
        }
    }

    fn is_same_target(&mut self, a: Option<u16>, b: Option<u16>) -> bool {
        let (a, b) = match (a, b) {
            (Some(a), Some(b)) => (a, b),
            (a, b) => return a == b,
        };
        let (before, after) = (self.before, self.after);
        *self.targets.entry((a, b)).or_insert_with(|| chosen(before, a) == chosen(after, b))
    }

    /// Whether a rule of either has several servers.
    fn is_spread(&self, a: Option<RuleId>, b: Option<RuleId>) -> bool {
        let several = |device: &Device, rule: Option<RuleId>| {
            let rule = rule.map(|r| &device.plan().rules[r.index()].kind);
            matches!(rule, Some(RuleKind::Forward(f)) if f.servers.len() > 1)
        };
        several(self.before, a) || several(self.after, b)
    }
}

impl SourceMeaning {
    /// The addresses that a source may become, where they are chosen.
    pub fn addresses(&self) -> Option<AddressSet> {
        let Self::Chosen { from, .. } = self else { return None };
        let range = |(a, b): &(IpAddr, IpAddr)| zarnet_core::net::AddressRange::new(*a, *b).ok();
        Some(from.iter().filter_map(range).collect())
    }
}
