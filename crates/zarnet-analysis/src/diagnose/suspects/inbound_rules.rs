//! Fixed rules that are nearly for a packet from outside: in two conditions, for other realms, for
//! another protocol.

use super::{Case, append, set};
use crate::diagnose::Cause;
use crate::diagnose::near::{NearMiss, service};
use zarnet_core::device::Condition;
use zarnet_core::network::Hop;
use zarnet_core::plan::edit::{Edit, Table};
use zarnet_core::plan::{InterfaceId, RuleId, RuleKind};

impl Case<'_> {
    /// A rule that lets nothing of it in for two reasons at once.
    pub(super) fn two_off_inbound(&mut self, hop: &Hop, miss: &NearMiss) {
        let table = Table::Rule(hop.device, miss.rule);
        let from = hop.packet.source().address.to_string();
        let fault = |c: &Condition| match c {
            Condition::Enabled => {
                Some((Cause::RuleDisabled, Edit::Unset(table, "enabled".to_owned())))
            }
            Condition::Into => {
                let (_, edit) = self.widen(hop.device, miss.rule, "hairpin", hop.ingress?);
                Some((Cause::HairpinOff, edit))
            }
            Condition::Source => {
                Some((Cause::SourceNotInList, append(table, "source", from.clone())))
            }
            Condition::From
            | Condition::Destination
            | Condition::Service
            | Condition::Direction => None,
        };
        let faults: Option<Vec<(Cause, Edit)>> = miss.unmet.iter().map(fault).collect();
        self.two_faults(hop, miss, faults, "let it in");
    }

    /// A rule that is for other realms than the one that packets from outside come in by.
    pub(super) fn outer_scope(&mut self, hop: &Hop, id: RuleId, ingress: InterfaceId) {
        let (device, rule) = (self.device(hop.device), self.rule(hop.device, id));
        let interface = &device.interfaces[ingress.index()];
        if !self.is_internet(interface.segment) {
            return;
        }
        let names: Vec<&str> = rule.into.names.iter().map(|n| n.value.as_str()).collect();
        let verdict = format!(
            "rule {} is for what comes from {}, and this comes by {}",
            rule.name,
            names.join(", "),
            interface.name
        );
        let realm = interface.side();
        let title = format!("let rule {} be `into` {realm}", rule.name);
        let (table, at) = (Table::Rule(hop.device, id), self.at_rule(hop.device, id));
        let edit = set(table, "into", realm);
        self.suspect(Cause::RuleScope, at, verdict, title, vec![edit]);
    }

    /// A rule has the address, for another protocol or for other services.
    pub(super) fn other_protocol(&mut self, hop: &Hop, miss: &NearMiss) {
        let (rule, packet) = (self.rule(hop.device, miss.rule), hop.packet);
        let (table, at) = (Table::Rule(hop.device, miss.rule), self.at_rule(hop.device, miss.rule));
        let what = service(packet);
        let verdict = format!("rule {} is for {}, and {what} is not in it", rule.name, miss.needs);
        match &rule.kind {
            RuleKind::Forward(f)
                if f.protocol != packet.protocol && f.ports.contains(packet.destination().port) =>
            {
                let Some(end) = self.written_end(hop, miss.rule) else { return };
                let title = format!("let rule {} forward {}", rule.name, packet.protocol);
                let external = format!("{end}:{}/{}", f.ports, packet.protocol);
                let edit = set(table, "external", external);
                self.suspect(Cause::ProtocolNotCovered, at, verdict, title, vec![edit]);
            }
            RuleKind::Static(_) => {
                let covered = rule.service.0.iter().any(|s| s.protocol == Some(packet.protocol));
                let cause =
                    if covered { Cause::ServiceNotInList } else { Cause::ProtocolNotCovered };
                let title = format!("let rule {} be for {what} too", rule.name);
                let edit = append(table, "service", what);
                self.suspect(cause, at, verdict, title, vec![edit]);
            }
            RuleKind::Exempt
            | RuleKind::Pool { .. }
            | RuleKind::Overload { .. }
            | RuleKind::Forward(_) => {}
        }
    }
}
