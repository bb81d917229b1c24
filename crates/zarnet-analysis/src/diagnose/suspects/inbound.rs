//! Packets for an external address that nothing lets in.

use std::net::IpAddr;

use super::{At, Case, append, set};
use crate::diagnose::Cause;
use crate::diagnose::near::{NearMiss, inbound_misses, nearest, service};
use zarnet_core::Reason;
use zarnet_core::device::Condition;
use zarnet_core::network::Hop;
use zarnet_core::observe::By;
use zarnet_core::plan::edit::{Edit, List, Table, Value};
use zarnet_core::plan::{External, InterfaceId, RuleId, RuleKind, SegmentId};

impl Case<'_> {
    /// A packet for an external address that nothing lets in.
    pub(super) fn not_let_in(&mut self, reason: Reason) {
        let Some(hop) = self.last() else { return self.not_listening() };
        if hop.exit.is_some() {
            return self.not_listening();
        }
        let misses = nearest(inbound_misses(&self.scene.network, hop));
        let device = self.device(hop.device);
        let ingress = hop.ingress;
        // nearest first; of two conditions each alone gets it further
        let few = misses.iter().filter(|m| m.unmet.len() <= 2);
        for (miss, condition) in few.flat_map(|m| m.unmet.iter().map(move |c| (m, *c))) {
            let (at, rule) =
                (self.at_rule(hop.device, miss.rule), self.rule(hop.device, miss.rule));
            match (condition, ingress) {
                (Condition::Enabled, _) => self.disabled(hop.device, miss.rule),
                (Condition::Into, Some(ingress)) => {
                    let (name, edit) = self.widen(hop.device, miss.rule, "hairpin", ingress);
                    let verdict = format!(
                        "rule {} does not serve the realm {name}: it does not hairpin",
                        rule.name
                    );
                    let title = format!("let rule {} hairpin for {name}", rule.name);
                    self.realms_of_inbound(hop, miss.rule, ingress);
                    self.outer_scope(hop, miss.rule, ingress);
                    self.suspect(Cause::HairpinOff, at, verdict, title, vec![edit]);
                }
                (Condition::Source, _) => {
                    let from = hop.packet.source().address;
                    let (name, of) = (&rule.name, &device.name);
                    let verdict = format!(
                        "rule {name} of {of} lets {} in, and {from} is not in it",
                        miss.needs
                    );
                    let title = format!("let rule {name} of {of} let {from} in too");
                    let edit =
                        append(Table::Rule(hop.device, miss.rule), "source", from.to_string());
                    self.suspect(Cause::SourceNotInList, at, verdict, title, vec![edit]);
                }
                (Condition::Direction, Some(ingress)) => {
                    let alone = NearMiss { unmet: vec![condition], ..miss.clone() };
                    self.out_of_scope(&alone, (ingress, ingress));
                }
                (Condition::Service, _) => {
                    self.other_protocol(hop, miss);
                    self.other_port(hop, miss);
                }
                (
                    Condition::Into
                    | Condition::Direction
                    | Condition::From
                    | Condition::Destination,
                    _,
                ) => {}
            }
        }
        for miss in misses.iter().filter(|m| m.unmet.len() == 2) {
            self.two_off_inbound(hop, miss);
        }
        self.ping_off(hop);
        if reason == Reason::Filtered && misses.is_empty() {
            let verdict = format!(
                "{} maps something there, and the inside has not addressed this peer",
                device.name
            );
            let title = format!(
                "let {} admit every peer (`filtering = \"endpoint-independent\"`), or forward the \
                 port",
                device.name
            );
            let edit = set(Table::Behaviour(hop.device), "filtering", "endpoint-independent");
            self.suspect(
                Cause::FilteredPeer,
                At::device(hop.device, device.place),
                verdict,
                title,
                vec![edit],
            );
        }
        self.leased(hop);
        self.forward_missing(hop);
        for miss in misses.iter().filter(|m| m.unmet == [Condition::Service]) {
            self.waits_elsewhere(hop, miss);
        }
    }

    /// Rules for this service that name an address which the interface no longer has.
    fn leased(&mut self, hop: &Hop) {
        let (to, device) = (hop.packet.destination(), self.device(hop.device));
        for (i, rule) in device.rules.iter().enumerate().filter(|(_, r)| r.enabled) {
            let External::Range(range) = (match &rule.kind {
                RuleKind::Forward(f)
                    if f.protocol == hop.packet.protocol && f.ports.contains(to.port) =>
                {
                    f.external
                }
                RuleKind::Static(s) if rule.service.holds(hop.packet.protocol, to.port) => {
                    s.external
                }
                RuleKind::Exempt
                | RuleKind::Static(_)
                | RuleKind::Pool { .. }
                | RuleKind::Overload { .. }
                | RuleKind::Forward(_) => continue,
            }) else {
                continue;
            };
            if range.count() == 1 && !range.contains(to.address) {
                self.lease(hop.device, RuleId(i as u16), range.first());
            }
        }
    }

    /// The external address of a forward as it is written.
    pub(super) fn written_end(&self, hop: &Hop, rule: RuleId) -> Option<String> {
        let RuleKind::Forward(f) = &self.rule(hop.device, rule).kind else { return None };
        Some(match f.external {
            External::Interface(i) => self.device(hop.device).interfaces[i.index()].name.clone(),
            External::Range(r) => r.first().to_string(),
        })
    }

    /// The realms that keep a packet from outside out may be the wrong way round, or missing.
    fn realms_of_inbound(&mut self, hop: &Hop, rule: RuleId, ingress: InterfaceId) {
        let internal = match &self.rule(hop.device, rule).kind {
            RuleKind::Forward(f) => f.servers.first().map(|s| s.address),
            RuleKind::Static(s) => Some(s.internal.first()),
            RuleKind::Exempt | RuleKind::Pool { .. } | RuleKind::Overload { .. } => None,
        };
        let interfaces = self.device(hop.device).interfaces.iter();
        let holding =
            |a| interfaces.clone().position(|i| i.addresses.iter().any(|p| p.1.contains(a)));
        if let Some(inner) = internal.and_then(holding) {
            self.realms(hop.device, ingress, InterfaceId(inner as u16));
            self.realms_swapped(hop.device, ingress, InterfaceId(inner as u16));
        }
    }

    fn ping_off(&mut self, hop: &Hop) {
        let Some(By::Interface(own)) = hop.steps.last().map(|s| s.by) else { return };
        let interface = &self.device(hop.device).interfaces[own.index()];
        if hop.packet.protocol.has_query_id() && !interface.ping {
            let verdict = format!("interface {} answers no echo requests", interface.name);
            let title = format!("let interface {} answer echo requests", interface.name);
            let edit = Edit::Unset(Table::Interface(hop.device, own), "ping".to_owned());
            self.suspect(
                Cause::ServerNotListening,
                At::device(hop.device, interface.place),
                verdict,
                title,
                vec![edit],
            );
        }
    }

    /// A rule has the address, and waits at another port: the device in front leads to the wrong
    /// one, or the rule is wrong.
    fn other_port(&mut self, hop: &Hop, miss: &NearMiss) {
        let RuleKind::Forward(f) = &self.rule(hop.device, miss.rule).kind else { return };
        if f.protocol != hop.packet.protocol {
            return;
        }
        let (name, wanted, got) =
            (&self.rule(hop.device, miss.rule).name, f.ports.first, hop.packet.destination().port);
        let before = self.followed.forth.hops.iter().rev().nth(1);
        if let Some(front) = before
            && let Some(rule) = self.entered(front)
            && let RuleKind::Forward(outer) = &self.rule(front.device, rule).kind
        {
            let offset = front.packet.destination().port.saturating_sub(outer.ports.first);
            let first = wanted.saturating_sub(offset);
            let front_rule = &self.rule(front.device, rule).name;
            let verdict = format!(
                "{} forwards to port {got}, and rule {name} of {} waits at {wanted}",
                self.device(front.device).name,
                self.device(hop.device).name
            );
            let title = format!(
                "let rule {front_rule} of {} lead to port {wanted}",
                self.device(front.device).name
            );
            let address = hop.packet.destination().address;
            let edit =
                set(Table::Rule(front.device, rule), "internal", format!("{address}:{first}"));
            let at = self.at_rule(front.device, rule);
            self.suspect(Cause::ChainWrongPort, at, verdict.clone(), title, vec![edit]);
            let title =
                format!("let rule {name} of {} wait at port {got}", self.device(hop.device).name);
            let edit = self.external_port(hop, miss.rule, got);
            self.suspect(Cause::ChainWrongPort, at, verdict, title, edit.into_iter().collect());
        }
    }

    /// Somebody asks for a port that nobody forwards, and a rule waits at another of the same
    /// address.
    fn waits_elsewhere(&mut self, hop: &Hop, miss: &NearMiss) {
        let RuleKind::Forward(f) = &self.rule(hop.device, miss.rule).kind else { return };
        if f.protocol != hop.packet.protocol {
            return;
        }
        let (name, wanted, got) =
            (&self.rule(hop.device, miss.rule).name, f.ports.first, hop.packet.destination().port);
        let verdict =
            format!("no rule forwards {}, and rule {name} expects {wanted}", service(hop.packet));
        let title = format!("let rule {name} wait at port {got}");
        let edit = self.external_port(hop, miss.rule, got);
        self.suspect(
            Cause::ForwardMissing,
            self.at_rule(hop.device, miss.rule),
            verdict,
            title,
            edit.into_iter().collect(),
        );
    }

    /// Another external port for a forward.
    fn external_port(&self, hop: &Hop, rule: RuleId, port: u16) -> Option<Edit> {
        let RuleKind::Forward(f) = &self.rule(hop.device, rule).kind else { return None };
        let address = self.written_end(hop, rule)?;
        (f.ports.count() == 1).then(|| {
            set(
                Table::Rule(hop.device, rule),
                "external",
                format!("{address}:{port}/{}", f.protocol),
            )
        })
    }

    /// Nothing leads the external end inside.
    fn forward_missing(&mut self, hop: &Hop) {
        let device = self.device(hop.device);
        let to = hop.packet.destination();
        let verdict =
            format!("no rule of {} leads {to} ({}) inside", device.name, service(hop.packet));
        let place = device.place;
        let listens = |h: &&zarnet_core::plan::Host| {
            let behind = device.interfaces.iter().any(|i| Some(i.segment) == Some(h.segment));
            behind && h.listens.as_ref().is_some_and(|l| l.holds(hop.packet.protocol, to.port))
        };
        let servers: Vec<(String, IpAddr)> =
            self.plan.hosts.iter().filter(listens).map(|h| (h.name.clone(), h.address)).collect();
        if let (true, Some(own)) = (hop.packet.protocol.has_ports(), self.external_name(hop)) {
            let groups = self.groups_of_senders(hop.packet.source().address);
            for (name, _) in servers.iter().take(3) {
                for group in std::iter::once(None).chain(groups.iter().map(Some)) {
                    let whom = group.map(|g| format!(", for {g} only")).unwrap_or_default();
                    let title = format!("forward {} to {name}{whom}", service(hop.packet));
                    let mut fields = vec![
                        ("name", Value::from(self.free_name(hop.device, &format!("{name}-in")))),
                        ("type", "forward".into()),
                        ("external", format!("{own}:{}", service(hop.packet)).into()),
                        ("internal", format!("{name}:{}", to.port).into()),
                    ];
                    fields.extend(group.map(|g| ("source", Value::from(g.clone()))));
                    let edit = Edit::Insert(hop.device, List::Rules, None, fields);
                    let at = At::device(hop.device, place);
                    self.suspect(Cause::ForwardMissing, at, verdict.clone(), title, vec![edit]);
                }
            }
        }
        self.forward_to_next(hop, &verdict);
        let title = "forward it to the server that is meant".to_owned();
        let at = At::device(hop.device, place);
        self.suspect(Cause::ForwardMissing, at, verdict, title, Vec::new());
    }

    /// Groups of the plan that hold a sender from outside, and nothing inside.
    fn groups_of_senders(&self, from: IpAddr) -> Vec<String> {
        let inside = |a: IpAddr| {
            self.plan.hosts.iter().any(|h| h.address == a && !self.is_internet(h.segment))
        };
        let groups = self.plan.groups.iter();
        let holding =
            groups.filter(|(_, set)| set.contains(from) && !set.is_all() && !inside(from));
        holding.map(|(name, _)| name.clone()).take(2).collect()
    }

    /// A device behind this one has a forward that waits for it.
    fn forward_to_next(&mut self, hop: &Hop, verdict: &str) {
        let (device, packet) = (self.device(hop.device), hop.packet);
        let Some(own) = self.external_name(hop).filter(|_| packet.protocol.has_ports()) else {
            return;
        };
        for (d, inner) in self.plan.devices.iter().enumerate().filter(|d| d.0 != hop.device.index())
        {
            for rule in inner.rules.iter().filter(|r| r.enabled) {
                let RuleKind::Forward(f) = &rule.kind else { continue };
                let Some(end) = inner.external(f.external).map(|e| e.first()) else { continue };
                let behind = device.interfaces.iter().any(|i| {
                    i.addresses.iter().any(|a| a.1.contains(end))
                        && Some(i.segment) != self.entry(hop)
                });
                if f.protocol != packet.protocol || !behind {
                    continue;
                }
                let (what, name) = (service(packet), &self.plan.devices[d].name);
                let title = format!("forward {what} to {end}:{} of {name}", f.ports.first);
                let rule_name = self.free_name(hop.device, &format!("{}-outside", rule.name));
                let fields = vec![
                    ("name", Value::from(rule_name)),
                    ("type", "forward".into()),
                    ("external", format!("{own}:{what}").into()),
                    ("internal", format!("{end}:{}", f.ports.first).into()),
                ];
                let edit = Edit::Insert(hop.device, List::Rules, None, fields);
                let at = At::device(hop.device, device.place);
                self.suspect(Cause::ForwardMissing, at, verdict.to_owned(), title, vec![edit]);
            }
        }
    }

    /// The segment by which a packet came to a device.
    fn entry(&self, hop: &Hop) -> Option<SegmentId> {
        Some(self.device(hop.device).interfaces[hop.ingress?.index()].segment)
    }

    /// How a rule would write the external address of a packet.
    fn external_name(&self, hop: &Hop) -> Option<String> {
        let to = hop.packet.destination().address;
        let device = self.device(hop.device);
        let interface = device.interfaces.iter().find(|i| i.primary() == Some(to));
        Some(interface.map_or(to.to_string(), |i| i.name.clone()))
    }
}
