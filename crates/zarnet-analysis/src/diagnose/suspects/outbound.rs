//! Packets on their way out that no rule translates.

use std::net::IpAddr;

use super::masks::is_private;
use super::passage::leaving;
use super::{At, Case, append, set};
use crate::diagnose::Cause;
use crate::diagnose::names::contradicts;
use crate::diagnose::near::{NearMiss, egress, nearest, outbound_misses, service};
use zarnet_core::Reason;
use zarnet_core::device::Condition;
use zarnet_core::event::{Action, Event};
use zarnet_core::net::Prefix;
use zarnet_core::network::Hop;
use zarnet_core::observe::{By, Stage, StageResult};
use zarnet_core::plan::edit::{Edit, List, Table, Value};
use zarnet_core::plan::{DeviceId, InterfaceId, Rule, RuleId, RuleKind};

impl Case<'_> {
    /// A private address got onto the internet: somebody should have translated it, or should have
    /// routed it elsewhere.
    pub(super) fn private_outside(&mut self) {
        let Some(hop) = self.last() else { return self.private_destination() };
        let out = leaving(hop);
        if self.back {
            return self.wrong_way_back();
        }
        self.translates_own();
        let hops: Vec<&Hop> = self.followed.forth.hops.iter().rev().collect();
        for hop in &hops {
            self.untranslated(hop);
        }
        for hop in hops {
            self.no_rule(hop);
        }
        // or it should have gone elsewhere in the first place
        let to = out.destination().address;
        if is_private(to) {
            self.private_destination();
        }
        let inside =
            self.plan.hosts.iter().any(|h| h.address == to && !self.is_internet(h.segment));
        if inside {
            let verdict = format!(
                "{} has no route to {to}, and sends it to the provider",
                self.device(hop.device).name
            );
            self.routes(Cause::NoRouteOut, hop.device, to, &verdict);
        }
    }

    /// The answer went astray: whoever has it last may have got it from somebody who should have
    /// known better.
    pub(super) fn wrong_way_back(&mut self) {
        self.untranslated_before();
        let Some(to) = self.last().map(|hop| leaving(hop).destination().address) else { return };
        for hop in &self.followed.back.hops {
            let name = &self.device(hop.device).name;
            let verdict = format!(
                "{name} has no route back to {to}, and sends the answer towards the provider"
            );
            self.routes(Cause::NoRouteBack, hop.device, to, &verdict);
        }
    }

    /// An answer that does not find its way back to an internal address may be one that should have
    /// been translated.
    pub(super) fn untranslated_before(&mut self) {
        for hop in self.followed.forth.hops.iter().rev() {
            self.untranslated(hop);
        }
    }

    /// Somebody outside wants an internal address.
    fn private_destination(&mut self) {
        let Some(packet) = self.sent() else { return };
        let to = packet.destination();
        let verdict = format!("{} is private: no host on the internet can send to it", to.address);
        let mut ways = Vec::new();
        for device in &self.plan.devices {
            for rule in device.rules.iter().filter(|r| r.enabled) {
                let external =
                    |e| device.external(e).map(|r| r.first().to_string()).unwrap_or_default();
                match &rule.kind {
                    RuleKind::Forward(f) if f.servers.iter().any(|s| s.address == to.address) => {
                        ways.push(format!(
                            "{}:{}/{} (rule {})",
                            external(f.external),
                            f.ports,
                            f.protocol,
                            rule.name
                        ));
                    }
                    RuleKind::Static(s) if s.internal.contains(to.address) => {
                        ways.push(format!("{} (rule {})", external(s.external), rule.name));
                    }
                    RuleKind::Exempt
                    | RuleKind::Static(_)
                    | RuleKind::Pool { .. }
                    | RuleKind::Overload { .. }
                    | RuleKind::Forward(_) => {}
                }
            }
        }
        let title = match ways.is_empty() {
            true => format!(
                "give {} an external end with a forward or a static rule, and use that",
                to.address
            ),
            false => format!("use its external end: {}", ways.join(", ")),
        };
        self.suspect(Cause::ForwardMissing, At::nowhere(), verdict, title, Vec::new());
    }

    /// A device that left the source as it was.
    pub(super) fn untranslated(&mut self, hop: &Hop) {
        let Some((ingress, egress)) = hop.ingress.zip(egress(hop)) else { return };
        let kept = hop.steps.iter().find(|s| s.stage == Stage::Source);
        let Some(StageResult::Unchanged(reason)) = kept.map(|s| s.result) else { return };
        if let (Reason::Exempt, Some(By::Rule(rule))) = (reason, kept.map(|s| s.by)) {
            self.exempted(hop, rule);
        }
        let misses = nearest(outbound_misses(&self.scene.network, hop));
        let one = |condition| misses.iter().filter(move |m| m.unmet == [condition]);
        for miss in one(Condition::Enabled) {
            self.disabled(hop.device, miss.rule);
        }
        self.realms(hop.device, ingress, egress);
        self.realms_swapped(hop.device, ingress, egress);
        let is_scope =
            |c: &Condition| matches!(c, Condition::From | Condition::Into | Condition::Direction);
        for miss in misses.iter().filter(|m| m.unmet.iter().all(is_scope)) {
            self.out_of_scope(miss, (ingress, egress));
        }
        // a rule that is for this sender was meant sooner than one that is not
        for miss in one(Condition::Service) {
            let rule = self.rule(hop.device, miss.rule);
            let covered = rule.service.0.iter().any(|s| s.protocol == Some(hop.packet.protocol));
            let cause = if covered { Cause::ServiceNotInList } else { Cause::ProtocolNotCovered };
            self.not_in_list(hop, miss, cause, service(hop.packet));
        }
        for miss in one(Condition::Destination) {
            self.not_in_list(
                hop,
                miss,
                Cause::DestinationNotInList,
                hop.packet.destination().address.to_string(),
            );
        }
        let mut by_source: Vec<&NearMiss> = one(Condition::Source).collect();
        by_source.sort_by_key(|m| std::cmp::Reverse(self.likeness(hop, m.rule)));
        for miss in by_source {
            self.source_not_in_list(hop, miss);
        }
        for miss in misses.iter().filter(|m| m.unmet.len() == 2) {
            self.two_off(hop, miss);
        }
    }

    /// How much a rule that is not for a sender looks as if it was meant for it: by a group that is
    /// not as it should be, then by the bits that the sender has in common with the nearest of its
    /// addresses.
    fn likeness(&self, hop: &Hop, id: RuleId) -> (bool, u32) {
        let (rule, from) = (self.rule(hop.device, id), hop.packet.source().address);
        let groups = rule
            .written
            .source
            .iter()
            .filter_map(|w| Some((w.value.as_str(), self.plan.groups.get(&w.value)?)));
        let odd = groups.into_iter().any(|(name, value)| {
            let spelled =
                || contradicts(name, value).and_then(|(a, l)| Prefix::holding(a.into(), l));
            value.is_empty() || spelled().is_some_and(|p| p.contains(from))
        });
        let bits = |a: IpAddr| match (a, from) {
            (IpAddr::V4(a), IpAddr::V4(b)) => (a.to_bits() ^ b.to_bits()).leading_zeros(),
            (IpAddr::V6(a), IpAddr::V6(b)) => (a.to_bits() ^ b.to_bits()).leading_zeros(),
            _ => 0,
        };
        let ends = rule.parties.source.ranges().flat_map(|r| [r.first(), r.last()]);
        (odd, ends.map(bits).max().unwrap_or(0))
    }

    /// A rule that lacks two things at once.
    fn two_off(&mut self, hop: &Hop, miss: &NearMiss) {
        let table = Table::Rule(hop.device, miss.rule);
        let rule = self.rule(hop.device, miss.rule);
        if !matches!(rule.kind, RuleKind::Pool { .. } | RuleKind::Overload { .. }) {
            return;
        }
        let (from, to) = (hop.packet.source().address, hop.packet.destination().address);
        let covered = rule.service.0.iter().any(|s| s.protocol == Some(hop.packet.protocol));
        let fault = |c: &Condition| match c {
            Condition::Enabled => {
                Some((Cause::RuleDisabled, Edit::Unset(table, "enabled".to_owned())))
            }
            Condition::Source => {
                Some((Cause::SourceNotInList, append(table, "source", from.to_string())))
            }
            Condition::Destination => {
                Some((Cause::DestinationNotInList, append(table, "destination", to.to_string())))
            }
            Condition::Service => {
                let cause =
                    if covered { Cause::ServiceNotInList } else { Cause::ProtocolNotCovered };
                Some((cause, append(table, "service", service(hop.packet))))
            }
            Condition::From | Condition::Into | Condition::Direction => None,
        };
        let faults: Option<Vec<(Cause, Edit)>> = miss.unmet.iter().map(fault).collect();
        self.two_faults(hop, miss, faults, "match");
    }

    pub(super) fn disabled(&mut self, device: DeviceId, id: RuleId) {
        let (rule, at) = (self.rule(device, id), self.at_rule(device, id));
        let name = &rule.name;
        if rule.enabled {
            return self.disabled_by_event(device, id);
        }
        let verdict = format!("rule {name} would match, and is disabled");
        let title = format!("enable rule {name}");
        let edit = Edit::Unset(Table::Rule(device, id), "enabled".to_owned());
        self.suspect(Cause::RuleDisabled, at, verdict, title, vec![edit]);
    }

    /// What the plan has enabled, and an event of the day disabled.
    fn disabled_by_event(&mut self, device: DeviceId, id: RuleId) {
        let disables = |e: &&(Event, String)| {
            e.0.device == device && matches!(e.0.action, Action::Disable(rule) if rule == id)
        };
        let (name, at) = (&self.rule(device, id).name, self.at_rule(device, id));
        let by = self
            .scene
            .events
            .iter()
            .rev()
            .find(disables)
            .map_or(String::new(), |(e, place)| format!(" at {} ({place})", e.at));
        let verdict = format!("rule {name} would match, and was disabled{by}");
        let title = format!("enable rule {name} on {} again", self.device(device).name);
        let edit = Edit::Enable(device, id);
        self.suspect(Cause::DisabledByEvent, at, verdict, title, vec![edit]);
    }

    /// The sender is in no list: a slip in the list, a group that is empty or not what its name
    /// says, or nobody thought of it.
    pub(super) fn source_not_in_list(&mut self, hop: &Hop, miss: &NearMiss) {
        let (rule, from) = (self.rule(hop.device, miss.rule), hop.packet.source().address);
        if !matches!(rule.kind, RuleKind::Pool { .. } | RuleKind::Overload { .. }) {
            return;
        }
        let at = self.at_rule(hop.device, miss.rule);
        let groups = rule
            .written
            .source
            .iter()
            .filter_map(|w| Some((w.value.as_str(), self.plan.groups.get(&w.value)?)));
        for (name, value) in groups.collect::<Vec<_>>() {
            if value.is_empty() {
                let verdict = format!("rule {} is for the group {name}, which is empty", rule.name);
                for (text, title) in self.sender_texts(hop) {
                    let edit = append(Table::Groups, name, text);
                    let title = format!("put {title} into the group {name}");
                    self.suspect(Cause::EmptyGroup, at, verdict.clone(), title, vec![edit]);
                }
            } else if let Some((address, length)) = contradicts(name, value)
                && let Some(prefix) =
                    Prefix::holding(address.into(), length).filter(|p| p.contains(from))
            {
                let verdict = format!(
                    "rule {} is for the group {name}, which holds {value} and not what its name \
                     says",
                    rule.name
                );
                let text = if length == 32 { address.to_string() } else { prefix.to_string() };
                let title = format!("let the group {name} hold {text}");
                let edit = set(Table::Groups, name, text);
                self.suspect(Cause::NameContradictsValue, at, verdict, title, vec![edit]);
            }
        }
        let verdict = format!("rule {} is for {}, and {from} is not in it", rule.name, miss.needs);
        let table = Table::Rule(hop.device, miss.rule);
        let slip = self.slip(hop, rule);
        for (i, (text, title)) in self.sender_texts(hop).into_iter().enumerate() {
            let (title, edit) = match &slip {
                // the prefix was meant all along
                Some(old) if i > 0 => (
                    format!("let rule {} be for {text} instead of {old}", rule.name),
                    Edit::Replace(table, "source".to_owned(), old.clone(), text),
                ),
                _ => (
                    format!("let rule {} be for {title} too", rule.name),
                    append(table, "source", text),
                ),
            };
            self.suspect(Cause::SourceNotInList, at, verdict.clone(), title, vec![edit]);
        }
    }

    /// A prefix in the list of a rule that must have been meant for the one that the sender is in:
    /// it is inside of it, or a digit or two off.
    fn slip(&self, hop: &Hop, rule: &Rule) -> Option<String> {
        let (meant, _) = self.sender_texts(hop).into_iter().nth(1)?;
        let prefix: Prefix = meant.parse().ok()?;
        let off = |text: &str| match text.parse::<Prefix>() {
            Ok(written) => {
                let inside = prefix.contains(written.first()) && prefix.length() < written.length();
                inside && written.length() < 32 || strsim::damerau_levenshtein(text, &meant) <= 2
            }
            Err(_) => false,
        };
        rule.written.source.iter().map(|w| w.value.as_str()).find(|t| off(t)).map(str::to_owned)
    }

    /// The sender alone, and the prefix that it is in.
    fn sender_texts(&self, hop: &Hop) -> Vec<(String, String)> {
        let from = hop.packet.source().address;
        let name = self
            .plan
            .hosts
            .iter()
            .find(|h| h.address == from)
            .map_or(from.to_string(), |h| h.name.clone());
        let mut texts = vec![(name.clone(), name)];
        let interface = hop.ingress.map(|i| &self.device(hop.device).interfaces[i.index()]);
        let prefix = interface.and_then(|i| i.addresses.iter().find(|a| a.1.contains(from)));
        texts.extend(prefix.map(|(_, p)| (p.to_string(), format!("all of {p}"))));
        texts
    }

    fn not_in_list(&mut self, hop: &Hop, miss: &NearMiss, cause: Cause, text: String) {
        let rule = self.rule(hop.device, miss.rule);
        if matches!(rule.kind, RuleKind::Forward(_)) {
            return;
        }
        let key = if cause == Cause::DestinationNotInList { "destination" } else { "service" };
        let verdict = format!("rule {} is for {}, and {text} is not in it", rule.name, miss.needs);
        let title = format!("let rule {} be for {text} too", rule.name);
        let (table, at) = (Table::Rule(hop.device, miss.rule), self.at_rule(hop.device, miss.rule));
        let edit = append(table, key, text);
        self.suspect(cause, at, verdict.clone(), title, vec![edit]);
        let title = format!("let rule {} be for any {key}", rule.name);
        let edit = Edit::Unset(table, key.to_owned());
        self.suspect(cause, at, verdict, title, vec![edit]);
    }

    /// No rule is near: one is needed.
    fn no_rule(&mut self, hop: &Hop) {
        let kept = hop
            .steps
            .iter()
            .any(|s| s.stage == Stage::Source && matches!(s.result, StageResult::Unchanged(_)));
        let Some(egress) = egress(hop).filter(|_| kept) else { return };
        let device = self.device(hop.device);
        let interface = &device.interfaces[egress.index()];
        if !self.is_internet(interface.segment) {
            return;
        }
        let from = hop.packet.source().address;
        let verdict = format!("no rule of {} is for {from}", device.name);
        let name = self.free_name(hop.device, &format!("{}-out", self.name_of(from)));
        let side = |i: InterfaceId| device.interfaces[i.index()].name.clone();
        // the sender alone, and all of its prefix
        for (text, whom) in self.sender_texts(hop) {
            let title = format!("overload {whom} onto {}", interface.name);
            let mut fields = vec![("name", Value::from(name.clone())), ("type", "overload".into())];
            fields.extend(hop.ingress.map(|i| ("from", Value::from(side(i)))));
            fields.extend([
                ("into", Value::from(interface.name.clone())),
                ("source", text.into()),
                ("as", interface.name.clone().into()),
            ]);
            let edit = Edit::Insert(hop.device, List::Rules, None, fields);
            let at = At::device(hop.device, device.place);
            self.suspect(Cause::NoRule, at, verdict.clone(), title, vec![edit]);
        }
    }

    pub(super) fn name_of(&self, address: IpAddr) -> String {
        let host = self.plan.hosts.iter().find(|h| h.address == address);
        host.map_or("host".to_owned(), |h| h.name.clone())
    }
}
