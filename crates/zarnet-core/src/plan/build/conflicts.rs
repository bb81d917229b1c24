//! Ends that two would hold: addresses on a segment, external ends of fixed rules.

use std::collections::{BTreeMap, HashMap};
use std::net::IpAddr;

use super::{Builder, PlanError};
use crate::limits;
use crate::net::{AddressRange, PortRange, Protocol};
use crate::plan::{DevicePlan, Place, Plan, Problem, Rule, RuleKind, SegmentId};

impl Builder {
    /// An address that two hold as their own on one segment.
    pub(super) fn held_twice(&mut self, plan: &Plan) {
        let mut owners: HashMap<(SegmentId, IpAddr), Place> = HashMap::new();
        let interfaces = plan.devices.iter().flat_map(|d| &d.interfaces);
        let own = interfaces.flat_map(|i| {
            let addresses = i.own();
            addresses.map(move |a| (i.segment, a, i.place))
        });
        let all = own.chain(plan.hosts.iter().map(|h| (h.segment, h.address, h.place)));
        for (segment, address, place) in all {
            // all internet segments are joined
            let key =
                if plan.segments[segment.index()].internet { SegmentId(u16::MAX) } else { segment };
            if let Some(first) = owners.insert((key, address), place) {
                let segment = plan.segments[segment.index()].name.clone();
                let error = PlanError::AddressHeldTwice { address, segment };
                self.problems.push(Problem::between(error, place, first, "held here first"));
            }
        }
        self.proxies_twice(plan);
    }

    /// An address that two answer for without owning it.
    fn proxies_twice(&mut self, plan: &Plan) {
        let mut ranges: Vec<(SegmentId, AddressRange, Place)> = Vec::new();
        for interface in plan.devices.iter().flat_map(|d| &d.interfaces) {
            ranges.extend(
                interface.proxy_arp.ranges().map(|r| (interface.segment, r, interface.place)),
            );
        }
        ranges.sort_by_key(|r| (r.0, r.1.first()));
        for pair in ranges.windows(2) {
            let ((segment, a, first), (other, b, place)) = (pair[0], pair[1]);
            if segment == other && a.contains(b.first()) {
                let segment = plan.segments[segment.index()].name.clone();
                let error = PlanError::AddressHeldTwice { address: b.first(), segment };
                self.problems.push(Problem::between(
                    error,
                    place,
                    first,
                    "answered for here first",
                ));
            }
        }
    }

    /// Two fixed rules of one kind with one external end, toward overlapping senders and realms.
    /// Rules of different kinds may overlap: the pipeline orders them.
    pub(super) fn conflicts(&mut self, device: &DevicePlan) {
        // forwards meet on one address and protocol, statics in their addresses
        let mut forwards: BTreeMap<(IpAddr, Protocol), Vec<Claim<'_>>> = BTreeMap::new();
        let mut statics: [Vec<Claim<'_>>; 2] = Default::default();
        for claim in device.rules.iter().filter_map(|r| claim(r, device)) {
            match claim.port {
                Some((protocol, _)) => {
                    forwards.entry((claim.addresses.first(), protocol)).or_default().push(claim)
                }
                None => statics[usize::from(claim.rule.service.is_any())].push(claim),
            }
        }
        for claims in forwards.into_values() {
            let ports = |c: &Claim<'_>| c.port.map_or((0, 0), |p| (p.1.first, p.1.last));
            self.overlapping(claims, ports);
        }
        for claims in statics {
            self.overlapping(claims, |c| (c.addresses.first(), c.addresses.last()));
        }
    }

    /// Reports claims that collide, of a list of which only those can that overlap in `reach`: its
    /// first and last value.
    fn overlapping<T: Ord + Copy>(
        &mut self,
        mut claims: Vec<Claim<'_>>,
        reach: impl Fn(&Claim<'_>) -> (T, T),
    ) {
        claims.sort_by_key(|c| (reach(c).0, c.rule.place));
        let mut live: Vec<&Claim<'_>> = Vec::new();
        for claim in &claims {
            live.retain(|l| reach(l).1 >= reach(claim).0);
            if live.len() >= limits::CLAIMS {
                let what = "static or forward rules on one external address and port";
                self.report(PlanError::TooMany { what, most: limits::CLAIMS }, claim.rule.place);
                return;
            }
            for other in live.iter().filter(|o| o.collides(claim)) {
                let (a, b) = if other.rule.place < claim.rule.place {
                    (*other, claim)
                } else {
                    (claim, *other)
                };
                let (end, first, second) = (b.end(), a.rule.name.clone(), b.rule.name.clone());
                let error = PlanError::ExternalEndTwice { end, first, second };
                self.problems.push(Problem::between(
                    error,
                    b.rule.place,
                    a.rule.place,
                    "claimed here first",
                ));
            }
            if self.problems.is_full() {
                return;
            }
            live.push(claim);
        }
    }
}

/// The external end of a fixed rule.
struct Claim<'a> {
    rule: &'a Rule,
    addresses: AddressRange,
    port: Option<(Protocol, PortRange)>,
}

fn claim<'a>(rule: &'a Rule, device: &DevicePlan) -> Option<Claim<'a>> {
    let addresses = device.external_end(rule)?;
    match &rule.kind {
        RuleKind::Forward(f) => Some(Claim { rule, addresses, port: Some((f.protocol, f.ports)) }),
        RuleKind::Static(_) => Some(Claim { rule, addresses, port: None }),
        RuleKind::Exempt | RuleKind::Pool { .. } | RuleKind::Overload { .. } => None,
    }
}

impl Claim<'_> {
    fn collides(&self, other: &Self) -> bool {
        let ports = match (self.port, other.port) {
            (Some((p, a)), Some((q, b))) => p == q && a.intersects(b),
            _ => self.rule.service.intersects(&other.rule.service),
        };
        ports
            && self.rule.parties.source.intersects(&other.rule.parties.source)
            && self.rule.into.interfaces.intersects(&other.rule.into.interfaces)
    }

    fn end(&self) -> String {
        match self.port {
            Some((protocol, ports)) => format!("{}:{ports}/{protocol}", self.addresses),
            None if self.rule.service.is_any() => self.addresses.to_string(),
            None => format!("{} ({})", self.addresses, self.rule.service),
        }
    }
}
