//! Rules: what each type needs, and what it must not have.

use super::groups::Part;
use super::{Builder, PlanError, Text};
use crate::limits;
use crate::net::{AddressRange, Protocol};
use crate::plan::{
    DevicePlan, DraftDevice, DraftRule, Fallback, Lack, Log, Pick, Placed, Pool, PoolId, RealmSet,
    Rule, RuleKind, Target, Written,
};

const TYPES: [(&str, &str); 5] = [
    ("static", "static"),
    ("pool", "pool"),
    ("overload", "overload"),
    ("forward", "forward"),
    ("exempt", "exempt"),
];

impl Builder {
    pub(super) fn rules(&mut self, draft: &DraftDevice, device: &mut DevicePlan) {
        device.rules.reserve_exact(draft.rules.len());
        for rule in &draft.rules {
            if let Some(rule) = self.rule(rule, device) {
                self.lacks(&rule, device);
                device.rules.push(rule);
            }
        }
        self.conflicts(device);
    }

    fn rule(&mut self, draft: &DraftRule, device: &mut DevicePlan) -> Option<Rule> {
        let kind_name = self.one_of("type", &draft.kind, &TYPES);
        // everything that does not depend on the type first, so that all its problems are told
        let from = self.side(draft.from.as_ref(), "internal", draft);
        let into = self.side(draft.into.as_ref(), "external", draft);
        let hairpin = self.realm_set(draft.hairpin.clone().unwrap_or_default());
        let parties = self.parties(draft.source.as_ref(), draft.destination.as_ref());
        let service = self.services_or_any(draft.service.as_ref());
        let limit = draft.limit.as_ref().and_then(|l| {
            let (low, high) = (0, i64::from(u32::MAX));
            let fits = (low..=high).contains(&l.value);
            if !fits {
                self.report(
                    PlanError::OutOfBounds { key: "limit".into(), low, high, got: l.value },
                    l.place,
                );
            }
            fits.then_some(l.value as u32)
        });
        let log = draft.log.as_ref().map_or(Log::Nothing, |l| self.log(l, device));
        let kind_name = kind_name?;
        self.keys_for_type(draft, kind_name);
        let kind = match kind_name {
            "exempt" => RuleKind::Exempt,
            "static" => RuleKind::Static(self.static_rule(draft, device)?),
            "forward" => RuleKind::Forward(self.forward(draft, device)?),
            kind => {
                let fallback = draft
                    .when_exhausted
                    .as_ref()
                    .map_or(Some(Fallback::Drop), |w| self.fallback(w, device));
                let target = self.needed(draft.translate_as.as_ref(), "as", draft)?;
                match (kind, self.target(target, device)?, fallback?) {
                    ("pool", Target::Pool(pool), fallback) => RuleKind::Pool { pool, fallback },
                    ("pool", Target::Address(address), fallback) => RuleKind::Pool {
                        pool: self.own_pool(
                            target,
                            &[(AddressRange::one(address), None)],
                            device,
                        )?,
                        fallback,
                    },
                    ("pool", Target::Interface(_), _) => {
                        self.unknown("pool", target, device.pools.iter().map(|p| p.name.as_str()));
                        return None;
                    }
                    (_, target, fallback) => RuleKind::Overload { target, fallback },
                }
            }
        };
        let note = draft.note.as_ref().map(|n| n.value.clone());
        let (name, place) = (draft.name.value.clone(), draft.place);
        let list = |texts: &Option<Vec<Text>>| texts.clone().unwrap_or_default();
        let written = Written {
            source: list(&draft.source),
            destination: list(&draft.destination),
            service: list(&draft.service),
        };
        Some(Rule {
            name,
            kind,
            enabled: draft.enabled.value,
            retired: false,
            note,
            log,
            from,
            into,
            parties,
            service,
            limit,
            hairpin,
            written,
            place,
        })
    }

    fn log(&mut self, text: &Text, device: &DevicePlan) -> Log {
        let values = [
            ("sessions", Log::Sessions),
            ("mappings", Log::Mappings),
            ("blocks", Log::Blocks),
            ("true", Log::Sessions),
            ("false", Log::Nothing),
        ];
        let log = self.one_of("log", text, &values).unwrap_or_default();
        if log == Log::Blocks && device.behaviour.block_size.is_none() {
            let why =
                "`log = \"blocks\"` needs a `block-size`: the device hands out no blocks of ports";
            self.report(PlanError::BehaviourContradiction(why), text.place);
        }
        log
    }

    fn side(&mut self, names: Option<&Vec<Text>>, default: &str, draft: &DraftRule) -> RealmSet {
        let fallback = || vec![Placed::new(default.to_owned(), draft.name.place)];
        self.realm_set(names.cloned().unwrap_or_else(fallback))
    }

