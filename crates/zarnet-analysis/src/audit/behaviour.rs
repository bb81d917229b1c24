//! Findings on what a device is told to do: timers below what the RFCs ask for, openings that
//! surprise.

use std::time::Duration;

use super::{Finding, finding};
use zarnet_core::plan::{
    Behaviour, Dependence, DevicePlan, Policy, Preset, RealmSet, Rule, RuleKind, Timers, Verdict,
};

pub(super) fn find(device: &DevicePlan, findings: &mut Vec<Finding>) {
    timers(&device.timers, device, findings);
    let pool = device.rules.iter().find(|r| r.enabled && matches!(r.kind, RuleKind::Pool { .. }));
    let pool = pool.filter(|r| may_come_in(device, r));
    if let (Some(rule), Dependence::EndpointIndependent) = (pool, device.behaviour.filtering) {
        let message = format!(
            "a host that borrows an address by rule `{}` can be reached on every port from \
             anywhere while it has it",
            rule.name
        );
        let help = "set `filtering = \"address-dependent\"`, or a policy that drops what comes \
                    from outside"
            .to_owned();
        findings.push(finding("pool-opens-all-ports", message, vec![rule.place], help));
    }
    let bcp: Behaviour = Preset::Bcp.behaviour();
    let translates = device.rules.iter().any(|r| r.enabled && r.kind.is_fixed());
    let hairpins = device.rules.iter().any(|r| !r.hairpin.names.is_empty());
    if device.behaviour == bcp && translates && !hairpins {
        let message = format!(
            "no rule of `{}` allows hairpin: internal clients cannot reach internal servers by \
             their external address",
            device.name
        );
        let fixed = device.rules.iter().find(|r| r.enabled && r.kind.is_fixed());
        let from = fixed.and_then(|r| r.from.names.first()).map_or("internal", |n| &n.value);
        let help =
            format!("add `hairpin = [\"{from}\"]` to the rules that need it (RFC 4787 REQ-9)");
        findings.push(finding("hairpin-nowhere", message, vec![device.place], help));
    }
}

/// Whether the policy may let somebody outside in to a host that a pool rule translates.
fn may_come_in(device: &DevicePlan, rule: &Rule) -> bool {
    let external = device.external_addresses(rule);
    let meets = |set: &Option<RealmSet>, side: &RealmSet| {
        set.as_ref().is_none_or(|z| z.interfaces.intersects(&side.interfaces))
    };
    let accepts = |p: &Policy| {
        let to = &p.parties.destination;
        p.verdict == Verdict::Accept
            && meets(&p.from, &rule.into)
            && meets(&p.into, &rule.from)
            && (to.intersects(&rule.parties.source) || to.intersects(&external))
    };
    device.default_policy == Verdict::Accept || device.policies.iter().any(accepts)
}

fn timers(timers: &Timers, device: &DevicePlan, findings: &mut Vec<Finding>) {
    let s = Duration::from_secs;
    let table = [
        ("udp-timeout", timers.udp, s(120), "RFC 4787 REQ-5"),
        ("tcp-idle-timeout", timers.tcp_idle, s(7440), "RFC 5382 REQ-5"),
        ("tcp-trans-open-timeout", timers.tcp_open, s(240), "RFC 5382 REQ-5"),
        ("tcp-trans-close-timeout", timers.tcp_close, s(240), "RFC 5382 REQ-5"),
        ("tcp-in-syn-timeout", timers.tcp_in_syn, s(6), "RFC 5382 REQ-4"),
        ("icmp-timeout", timers.icmp, s(60), "RFC 5508 REQ-2"),
    ];
    for (name, value, floor, source) in table {
        if value < floor {
            let message = format!(
                "`{name}` of `{}` is {} s; {source} asks for {} s or more",
                device.name,
                value.as_secs_f64(),
                floor.as_secs()
            );
            let help =
                "sessions that are idle for a while will lose their mapping; raise it unless that \
                 is meant"
                    .to_owned();
            findings.push(finding("timer-below-minimum", message, vec![device.place], help));
        }
    }
    for ((protocol, port), value) in &timers.per_port {
        // RFC 4787 §4.3 REQ-5a: shorter only for ports below 1024
        if *value < s(120) && *port > 1023 {
            let message = format!(
                "the timer of {port}/{protocol} is {} s; below 120 s is for ports up to 1023 only \
                 (RFC 4787 REQ-5a)",
                value.as_secs_f64()
            );
            let help = "raise it, unless that is meant".to_owned();
            findings.push(finding("timer-below-minimum", message, vec![device.place], help));
        }
    }
}
