//! What lies around the devices: who answers for an address, who routes it, and what is used up.

use std::net::IpAddr;

use super::passage::leaving;
use super::{At, Case, append, set};
use crate::diagnose::Cause;
use crate::diagnose::near::egress;
use zarnet_core::Reason;
use zarnet_core::net::Prefix;
use zarnet_core::network::Loss;
use zarnet_core::plan::edit::{Edit, List, Table, Value};
use zarnet_core::plan::{DeviceId, External, InterfaceId, RuleId, RuleKind, SegmentId, Target};

impl Case<'_> {
    /// Nobody answers for the next address.
    pub(super) fn nobody_answers(&mut self) {
        let trace = self.trace();
        let handed = trace.hops.last().map_or(trace.departure.as_slice(), |h| h.handed.as_slice());
        // a provider's router that nobody answers hands it to nobody either
        let unanswered = handed.iter().rev().find(|h| h.to.is_none()).or(handed.last());
        let Some(address) = unanswered.map(|h| h.address) else { return };
        if let Some(hop) = self.last() {
            let out = leaving(hop);
            let target = hop.exit.map(|e| e.packet.destination().address) == Some(address);
            if let (true, Some(rule)) = (target, self.entered(hop)) {
                self.wrong_target(hop, rule, address);
            }
            if out.destination().address != address {
                let device = self.device(hop.device);
                let cause = match (device.routes.iter().any(|r| r.via == address), self.back) {
                    (true, _) => Cause::NextHopUnanswered,
                    (false, true) => Cause::NoRouteBack,
                    (false, false) => Cause::NoRouteOut,
                };
                let name = &device.name;
                let verdict = format!(
                    "{name} sends packets to {} by {address}, which no host or device has",
                    out.destination().address
                );
                self.routes(cause, hop.device, out.destination().address, &verdict);
            }
        }
        self.routed_wrongly(address);
        self.disabled_ends(address);
        self.not_held(address);
        let verdict = format!("no host or device answers for {address}");
        let title = format!("find out who should have {address}, and declare it");
        self.suspect(Cause::OutsideFault, At::nowhere(), verdict, title, Vec::new());
    }

    /// The provider routes a block to an address that nobody has.
    fn routed_wrongly(&mut self, via: IpAddr) {
        let Some(packet) = self.last().and_then(|h| h.exit).map(|e| e.packet).or(self.sent())
        else {
            return;
        };
        let to = packet.destination().address;
        for (s, segment) in self.plan.segments.iter().enumerate() {
            let id = SegmentId(s as u16);
            for (n, routed) in segment.routed.iter().enumerate() {
                if routed.via != via || !routed.to.contains(to) {
                    continue;
                }
                let verdict =
                    format!("the provider routes {} to {via}, which no device has", routed.to);
                let at = At { place: Some(routed.place), ..At::nowhere() };
                for (d, i) in self.on_segment(id).collect::<Vec<_>>() {
                    let same_family = |a: &IpAddr| a.is_ipv4() == via.is_ipv4();
                    let Some(own) = self.addresses(d, i).find(same_family) else { continue };
                    let title = format!("have the provider route {} to {own}", routed.to);
                    let edit = set(Table::Routed(id, n), "via", own.to_string());
                    let cause = Cause::UpstreamDoesNotRoute;
                    self.suspect(cause, at, verdict.clone(), title, vec![edit]);
                }
            }
        }
    }

    /// Disabled rules whose external end an address is.
    fn disabled_ends(&mut self, address: IpAddr) {
        for (d, r) in self.users(address) {
            let rule = self.rule(d, r);
            if !rule.enabled && rule.kind.is_fixed() {
                self.disabled(d, r);
            }
        }
    }

    /// A rule leads to an address that nobody has: somebody else on that segment may be meant.
    fn wrong_target(&mut self, hop: &zarnet_core::network::Hop, id: RuleId, address: IpAddr) {
        let Some(exit) = hop.exit else { return };
        let device = self.device(hop.device);
        let segment = device.interfaces[exit.interface.index()].segment;
        let (port, protocol) = (exit.packet.destination().port, exit.packet.protocol);
        let devices = self.on_segment(segment).filter(|(d, _)| *d != hop.device);
        let mut candidates: Vec<(String, IpAddr)> = devices
            .flat_map(|(d, i)| self.addresses(d, i).map(move |a| (d, a)))
            .map(|(d, a)| (self.device(d).name.clone(), a))
            .collect();
        let listens = |h: &&zarnet_core::plan::Host| {
            h.segment == segment && h.listens.as_ref().is_some_and(|l| l.holds(protocol, port))
        };
        candidates
            .extend(self.plan.hosts.iter().filter(listens).map(|h| (h.name.clone(), h.address)));
        let rule = self.rule(hop.device, id);
        let verdict = format!(
            "rule {} of {} leads to {address}, which no host or device \
                     has",
            rule.name, device.name
        );
        for (name, candidate) in candidates {
            let internal = match &rule.kind {
                RuleKind::Forward(f) => {
                    let server = f.servers.iter().find(|s| s.address == address);
                    format!("{candidate}:{}", server.map_or(port, |s| s.port))
                }
                RuleKind::Exempt
                | RuleKind::Static(_)
                | RuleKind::Pool { .. }
                | RuleKind::Overload { .. } => candidate.to_string(),
            };
            let title = format!("let rule {} lead to {candidate} ({name})", rule.name);
            let edit = set(Table::Rule(hop.device, id), "internal", internal);
            self.suspect(
                Cause::ChainWrongAddress,
                self.at_rule(hop.device, id),
                verdict.clone(),
                title,
                vec![edit],
            );
        }
    }

    /// Rules that translate to an address.
    pub(super) fn users(&self, address: IpAddr) -> Vec<(DeviceId, RuleId)> {
        let mut users = Vec::new();
        for (d, device) in self.plan.devices.iter().enumerate() {
            for (r, rule) in device.rules.iter().enumerate() {
                // what an interface has is not the rule's own
                let fixed = rule.kind.external().filter(|e| matches!(e, External::Range(_)));
                let target = rule.kind.target().filter(|t| !matches!(t, Target::Interface(_)));
                let uses =
                    fixed.and_then(|e| device.external(e)).is_some_and(|r| r.contains(address))
                        || target.is_some_and(|t| device.listed_by(t).contains(address));
                if uses {
                    users.push((DeviceId(d as u16), RuleId(r as u16)));
                }
            }
        }
        users
    }

    /// An external address of a rule that nobody answers for.
    fn not_held(&mut self, address: IpAddr) {
        for (d, r) in self.users(address) {
            self.lease(d, r, address);
            let device = self.device(d);
            for (i, interface) in device.interfaces.iter().enumerate() {
                if !interface.addresses.iter().any(|a| a.1.contains(address)) {
                    continue;
                }
                let table = Table::Interface(d, InterfaceId(i as u16));
                let rule = &device.rules[r.index()].name;
                let verdict = format!(
                    "rule {rule} translates to {address}, and {} does not answer for it",
                    device.name
                );
                let title = format!("let interface {} answer for {address}", interface.name);
                let edit = append(table, "proxy-arp", address.to_string());
                self.suspect(
                    Cause::ExternalAddressNotHeld,
                    self.at_rule(d, r),
                    verdict.clone(),
                    title,
                    vec![edit],
                );
                let title = format!("give interface {} the address {address} too", interface.name);
                let edit = append(table, "also", address.to_string());
                self.suspect(
                    Cause::ExternalAddressNotHeld,
                    self.at_rule(d, r),
                    verdict,
                    title,
                    vec![edit],
                );
            }
        }
    }

    /// A rule that names an address which an interface had by an earlier lease.
    pub(super) fn lease(&mut self, d: DeviceId, r: RuleId, address: IpAddr) {
        let (device, rule) = (self.device(d), self.rule(d, r));
        for interface in device.interfaces.iter().filter(|i| i.lease && i.realm.is_some()) {
            let verdict = format!(
                "rule {} names {address}, and interface {} has {} by its lease",
                rule.name,
                interface.name,
                interface.primary().map(|a| a.to_string()).unwrap_or_default()
            );
            let (key, value) = match &rule.kind {
                RuleKind::Overload { target: Target::Address(_), .. } => {
                    ("as", interface.name.clone())
                }
                RuleKind::Static(_) => ("external", interface.name.clone()),
                RuleKind::Forward(f) => {
                    ("external", format!("{}:{}/{}", interface.name, f.ports, f.protocol))
                }
                RuleKind::Exempt | RuleKind::Pool { .. } | RuleKind::Overload { .. } => continue,
            };
            let title = format!("let rule {} follow interface {}", rule.name, interface.name);
            let edit = set(Table::Rule(d, r), key, value);
            self.suspect(Cause::LeaseChanged, self.at_rule(d, r), verdict, title, vec![edit]);
        }
    }

    /// The provider routes the address nowhere.
    pub(super) fn unrouted(&mut self) {
        let Some(packet) =
            self.trace().hops.last().and_then(|h| h.exit).map(|e| e.packet).or(self.sent())
        else {
            return;
        };
        let address = packet.destination().address;
        self.disabled_ends(address);
        let users = self.users(address);
        for &(d, r) in &users {
            self.lease(d, r, address);
            let device = self.device(d);
            let Some((interface, own)) = device.interfaces.iter().find_map(|i| {
                let own = i.addresses.iter().find(|a| a.0.is_ipv4() == address.is_ipv4())?;
                self.is_internet(i.segment).then_some((i, own.0))
            }) else {
                continue;
            };
            let block = match &device.rules[r.index()].kind {
                RuleKind::Pool { pool, .. }
                | RuleKind::Overload { target: Target::Pool(pool), .. } => device.pools
                    [pool.index()]
                .parts
                .iter()
                .find(|p| p.0.contains(address))
                .and_then(|p| p.1),
                RuleKind::Exempt
                | RuleKind::Static(_)
                | RuleKind::Overload { .. }
                | RuleKind::Forward(_) => None,
            };
            let whole = Prefix::holding(address, if address.is_ipv4() { 32 } else { 128 });
            let Some(block) = block.or(whole) else { continue };
            let verdict = format!(
                "rule {} translates to {block}, which the provider does not route to {}",
                device.rules[r.index()].name,
                device.name
            );
            let title = format!("have the provider route {block} to {own}");
            let entry =
                vec![("to", Value::from(block.to_string())), ("via", own.to_string().into())];
            let edit = append(Table::Segment(interface.segment), "routed", Value::Entry(entry));
            self.suspect(
                Cause::UpstreamDoesNotRoute,
                self.at_rule(d, r),
                verdict,
                title,
                vec![edit],
            );
        }
        let verdict = format!("no router on the internet has a route to {address}");
        let title = format!("find out where {address} should be");
        self.suspect(Cause::OutsideFault, At::nowhere(), verdict, title, Vec::new());
    }

    /// A protocol or family that the rule cannot translate.
    pub(super) fn unsupported(&mut self, loss: Loss) {
        let (Some(d), Some(r)) = (loss.device, loss.rule) else { return };
        let name = &self.rule(d, r).name;
        let verdict = if loss.reason == Reason::UnsupportedFamily {
            format!("rule {name} would have to translate a family that it cannot")
        } else {
            format!(
                "rule {name} has no port to tell hosts apart by, and another host has the same peer"
            )
        };
        let at = self.at_rule(d, r);
        let egress = self.last().and_then(egress).map(|i| &self.device(d).interfaces[i.index()]);
        if let (Some(free), Some(packet), Reason::UnsupportedProtocol) =
            (egress.and_then(|i| self.free_address(i)), self.sent(), loss.reason)
        {
            let from = packet.source().address;
            let title = format!("bind {from} to {free}, which is free");
            let fields = vec![
                ("name", Value::from(format!("{}-bound", self.sender_name()))),
                ("type", "static".into()),
                ("internal", from.to_string().into()),
                ("external", free.to_string().into()),
            ];
            let edit = Edit::Insert(d, List::Rules, Some(0), fields);
            self.suspect(Cause::ProtocolNotCovered, at, verdict.clone(), title, vec![edit]);
        }
        let title = "give it a way that this rule is not needed for".to_owned();
        self.suspect(Cause::ProtocolNotCovered, at, verdict, title, Vec::new());
    }

    /// A packet from the middle of a connection.
    pub(super) fn no_session(&mut self, loss: Loss) {
        let at = loss.device.map_or(At::nowhere(), |d| At::device(d, self.device(d).place));
        let verdict =
            "the connection was opened before the table was, or its session is gone".to_owned();
        let title = "open the connection anew".to_owned();
        self.suspect(Cause::OutsideFault, at, verdict, title, Vec::new());
    }
}
