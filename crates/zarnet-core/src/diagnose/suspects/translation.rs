//! Rules that do not match, or that another takes the packet from.

use std::net::IpAddr;

use super::passage::leaving;
use super::{At, Case, append, set};
use crate::device::Condition;
use crate::diagnose::Cause;
use crate::diagnose::edit::{Edit, List, Table, Value};
use crate::diagnose::names::contradicts;
use crate::diagnose::near::{NearMiss, egress, inbound_misses, outbound_misses, service};
use crate::net::Prefix;
use crate::network::{Hop, Origin};
use crate::observe::{By, Stage, StageResult};
use crate::plan::{DeviceId, External, Fallback, InterfaceId, Rule, RuleId, RuleKind, Target};
use crate::reason::{Class, Reason};

impl Case<'_> {
    /// A private address got onto the internet: somebody should have translated it, or should have routed it elsewhere.
    pub(super) fn private_outside(&mut self) {
        let Some(hop) = self.last() else { return self.private_destination() };
        let out = leaving(hop);
        if self.back {
            return self.wrong_way_back();
        }
        let hops: Vec<&Hop> = self.followed.forth.hops.iter().rev().collect();
        for hop in &hops {
            self.untranslated(hop);
        }
        for hop in hops {
            self.no_rule(hop);
        }
        // or it should have gone elsewhere in the first place
        let to = out.destination().address;
        let inside = self.plan.hosts.iter().any(|h| h.address == to && !self.is_internet(h.segment));
        if inside {
            let verdict =
                format!("{} has no route to {to}, and sends it to the provider", self.device(hop.device).name);
            self.routes(Cause::NoRouteOut, hop.device, to, &verdict);
        }
    }

    /// The answer went astray: whoever has it last may have got it from somebody who should have known better.
    pub(super) fn wrong_way_back(&mut self) {
        self.untranslated_before();
        let Some(to) = self.last().map(|hop| leaving(hop).destination().address) else { return };
        for hop in &self.followed.back.hops {
            let name = &self.device(hop.device).name;
            let verdict = format!("{name} has no route back to {to}, and sends the answer towards the provider");
            self.routes(Cause::NoRouteBack, hop.device, to, &verdict);
        }
    }

    /// An answer that does not find its way back to an internal address may be one that should have been translated.
    pub(super) fn untranslated_before(&mut self) {
        for hop in self.followed.forth.hops.iter().rev() {
            self.untranslated(hop);
        }
    }

    /// Somebody outside wants an internal address.
    fn private_destination(&mut self) {
        let Some(packet) = self.sent() else { return };
        let to = packet.destination();
        let verdict = format!("{} is private: nobody on the internet can send to it", to.address);
        let mut ways = Vec::new();
        for device in &self.plan.devices {
            for rule in device.rules.iter().filter(|r| r.enabled) {
                let external = |e| match e {
                    External::Range(r) => r.first().to_string(),
                    External::Interface(i) => {
                        device.interfaces[i.index()].primary().map(|a| a.to_string()).unwrap_or_default()
                    }
                };
                match &rule.kind {
                    RuleKind::Forward(f) if f.servers.iter().any(|s| s.address == to.address) => {
                        ways.push(format!("{}:{}/{} (rule {})", external(f.external), f.ports, f.protocol, rule.name));
                    }
                    RuleKind::Static(s) if s.internal.contains(to.address) => {
                        ways.push(format!("{} (rule {})", external(s.external), rule.name));
                    }
                    _ => {}
                }
            }
        }
        let title = match ways.is_empty() {
            true => format!("give {} an external end with a forward or a static rule, and use that", to.address),
            false => format!("use its external end: {}", ways.join(", ")),
        };
        self.suspect(Cause::ForwardMissing, At::nowhere(), verdict, title, Vec::new());
    }

    /// A device that left the source as it was.
    fn untranslated(&mut self, hop: &Hop) {
        let Some((ingress, egress)) = hop.ingress.zip(egress(hop)) else { return };
        let kept = hop.steps.iter().find(|s| s.stage == Stage::Source);
        let Some(StageResult::Unchanged(reason)) = kept.map(|s| s.result) else { return };
        if let (Reason::Exempt, Some(By::Rule(rule))) = (reason, kept.map(|s| s.by)) {
            self.exempted(hop, rule);
        }
        let misses = outbound_misses(&self.scene.network, hop);
        let one = |condition| misses.iter().filter(move |m| m.unmet == [condition]);
        for miss in one(Condition::Enabled) {
            self.disabled(hop.device, miss.rule);
        }
        self.realms(hop.device, ingress, egress);
        // a rule that is for this sender was meant sooner than one that is not
        for miss in one(Condition::Service) {
            let rule = self.rule(hop.device, miss.rule);
            let covered = rule.service.0.iter().any(|s| s.protocol == Some(hop.packet.protocol));
            let cause = if covered { Cause::ServiceNotInList } else { Cause::ProtocolNotCovered };
            self.not_in_list(hop, miss, cause, service(hop.packet));
        }
        for miss in one(Condition::Destination) {
            self.not_in_list(hop, miss, Cause::DestinationNotInList, hop.packet.destination().address.to_string());
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

    /// How much a rule that is not for a sender looks as if it was meant for it: by a group that is not as it should be, then
    /// by the bits that the sender has in common with the nearest of its addresses.
    fn likeness(&self, hop: &Hop, id: RuleId) -> (bool, u32) {
        let (rule, from) = (self.rule(hop.device, id), hop.packet.source().address);
        let groups =
            rule.written.source.iter().filter_map(|w| Some((w.value.as_str(), self.plan.groups.get(&w.value)?)));
        let odd = groups.into_iter().any(|(name, value)| {
            let spelled = || contradicts(name, value).and_then(|(a, l)| Prefix::holding(a.into(), l));
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
        let edit = |c: &Condition| match c {
            Condition::Enabled => Some(Edit::Unset(table, "enabled".to_owned())),
            Condition::Source => Some(append(table, "source", hop.packet.source().address.to_string())),
            Condition::Destination => Some(append(table, "destination", hop.packet.destination().address.to_string())),
            Condition::Service => Some(append(table, "service", service(hop.packet))),
            _ => None,
        };
        let Some(edits) = miss.unmet.iter().map(edit).collect::<Option<Vec<_>>>() else { return };
        let cause = match miss.unmet[0] {
            Condition::Enabled => Cause::RuleDisabled,
            Condition::Source => Cause::SourceNotInList,
            Condition::Destination => Cause::DestinationNotInList,
            _ => Cause::ServiceNotInList,
        };
        let names: Vec<&str> = miss.unmet.iter().map(|c| c.name()).collect();
        let verdict =
            format!("rule {} was meant, and does not match for two reasons: {}", rule.name, names.join(" and "));
        let title = format!("let rule {} match", rule.name);
        self.suspect(cause, self.at_rule(hop.device, miss.rule), verdict, title, edits);
    }

    fn disabled(&mut self, device: DeviceId, id: RuleId) {
        let name = &self.rule(device, id).name;
        let verdict = format!("rule {name} would match, and is disabled");
        let title = format!("enable rule {name}");
        // what was disabled in the middle of a day is enabled in the plan
        let edits = match self.rule(device, id).enabled {
            false => vec![Edit::Unset(Table::Rule(device, id), "enabled".to_owned())],
            true => Vec::new(),
        };
        self.suspect(Cause::RuleDisabled, self.at_rule(device, id), verdict, title, edits);
    }

    fn exempted(&mut self, hop: &Hop, id: RuleId) {
        let rule = self.rule(hop.device, id);
        let verdict =
            format!("rule {} exempts it from translation, and stands before the rule that was meant", rule.name);
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
            let title = format!("list rule {} before rule {}", self.rule(hop.device, next).name, rule.name);
            self.suspect(Cause::Exempted, at, verdict.clone(), title, vec![Edit::MoveRule(hop.device, next, id)]);
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
        let mut matching = later.filter(|r| device.unmet_outbound(*r, ingress, egress, hop.packet).is_empty());
        matching.next()
    }

    /// A rule like another, for one sender and receiver only.
    fn clone_for(&self, hop: &Hop, id: RuleId) -> Option<Vec<(&'static str, Value)>> {
        let (device, rule) = (self.device(hop.device), self.rule(hop.device, id));
        let (kind, target) = match &rule.kind {
            RuleKind::Overload { target, .. } => ("overload", self.target(hop.device, *target)),
            RuleKind::Pool { pool, .. } => ("pool", device.pools[pool.index()].name.clone()),
            _ => return None,
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

    fn free_name(&self, device: DeviceId, wanted: &str) -> String {
        let taken = |name: &str| self.device(device).rules.iter().any(|r| r.name == name);
        let numbered = (2..).map(|n| format!("{wanted}-{n}"));
        std::iter::once(wanted.to_owned()).chain(numbered).find(|n| !taken(n)).unwrap_or_default()
    }

    /// The sender is in no list: a slip in the list, a group that is empty or not what its name says, or nobody thought of it.
    fn source_not_in_list(&mut self, hop: &Hop, miss: &NearMiss) {
        let (rule, from) = (self.rule(hop.device, miss.rule), hop.packet.source().address);
        if !matches!(rule.kind, RuleKind::Pool { .. } | RuleKind::Overload { .. }) {
            return;
        }
        let at = self.at_rule(hop.device, miss.rule);
        let groups =
            rule.written.source.iter().filter_map(|w| Some((w.value.as_str(), self.plan.groups.get(&w.value)?)));
        for (name, value) in groups.collect::<Vec<_>>() {
            if value.is_empty() {
                let verdict = format!("rule {} is for the group {name}, which is empty", rule.name);
                for (text, title) in self.sender_texts(hop) {
                    let edit = append(Table::Groups, name, text);
                    let title = format!("put {title} into the group {name}");
                    self.suspect(Cause::EmptyGroup, at, verdict.clone(), title, vec![edit]);
                }
            } else if let Some((address, length)) = contradicts(name, value)
                && let Some(prefix) = Prefix::holding(address.into(), length).filter(|p| p.contains(from))
            {
                let verdict = format!(
                    "rule {} is for the group {name}, which holds {value} and not what its name says",
                    rule.name
                );
                let text = if length == 32 { address.to_string() } else { prefix.to_string() };
                let title = format!("let the group {name} hold {text}");
                let edit = set(Table::Groups, name, text);
                self.suspect(Cause::NameContradictsValue, at, verdict, title, vec![edit]);
            }
        }
        let verdict = format!("rule {} is for {}, and {from} is not in it", rule.name, miss.needs);
        for (text, title) in self.sender_texts(hop) {
            let edit = append(Table::Rule(hop.device, miss.rule), "source", text);
            let title = format!("let rule {} be for {title} too", rule.name);
            self.suspect(Cause::SourceNotInList, at, verdict.clone(), title, vec![edit]);
        }
    }

    /// The sender alone, and the prefix that it is in.
    fn sender_texts(&self, hop: &Hop) -> Vec<(String, String)> {
        let from = hop.packet.source().address;
        let name = self.plan.hosts.iter().find(|h| h.address == from).map_or(from.to_string(), |h| h.name.clone());
        let mut texts = vec![(name.clone(), name)];
        let interface = hop.ingress.map(|i| &self.device(hop.device).interfaces[i.index()]);
        let prefix = interface.and_then(|i| i.addresses.iter().find(|a| a.1.contains(from)));
        texts.extend(prefix.map(|(_, p)| (p.to_string(), format!("all of {p}"))));
        texts
    }

    fn not_in_list(&mut self, hop: &Hop, miss: &NearMiss, cause: Cause, text: String) {
        let rule = self.rule(hop.device, miss.rule);
        if matches!(rule.kind, RuleKind::Static(_) | RuleKind::Forward(_)) {
            return;
        }
        let key = if cause == Cause::DestinationNotInList { "destination" } else { "service" };
        let verdict = format!("rule {} is for {}, and {text} is not in it", rule.name, miss.needs);
        let title = format!("let rule {} be for {text} too", rule.name);
        let edit = append(Table::Rule(hop.device, miss.rule), key, text);
        self.suspect(cause, self.at_rule(hop.device, miss.rule), verdict, title, vec![edit]);
    }

    /// No rule is near: one is needed.
    fn no_rule(&mut self, hop: &Hop) {
        let kept = hop.steps.iter().any(|s| s.stage == Stage::Source && matches!(s.result, StageResult::Unchanged(_)));
        let Some(egress) = egress(hop).filter(|_| kept) else { return };
        let device = self.device(hop.device);
        let interface = &device.interfaces[egress.index()];
        if !self.is_internet(interface.segment) {
            return;
        }
        let from = hop.packet.source().address;
        let verdict = format!("no rule of {} is for {from}", device.name);
        let title = format!("overload {from} onto {}", interface.name);
        let mut fields = vec![
            ("name", Value::from(self.free_name(hop.device, &format!("{}-out", self.name_of(from))))),
            ("type", "overload".into()),
        ];
        if let Some(ingress) = hop.ingress {
            fields.push(("from", device.interfaces[ingress.index()].name.clone().into()));
        }
        fields.extend([
            ("into", Value::from(interface.name.clone())),
            ("source", from.to_string().into()),
            ("as", interface.name.clone().into()),
        ]);
        let edit = Edit::Insert(hop.device, List::Rules, None, fields);
        self.suspect(Cause::NoRule, At::device(hop.device, device.place), verdict, title, vec![edit]);
    }

    fn name_of(&self, address: IpAddr) -> String {
        let host = self.plan.hosts.iter().find(|h| h.address == address);
        host.map_or("host".to_owned(), |h| h.name.clone())
    }

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
            let (at, rule) = (self.at_rule(hop.device, miss.rule), self.rule(hop.device, miss.rule));
            match (condition, ingress) {
                (Condition::Enabled, _) => self.disabled(hop.device, miss.rule),
                (Condition::Into, Some(ingress)) => {
                    let (name, edit) = self.widen(hop.device, miss.rule, "hairpin", ingress);
                    let verdict = format!("rule {} does not serve the realm {name}: it does not hairpin", rule.name);
                    let title = format!("let rule {} hairpin for {name}", rule.name);
                    self.realms_of_inbound(hop, miss.rule, ingress);
                    self.suspect(Cause::HairpinOff, at, verdict, title, vec![edit]);
                }
                (Condition::Source, _) => {
                    let from = hop.packet.source().address;
                    let verdict = format!("rule {} lets {} in, and {from} is not in it", rule.name, miss.needs);
                    let title = format!("let rule {} let {from} in too", rule.name);
                    let edit = append(Table::Rule(hop.device, miss.rule), "source", from.to_string());
                    self.suspect(Cause::SourceNotInList, at, verdict, title, vec![edit]);
                }
                (Condition::Direction, _) => {
                    let verdict = format!("rule {} is good outbound only", rule.name);
                    let title = format!("let rule {} be good in both directions", rule.name);
                    let edit = Edit::Unset(Table::Rule(hop.device, miss.rule), "direction".to_owned());
                    self.suspect(Cause::ForwardMissing, at, verdict, title, vec![edit]);
                }
                (Condition::Service, _) => self.other_port(hop, miss),
                _ => {}
            }
        }
        self.ping_off(hop);
        if reason == Reason::Filtered && misses.is_empty() {
            let verdict = format!("{} maps something there, and the inside has not addressed this peer", device.name);
            let title = format!(
                "let {} filter by nobody (`filtering = \"endpoint-independent\"`), or forward the port",
                device.name
            );
            let edit = set(Table::Behaviour(hop.device), "filtering", "endpoint-independent");
            self.suspect(Cause::FilteredPeer, At::device(hop.device, device.place), verdict, title, vec![edit]);
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
                RuleKind::Forward(f) if f.protocol == hop.packet.protocol && f.ports.contains(to.port) => f.external,
                RuleKind::Static(s) if rule.service.holds(hop.packet.protocol, to.port) => s.external,
                _ => continue,
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
            _ => None,
        };
        let interfaces = self.device(hop.device).interfaces.iter();
        let holding = |a| interfaces.clone().position(|i| i.addresses.iter().any(|p| p.1.contains(a)));
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

    /// A rule has the address, and waits at another port: the device in front leads to the wrong one, or the rule is wrong.
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
            let title = format!("let rule {front_rule} of {} lead to port {wanted}", self.device(front.device).name);
            let address = hop.packet.destination().address;
            let edit = set(Table::Rule(front.device, rule), "internal", format!("{address}:{first}"));
            let at = self.at_rule(front.device, rule);
            self.suspect(Cause::ChainWrongPort, at, verdict.clone(), title, vec![edit]);
            let title = format!("let rule {name} of {} wait at port {got}", self.device(hop.device).name);
            let edit = self.external_port(hop, miss.rule, got);
            self.suspect(Cause::ChainWrongPort, at, verdict, title, edit.into_iter().collect());
        }
    }

    /// Somebody asks for a port that nobody forwards, and a rule waits at another of the same address.
    fn waits_elsewhere(&mut self, hop: &Hop, miss: &NearMiss) {
        let RuleKind::Forward(f) = &self.rule(hop.device, miss.rule).kind else { return };
        if f.protocol != hop.packet.protocol {
            return;
        }
        let (name, wanted, got) =
            (&self.rule(hop.device, miss.rule).name, f.ports.first, hop.packet.destination().port);
        let verdict = format!("nobody forwards {}, and rule {name} waits at {wanted}", service(hop.packet));
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
            crate::plan::External::Interface(i) => device.interfaces[i.index()].name.clone(),
            crate::plan::External::Range(r) => r.first().to_string(),
        };
        (f.ports.count() == 1)
            .then(|| set(Table::Rule(hop.device, rule), "external", format!("{address}:{port}/{}", f.protocol)))
    }

    /// Nothing leads the external end inside.
    fn forward_missing(&mut self, hop: &Hop) {
        let device = self.device(hop.device);
        let to = hop.packet.destination();
        let verdict = format!("no rule of {} leads {to} ({}) inside", device.name, service(hop.packet));
        let place = device.place;
        let listens = |h: &&crate::plan::Host| {
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
                self.suspect(Cause::ForwardMissing, At::device(hop.device, place), verdict.clone(), title, vec![edit]);
            }
        }
        let title = "forward it to the server that is meant".to_owned();
        self.suspect(Cause::ForwardMissing, At::device(hop.device, place), verdict, title, Vec::new());
    }

    /// How a rule would write the external address of a packet.
    fn external_name(&self, hop: &Hop) -> Option<String> {
        let to = hop.packet.destination().address;
        let device = self.device(hop.device);
        let interface = device.interfaces.iter().find(|i| i.primary() == Some(to));
        Some(interface.map_or(to.to_string(), |i| i.name.clone()))
    }

    /// The flow is delivered, and yet not as expected.
    pub(super) fn works_otherwise(&mut self) {
        if self.followed.class == Class::Untranslated {
            self.untranslated_before();
        }
        self.unattached();
        for hop in &self.followed.forth.hops {
            let step = hop.steps.iter().find(|s| s.stage == Stage::Source);
            let Some((StageResult::Translated { .. }, By::Rule(id))) = step.map(|s| (s.result, s.by)) else { continue };
            self.earlier_rule(hop, id);
        }
    }

    /// Rules below the one that took the packet, which would match too.
    fn earlier_rule(&mut self, hop: &Hop, id: RuleId) {
        let Some((ingress, egress)) = hop.ingress.zip(egress(hop)) else { return };
        let taker = &self.rule(hop.device, id).name;
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
                let verdict = format!("rule {} was meant, and is disabled; rule {taker} takes the packet", rule.name);
                let title = format!("enable rule {}", rule.name);
                self.suspect(Cause::RuleDisabled, self.at_rule(hop.device, other), verdict, title, edits);
            } else if unmet.is_empty() && other > id {
                let verdict = format!("rule {taker} is listed before rule {}, and takes the packet", rule.name);
                let title = format!("list rule {} before rule {taker}", rule.name);
                let edit = Edit::MoveRule(hop.device, other, id);
                self.suspect(Cause::EarlierRule, self.at_rule(hop.device, id), verdict, title, vec![edit]);
            } else if unmet == [Condition::Source] {
                let miss = NearMiss {
                    device: hop.device,
                    rule: other,
                    unmet,
                    inbound: false,
                    has: hop.packet.source().address.to_string(),
                    needs: rule.written.source.iter().map(|w| w.value.as_str()).collect::<Vec<_>>().join(", "),
                };
                self.source_not_in_list(hop, &miss);
            }
        }
    }

    /// A session that was made before something changed.
    pub(super) fn old_session(&mut self) {
        for hop in &self.followed.forth.hops {
            let Some(step) = hop.steps.iter().find(|s| s.stage == Stage::Session) else { continue };
            let (StageResult::Known { from_initiator: true }, By::Rules(rules)) = (step.result, step.by) else {
                continue;
            };
            let stale =
                rules.iter().flatten().find(|r| !self.scene.network.devices()[hop.device.index()].is_enabled(**r));
            let Some(&rule) = stale else { continue };
            let name = &self.rule(hop.device, rule).name;
            let verdict = format!("a session that rule {name} made before it was disabled is still alive");
            let host = match self.followed.sent {
                Some((Origin::Host(id), _)) => self.plan.hosts[id.index()].name.clone(),
                _ => hop.packet.source().address.to_string(),
            };
            let title = format!("clear the sessions of {host} on {}", self.device(hop.device).name);
            let edit = Edit::Clear(hop.device, hop.packet.source().address);
            self.suspect(Cause::OldSessionAlive, self.at_rule(hop.device, rule), verdict, title, vec![edit]);
        }
    }

    /// Whether a rule hands its packets on when it is used up.
    pub(super) fn falls_back(rule: &Rule) -> bool {
        match &rule.kind {
            RuleKind::Pool { fallback, .. } | RuleKind::Overload { fallback, .. } => {
                matches!(fallback, Fallback::Overload(_))
            }
            _ => false,
        }
    }
}
