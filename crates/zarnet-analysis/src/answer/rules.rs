//! The answer of `rules`: what each rule does, in the order in which they are tried.

use std::io::{self, Write};

use serde::Serialize;
use zarnet_core::plan::{
    DeviceId, DevicePlan, External, Fallback, Placed, Plan, Rule, RuleId, RuleKind, Server, Target,
};
use zarnet_formats::source::Sources;

use super::naming::Position;
use super::{Answer, Row, RuleCount, SHAPE};

/// The rules of a plan.
#[derive(Serialize)]
pub struct RulesAnswer {
    shape: u32,
    /// The rules, device by device, in the order in which they are tried.
    pub rules: Vec<RuleShape>,
}

/// A rule with what it does.
#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct RuleShape {
    /// Its place among the rules of its device, from 1.
    pub position: usize,
    /// The device that has it.
    pub device: String,
    /// Its name in the plan, or what it is.
    pub name: String,
    /// What it does, by its type.
    pub r#type: &'static str,
    /// Whether it takes part.
    pub enabled: bool,
    /// Realms or interfaces of the internal side.
    pub from: Vec<String>,
    /// Realms or interfaces of the external side.
    pub into: Vec<String>,
    /// Senders as written; of a fixed rule, those that it lets in. Empty is any.
    pub source: Vec<String>,
    /// Receivers as written; empty is any.
    pub destination: Vec<String>,
    /// Services as written; empty is any.
    pub service: Vec<String>,
    /// What it makes of what it matches.
    pub becomes: String,
    /// Sessions that it opened, where traffic is given.
    pub opened: Option<u64>,
    /// Flows that it refused, where traffic is given.
    pub refused: Option<u64>,
    /// Where it stands in the plan's files.
    pub place: Option<Position>,
}

impl RulesAnswer {
    /// The rules of a plan, of one device or all; `counts` of traffic, where it was given.
    pub fn new(
        plan: &Plan,
        sources: &Sources,
        only: Option<DeviceId>,
        counts: Option<&[RuleCount<'_>]>,
    ) -> Self {
        let devices = plan.devices.iter().enumerate();
        let devices = devices.filter(|(i, _)| only.is_none_or(|o| o.index() == *i));
        let rules = devices.flat_map(|(_, device)| {
            let mut order: Vec<RuleId> = (0..device.rules.len() as u16).map(RuleId).collect();
            device.put_in_order(&mut order);
            let row = |(n, id): (usize, RuleId)| {
                let rule = &device.rules[id.index()];
                let count = counts
                    .map(|all| all.iter().find(|c| c.device == device.name && c.rule == rule.name));
                let number = |of: fn(&RuleCount<'_>) -> u64| count.map(|c| c.map_or(0, of));
                RuleShape {
                    opened: number(|c| c.opened),
                    refused: number(|c| c.refused),
                    ..shape(device, rule, n + 1, sources)
                }
            };
            order.into_iter().enumerate().map(row).collect::<Vec<_>>()
        });
        Self { shape: SHAPE, rules: rules.collect() }
    }
}

fn shape(device: &DevicePlan, rule: &Rule, position: usize, sources: &Sources) -> RuleShape {
    let texts = |list: &[Placed<String>]| list.iter().map(|t| t.value.clone()).collect();
    RuleShape {
        position,
        device: device.name.clone(),
        name: rule.name.clone(),
        r#type: rule.kind.name(),
        enabled: rule.enabled,
        from: texts(&rule.from.names),
        into: texts(&rule.into.names),
        source: texts(&rule.written.source),
        destination: texts(&rule.written.destination),
        service: texts(&rule.written.service),
        becomes: becomes(device, rule),
        opened: None,
        refused: None,
        place: Position::of(rule.place, sources),
    }
}

/// What a rule makes of what it matches, in a few words.
fn becomes(device: &DevicePlan, rule: &Rule) -> String {
    let target = |t: Target| match t {
        Target::Interface(i) => device.interfaces[i.index()].name.clone(),
        Target::Pool(p) => device.pools[p.index()].name.clone(),
        Target::Address(a) => a.to_string(),
    };
    let end = |e: External| match e {
        External::Interface(i) => device.interfaces[i.index()].name.clone(),
        External::Range(r) => r.to_string(),
    };
    let otherwise = |f: &Fallback| match f {
        Fallback::Drop => String::new(),
        Fallback::Pass => ", then as it is".to_owned(),
        Fallback::Overload(t) => format!(", then {} by port", target(*t)),
    };
    let clients = |t: Option<Target>| {
        t.map_or(String::new(), |t| format!(", clients as {} by port", target(t)))
    };
    match &rule.kind {
        RuleKind::Exempt => "untranslated".to_owned(),
        RuleKind::Pool { pool, fallback } => {
            let name = &device.pools[pool.index()].name;
            format!("a whole address of {name}{}", otherwise(fallback))
        }
        RuleKind::Overload { target: t, fallback } => {
            format!("{} by port{}", target(*t), otherwise(fallback))
        }
        RuleKind::Static(s) => {
            format!("{} <-> {}{}", s.internal, end(s.external), clients(s.translate_as))
        }
        RuleKind::Forward(f) => {
            let server = |s: &Server| format!("{}:{}", s.address, s.port);
            let servers: Vec<String> = f.servers.iter().map(server).collect();
            let to = servers.join(" or ");
            let from = format!("{}:{}/{}", end(f.external), f.ports, f.protocol);
            format!("{from} -> {to}{}", clients(f.translate_as))
        }
    }
}

impl Answer for RulesAnswer {
    type Shape<'s> = &'s Self;

    fn shape(&self) -> &Self {
        self
    }

    fn columns(&self) -> &'static [&'static str] {
        &[
            "position",
            "device",
            "name",
            "type",
            "enabled",
            "from",
            "into",
            "source",
            "destination",
            "service",
            "becomes",
            "opened",
            "refused",
        ]
    }

    fn rows(&self, out: &mut dyn Write) -> io::Result<()> {
        let mut row = Row::default();
        for r in &self.rules {
            row.text(&r.position.to_string());
            row.text(&r.device);
            row.text(&r.name);
            row.text(r.r#type);
            row.flag(r.enabled);
            for list in [&r.from, &r.into, &r.source, &r.destination, &r.service] {
                row.text(&list.join(" "));
            }
            row.text(&r.becomes);
            for number in [r.opened, r.refused] {
                row.text(&number.map_or(String::new(), |n| n.to_string()));
            }
            row.write(out)?;
        }
        Ok(())
    }
}
