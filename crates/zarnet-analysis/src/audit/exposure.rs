//! Findings on what the outside can reach: which internal services, from where, by which rule.

use super::{Finding, finding};
use crate::impact::likely;
use crate::space::{Area, Diagram, Field, Intervals, Steps};
use zarnet_core::device::{Device, Judged};
use zarnet_core::net::{Packet, Protocol};
use zarnet_core::network::special;
use zarnet_core::plan::{DevicePlan, InterfaceId, Plan, RuleId, RuleKind};

/// Ports that machines are administered by, and by which protocol.
const ADMINISTRATION: [(u16, u16, Protocol); 8] = [
    (22, 23, Protocol::TCP),
    (161, 162, Protocol::UDP),
    (512, 514, Protocol::TCP),
    (623, 623, Protocol::UDP),
    (830, 830, Protocol::TCP),
    (3389, 3389, Protocol::TCP),
    (5900, 5909, Protocol::TCP),
    (5985, 5986, Protocol::TCP),
];

/// The number of what becomes of a packet: 0 unless it is led inside, then by which rule.
pub(super) fn number(plan: &Plan, own: &DevicePlan, judged: &Judged) -> u32 {
    match judged {
        Judged::Forwarded(v) => {
            let inner = &own.interfaces[v.egress.index()];
            let inside = !plan.segments[inner.segment.index()].internet;
            if inside { 2 + v.entry.map_or(0, |r| u32::from(r.0) + 1) } else { 0 }
        }
        Judged::Dropped(_) | Judged::ToDevice => 0,
    }
}

/// What is found of an interface to the internet. `diagram`: of what comes in there, by [`number`];
/// `None` if there is too much to go through.
pub(super) fn find(
    device: &Device,
    ingress: InterfaceId,
    diagram: &Diagram,
    steps: &mut Steps,
    findings: &mut Vec<Finding>,
) -> Option<()> {
    let own = device.plan();
    let interface = &own.interfaces[ingress.index()];
    if !interface.services.0.is_empty() && interface.ingress_acl.is_none() {
        let message = format!(
            "interface `{1}` exposes services of `{0}` itself to every outside host",
            own.name, interface.name
        );
        let help =
            "attach an `ingress-acl` that lets in those who administer it, or offer them on \
                    an inner interface"
                .to_owned();
        findings.push(finding("device-service-open", message, vec![interface.place], help));
    }
    let all = diagram.all_areas(steps, |v| v > 0)?;
    for (n, rule) in own.rules.iter().enumerate().filter(|(_, r)| r.enabled) {
        if !rule.kind.is_fixed() {
            continue;
        }
        let Some(areas) = all.get(&(n as u32 + 3)) else { continue };
        let everyone: Vec<&Area> = areas.iter().filter(|a| is_everyone(a)).collect();
        let witness = |area: &Area| likely(area, interface);
        if let Some((area, port)) =
            everyone.iter().find_map(|a| Some((*a, administered(own, RuleId(n as u16), a)?)))
        {
            let message = format!(
                "rule `{}` exposes administration port {port} to every outside host",
                rule.name
            );
            let help =
                "narrow `source` to those who administer it, or let them come by a private tunnel"
                    .to_owned();
            let found = finding("remote-administration-open", message, vec![rule.place], help);
            findings.push(with(found, witness(area)));
        } else if let Some(area) = everyone.iter().find(|a| {
            a.of(Field::DestinationPort).count() > 65_000 && a.of(Field::Protocol).contains(6)
        }) {
            let message = format!(
                "rule `{}` exposes every port of an internal host to the \
                         outside",
                rule.name
            );
            let help =
                "limit it to a `service`, or let the policy permit only what is offered".to_owned();
            findings.push(with(
                finding("whole-host-exposed", message, vec![rule.place], help),
                witness(area),
            ));
        }
    }
    // what is private inside is out of reach for all but neighbours
    let special = Intervals::addresses(&special());
    let public = |a: &Area| {
        let mut area = a.clone();
        let to = a.of(Field::Destination).intersection(&Intervals::ipv4());
        area.0[Field::Destination as usize] = to.difference(&special);
        (!area.of(Field::Destination).is_empty()).then_some(area)
    };
    let untranslated: Vec<Area> = all.get(&2).into_iter().flatten().filter_map(public).collect();
    if let Some(area) =
        untranslated.iter().find(|a| is_everyone(a) && a.of(Field::Protocol).contains(6))
    {
        let message = format!(
            "whatever comes in by `{}` is let through to the inside of `{}` as it is",
            interface.name, own.name
        );
        let help =
            "`default-policy = \"drop\"`, and a policy entry for what is meant to pass".to_owned();
        let found = finding("open-from-outside", message, vec![own.default_policy_place], help);
        findings.push(with(found, likely(area, interface)));
    }
    Some(())
}

fn with(found: Finding, witness: Option<Packet>) -> Finding {
    match witness {
        Some(witness) => found.with_witness(witness),
        None => found,
    }
}

/// Whether senders are hardly limited: more than half of all addresses.
fn is_everyone(area: &Area) -> bool {
    area.of(Field::Source).intersection(&Intervals::ipv4()).count() > 1 << 31
}

/// A port of administration that an area leads to inside.
fn administered(device: &DevicePlan, rule: RuleId, area: &Area) -> Option<u16> {
    let by = match &device.rules[rule.index()].kind {
        RuleKind::Forward(f) => f.servers.first().map_or(0, |s| s.port.wrapping_sub(f.ports.first)),
        RuleKind::Exempt
        | RuleKind::Static(_)
        | RuleKind::Pool { .. }
        | RuleKind::Overload { .. } => 0,
    };
    // a whole host is told as such
    if area.of(Field::DestinationPort).count() > 65_000 {
        return None;
    }
    ADMINISTRATION.iter().filter(|a| area.of(Field::Protocol).contains(a.2.0.into())).find_map(
        |(low, high, _)| {
            (*low..=*high)
                .find(|p| area.of(Field::DestinationPort).contains(p.wrapping_sub(by).into()))
        },
    )
}
