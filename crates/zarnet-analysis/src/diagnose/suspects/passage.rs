//! Getting through a device: filters, forwarding, routes, policies, realms.

use std::net::IpAddr;

use super::{At, Case, append, set};
use crate::diagnose::Cause;
use crate::diagnose::near::{egress, service};
use zarnet_core::Reason;
use zarnet_core::net::{Packet, Prefix};
use zarnet_core::network::Hop;
use zarnet_core::observe::{By, Stage, StageResult};
use zarnet_core::plan::edit::{Edit, List, Table, Value};
use zarnet_core::plan::{DeviceId, InterfaceId, Verdict};

impl Case<'_> {
    /// A filter drops it.
    pub(super) fn filter(&mut self) {
        let Some(hop) = self.last() else { return };
        let Some(step) = hop.steps.last() else { return };
        let By::Acl(acl, entry) = step.by else { return };
        let device = self.device(hop.device);
        let ingress = step.stage == Stage::IngressAcl;
        let packet = if ingress { hop.packet } else { leaving(hop) };
        let interface = if ingress { hop.ingress } else { egress(hop) };
        let (cause, key, word) = match ingress {
            true => (Cause::IngressFilter, "ingress-acl", "in"),
            false => (Cause::EgressFilter, "egress-acl", "out"),
        };
        let (name, what) = (&device.acls[acl.index()].name, service(packet));
        let (from, to) = (packet.source().address, packet.destination().address);
        let which = entry.map_or("no entry of it lets it pass".to_owned(), |e| {
            format!("its entry {} drops it", e + 1)
        });
        let verdict =
            format!("filter {name} does not let {what} from {from} to {to} {word}: {which}");
        let at = At::device(hop.device, step.place.unwrap_or(device.place));
        let known = |s: &zarnet_core::observe::Step| {
            matches!(s.result, StageResult::Known { from_initiator: false })
        };
        // a filter on what comes in looks before the session does
        let went_out = self.back && self.followed.forth.hops.iter().any(|h| h.device == hop.device);
        let is_answer = went_out || hop.steps.iter().any(known);
        let cause = if is_answer { Cause::AnswersNotAccepted } else { cause };
        let mut fields = if is_answer {
            vec![("accept", Value::from("any")), ("answers", Value::Flag(true))]
        } else {
            vec![("accept", what.clone().into())]
        };
        let title = match is_answer {
            true => format!("let filter {name} pass answers of known sessions"),
            false => format!("let filter {name} pass {what} from {from} to {to}"),
        };
        if !is_answer {
            fields.extend([
                ("source", from.to_string().into()),
                ("destination", to.to_string().into()),
            ]);
        }
        let edit = Edit::InsertEntry(hop.device, acl, entry, Value::Entry(fields));
        self.suspect(cause, at, verdict.clone(), title, vec![edit]);
        if !is_answer {
            let title = format!("let filter {name} pass {what} from and to anybody");
            let fields = vec![("accept", what.clone().into())];
            let edit = Edit::InsertEntry(hop.device, acl, entry, Value::Entry(fields));
            self.suspect(cause, at, verdict.clone(), title, vec![edit]);
        }
        // a filter that names addresses as they are before translation is meant for the other side
        if let Some(interface) = interface {
            let title =
                format!("take filter {name} off {}", device.interfaces[interface.index()].name);
            let edit = Edit::Unset(Table::Interface(hop.device, interface), key.to_owned());
            self.suspect(cause, at, verdict, title, vec![edit]);
        }
    }

    pub(super) fn not_forwarding(&mut self) {
        let Some(hop) = self.last() else { return };
        let device = self.device(hop.device);
        let verdict = format!("{} has forwarding switched off", device.name);
        let title = format!("switch forwarding on at {}", device.name);
        let edit = Edit::Unset(Table::Device(hop.device), "forwarding".to_owned());
        self.suspect(
            Cause::NotForwarding,
            At::device(hop.device, device.place),
            verdict,
            title,
            vec![edit],
        );
    }

    /// No route, or routes in a circle.
    pub(super) fn no_route(&mut self, reason: Reason) {
        let cause = if self.back { Cause::NoRouteBack } else { Cause::NoRouteOut };
        let Some(hop) = self.last() else { return };
        let to = leaving(hop).destination().address;
        if reason == Reason::NoRoute {
            if self.back {
                self.untranslated_before();
            }
            let verdict = format!("{} has no route to {to}", self.device(hop.device).name);
            return self.routes(cause, hop.device, to, &verdict);
        }
        let mut devices: Vec<DeviceId> =
            self.trace().hops.iter().rev().take(8).map(|h| h.device).collect();
        devices.sort_unstable();
        devices.dedup();
        let names: Vec<&str> = devices.iter().map(|d| self.device(*d).name.as_str()).collect();
        let verdict = format!("{} send packets to {to} round and round", names.join(" and "));
        // who has another way out should not go back
        for device in devices {
            self.routes(cause, device, to, &verdict);
        }
    }

    /// Ways by which a device could reach an address: a neighbour that has it, the internet, a
    /// neighbour that knows more.
    pub(super) fn routes(&mut self, cause: Cause, id: DeviceId, to: IpAddr, verdict: &str) {
        let device = self.device(id);
        let mut ways: Vec<(Prefix, IpAddr)> = Vec::new();
        let everything = Prefix::holding(to, 0);
        for interface in &device.interfaces {
            let neighbours: Vec<(DeviceId, InterfaceId)> =
                self.on_segment(interface.segment).filter(|(d, _)| *d != id).collect();
            for (d, i) in &neighbours {
                let reaches = self
                    .device(*d)
                    .interfaces
                    .iter()
                    .flat_map(|i| &i.addresses)
                    .find(|a| a.1.contains(to));
                let mut addresses = self
                    .addresses(*d, *i)
                    .filter(|a| interface.addresses.iter().any(|p| p.1.contains(*a)));
                let via = addresses.find(|a| a.is_ipv4() == to.is_ipv4());
                if let (Some(reaches), Some(via)) = (reaches, via) {
                    ways.insert(0, (reaches.1, via));
                } else if let (Some(everything), Some(via)) = (everything, via) {
                    ways.push((everything, via));
                }
            }
            if self.is_internet(interface.segment)
                && let Some((own, prefix)) =
                    interface.addresses.iter().find(|a| a.0.is_ipv4() == to.is_ipv4())
                && let Some(everything) = everything
            {
                ways.extend(provider(self, *own, *prefix).map(|via| (everything, via)));
            }
        }
        let at = At::device(id, device.place);
        for (prefix, via) in ways {
            let route = device.routes.iter().position(|r| r.to == prefix);
            let (title, edit) = match route {
                Some(i) if device.routes[i].via == via => continue,
                Some(i) => (
                    format!("let the route of {} to {prefix} lead to {via}", device.name),
                    set(Table::Route(id, i), "via", via.to_string()),
                ),
                None => (
                    format!("give {} a route to {prefix} by {via}", device.name),
                    Edit::Insert(
                        id,
                        List::Routes,
                        None,
                        vec![("to", prefix.to_string().into()), ("via", via.to_string().into())],
                    ),
                ),
            };
            let at = route.map_or(at, |i| At { place: Some(device.routes[i].place), ..at });
            self.suspect(cause, at, verdict.to_owned(), title, vec![edit]);
        }
    }

    /// The policy between two realms drops it.
    pub(super) fn policy(&mut self) {
        let Some(hop) = self.last() else { return };
        let Some((ingress, egress)) = hop.ingress.zip(egress(hop)) else { return };
        let Some(step) = hop.steps.last() else { return };
        let By::Policy(entry) = step.by else { return };
        if self.lacks_realm(hop.device, ingress) || self.lacks_realm(hop.device, egress) {
            self.realms(hop.device, ingress, egress);
        }
        let device = self.device(hop.device);
        let inside = leaving(hop);
        let sees_translated = device.behaviour.policy_sees_translated;
        let (seen, other) =
            if sees_translated { (inside, hop.packet) } else { (hop.packet, inside) };
        let at = At::device(hop.device, step.place.unwrap_or(device.place));
        let side = |i: InterfaceId| device.interfaces[i.index()].side();
        let (from, into) = (side(ingress), side(egress));
        let names = |p: &zarnet_core::plan::Policy, packet: Packet| {
            p.verdict == Verdict::Accept
                && p.is_between(ingress, egress)
                && p.is_for(packet.protocol, hop.packet.source().address, packet.destination())
        };
        let meant = device.policies.iter().find(|p| other.ends != seen.ends && names(p, other));
        let what = format!(
            "{} from {} to {}",
            service(seen),
            seen.source().address,
            seen.destination().address
        );
        let (cause, verdict) = match meant {
            Some(_) => (
                Cause::PolicySeesOtherAddress,
                format!(
                    "the policy looks at {} ({}), and the entry that was meant names {}",
                    seen.destination(),
                    if sees_translated { "as translated" } else { "as sent" },
                    other.destination()
                ),
            ),
            None => (
                Cause::PolicyMissing,
                format!("no policy entry lets {what} pass from {from} into {into}"),
            ),
        };
        let mut fields =
            vec![("from", from.into()), ("into", into.into()), ("accept", service(seen).into())];
        let (own_source, packet_protocol) = (hop.packet.source().address, hop.packet.protocol);
        fields.extend([
            ("source", own_source.to_string().into()),
            ("destination", seen.destination().address.to_string().into()),
        ]);
        self.entry_of_other_realms((hop.device, ingress, egress), |p| {
            p.is_for(packet_protocol, own_source, seen.destination())
        });
        let at = At { place: meant.map(|m| m.place).or(at.place), ..at };
        let title =
            format!("let the policy of {} pass {what} from {from} into {into}", device.name);
        let mut wide = fields.clone();
        wide.retain(|f| {
            f.0 != "source" && (f.0 != "destination" || inside.ends != hop.packet.ends)
        });
        let insert = |fields| vec![Edit::Insert(hop.device, List::Policies, entry, fields)];
        let narrow = insert(fields);
        self.suspect(cause, at, verdict.clone(), title, narrow);
        let title = format!(
            "let the policy of {} pass {} from anybody in {from} into {into}",
            device.name,
            service(seen)
        );
        self.suspect(cause, at, verdict.clone(), title, insert(wide));
        if meant.is_some() {
            let other = if sees_translated { "original" } else { "translated" };
            let title =
                format!("let the policy of {} look at the {other} destination", device.name);
            let edit = set(Table::Behaviour(hop.device), "policy-sees", other);
            self.suspect(cause, at, verdict, title, vec![edit]);
        }
        self.realms(hop.device, ingress, egress);
        self.realms_swapped(hop.device, ingress, egress);
    }

    /// A filter that would drop what is to be refused, and that nobody attached.
    pub(super) fn unattached(&mut self) {
        for hop in &self.followed.forth.hops {
            let device = self.device(hop.device);
            let Some(ingress) = hop.ingress else { continue };
            for (i, acl) in device.acls.iter().enumerate() {
                let attached = device.interfaces.iter().any(|f| {
                    [f.ingress_acl, f.egress_acl].iter().flatten().any(|a| a.index() == i)
                });
                if attached {
                    continue;
                }
                let verdict =
                    format!("filter {} is attached to no interface: it does nothing", acl.name);
                let interface = &device.interfaces[ingress.index()];
                let title =
                    format!("attach filter {} to what comes in by {}", acl.name, interface.name);
                let edit =
                    set(Table::Interface(hop.device, ingress), "ingress-acl", acl.name.clone());
                let at = At::device(hop.device, acl.place);
                self.suspect(Cause::FilterNotAttached, at, verdict.clone(), title, vec![edit]);
                if let Some(exit) = hop.exit {
                    let interface = &device.interfaces[exit.interface.index()];
                    let title =
                        format!("attach filter {} to what leaves by {}", acl.name, interface.name);
                    let edit = set(
                        Table::Interface(hop.device, exit.interface),
                        "egress-acl",
                        acl.name.clone(),
                    );
                    self.suspect(Cause::FilterNotAttached, at, verdict, title, vec![edit]);
                }
            }
        }
    }

    /// Adds a realm or interface to a list of a rule.
    pub(super) fn widen(
        &self,
        device: DeviceId,
        rule: zarnet_core::plan::RuleId,
        key: &str,
        interface: InterfaceId,
    ) -> (String, Edit) {
        let name = self.device(device).interfaces[interface.index()].side().to_owned();
        (name.clone(), append(Table::Rule(device, rule), key, name))
    }
}

/// The provider's router: the next hop of another route there, or the first address of the prefix.
fn provider(case: &Case<'_>, own: IpAddr, prefix: Prefix) -> impl Iterator<Item = IpAddr> + use<> {
    let known = case
        .plan
        .devices
        .iter()
        .flat_map(|d| &d.routes)
        .map(|r| r.via)
        .find(|v| prefix.contains(*v) && *v != own);
    let first = prefix.range().nth(1).filter(|a| *a != own);
    let last = prefix.range().nth(prefix.range().count().saturating_sub(2)).filter(|a| *a != own);
    known.or(first).or(last).into_iter()
}

/// A packet as it was when its way through a device ended, or as it left.
pub(super) fn leaving(hop: &Hop) -> Packet {
    let mut packet = hop.packet;
    for step in &hop.steps {
        if let StageResult::Translated { to, .. } = step.result {
            match step.stage {
                Stage::Destination => packet.ends.destination = to,
                Stage::IngressAcl
                | Stage::Session
                | Stage::Own
                | Stage::Route
                | Stage::Policy
                | Stage::Source
                | Stage::EgressAcl
                | Stage::Commit => packet.ends.source = to,
            }
        }
    }
    packet
}
