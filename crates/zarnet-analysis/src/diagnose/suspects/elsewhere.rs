//! Flows that arrive, and elsewhere or otherwise than the plan expects.

use std::net::IpAddr;

use super::{At, Case, append, set};
use crate::diagnose::Cause;
use crate::diagnose::near::{egress, service};
use zarnet_core::device::Condition;
use zarnet_core::network::Hop;
use zarnet_core::observe::{By, Stage, StageResult};
use zarnet_core::plan::edit::{Edit, List, Table, Value};
use zarnet_core::plan::{EndSet, Expectation, RuleId, RuleKind};
use zarnet_core::predict::{Failed, failures};

impl Case<'_> {
    /// The expectations of this flow that do not hold.
    fn disappointed(&self) -> Vec<(Expectation, Vec<Failed>)> {
        let own = self.plan.expectations.iter().filter(|e| e.is_of(&self.followed.flow));
        own.map(|e| (e.clone(), failures(self.followed, e))).filter(|f| !f.1.is_empty()).collect()
    }

    /// What is delivered, and not as expected.
    pub(super) fn not_as_expected(&mut self) {
        for (wanted, failed) in self.disappointed() {
            for failure in failed {
                match failure {
                    Failed::Reaches(Some(_)) => {
                        if let Some(end) = &wanted.reaches {
                            self.leads_elsewhere(end);
                        }
                    }
                    Failed::Becomes(Some(_)) => {
                        if let Some(end) = &wanted.becomes {
                            self.shows_otherwise(end);
                        }
                    }
                    Failed::Refused(true) | Failed::Unreachable(true) | Failed::Reason(_)
                        if self.followed.delivered() =>
                    {
                        self.open_to_others();
                    }
                    Failed::NotAnswered
                    | Failed::Refused(_)
                    | Failed::Unreachable(_)
                    | Failed::Reason(_)
                    | Failed::Becomes(None)
                    | Failed::Reaches(None)
                    | Failed::SeenBy(..) => {}
                }
            }
        }
    }

    /// A forward or static leads to another server than expected.
    fn leads_elsewhere(&mut self, wanted: &EndSet) {
        let hops: Vec<Hop> = self.followed.forth.hops.to_vec();
        for hop in hops.iter().rev() {
            let Some(id) = self.entered(hop) else { continue };
            let rule = self.rule(hop.device, id);
            let (table, at) = (Table::Rule(hop.device, id), self.at_rule(hop.device, id));
            let to = hop.exit.map_or(hop.packet, |e| e.packet).destination();
            let verdict = format!(
                "rule {} of {} leads it to {to}, and {} is expected",
                rule.name,
                self.device(hop.device).name,
                wanted.text
            );
            let Some(address) = wanted.addresses.ranges().next().map(|r| r.first()) else {
                continue;
            };
            // crossed with the rule that leads there
            for (i, other) in self.device(hop.device).rules.iter().enumerate() {
                let is_meant = match &other.kind {
                    RuleKind::Forward(f) => f.servers.iter().any(|s| s.address == address),
                    RuleKind::Exempt
                    | RuleKind::Static(_)
                    | RuleKind::Pool { .. }
                    | RuleKind::Overload { .. } => false,
                };
                let (Some(own), Some(its), true) = (
                    server_text(&rule.kind),
                    server_text(&other.kind),
                    is_meant && i != id.index(),
                ) else {
                    continue;
                };
                let edits = vec![
                    set(table, "internal", its),
                    set(Table::Rule(hop.device, RuleId(i as u16)), "internal", own),
                ];
                let title = format!("swap the servers of rules {} and {}", rule.name, other.name);
                self.suspect(Cause::ArrivesElsewhere, at, verdict.clone(), title, edits);
            }
            let internal = match &rule.kind {
                RuleKind::Forward(f) => {
                    let first = f.servers.first().map_or(f.ports.first, |s| s.port);
                    let offset = hop.packet.destination().port.saturating_sub(f.ports.first);
                    let port = wanted.ports.map_or(first, |p| p.first.saturating_sub(offset));
                    format!("{}:{port}", self.text_of(address))
                }
                RuleKind::Exempt
                | RuleKind::Static(_)
                | RuleKind::Pool { .. }
                | RuleKind::Overload { .. } => self.text_of(address),
            };
            let title = format!("let rule {} lead to {internal}", rule.name);
            let edit = set(table, "internal", internal);
            self.suspect(Cause::ArrivesElsewhere, at, verdict, title, vec![edit]);
        }
    }

    /// An address as a plan would write it: by the name of its host.
    fn text_of(&self, address: IpAddr) -> String {
        let host = self.plan.hosts.iter().find(|h| h.address == address);
        host.map_or(address.to_string(), |h| h.name.clone())
    }

    /// The receiver sees another source than expected.
    fn shows_otherwise(&mut self, wanted: &EndSet) {
        let hops: Vec<Hop> = self.followed.forth.hops.to_vec();
        for hop in &hops {
            let step = hop.steps.iter().find(|s| s.stage == Stage::Source);
            let Some((StageResult::Translated { from, to }, By::Rule(id))) =
                step.map(|s| (s.result, s.by))
            else {
                continue;
            };
            if wanted.addresses.contains(from.address) {
                self.left_as_it_is(hop, id);
                continue;
            }
            let rule = self.rule(hop.device, id);
            if !matches!(rule.kind, RuleKind::Pool { .. } | RuleKind::Overload { .. }) {
                continue;
            }
            let device = self.device(hop.device);
            let verdict = format!(
                "rule {} of {} makes it {}, and {} is expected",
                rule.name, device.name, to.address, wanted.text
            );
            let inside = |a: IpAddr| wanted.addresses.contains(a);
            let interfaces = device.interfaces.iter().filter(|i| i.primary().is_some_and(inside));
            let pools = device.pools.iter().filter(|p| {
                let listed = p.listed();
                !listed.is_empty() && listed.ranges().all(|r| inside(r.first()) && inside(r.last()))
            });
            let single = wanted.addresses.single().map(|a| a.to_string());
            let targets: Vec<String> = interfaces
                .map(|i| i.name.clone())
                .chain(pools.map(|p| p.name.clone()))
                .chain(single)
                .collect();
            for target in targets {
                let title = format!("let rule {} translate to {target}", rule.name);
                let edit = set(Table::Rule(hop.device, id), "as", target);
                let at = self.at_rule(hop.device, id);
                self.suspect(Cause::ArrivesElsewhere, at, verdict.clone(), title, vec![edit]);
            }
        }
    }

    /// A rule translates what should stay as it is: an exemption is for others, or there is none.
    fn left_as_it_is(&mut self, hop: &Hop, by: RuleId) {
        let Some((ingress, egress)) = hop.ingress.zip(egress(hop)) else { return };
        let at_work = &self.scene.network.devices()[hop.device.index()];
        let device = self.device(hop.device);
        let winner = &self.rule(hop.device, by).name;
        let (from, to) = (hop.packet.source().address, hop.packet.destination().address);
        for (i, rule) in device.rules.iter().enumerate() {
            let id = RuleId(i as u16);
            if !matches!(rule.kind, RuleKind::Exempt) {
                continue;
            }
            let unmet = at_work.unmet_outbound(id, ingress, egress, hop.packet);
            let (table, at) = (Table::Rule(hop.device, id), self.at_rule(hop.device, id));
            let verdict =
                format!("rule {winner} translates it, and exemption {} is not for it", rule.name);
            match unmet[..] {
                [] if i > by.index() => {
                    let title = format!("list rule {} before rule {winner}", rule.name);
                    let edit = Edit::MoveRule(hop.device, id, by);
                    self.suspect(Cause::EarlierRule, at, verdict, title, vec![edit]);
                }
                [Condition::Enabled] => self.disabled(hop.device, id),
                [Condition::From | Condition::Into] => {
                    let miss = crate::diagnose::NearMiss {
                        device: hop.device,
                        rule: id,
                        unmet,
                        inbound: false,
                        distance: 0,
                        has: String::new(),
                        needs: String::new(),
                    };
                    self.out_of_scope(&miss, (ingress, egress));
                }
                [Condition::Destination] | [Condition::Source] | [Condition::Service] => {
                    let (key, own) = match unmet[0] {
                        Condition::Destination => ("destination", to.to_string()),
                        Condition::Source => ("source", from.to_string()),
                        _ => ("service", service(hop.packet)),
                    };
                    // the prefix that it is in was meant sooner than it alone
                    let whole = self.prefix_of(if key == "source" { from } else { to });
                    let wide = whole.filter(|_| key != "service");
                    for text in wide.into_iter().chain([own]) {
                        let title = format!("let rule {} be for {text} too", rule.name);
                        let edit = append(table, key, text);
                        let cause = Cause::UntranslatedRuleMissing;
                        self.suspect(cause, at, verdict.clone(), title, vec![edit]);
                    }
                }
                _ => {}
            }
        }
        let verdict = format!("rule {winner} translates it, and no exemption takes it out");
        let at = self.at_rule(hop.device, by);
        let whole = self.prefix_of(to);
        for text in whole.into_iter().chain([to.to_string()]) {
            let title = format!("leave what goes to {text} untranslated, before rule {winner}");
            let name = self.free_name(hop.device, "left-as-it-is");
            let fields = vec![
                ("name", Value::from(name)),
                ("type", "exempt".into()),
                ("from", device.interfaces[ingress.index()].name.clone().into()),
                ("into", device.interfaces[egress.index()].name.clone().into()),
                ("destination", text.into()),
            ];
            let edit = Edit::Insert(hop.device, List::Rules, Some(by.index()), fields);
            self.suspect(Cause::UntranslatedRuleMissing, at, verdict.clone(), title, vec![edit]);
        }
    }

    /// The prefix of an interface that an address is in, as a plan would write it.
    fn prefix_of(&self, address: IpAddr) -> Option<String> {
        let interfaces = self.plan.devices.iter().flat_map(|d| &d.interfaces);
        let inside = interfaces.filter(|i| !self.is_internet(i.segment));
        let mut prefixes = inside.flat_map(|i| i.addresses.iter().map(|a| a.1));
        prefixes.find(|p| p.contains(address)).map(|p| p.to_string())
    }

    /// What should be refused gets in: whatever let it is narrowed.
    fn open_to_others(&mut self) {
        let hops: Vec<Hop> = self.followed.forth.hops.to_vec();
        for hop in &hops {
            let device = self.device(hop.device);
            let from = hop.packet.source().address;
            if let Some(id) = self.entered(hop) {
                let rule = self.rule(hop.device, id);
                let (table, at) = (Table::Rule(hop.device, id), self.at_rule(hop.device, id));
                let verdict = format!("rule {} of {} lets {from} in", rule.name, device.name);
                // the senders that other rules of the device are for
                let mut lists: Vec<Vec<String>> = device
                    .rules
                    .iter()
                    .filter(|r| r.kind.is_fixed() && !r.parties.source.is_all())
                    .filter(|r| !r.parties.source.contains(from))
                    .map(|r| r.written.source.iter().map(|w| w.value.clone()).collect())
                    .collect();
                lists.dedup();
                let groups = self.plan.groups.iter().filter(|(_, set)| {
                    !set.is_empty()
                        && !set.contains(from)
                        && set.ranges().all(|r| {
                            let outer = |a| {
                                device.interfaces.iter().all(|i| {
                                    self.is_internet(i.segment)
                                        || i.addresses.iter().all(|p| !p.1.contains(a))
                                })
                            };
                            outer(r.first())
                        })
                });
                lists.extend(groups.map(|(name, _)| vec![name.clone()]));
                for list in lists {
                    let title = format!("let rule {} be for {} only", rule.name, list.join(", "));
                    let values = list.into_iter().map(Value::from).collect();
                    let edit = set(table, "source", Value::List(values));
                    self.suspect(Cause::OpenToOthers, at, verdict.clone(), title, vec![edit]);
                }
                if hop.ingress.is_some_and(|i| rule.hairpin.interfaces.contains(i)) {
                    let title = format!("let rule {} hairpin no more", rule.name);
                    let edit = Edit::Unset(table, "hairpin".to_owned());
                    self.suspect(Cause::OpenToOthers, at, verdict.clone(), title, vec![edit]);
                }
                let title = format!("disable rule {}", rule.name);
                let edit = set(table, "enabled", Value::Flag(false));
                self.suspect(Cause::OpenToOthers, at, verdict, title, vec![edit]);
            }
            self.narrowed_policy(hop);
        }
    }

    /// A policy entry that drops it, before the one that let it pass.
    fn narrowed_policy(&mut self, hop: &Hop) {
        let Some(step) = hop.steps.iter().find(|s| s.stage == Stage::Policy) else { return };
        let (By::Policy(entry), Some((ingress, egress))) = (step.by, hop.ingress.zip(egress(hop)))
        else {
            return;
        };
        let device = self.device(hop.device);
        let seen = if device.behaviour.policy_sees_translated {
            super::passage::leaving(hop)
        } else {
            hop.packet
        };
        let side = |i: zarnet_core::plan::InterfaceId| device.interfaces[i.index()].side();
        let from = hop.packet.source().address;
        let what = format!("{} from {from} to {}", service(seen), seen.destination().address);
        let place = step.place.unwrap_or(device.place);
        let verdict = format!("the policy of {} lets {what} pass", device.name);
        let title = format!("let the policy of {} drop {what}", device.name);
        let fields = vec![
            ("from", Value::from(side(ingress))),
            ("into", side(egress).into()),
            ("drop", service(seen).into()),
            ("source", from.to_string().into()),
            ("destination", seen.destination().address.to_string().into()),
        ];
        let edit = Edit::Insert(hop.device, List::Policies, entry, fields);
        let at = At::device(hop.device, place);
        self.suspect(Cause::OpenToOthers, at, verdict, title, vec![edit]);
    }
}

/// The single server of a forward, as it is written.
fn server_text(kind: &RuleKind) -> Option<String> {
    let RuleKind::Forward(f) = kind else { return None };
    let [server] = &f.servers[..] else { return None };
    Some(format!("{}:{}", server.address, server.port))
}
