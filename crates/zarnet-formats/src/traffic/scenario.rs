//! Scenarios: flows and events in TOML.

use std::cell::RefCell;
use std::io::Read;

use zarnet_core::net::Protocol;
use zarnet_core::plan::{DeviceId, Plan, PlanError, PoolId, Problem, RuleId};
use zarnet_core::traffic::{Action, Clearing, Event, Flow, Party};

use super::fields::{COLUMNS, Context, Fields};
use super::{Fault, TrafficError};
use crate::source::{SourceFile, Sources};
use crate::toml_reader::{Problems, Reader, Text, parse, place};

/// No scenario is longer.
const LONGEST: u64 = 64 << 20;

/// A scenario that was read whole.
#[derive(Debug, Default)]
pub(super) struct Scenario {
    pub flows: Vec<Flow>,
    pub events: Vec<Event>,
}

/// Reads a scenario, or reports everything that is wrong with it.
pub(super) fn read(
    name: &std::path::Path,
    reader: Box<dyn Read + Send>,
    plan: &Plan,
    context: Context<'_>,
) -> Result<Scenario, Vec<TrafficError>> {
    let whole = |fault| vec![TrafficError { input: name.into(), line: None, fault }];
    let mut text = String::new();
    let read = reader.take(LONGEST).read_to_string(&mut text);
    read.map_err(|e| whole(Fault::Unreadable(e.to_string())))?;
    let problems: Problems = RefCell::default();
    let mut scenario = Scenario::default();
    let table = parse(0, &text, &problems);
    let root = Reader::new(0, table.get_ref(), place(0, 0..0), "a scenario", &problems);
    root.text("note");
    for flow in root.tables("flow", "a flow") {
        scenario.flows.extend(read_flow(flow, context));
    }
    for event in root.tables("event", "an event") {
        scenario.events.extend(read_event(event, plan, context));
    }
    root.finish();
    let problems = problems.into_inner();
    if problems.is_empty() {
        scenario.events.sort_by_key(|e| e.at);
        return Ok(scenario);
    }
    let sources = Sources(vec![SourceFile { path: name.into(), text: text.clone() }]);
    let error = |p: Problem| {
        let line = sources.line_column(p.place).map(|l| l.line as u64);
        let help = p.error.help().map(|h| format!(" ({h})")).unwrap_or_default();
        TrafficError { input: name.into(), line, fault: Fault::Scenario(format!("{}{help}", p.error)) }
    };
    Err(problems.into_iter().map(error).collect())
}

fn refuse(r: &Reader<'_>, fault: &Fault, at: zarnet_core::plan::Place) {
    let help = fault.help().map(|h| format!(" ({h})")).unwrap_or_default();
    r.report(PlanError::Syntax(format!("{fault}{help}")), at);
}

fn read_flow(r: Reader<'_>, context: Context<'_>) -> Option<Flow> {
    let mut fields = Fields::EMPTY;
    for (name, column) in COLUMNS {
        if let Some(text) = r.scalar(name)
            && let Err(fault) = fields.set(column, &text.value, context)
        {
            refuse(&r, &fault, text.place);
            return None;
        }
    }
    let flow = fields.flow(context).map_err(|fault| refuse(&r, &fault, r.place)).ok();
    r.finish();
    flow
}

fn read_event(r: Reader<'_>, plan: &Plan, context: Context<'_>) -> Option<Event> {
    let (at, action) = (r.scalar("at"), r.needed("do"));
    if at.is_none() {
        r.needed("at");
    }
    let device = r.text("device");
    let at = at.and_then(|t| context.clock.parse(&t.value).map_err(|f| refuse(&r, &f, t.place)).ok());
    let device = match (&device, plan.devices.len()) {
        (Some(name), _) => known(&r, "device", name, plan.device(&name.value)),
        (None, 1) => Some(DeviceId(0)),
        (None, _) => {
            r.report(
                PlanError::MissingKey { key: "device", table: "an event in a plan of several devices".into() },
                r.place,
            );
            None
        }
    };
    let action = device.zip(action.as_ref()).and_then(|(d, action)| read_action(&r, action, plan, d, context));
    // keys of the other actions are told as such
    let event = at.zip(device).zip(action).map(|((at, device), action)| Event { at, device, action });
    r.finish();
    event
}

fn read_action(r: &Reader<'_>, action: &Text, plan: &Plan, device: DeviceId, context: Context<'_>) -> Option<Action> {
    let of = &plan.devices[device.index()];
    let rule = |t: &Text| {
        let found = of.rules.iter().position(|r| r.name == t.value).map(|i| RuleId(i as u16));
        known(r, "rule", t, found)
    };
    match action.value.as_str() {
        "disable" => Some(Action::Disable(rule(&r.needed("rule")?)?)),
        "enable" => Some(Action::Enable(rule(&r.needed("rule")?)?)),
        "restart" => Some(Action::Restart),
        "clear" => {
            let mut clearing = Clearing::default();
            if let Some(text) = r.text("rule") {
                clearing.rule = Some(rule(&text)?);
            }
            if let Some(text) = r.text("pool") {
                let found = of.pools.iter().position(|p| p.name == text.value).map(|i| PoolId(i as u16));
                clearing.pool = Some(known(r, "pool", &text, found)?);
            }
            if let Some(text) = r.text("protocol") {
                let wrong = |e: zarnet_core::net::NotationError| r.report(e.into(), text.place);
                clearing.protocol = Some(text.value.parse::<Protocol>().map_err(wrong).ok()?);
            }
            if let Some(text) = r.text("host") {
                let party = context.names.party(&text.value).map_err(|f| refuse(r, &f, text.place)).ok()?;
                let address = context.names.address(party);
                if matches!(party, Party::Device(_)) || address.is_none() {
                    refuse(r, &Fault::UnknownName { name: text.value, near: None }, text.place);
                    return None;
                }
                clearing.host = address;
            }
            Some(Action::Clear(clearing))
        }
        value => {
            let valid = "`disable`, `enable`, `clear`, `restart`".into();
            r.report(PlanError::UnknownValue { key: "do", value: value.into(), near: None, valid }, action.place);
            None
        }
    }
}

fn known<T>(r: &Reader<'_>, what: &'static str, text: &Text, found: Option<T>) -> Option<T> {
    if found.is_none() {
        r.report(PlanError::UnknownName { what, name: text.value.clone(), near: None }, text.place);
    }
    found
}
