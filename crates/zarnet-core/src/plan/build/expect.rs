//! Expectations: flows and ends, with every name looked up.

use std::net::IpAddr;

use super::{Builder, Text};
use crate::net::{AddressRange, AddressSet, FlowNotation, Instant, PortRange};
use crate::plan::{
    DeviceId, DraftExpect, DraftSeenBy, EndSet, Expectation, InterfaceId, Placed, Plan, PlanError,
    SeenBy, Viewpoint,
};
use crate::reason::Reason;
use crate::traffic::{Flow, Party};

impl Builder {
    pub(super) fn expectation(&mut self, draft: &DraftExpect, plan: &Plan) -> Option<Expectation> {
        let flow = self.flow(&draft.flow, plan);
        let becomes = draft.becomes.as_ref().map(|t| self.end_set(t, plan));
        let reaches = draft.reaches.as_ref().map(|t| self.end_set(t, plan));
        let names = Reason::ALL.iter().map(|r| (r.name(), *r)).collect::<Vec<_>>();
        let reason = draft.reason.as_ref().map(|t| self.one_of("reason", t, &names));
        let seen_by: Vec<_> = draft.seen_by.iter().map(|s| self.seen_by(s, plan)).collect();
        let note = draft.note.as_ref().map(|n| n.value.clone());
        let flag = |flag: &Option<Placed<bool>>| flag.as_ref().map(|f| f.value);
        Some(Expectation {
            flow: flow?,
            becomes: intact(becomes)?,
            reaches: intact(reaches)?,
            refused: flag(&draft.refused),
            unreachable: flag(&draft.unreachable),
            reason: intact(reason)?,
            seen_by: seen_by.into_iter().collect::<Option<_>>()?,
            note,
            place: draft.place,
        })
    }

    fn seen_by(&mut self, draft: &DraftSeenBy, plan: &Plan) -> Option<SeenBy> {
        let at = self.viewpoint(&draft.at, plan);
        let source = draft.source.as_ref().map(|t| self.end_set(t, plan));
        let destination = draft.destination.as_ref().map(|t| self.end_set(t, plan));
        Some(SeenBy {
            at: at?,
            name: draft.at.value.clone(),
            source: intact(source)?,
            destination: intact(destination)?,
            place: draft.place,
        })
    }

    /// A host, a `DEVICE/INTERFACE`, or an address.
    fn viewpoint(&mut self, text: &Text, plan: &Plan) -> Option<Viewpoint> {
        let name = text.value.trim();
        if let Some(host) = self.world.host(name) {
            return Some(Viewpoint::Host(host));
        }
        if name.contains('/') {
            return self.interface_at(text, plan).map(|(d, i)| Viewpoint::Interface(d, i));
        }
        if let Ok(address) = name.parse::<IpAddr>() {
            return Some(Viewpoint::Address(address));
        }
        let hosts = plan.hosts.iter().map(|h| h.name.as_str());
        self.unknown("host", text, hosts);
        None
    }

    fn interface_at(&mut self, text: &Text, plan: &Plan) -> Option<(DeviceId, InterfaceId)> {
        let (device, interface) = text.value.trim().split_once('/')?;
        let part = |value: &str| Text::new(value.to_owned(), text.place);
        let Some(id) = self.world.device(device) else {
            self.unknown("device", &part(device), plan.devices.iter().map(|d| d.name.as_str()));
            return None;
        };
        let names = || plan.devices[id.index()].interfaces.iter().map(|i| i.name.as_str());
        let Some(found) = names().position(|n| n == interface) else {
            self.unknown("interface", &part(interface), names());
            return None;
        };
        Some((id, InterfaceId(found as u16)))
    }

    /// Addresses with or without a port: `203.0.113.2`, `203.0.113.2:443`, a group, a host, or
    /// `DEVICE/INTERFACE`.
    fn end_set(&mut self, text: &Text, plan: &Plan) -> Option<EndSet> {
        let name = text.value.trim();
        let is_v6 = name.matches(':').count() > 1 && !name.starts_with('[');
        let (who, port) = match name.rsplit_once(':') {
            Some((who, port)) if !is_v6 => {
                (who.trim().trim_start_matches('[').trim_end_matches(']'), Some(port))
            }
            _ => (name, None),
        };
        let place = text.place;
        let ports = port.map(|p| self.take(p.trim().parse::<PortRange>(), place));
        let who = Text::new(who.to_owned(), place);
        let named = |device: &str| {
            !device.contains(':') && !device.starts_with(|c: char| c.is_ascii_digit())
        };
        let of_interface = who.value.split_once('/').is_some_and(|(device, _)| named(device));
        let addresses: AddressSet = if of_interface {
            let (device, interface) = self.interface_at(&who, plan)?;
            let interface = &plan.devices[device.index()].interfaces[interface.index()];
            interface.addresses.iter().map(|a| AddressRange::one(a.0)).collect()
        } else {
            self.addresses(std::slice::from_ref(&who))
        };
        Some(EndSet { addresses, ports: intact(ports)?, text: name.to_owned() })
    }

    /// A flow in its notation, between addresses, hosts and devices of the plan.
    fn flow(&mut self, text: &Text, plan: &Plan) -> Option<Flow> {
        let notation: FlowNotation = self.parse(text)?;
        let place = text.place;
        let source = self.party(&notation.source.who, text, plan);
        let destination = self.party(&notation.destination.who, text, plan);
        self.take(notation.check_port(), place)?;
        Some(Flow::of_notation(&notation, source?, destination?, Instant::ZERO))
    }

    fn party(&mut self, who: &str, text: &Text, plan: &Plan) -> Option<Party> {
        if let Some(host) = self.world.host(who) {
            return Some(Party::Host(host));
        }
        if let Some(device) = self.world.device(who) {
            return Some(Party::Device(device));
        }
        if let Some((device, interface)) = who.split_once('/')
            && let Some(device) = self.world.device(device)
            && let Some(plan) = plan.devices.get(device.index())
            && let Some(interface) = plan.interfaces.iter().position(|i| i.name == interface)
        {
            return Some(Party::Interface(device, InterfaceId(interface as u16)));
        }
        if let Ok(address) = crate::net::parse_address(who) {
            if self.world.is_of_several(address) {
                self.report(PlanError::AddressOfTwo(address), text.place);
                return None;
            }
            return Some(Party::Address(address));
        }
        let names = plan
            .hosts
            .iter()
            .map(|h| h.name.as_str())
            .chain(plan.devices.iter().map(|d| d.name.as_str()));
        self.unknown("host or device", &Text::new(who.to_owned(), text.place), names);
        None
    }
}

/// What was left out may be left out; what was given and is wrong may not.
fn intact<T>(given: Option<Option<T>>) -> Option<Option<T>> {
    given.map_or(Some(None), |value| value.map(Some))
}
