//! Presets, the keys that differ from them, and timers.

use std::time::Duration;

use super::{Builder, PlanError, Text};
use crate::net::{PortRange, Service, parse_span};
use crate::plan::settings::{
    ANSWERS_LEAVE_AS_CAME, ARP_FOR_TRANSLATED, DEPENDENCE, HAIRPIN_SOURCE, PAIRED,
    POLICY_SEES_TRANSLATED, PORT_ASSIGNMENT, REFRESH_BOTH, RULE_ORDER,
};
use crate::plan::{
    Behaviour, BehaviourDraft, Dependence, DraftDevice, Lack, PortClass, Preset, Setting, Timers,
};

const YES_NO: [(&str, bool); 2] = [("true", true), ("false", false)];

impl Builder {
    pub(super) fn behaviour(&mut self, draft: &BehaviourDraft) -> Behaviour {
        let preset = draft.preset.as_ref().and_then(|p| self.one_of("behaviour", p, &Preset::ALL));
        let mut b = preset.unwrap_or(Preset::Bcp).behaviour();
        for setting in &draft.settings {
            self.setting(&mut b, setting);
        }
        let place =
            draft.settings.first().map(|s| s.key.place).or(draft.preset.as_ref().map(|p| p.place));
        if let Some(place) = place
            && b.port_overloading
            && b.mapping == Dependence::EndpointIndependent
        {
            let why = "`port-overloading` needs a `mapping` that depends on the peer: with \
                       `endpoint-independent` an answer could not be assigned to its host";
            self.report(PlanError::BehaviourContradiction(why), place);
        }
        b
    }

    fn setting(&mut self, b: &mut Behaviour, setting: &Setting) {
        let key = setting.key.value.as_str();
        if key == "cannot" {
            for value in &setting.values {
                b.cannot.extend(self.one_of("cannot", value, &Lack::ALL));
            }
            return;
        }
        if key == "port-classes" {
            b.port_classes =
                self.port_classes(&setting.values).unwrap_or_else(|| b.port_classes.clone());
            return;
        }
        let Some(value) = setting.values.first().filter(|_| setting.values.len() == 1) else {
            let got = if setting.values.is_empty() { "an empty list" } else { "a list" };
            return self.report(
                PlanError::WrongType { key: key.into(), wanted: "one value", got },
                setting.key.place,
            );
        };
        let count = |this: &mut Self, most: i64| this.count(key, value, 1, most);
        match key {
            "mapping" => set(&mut b.mapping, self.one_of("mapping", value, &DEPENDENCE)),
            "filtering" => set(&mut b.filtering, self.one_of("filtering", value, &DEPENDENCE)),
            "pooling" => set(&mut b.paired, self.one_of("pooling", value, &PAIRED)),
            "port-assignment" => {
                set(&mut b.port_assignment, self.one_of("port-assignment", value, &PORT_ASSIGNMENT))
            }
            "port-parity" => set(&mut b.port_parity, self.one_of("port-parity", value, &YES_NO)),
            "port-overloading" => {
                set(&mut b.port_overloading, self.one_of("port-overloading", value, &YES_NO))
            }
            "ports-per-host" => b.ports_per_host = count(self, 65_535).map(|n| n as u32),
            "block-size" => b.block_size = count(self, 32_768).map(|n| n as u16),
            "max-mappings" => b.max_mappings = count(self, i64::MAX),
            "max-sessions" => b.max_sessions = count(self, i64::MAX),
            "hairpin-source" => {
                set(&mut b.hairpin_source, self.one_of("hairpin-source", value, &HAIRPIN_SOURCE))
            }
            "rule-order" => set(&mut b.rule_order, self.one_of("rule-order", value, &RULE_ORDER)),
            "policy-sees" => set(
                &mut b.policy_sees_translated,
                self.one_of("policy-sees", value, &POLICY_SEES_TRANSLATED),
            ),
            "answer-arp" => set(
                &mut b.answers_arp_for_translated,
                self.one_of("answer-arp", value, &ARP_FOR_TRANSLATED),
            ),
            "answers-leave" => {
                let came = self.one_of("answers-leave", value, &ANSWERS_LEAVE_AS_CAME);
                set(&mut b.answers_leave_as_came, came);
            }
            "translates-own" => {
                set(&mut b.translates_own, self.one_of("translates-own", value, &YES_NO))
            }
            "hold-down-timeout" => set(&mut b.hold_down, self.span(value)),
            "refresh" => {
                set(&mut b.refresh_both, self.one_of("refresh", value, &REFRESH_BOTH));
            }
            _ => {
                let known = b.settings();
                let near = self
                    .problems
                    .nearest(key, known.iter().map(|d| d.key.as_str()).chain(["preset"]));
                self.report(
                    PlanError::UnknownKey { key: key.into(), table: "`behaviour`", near },
                    setting.key.place,
                );
            }
        }
    }

