//! Hosts: gateways, and what they listen to.

use super::{At, Case, append, set};
use crate::diagnose::Cause;
use crate::diagnose::near::service;
use zarnet_core::Reason;
use zarnet_core::network::{Origin, Receiver};
use zarnet_core::plan::edit::{Edit, List, Table, Value};
use zarnet_core::plan::{Host, HostId, InterfaceId, RuleKind};

impl Case<'_> {
    /// A packet that does not leave its sender's segment, or ends at a host that it is not for.
    pub(super) fn gateway(&mut self, reason: Reason) {
        let Some(id) = self.sender() else { return };
        let host = &self.plan.hosts[id.index()];
        let (name, gateway) = (host.name.clone(), host.gateway);
        let cause = match (gateway, self.back) {
            (None, true) => Cause::ServerWithoutGateway,
            (None, false) => Cause::NoGateway,
            (Some(_), _) => Cause::WrongGateway,
        };
        let verdict = match (gateway, reason) {
            (None, _) if self.back => {
                format!("{name} gets the packet, and has no gateway to answer by")
            }
            (None, _) => format!("{name} has no gateway, and the destination is not on its link"),
            (Some(g), Reason::NotForThisHost) => {
                format!("{g}, the gateway of {name}, is a host that passes nothing on")
            }
            (Some(g), _) => format!("no device answers for {g}, the gateway of {name}"),
        };
        self.other_gateways(id, cause, &verdict);
        self.stand_in(id, cause, &verdict);
    }

    /// Every device on a host's segment as its gateway.
    fn other_gateways(&mut self, id: HostId, cause: Cause, verdict: &str) {
        let host = &self.plan.hosts[id.index()];
        let found: Vec<_> = self
            .on_segment(host.segment)
            .flat_map(|(d, i)| self.addresses(d, i).map(move |a| (d, a)))
            .collect();
        let usable =
            found.into_iter().filter(|(_, a)| host.prefix.contains(*a) && Some(*a) != host.gateway);
        for (device, address) in usable {
            let title =
                format!("give {} the gateway {address} ({})", host.name, self.device(device).name);
            let edit = set(Table::Host(id), "gateway", address.to_string());
            self.suspect(cause, self.at_host(id), verdict.to_owned(), title, vec![edit]);
        }
    }

    /// The device stands in for the client, so that the server answers on its own link.
    fn stand_in(&mut self, id: HostId, cause: Cause, verdict: &str) {
        let Some(hop) = self.followed.forth.hops.last().filter(|_| self.back) else { return };
        let Some(exit) = hop.exit else { return };
        let device = self.device(hop.device);
        let interface = &device.interfaces[exit.interface.index()].name;
        let Some(rule) = self.entered(hop) else {
            return self.overload_towards(id, cause, verdict);
        };
        let title = format!(
            "translate the clients of rule {1} to the address of {0} on {interface}",
            device.name,
            device.rules[rule.index()].name
        );
        let edit = set(Table::Rule(hop.device, rule), "as", interface.clone());
        self.suspect(cause, self.at_host(id), verdict.to_owned(), title, vec![edit]);
    }

    /// The last device shows its own address to a host that cannot answer elsewhere.
    fn overload_towards(&mut self, id: HostId, cause: Cause, verdict: &str) {
        let Some((hop, exit)) = self.followed.forth.hops.last().and_then(|h| Some((h, h.exit?)))
        else {
            return;
        };
        let Some(ingress) = hop.ingress else { return };
        let (device, host) = (self.device(hop.device), &self.plan.hosts[id.index()]);
        let side = |i: InterfaceId| device.interfaces[i.index()].name.clone();
        let interface = side(exit.interface);
        let name = self.free_name(hop.device, &format!("to-{}", host.name));
        let title = format!("overload what goes to {} onto {interface}", host.name);
        let fields = vec![
            ("name", Value::from(name)),
            ("type", "overload".into()),
            ("from", side(ingress).into()),
            ("into", interface.clone().into()),
            ("destination", host.address.to_string().into()),
            ("as", interface.into()),
        ];
        let edit = Edit::Insert(hop.device, List::Rules, Some(0), fields);
        self.suspect(cause, self.at_host(id), verdict.to_owned(), title, vec![edit]);
    }

    /// The packet reached a host that does not listen to it.
    pub(super) fn not_listening(&mut self) {
        let Some(hop) = self.followed.forth.hops.last() else {
            return self.on_link_not_listening();
        };
        let Some(exit) = hop.exit else { return };
        let to = exit.packet.destination();
        let Some(host) = self.plan.hosts.iter().position(|h| h.address == to.address) else {
            return;
        };
        let (id, host) = (HostId(host as u32), &self.plan.hosts[host]);
        let verdict = format!("{} does not listen to {}", host.name, service(exit.packet));
        let listens = host.listens.clone().unwrap_or_default();
        if let Some(rule) = self.entered(hop)
            && let RuleKind::Forward(f) = &self.rule(hop.device, rule).kind
            && f.servers.len() == 1
        {
            let ports = listens.0.iter().filter(|s| s.protocol == Some(exit.packet.protocol));
            for port in ports.map(|s| s.ports.first) {
                let offset = hop.packet.destination().port.saturating_sub(f.ports.first);
                let Some(first) = port.checked_sub(offset) else { continue };
                let name = &self.rule(hop.device, rule).name;
                let title = format!("let rule {name} lead to port {port} of {}", host.name);
                let edit = set(
                    Table::Rule(hop.device, rule),
                    "internal",
                    format!("{}:{first}", host.name),
                );
                self.suspect(
                    Cause::ServerNotListening,
                    self.at_rule(hop.device, rule),
                    verdict.clone(),
                    title,
                    vec![edit],
                );
            }
        }
        let title = format!("let {} listen to {}", host.name, service(exit.packet));
        let edit = append(Table::Host(id), "listens", service(exit.packet));
        self.suspect(Cause::ServerNotListening, self.at_host(id), verdict, title, vec![edit]);
    }

    fn on_link_not_listening(&mut self) {
        let Some(packet) = self.sent() else { return };
        let Some(host) =
            self.plan.hosts.iter().position(|h| h.address == packet.destination().address)
        else {
            return;
        };
        let (id, name) = (HostId(host as u32), self.plan.hosts[host].name.clone());
        let title = format!("let {name} listen to {}", service(packet));
        let edit = append(Table::Host(id), "listens", service(packet));
        let verdict = format!("{name} does not listen to {}", service(packet));
        self.suspect(Cause::ServerNotListening, self.at_host(id), verdict, title, vec![edit]);
    }

    /// The answer came from another endpoint than the one that was asked.
    pub(super) fn answered_directly(&mut self) {
        let Some((receiver, _)) = self.followed.arrived else { return };
        let name = match receiver {
            Receiver::Host(id) => self.plan.hosts[id.index()].name.clone(),
            Receiver::Undeclared(_)
            | Receiver::Peer
            | Receiver::Device(_)
            | Receiver::Answering(..) => "the server".to_owned(),
        };
        let Some(hop) = self.followed.forth.hops.last() else { return };
        let direct = self.followed.back.hops.is_empty();
        if direct && let Some(rule) = self.entered(hop) {
            let verdict = format!(
                "{name} answers its neighbour directly, who asked the external address and drops \
                 the answer"
            );
            let behaviour = Table::Behaviour(hop.device);
            let title = format!(
                "let {} show its external address to {name} in a hairpin",
                self.device(hop.device).name
            );
            let edit = set(behaviour, "hairpin-source", "external");
            let at = self.at_rule(hop.device, rule);
            self.suspect(Cause::HairpinAnsweredDirectly, at, verdict.clone(), title, vec![edit]);
            if let Some(exit) = hop.exit {
                let interface =
                    self.device(hop.device).interfaces[exit.interface.index()].name.clone();
                let title = format!(
                    "let rule {} overload its clients to {interface}",
                    self.rule(hop.device, rule).name
                );
                let edit = set(Table::Rule(hop.device, rule), "as", interface);
                self.suspect(Cause::HairpinAnsweredDirectly, at, verdict, title, vec![edit]);
            }
            return;
        }
        if let Receiver::Host(id) = receiver {
            let verdict =
                format!("{name} answers by another device than the one that the packet came by");
            self.other_gateways(id, Cause::WrongGateway, &verdict);
            self.stand_in(id, Cause::WrongGateway, &verdict);
        }
    }

    /// The device's own traffic.
    pub(super) fn starts_at_device(&mut self) {
        let Some((Origin::Device(device, _), _)) = self.followed.sent else { return };
        self.translates_own();
        let name = &self.device(device).name;
        let verdict =
            format!("{name} itself sends it, and no rule concerns a device's own traffic");
        let to = self.followed.sent.map(|s| s.1.destination().address);
        let behind = |h: &&Host| {
            let inside = !self.is_internet(h.segment);
            inside && Some(h.address) != to && self.on_segment(h.segment).any(|(d, _)| d == device)
        };
        let host = self.plan.hosts.iter().find(behind);
        let from = host.map_or("a host behind it".to_owned(), |h| h.name.clone());
        let title = format!("test from {from} instead of from {name}");
        self.suspect(
            Cause::StartsAtDevice,
            At::device(device, self.device(device).place),
            verdict,
            title,
            Vec::<Edit>::new(),
        );
    }

    /// Rules may look at a device's own traffic, if it can do that.
    pub(super) fn translates_own(&mut self) {
        let Some((Origin::Device(id, _), _)) = self.followed.sent else { return };
        let device = self.device(id);
        if device.behaviour.translates_own || self.back {
            return;
        }
        let verdict = format!(
            "{} itself sends it, and its rules do not look at its own traffic",
            device.name
        );
        let title = format!(
            "let the rules of {} look at its own traffic too, if it can do that",
            device.name
        );
        let edit = set(Table::Behaviour(id), "translates-own", Value::Flag(true));
        self.suspect(
            Cause::StartsAtDevice,
            At::device(id, device.place),
            verdict,
            title,
            vec![edit],
        );
    }

    /// Nothing in the plan tells where the sender is.
    pub(super) fn unknown_source(&mut self) {
        let verdict = "nothing in the plan says where the sender is".to_owned();
        let title = "declare it as a [[host]]".to_owned();
        self.suspect(Cause::OutsideFault, At::nowhere(), verdict, title, Vec::new());
    }
}
