//! Packets for an external address that nothing lets in.

use std::net::IpAddr;

use super::{At, Case, append, set};
use crate::diagnose::Cause;
use crate::diagnose::near::{NearMiss, inbound_misses, service};
use zarnet_core::Reason;
use zarnet_core::device::Condition;
use zarnet_core::network::Hop;
use zarnet_core::observe::By;
use zarnet_core::plan::edit::{Edit, List, Table, Value};
use zarnet_core::plan::{External, InterfaceId, RuleId, RuleKind};

impl Case<'_> {
    /// A packet for an external address that nothing lets in.
    pub(super) fn not_let_in(&mut self, reason: Reason) {
        let Some(hop) = self.last() else { return self.not_listening() };
        if hop.exit.is_some() {
            return self.not_listening();
        }
        let misses = inbound_misses(&self.scene.network, hop);
        let device = self.device(hop.device);
        let ingress = hop.ingress;
        // nearest first; of two conditions each alone gets it further
        let nearest = misses.iter().filter(|m| m.unmet.len() <= 2);
        for (miss, condition) in nearest.flat_map(|m| m.unmet.iter().map(move |c| (m, *c))) {
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
                (Condition::Direction, _) => {
                    let verdict = format!("rule {} is good outbound only", rule.name);
                    let title = format!("let rule {} be good in both directions", rule.name);
                    let edit =
                        Edit::Unset(Table::Rule(hop.device, miss.rule), "direction".to_owned());
                    self.suspect(Cause::ForwardMissing, at, verdict, title, vec![edit]);
                }
                (Condition::Service, _) => self.other_port(hop, miss),
                _ => {}
            }
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
        let device = self.device(hop.device);
        let RuleKind::Forward(f) = &self.rule(hop.device, rule).kind else { return None };
        let address = match f.external {
            zarnet_core::plan::External::Interface(i) => device.interfaces[i.index()].name.clone(),
            zarnet_core::plan::External::Range(r) => r.first().to_string(),
        };
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
            for (name, _) in servers.iter().take(3) {
                let title = format!("forward {} to {name}", service(hop.packet));
                let fields = vec![
                    ("name", Value::from(self.free_name(hop.device, &format!("{name}-in")))),
                    ("type", "forward".into()),
                    ("external", format!("{own}:{}", service(hop.packet)).into()),
                    ("internal", format!("{name}:{}", to.port).into()),
                ];
                let edit = Edit::Insert(hop.device, List::Rules, None, fields);
                self.suspect(
                    Cause::ForwardMissing,
                    At::device(hop.device, place),
                    verdict.clone(),
                    title,
                    vec![edit],
                );
            }
        }
        let title = "forward it to the server that is meant".to_owned();
        self.suspect(
            Cause::ForwardMissing,
            At::device(hop.device, place),
            verdict,
            title,
            Vec::new(),
        );
    }

    /// How a rule would write the external address of a packet.
    fn external_name(&self, hop: &Hop) -> Option<String> {
        let to = hop.packet.destination().address;
        let device = self.device(hop.device);
        let interface = device.interfaces.iter().find(|i| i.primary() == Some(to));
        Some(interface.map_or(to.to_string(), |i| i.name.clone()))
    }
}
