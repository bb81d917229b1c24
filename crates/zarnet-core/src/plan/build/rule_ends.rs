//! The internal and external ends of `static` and `forward` rules.

use super::{Builder, PlanError, Text};
use crate::net::{AddressRange, NotationError, PortRange, Protocol, Service};
use crate::plan::{DevicePlan, Direction, DraftRule, External, Forward, Server, Spread, Static};

impl Builder {
    pub(super) fn static_rule(
        &mut self,
        draft: &DraftRule,
        device: &mut DevicePlan,
    ) -> Option<Static> {
        let directions = [
            ("both", Direction::Both),
            ("outbound", Direction::Outbound),
            ("inbound", Direction::Inbound),
        ];
        let direction =
            draft.direction.as_ref().and_then(|d| self.one_of("direction", d, &directions));
        let translate_as = draft.translate_as.as_ref().map(|t| self.target(t, device));
        let internal = self.needed(draft.internal.as_ref(), "internal", draft);
        let external = self.needed(draft.external.as_ref(), "external", draft);
        let internal = internal.and_then(|t| self.one_range("internal", t, draft));
        let external = external.and_then(|t| self.external(t));
        let (internal, external) = (internal?, external?);
        let outside = match external {
            External::Range(range) => range,
            External::Interface(_) => AddressRange::one(internal.first()),
        };
        if internal.count() != outside.count() {
            let error =
                PlanError::SizesDiffer { internal: internal.count(), external: outside.count() };
            self.report(error, draft.external.as_ref()?.place);
            return None;
        }
        self.same_family(internal, outside, draft)?;
        let translate_as = translate_as.map_or(Some(None), |t| t.map(Some))?;
        Some(Static {
            internal,
            external,
            direction: direction.unwrap_or(Direction::Both),
            translate_as,
        })
    }

    fn same_family(
        &mut self,
        internal: AddressRange,
        external: AddressRange,
        draft: &DraftRule,
    ) -> Option<()> {
        let (internal, external) = (internal.family(), external.family());
        if internal != external {
            let error =
                PlanError::FamiliesDiffer { internal: internal.name(), external: external.name() };
            self.report(error, draft.external.as_ref()?.place);
            return None;
        }
        Some(())
    }

    /// The one range that a list of notations comes to.
    fn one_range(
        &mut self,
        key: &'static str,
        texts: &[Text],
        draft: &DraftRule,
    ) -> Option<AddressRange> {
        let before = self.problems.count();
        let set = self.addresses(texts);
        let mut ranges = set.ranges();
        match (ranges.next(), ranges.next()) {
            (Some(range), None) => Some(range),
            _ if self.problems.count() > before => None,
            _ => {
                let place = texts.first().map_or(draft.place, |t| t.place);
                self.report(PlanError::NotOneRange { key }, place);
                None
            }
        }
    }

    /// The external end of a static: an interface or addresses.
    pub(super) fn external(&mut self, text: &Text) -> Option<External> {
        if let Some(interface) = self.scope.interface(&text.value) {
            return Some(External::Interface(interface));
        }
        let parts = self.groups.addresses(text, &mut self.problems);
        match &*parts {
            [(range, _)] => Some(External::Range(*range)),
            [] => None,
            _ => {
                self.report(PlanError::NotOneRange { key: "external" }, text.place);
                None
            }
        }
    }

    pub(super) fn forward(
        &mut self,
        draft: &DraftRule,
        device: &mut DevicePlan,
    ) -> Option<Forward> {
        let spreads = [("in-turn", Spread::InTurn), ("by-source", Spread::BySource)];
        let spread = draft
            .spread
            .as_ref()
            .and_then(|s| self.one_of("spread", s, &spreads))
            .unwrap_or(Spread::InTurn);
        let translate_as = draft.translate_as.as_ref().map(|t| self.target(t, device));
        let external = self.needed(draft.external.as_ref(), "external", draft);
        let internal = self.needed(draft.internal.as_ref(), "internal", draft);
        let external_text = external?;
        let (external, ports, protocol) = self.external_ports(external_text)?;
        let mut servers = Vec::new();
        for text in internal? {
            servers.extend(self.server(text, ports)?);
        }
        if servers.is_empty() {
            self.report(PlanError::NotOneAddress { key: "internal", count: 0 }, draft.place);
            return None;
        }
        if let External::Range(range) = external {
            for server in &servers {
                self.same_family(AddressRange::one(server.address), range, draft)?;
            }
        }
        let translate_as = translate_as.map_or(Some(None), |t| t.map(Some))?;
        Some(Forward { external, protocol, ports, servers, spread, translate_as })
    }