    /// A whole number within bounds, written as text.
    fn count(&mut self, key: &str, value: &Text, low: i64, high: i64) -> Option<u64> {
        match value.value.parse::<i64>() {
            Ok(n) if (low..=high).contains(&n) => Some(n as u64),
            Ok(got) => {
                self.report(
                    PlanError::OutOfBounds { key: key.into(), low, high, got },
                    value.place,
                );
                None
            }
            Err(_) => {
                let error =
                    PlanError::WrongType { key: key.into(), wanted: "a whole number", got: "text" };
                self.report(error, value.place);
                None
            }
        }
    }

    fn span(&mut self, value: &Text) -> Option<Duration> {
        self.take(parse_span(&value.value), value.place)
    }

    /// `"1024-65535 -> 1024-65535"`, several of which cover 1 to 65535 without overlap.
    fn port_classes(&mut self, values: &[Text]) -> Option<Vec<PortClass>> {
        let mut classes = Vec::new();
        for value in values {
            let (from, into) = value.value.split_once("->").unwrap_or((&value.value, &value.value));
            let mut range = |t: &str| {
                self.take(t.trim().parse::<PortRange>(), value.place).map(|r| (r.first, r.last))
            };
            classes.push(PortClass { from: range(from)?, into: range(into)? });
        }
        classes.sort_by_key(|c| c.from);
        let mut ends = classes.iter().map(|c| c.from);
        let next = ends.try_fold(1u32, |n, (a, b)| (n == u32::from(a)).then(|| u32::from(b) + 1));
        if next != Some(65_536) {
            let why = "`port-classes` must cover every port from 1 to 65535 once";
            self.report(PlanError::BehaviourContradiction(why), values.first()?.place);
            return None;
        }
        Some(classes)
    }

    pub(super) fn timers(&mut self, draft: &DraftDevice) -> Timers {
        let mut timers = Timers::default();
        for setting in &draft.timers {
            let key = setting.key.value.as_str();
            let Some(value) = setting.values.first() else { continue };
            // the reader writes `per-port = { "53/udp" = 10 }` as the key `per-port 53/udp`
            if let Some(service) = key.strip_prefix("per-port ") {
                let key = Text::new(service.into(), setting.key.place);
                let Some(service) = self.parse::<Service>(&key) else { continue };
                let Some(span) = self.span(value) else { continue };
                match service.protocol {
                    Some(p) if service.ports.first == service.ports.last && p.has_ports() => {
                        timers.per_port.insert((p, service.ports.first), span);
                    }
                    _ => {
                        let error = PlanError::WrongType {
                            key: key.value,
                            wanted: "one port, as 53/udp",
                            got: "several",
                        };
                        self.report(error, setting.key.place);
                    }
                }
                continue;
            }
            match timers.by_name(key) {
                Some(timer) => {
                    set(timer, self.take(parse_span(&value.value), value.place));
                }
                None => {
                    let near =
                        self.problems.nearest(key, Timers::NAMES.into_iter().chain(["per-port"]));
                    self.report(
                        PlanError::UnknownKey { key: key.into(), table: "`timers`", near },
                        setting.key.place,
                    );
                }
            }
        }
        timers
    }
}

fn set<T>(slot: &mut T, value: Option<T>) {
    if let Some(value) = value {
        *slot = value;
    }
}
