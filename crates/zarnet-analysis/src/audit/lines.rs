//! Findings on several lines to the internet.

use std::collections::BTreeMap;
use std::net::IpAddr;

use super::{Finding, finding};
use crate::line_repair::answers_as_they_came;
use zarnet_core::device::{Device, Judged};
use zarnet_core::net::{AddressSet, Endpoint, Packet, Protocol};
use zarnet_core::plan::{DeviceId, InterfaceId, Plan, Rule, RuleKind};

/// Somebody on the internet who asks for a service (RFC 5737).
const SOMEBODY: IpAddr = IpAddr::V4(std::net::Ipv4Addr::new(198, 51, 100, 77));

/// Answers to sessions that come in by one internet line and leave by another, which shows its
/// provider a source that is not of its line.
pub(super) fn find(plan: &Plan, devices: &[Device], findings: &mut Vec<Finding>) {
    for (d, device) in (0..).zip(devices) {
        let own = device.plan();
        let on_internet = |i: &InterfaceId| {
            own.interfaces.get(i.index()).is_some_and(|i| plan.segments[i.segment.index()].internet)
        };
        let lines: Vec<InterfaceId> =
            (0..own.interfaces.len() as u16).map(InterfaceId).filter(on_internet).collect();
        if lines.len() < 2 || own.behaviour.answers_leave_as_came {
            continue;
        }
        let interface = |i: InterfaceId| &own.interfaces[i.index()];
        let lines: Vec<(InterfaceId, AddressSet)> =
            lines.iter().map(|i| (*i, plan.line_of(interface(*i)))).collect();
        // by line in and line out: how many rules, the first of them, and a packet that it leads in
        let mut crossing: BTreeMap<(u16, u16), Crossing<'_>> = BTreeMap::new();
        for rule in own.rules.iter().filter(|r| r.enabled) {
            let Some(asked) = first_packet(device, rule) else { continue };
            let to = asked.destination().address;
            let leads = |line: &&(InterfaceId, AddressSet)| {
                interface(line.0).owns(to) || line.1.contains(to)
            };
            let Some(&(came, _)) = lines.iter().find(leads) else { continue };
            let Judged::Forwarded(verdicts) = device.judge(came, asked) else { continue };
            let answer = verdicts.out.answer();
            let Some(left) = device.way_of(verdicts.egress, answer).filter(on_internet) else {
                continue;
            };
            if left != came {
                let first = Crossing { count: 0, rule, asked, answer, ingress: verdicts.egress };
                crossing.entry((came.0, left.0)).or_insert(first).count += 1;
            }
        }
        for ((came, left), Crossing { count, rule, asked, answer, ingress }) in crossing {
            let name = |i: u16| own.interfaces[usize::from(i)].name.as_str();
            let checked =
                plan.segments[own.interfaces[usize::from(left)].segment.index()].checks_source;
            let others = if count > 1 { format!(" and {} more", count - 1) } else { String::new() };
            let then = if checked {
                "where the provider drops it"
            } else {
                "with an address of the other line"
            };
            let message = format!(
                "what rule `{}`{others} leads in by `{}` is answered by `{}`, {then}",
                rule.name,
                name(came),
                name(left)
            );
            let help = format!(
                "set `answers-leave = \"as-came\"` and have a route over `{}`, or give what the \
                 servers send one with `source`",
                name(came)
            );
            let repair = answers_as_they_came(DeviceId(d), own, InterfaceId(came), ingress, answer)
                .unwrap_or_default();
            let found = finding("answer-by-other-line", message, vec![rule.place], help);
            findings.push(found.with_witness(asked).with_edits(repair));
        }
    }
}

/// Rules whose answers leave by another line: how many, and of the first of them a packet and its
/// answer, as it comes in.
struct Crossing<'a> {
    count: usize,
    rule: &'a Rule,
    asked: Packet,
    answer: Packet,
    ingress: InterfaceId,
}

/// A packet from the internet that a fixed rule is for.
fn first_packet(device: &Device, rule: &Rule) -> Option<Packet> {
    let (protocol, port) = match &rule.kind {
        RuleKind::Forward(f) => (f.protocol, f.ports.first),
        RuleKind::Static(_) => {
            let service = rule.service.0.first()?;
            let protocol = service.protocol.unwrap_or(Protocol::TCP);
            (protocol, if rule.service.is_any() { 443 } else { service.ports.first })
        }
        RuleKind::Exempt | RuleKind::Pool { .. } | RuleKind::Overload { .. } => return None,
    };
    let to = device.plan().external_end(rule)?.first();
    if to.is_ipv6() {
        return None;
    }
    let from = somebody_of(&rule.parties.source)?;
    Some(Packet::first(protocol, Endpoint::new(from, 50_000), Endpoint::new(to, port)))
}

/// One of those who may come in.
fn somebody_of(source: &AddressSet) -> Option<IpAddr> {
    let first = || source.ranges().map(|r| r.first()).find(IpAddr::is_ipv4);
    if source.contains(SOMEBODY) { Some(SOMEBODY) } else { first() }
}