    /// An end, its ports and their protocol as they are written.
    fn written_ports<'t>(
        &mut self,
        value: &'t str,
        text: &Text,
    ) -> Option<(&'t str, PortRange, Protocol)> {
        let Some((end, protocol)) = value.rsplit_once('/') else {
            let has_port = value.rsplit_once(':').is_some_and(|(_, port)| !port.contains(']'));
            let missing =
                if has_port { NotationError::ProtocolMissing } else { NotationError::ExternalEnd };
            self.report(missing(value.into()), text.place);
            return None;
        };
        let protocol: Protocol = self.take(protocol.trim().parse(), text.place)?;
        if !protocol.has_ports() {
            self.report(NotationError::PortsNotPossible(protocol.to_string()), text.place);
            return None;
        }
        let Some((who, ports)) = end.rsplit_once(':') else {
            self.report(NotationError::ExternalEnd(value.into()), text.place);
            return None;
        };
        let ports: PortRange = self.take(ports.trim().parse(), text.place)?;
        Some((who, ports, protocol))
    }

    /// `uplink:24011/tcp`, `203.0.113.5:20000-20009/udp`, `[2001:db8::5]:443/tcp`; a named service
    /// of one protocol and one range stands for both: `uplink:cameras`.
    fn external_ports(&mut self, text: &Text) -> Option<(External, PortRange, Protocol)> {
        let value = text.value.trim();
        let named = value.rsplit_once(':').and_then(|(who, name)| {
            match self.groups.named_services(name.trim())? {
                [Service { protocol: Some(p), ports }] if p.has_ports() => Some((who, *ports, *p)),
                _ => None,
            }
        });
        let (who, ports, protocol) = match named {
            Some(named) => named,
            None => self.written_ports(value, text)?,
        };
        let who = who.trim().trim_start_matches('[').trim_end_matches(']');
        let external = self.external(&Text::new(who.into(), text.place))?;
        match external {
            External::Range(range) if range.count() > 1 => {
                self.report(
                    PlanError::NotOneAddress { key: "external", count: range.count() },
                    text.place,
                );
                None
            }
            end @ External::Interface(_) | end @ External::Range(_) => Some((end, ports, protocol)),
        }
    }

    /// `10.61.8.41:4010`, `10.61.8.41`, `ticket-server:443`, `[2001:db8::5]:443`; a group of
    /// several is several servers.
    fn server(&mut self, text: &Text, ports: PortRange) -> Option<Vec<Server>> {
        let value = text.value.trim();
        let (who, port) = match value.rsplit_once(':') {
            Some((who, port)) if who.starts_with('[') || !who.contains(':') => (who, Some(port)),
            _ => (value, None),
        };
        let first = match port {
            None => ports.first,
            Some(port) if port.contains('/') => {
                self.report(NotationError::ProtocolInside(value.into()), text.place);
                return None;
            }
            Some(port) => {
                let range: PortRange = self.take(port.trim().parse(), text.place)?;
                if range.first != range.last && range.count() != ports.count() {
                    let (internal, external) = (range.count().into(), ports.count().into());
                    self.report(PlanError::SizesDiffer { internal, external }, text.place);
                    return None;
                }
                range.first
            }
        };
        if u32::from(first) + ports.count() > 65_536 {
            self.report(PlanError::PortsOverflow { ports: ports.count(), first }, text.place);
            return None;
        }
        let who =
            Text::new(who.trim().trim_start_matches('[').trim_end_matches(']').into(), text.place);
        let set = self.addresses(std::slice::from_ref(&who));
        if set.is_empty() || set.count() > 256 {
            if !set.is_empty() {
                self.report(
                    PlanError::NotOneAddress { key: "internal", count: set.count() },
                    text.place,
                );
            }
            return None;
        }
        let all = set.ranges().flat_map(|r| (0..r.count()).filter_map(move |n| r.nth(n)));
        Some(all.map(|address| Server { address, port: first }).collect())
    }
}
