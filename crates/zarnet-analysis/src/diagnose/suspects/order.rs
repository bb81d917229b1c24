//! Rules and sessions that take a packet which another rule was meant for.

use super::{Case, set};
use crate::diagnose::Cause;
use crate::diagnose::near::{NearMiss, egress, service};
use zarnet_core::Class;
use zarnet_core::device::Condition;
use zarnet_core::network::{Hop, Origin};
use zarnet_core::observe::{By, Stage, StageResult};
use zarnet_core::plan::edit::{Edit, List, Table, Value};
use zarnet_core::plan::{DeviceId, Fallback, Rule, RuleId, RuleKind, Target};

impl Case<'_> {
    /// The flow is delivered, and yet not as expected.
    pub(super) fn works_otherwise(&mut self) {
        if self.followed.class == Class::Untranslated {
            self.untranslated_before();
        }
        self.unattached();
        for hop in &self.followed.forth.hops {
            let step = hop.steps.iter().find(|s| s.stage == Stage::Source);
            let Some((StageResult::Translated { .. }, By::Rule(id))) =
                step.map(|s| (s.result, s.by))
            else {
                continue;
            };
            self.earlier_rule(hop, id);
        }
        self.not_as_expected();
    }

    /// Rules below the one that took the packet, which would match too.
    fn earlier_rule(&mut self, hop: &Hop, id: RuleId) {
        let Some((ingress, egress)) = hop.ingress.zip(egress(hop)) else { return };
        let winner = &self.rule(hop.device, id).name;
        let at_work = &self.scene.network.devices()[hop.device.index()];
        for i in 0..self.device(hop.device).rules.len() {
            let other = RuleId(i as u16);
            if other == id {
                continue;
            }
            let unmet = at_work.unmet_outbound(other, ingress, egress, hop.packet);
            let rule: &Rule = self.rule(hop.device, other);
            if unmet == [Condition::Enabled] && !rule.enabled {
                let edits = vec![Edit::Unset(Table::Rule(hop.device, other), "enabled".to_owned())];
                let verdict = format!(
                    "rule {} was meant, and is disabled; rule {winner} takes the packet",
                    rule.name
                );
                let title = format!("enable rule {}", rule.name);
                self.suspect(
                    Cause::RuleDisabled,
                    self.at_rule(hop.device, other),
                    verdict,
                    title,
                    edits,
                );
            } else if unmet.is_empty() && other > id {
                let verdict = format!(
                    "rule {winner} is listed before rule {}, and takes the packet",
                    rule.name
                );
                let title = format!("list rule {} before rule {winner}", rule.name);
                let edit = Edit::MoveRule(hop.device, other, id);
                self.suspect(
                    Cause::EarlierRule,
                    self.at_rule(hop.device, id),
                    verdict,
                    title,
                    vec![edit],
                );
            } else if unmet == [Condition::Source] {
                let miss = NearMiss {
                    device: hop.device,
                    rule: other,
                    unmet,
                    inbound: false,
                    distance: 0,
                    has: hop.packet.source().address.to_string(),
                    needs: rule
                        .written
                        .source
                        .iter()
                        .map(|w| w.value.as_str())
                        .collect::<Vec<_>>()
                        .join(", "),
                };
                self.source_not_in_list(hop, &miss);
            }
        }
    }

    pub(super) fn exempted(&mut self, hop: &Hop, id: RuleId) {
        let rule = self.rule(hop.device, id);
        let verdict = format!(
            "rule {} exempts it from translation, and stands before the rule that was meant",
            rule.name
        );
        let at = self.at_rule(hop.device, id);
        let next = self.next_match(hop, id);
        if let Some(next) = next {
            let fields = self.clone_for(hop, next);
            if let Some(fields) = fields {
                let title = format!(
                    "translate {} to {} before rule {}",
                    hop.packet.source().address,
                    service(hop.packet),
                    rule.name
                );
                let edit = Edit::Insert(hop.device, List::Rules, Some(id.index()), fields);
                self.suspect(Cause::Exempted, at, verdict.clone(), title, vec![edit]);
            }
            let title =
                format!("list rule {} before rule {}", self.rule(hop.device, next).name, rule.name);
            self.suspect(
                Cause::Exempted,
                at,
                verdict.clone(),
                title,
                vec![Edit::MoveRule(hop.device, next, id)],
            );
        }
        let title = format!("disable rule {}", rule.name);
        let edit = set(Table::Rule(hop.device, id), "enabled", Value::Flag(false));
        self.suspect(Cause::Exempted, at, verdict, title, vec![edit]);
    }

    /// The rule that would match if those up to `id` did not.
    fn next_match(&self, hop: &Hop, id: RuleId) -> Option<RuleId> {
        let (ingress, egress) = hop.ingress.zip(egress(hop))?;
        let device = &self.scene.network.devices()[hop.device.index()];
        let later = (id.index() + 1..device.plan().rules.len()).map(|i| RuleId(i as u16));
        let mut matching =
            later.filter(|r| device.unmet_outbound(*r, ingress, egress, hop.packet).is_empty());
        matching.next()
    }

    /// A rule like another, for one sender and receiver only.
    fn clone_for(&self, hop: &Hop, id: RuleId) -> Option<Vec<(&'static str, Value)>> {
        let (device, rule) = (self.device(hop.device), self.rule(hop.device, id));
        let (kind, target) = match &rule.kind {
            RuleKind::Overload { target, .. } => ("overload", self.target(hop.device, *target)),
            RuleKind::Pool { pool, .. } => ("pool", device.pools[pool.index()].name.clone()),
            RuleKind::Exempt | RuleKind::Static(_) | RuleKind::Forward(_) => return None,
        };
        let mut fields = vec![
            ("name", Value::from(self.free_name(hop.device, &format!("{}-too", rule.name)))),
            ("type", kind.into()),
            ("source", hop.packet.source().address.to_string().into()),
            ("destination", hop.packet.destination().address.to_string().into()),
            ("service", service(hop.packet).into()),
            ("as", target.into()),
        ];
        fields.retain(|f| f.0 != "service" || hop.packet.protocol.has_ports());
        Some(fields)
    }

    fn target(&self, device: DeviceId, target: Target) -> String {
        match target {
            Target::Interface(i) => self.device(device).interfaces[i.index()].name.clone(),
            Target::Pool(p) => self.device(device).pools[p.index()].name.clone(),
            Target::Address(a) => a.to_string(),
        }
    }

    pub(super) fn free_name(&self, device: DeviceId, wanted: &str) -> String {
        let taken = |name: &str| self.device(device).rules.iter().any(|r| r.name == name);
        let numbered = (2..).map(|n| format!("{wanted}-{n}"));
        std::iter::once(wanted.to_owned()).chain(numbered).find(|n| !taken(n)).unwrap_or_default()
    }

    /// A session that was made before something changed.
    pub(super) fn old_session(&mut self) {
        for hop in &self.followed.forth.hops {
            let Some(step) = hop.steps.iter().find(|s| s.stage == Stage::Session) else { continue };
            let (StageResult::Known { from_initiator: true }, By::Rules(rules)) =
                (step.result, step.by)
            else {
                continue;
            };
            let stale = rules
                .iter()
                .flatten()
                .find(|r| !self.scene.network.devices()[hop.device.index()].is_enabled(**r));
            let Some(&rule) = stale else { continue };
            let name = &self.rule(hop.device, rule).name;
            let verdict =
                format!("a session that rule {name} made before it was disabled is still alive");
            let host = match self.followed.sent {
                Some((Origin::Host(id), _)) => self.plan.hosts[id.index()].name.clone(),
                _ => hop.packet.source().address.to_string(),
            };
            let title = format!("clear the sessions of {host} on {}", self.device(hop.device).name);
            let edit = Edit::Clear(hop.device, hop.packet.source().address);
            self.suspect(
                Cause::OldSessionAlive,
                self.at_rule(hop.device, rule),
                verdict,
                title,
                vec![edit],
            );
        }
    }

    /// Whether a rule hands its packets on when it is used up.
    pub(super) fn falls_back(rule: &Rule) -> bool {
        match &rule.kind {
            RuleKind::Pool { fallback, .. } | RuleKind::Overload { fallback, .. } => {
                matches!(fallback, Fallback::Overload(_))
            }
            RuleKind::Exempt | RuleKind::Static(_) | RuleKind::Forward(_) => false,
        }
    }
}
