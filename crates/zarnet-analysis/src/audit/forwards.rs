//! Findings on where fixed rules lead: to nobody, to a port that nothing listens on, to a device
//! that knows nothing of it.

use std::collections::HashMap;
use std::net::IpAddr;

use super::{Finding, finding};
use zarnet_core::Reason;
use zarnet_core::device::{Device, Judged};
use zarnet_core::net::{Endpoint, Packet, PrefixMap, Protocol};
use zarnet_core::plan::{Host, InterfaceId, Plan, Rule, RuleKind};

pub(super) fn find(plan: &Plan, devices: &[Device], findings: &mut Vec<Finding>) {
    let neighbourhood = Neighbourhood::new(plan);
    for (d, device) in devices.iter().enumerate() {
        for rule in device.plan().rules.iter().filter(|r| r.enabled) {
            for (address, service) in ends(rule) {
                neighbourhood.end(devices, d, rule, address, service, findings);
            }
        }
    }
}

/// Hosts and interfaces by their addresses.
struct Neighbourhood<'a> {
    hosts: HashMap<IpAddr, &'a Host>,
    around: PrefixMap<&'a Host>,
    interfaces: HashMap<IpAddr, Vec<(usize, InterfaceId)>>,
}

impl<'a> Neighbourhood<'a> {
    fn new(plan: &'a Plan) -> Self {
        let (mut hosts, mut around) = (HashMap::new(), PrefixMap::default());
        for host in &plan.hosts {
            hosts.entry(host.address).or_insert(host);
            around.insert(host.prefix, host);
        }
        let mut interfaces: HashMap<IpAddr, Vec<(usize, InterfaceId)>> = HashMap::new();
        for (d, device) in plan.devices.iter().enumerate() {
            for (i, interface) in (0..).zip(&device.interfaces) {
                interface
                    .own()
                    .for_each(|a| interfaces.entry(a).or_default().push((d, InterfaceId(i))));
            }
        }
        Self { hosts, around, interfaces }
    }
}

/// The internal ends of a rule that are single machines, with protocol and port where it is for
/// one.
fn ends(rule: &Rule) -> Vec<(IpAddr, Option<(Protocol, u16)>)> {
    match &rule.kind {
        RuleKind::Forward(f) => {
            f.servers.iter().map(|s| (s.address, Some((f.protocol, s.port)))).collect()
        }
        RuleKind::Static(s) if s.internal.count() == 1 => {
            let service = match rule.service.0.as_slice() {
                [one] if one.ports.count() == 1 => one.protocol.map(|p| (p, one.ports.first)),
                _ => None,
            };
            vec![(s.internal.first(), service)]
        }
        RuleKind::Exempt
        | RuleKind::Static(_)
        | RuleKind::Pool { .. }
        | RuleKind::Overload { .. } => Vec::new(),
    }
}

impl Neighbourhood<'_> {
    fn end(
        &self,
        devices: &[Device],
        own: usize,
        rule: &Rule,
        address: IpAddr,
        service: Option<(Protocol, u16)>,
        findings: &mut Vec<Finding>,
    ) {
        if let Some(host) = self.hosts.get(&address) {
            let deaf = service
                .filter(|(p, port)| host.listens.as_ref().is_some_and(|l| !l.holds(*p, *port)));
            if let Some((protocol, port)) = deaf {
                let message = format!(
                    "rule `{}` leads to {port}/{protocol} of `{}`, which does not listen there",
                    rule.name, host.name
                );
                let help = "correct the port, or add it to `listens`".to_owned();
                findings.push(finding(
                    "forward-not-listening",
                    message,
                    vec![rule.place, host.place],
                    help,
                ));
            }
            return;
        }
        // another device: it has to know what to do with it
        let holding = self.interfaces.get(&address).into_iter().flatten();
        let next = holding.copied().find(|(d, _)| *d != own).map(|(d, i)| (&devices[d], i));
        if let (Some((device, interface)), Some((protocol, port))) = (next, service) {
            let from = Endpoint::new(IpAddr::from([198, 51, 100, 77]), 50_000);
            let sent = Packet::first(protocol, from, Endpoint::new(address, port));
            // whom it lets in is for the other device to say; that it knows of the port is not
            let unknown = |r: &zarnet_core::device::Refusal| {
                matches!(r.reason, Reason::NoMapping | Reason::NoListener)
            };
            if let Judged::Dropped(refusal) = device.judge(interface, sent)
                && unknown(&refusal)
            {
                let name = &device.plan().name;
                let message = format!(
                    "rule `{}` leads to {address}:{port} of `{name}`, which drops it: {}",
                    rule.name,
                    refusal.reason.name()
                );
                let help =
                    format!("let `{name}` forward {port}/{protocol} on, and agree on the port");
                let places = std::iter::once(rule.place).chain(refusal.place).collect();
                findings.push(finding("chain-ends-here", message, places, help).with_witness(sent));
            }
            return;
        }
        // where hosts are declared around it, one that is not may be a slip
        let around = || self.around.holding(address).flatten();
        if next.is_none() && around().nth(1).is_some() {
            let message = format!(
                "rule `{}` leads to {address}, which no host of the plan has: it counts as a \
                 machine that answers everything",
                rule.name
            );
            let near = around().take(4).map(|h| format!("{} ({})", h.name, h.address));
            let help = format!(
                "declare the host, so that what it listens to counts, or correct the address; \
                 beside it are {}",
                near.collect::<Vec<_>>().join(", ")
            );
            findings.push(finding("server-undeclared", message, vec![rule.place], help));
        }
    }
}