    pub(super) fn needed<'a, T>(
        &mut self,
        value: Option<&'a T>,
        key: &'static str,
        draft: &DraftRule,
    ) -> Option<&'a T> {
        if value.is_none() {
            let table = format!("rule `{}` of type `{}`", draft.name.value, draft.kind.value);
            self.report(PlanError::MissingKey { key, table }, draft.place);
        }
        value
    }

    /// Reports keys that mean nothing for a rule of this type.
    fn keys_for_type(&mut self, draft: &DraftRule, kind: &'static str) {
        let fixed = matches!(kind, "static" | "forward");
        let dynamic = matches!(kind, "pool" | "overload");
        let place = |t: &Option<Text>| t.as_ref().map(|t| t.place);
        let first =
            |t: &Option<Vec<Text>>, at| t.as_ref().map(|t| t.first().map_or(at, |t| t.place));
        let keys = [
            ("direction", place(&draft.direction), kind == "static"),
            ("internal", first(&draft.internal, draft.place), fixed),
            ("external", place(&draft.external), fixed),
            ("as", place(&draft.translate_as), fixed || dynamic),
            ("when-exhausted", place(&draft.when_exhausted), dynamic),
            ("spread", place(&draft.spread), kind == "forward"),
            ("service", first(&draft.service, draft.place), kind != "forward"),
            ("limit", draft.limit.as_ref().map(|l| l.place), kind != "exempt"),
            ("hairpin", first(&draft.hairpin, draft.place), kind != "exempt"),
        ];
        for (key, place, allowed) in keys {
            if let (Some(place), false) = (place, allowed) {
                self.report(PlanError::KeyNotForType { key, kind }, place);
            }
        }
    }

    /// An interface, a pool, or an address (given as such or by a name).
    pub(super) fn target(&mut self, text: &Text, device: &mut DevicePlan) -> Option<Target> {
        if let Some(pool) = self.scope.pool(&text.value) {
            return Some(Target::Pool(pool));
        }
        if let Some(interface) = self.scope.interface(&text.value) {
            return Some(Target::Interface(interface));
        }
        let before = self.problems.count();
        let parts = self.groups.addresses(text, &mut self.problems);
        if self.problems.count() > before {
            // propose the nearest of everything that could have been meant here
            let names = device.pools.iter().map(|p| p.name.as_str());
            let names = names.chain(device.interfaces.iter().map(|f| f.name.as_str()));
            let nearer = self.problems.nearest(&text.value, names);
            if let Some(PlanError::UnknownName { what, near, .. }) = self.problems.last_error_mut()
            {
                *what = "interface, pool or address group";
                let both = nearer.iter().chain(near.iter()).map(String::as_str);
                *near = crate::plan::nearest(&text.value, both);
            }
            return None;
        }
        match &*parts {
            [(range, _)] if range.count() == 1 => Some(Target::Address(range.first())),
            [] => {
                self.report(PlanError::NotOneAddress { key: "as", count: 0 }, text.place);
                None
            }
            _ => self.own_pool(text, &parts, device).map(Target::Pool),
        }
    }

    /// A pool for a rule that names its addresses itself.
    fn own_pool(&mut self, text: &Text, parts: &[Part], device: &mut DevicePlan) -> Option<PoolId> {
        if device.pools.len() >= limits::POOLS {
            self.report(PlanError::TooMany { what: "pools", most: limits::POOLS }, text.place);
            return None;
        }
        let pool = Pool {
            name: text.value.clone(),
            parts: parts.to_vec(),
            pick: Pick::Lowest,
            usable_all: false,
            retired: false,
            place: text.place,
        };
        self.pool_size(&pool).then(|| {
            let id = PoolId(device.pools.len() as u16);
            self.scope.enter_pool(&pool.name, id);
            device.pools.push(pool);
            id
        })
    }

    fn fallback(&mut self, text: &Text, device: &mut DevicePlan) -> Option<Fallback> {
        Some(match text.value.as_str() {
            "drop" => Fallback::Drop,
            "pass" => Fallback::Pass,
            _ => Fallback::Overload(self.target(text, device)?),
        })
    }

    /// Reports what a rule needs and the device lacks.
    fn lacks(&mut self, rule: &Rule, device: &DevicePlan) {
        let icmp = rule.service.0.iter().any(|s| s.protocol.is_some_and(Protocol::has_query_id));
        let mut needs = vec![(Lack::Hairpin, !rule.hairpin.names.is_empty()), (Lack::Icmp, icmp)];
        match &rule.kind {
            RuleKind::Forward(f) => {
                needs.push((Lack::PortChange, f.servers.iter().any(|s| s.port != f.ports.first)));
                needs.push((Lack::Ranges, f.ports.count() > 1));
                needs.push((Lack::Spread, f.servers.len() > 1));
                needs.push((Lack::BothEnds, f.translate_as.is_some()));
            }
            RuleKind::Static(s) => {
                needs.push((Lack::Ranges, s.internal.count() > 1));
                needs.push((Lack::BothEnds, s.translate_as.is_some()));
            }
            RuleKind::Exempt | RuleKind::Pool { .. } | RuleKind::Overload { .. } => {}
        }
        for (lack, _) in
            needs.into_iter().filter(|(l, needed)| *needed && device.behaviour.cannot.contains(l))
        {
            self.report(
                PlanError::DeviceCannot { rule: rule.name.clone(), lack: lack.name() },
                rule.place,
            );
        }
    }
}
