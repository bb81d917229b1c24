//! What is done to devices.

use std::path::Path;
use std::sync::Arc;

use zarnet_core::event::{Action, Clearing, Event};
use zarnet_core::limits;
use zarnet_core::net::{Instant, NotationError, Prefix, Protocol};
use zarnet_core::plan::field::Keys;
use zarnet_core::plan::{
    DeviceId, DevicePlan, InterfaceId, Place, Plan, PlanError, PoolId, RuleId,
};
use zarnet_core::traffic::Party;

use super::{Setting, known, needed_time};
use crate::files::ReadError;
use crate::plan::{LoadError, Loaded, load_after};
use crate::source::Sources;
use crate::toml_reader::{Reader, Text};
use crate::traffic::Fault;

/// An event of which is known when, where, and what kind.
struct Head<'a> {
    reader: Reader<'a>,
    at: Instant,
    device: DeviceId,
    action: Text,
}

/// A device that is described anew from some time on.
struct Successor {
    device: DeviceId,
    plan: Arc<Plan>,
    as_device: DeviceId,
}

/// Reads all events, in the order of their time: one behind another plan speaks of the device as
/// that describes it.
pub(super) fn read_all(
    readers: Vec<Reader<'_>>,
    setting: &Setting<'_>,
    plan_files: &mut Sources,
) -> Vec<(Event, Place)> {
    let mut heads: Vec<Head<'_>> = readers.into_iter().filter_map(|r| head(r, setting)).collect();
    // a stable sort: what happens at one time happens in the order of the file
    heads.sort_by_key(|h| h.at);
    let (mut successors, mut events): (Vec<Successor>, Vec<_>) = (Vec::new(), Vec::new());
    for Head { reader, at, device, action } in heads {
        let described = successors.iter().rev().find(|s| s.device == device);
        let (plan, described) =
            described.map_or((setting.plan, device), |s| (&*s.plan, s.as_device));
        if successors.len() >= limits::TAKEOVERS && action.value == "plan" {
            let most = limits::TAKEOVERS;
            setting.refuse(
                Fault::Scenario(format!("more than {most} events with another plan")),
                reader.place,
            );
            break;
        }
        let action = match action.value.as_str() {
            "plan" => successor(&reader, setting, device, plan_files).map(|(plan, as_device)| {
                successors.push(Successor { device, plan: plan.clone(), as_device });
                Action::Plan(plan, as_device)
            }),
            _ => read_action(&reader, &action, &plan.devices[described.index()], setting),
        };
        events.extend(action.map(|action| (Event { at, device, action }, reader.place)));
        reader.finish();
    }
    events
}

fn head<'a>(reader: Reader<'a>, setting: &Setting<'_>) -> Option<Head<'a>> {
    let r = &reader;
    let at = needed_time(r, "at", setting).map(Instant);
    let action = r.needed("do");
    let devices = || setting.plan.devices.iter().map(|d| d.name.as_str());
    let device = match (r.text("device"), setting.plan.devices.len()) {
        (Some(name), _) => known(r, "device", &name, devices()).map(DeviceId),
        (None, 1) => Some(DeviceId(0)),
        (None, _) => {
            let table = "an event in a plan of several devices".into();
            r.report(PlanError::MissingKey { key: "device", table }, r.place);
            None
        }
    };
    let ((at, device), action) = at.zip(device).zip(action)?;
    Some(Head { reader, at, device, action })
}

fn read_action(
    r: &Reader<'_>,
    action: &Text,
    of: &DevicePlan,
    setting: &Setting<'_>,
) -> Option<Action> {
    let rule = |t: &Text| known(r, "rule", t, of.rules.iter().map(|r| r.name.as_str())).map(RuleId);
    match action.value.as_str() {
        "disable" => Some(Action::Disable(rule(&r.needed("rule")?)?)),
        "enable" => Some(Action::Enable(rule(&r.needed("rule")?)?)),
        "restart" => Some(Action::Restart),
        "lease" => lease(r, of, setting),
        "clear" => {
            let mut clearing = Clearing::default();
            if let Some(text) = r.text("rule") {
                clearing.rule = Some(rule(&text)?);
            }
            if let Some(text) = r.text("pool") {
                let names = of.pools.iter().map(|p| p.name.as_str());
                clearing.pool = Some(known(r, "pool", &text, names).map(PoolId)?);
            }
            if let Some(text) = r.text("protocol") {
                let wrong = |e: NotationError| r.report(e.into(), text.place);
                clearing.protocol = Some(text.value.parse::<Protocol>().map_err(wrong).ok()?);
            }
            if let Some(text) = r.text("host") {
                let names = setting.names;
                let party =
                    names.party(&text.value).map_err(|f| setting.refuse(f, text.place)).ok()?;
                let address = names.address(party);
                if matches!(party, Party::Device(_) | Party::Interface(..)) || address.is_none() {
                    setting.refuse(Fault::UnknownName { name: text.value, near: None }, text.place);
                    return None;
                }
                clearing.host = address;
            }
            Some(Action::Clear(clearing))
        }
        value => {
            let valid = "`disable`, `enable`, `clear`, `lease`, `restart`, `plan`".into();
            r.report(
                PlanError::UnknownValue { key: "do", value: value.into(), near: None, valid },
                action.place,
            );
            None
        }
    }
}

/// Another address for an interface that may get one.
fn lease(r: &Reader<'_>, of: &DevicePlan, setting: &Setting<'_>) -> Option<Action> {
    let (interface, address) = (r.needed("interface"), r.needed("address"));
    let (interface, text) = interface.zip(address)?;
    let id = InterfaceId(known(
        r,
        "interface",
        &interface,
        of.interfaces.iter().map(|i| i.name.as_str()),
    )?);
    if !of.interfaces[id.index()].lease {
        let error = format!(
            "`{}` has no lease (write `lease = true` where its address is assigned to it)",
            interface.value
        );
        setting.refuse(Fault::Scenario(error), interface.place);
        return None;
    }
    let wrong = |e: NotationError| r.report(e.into(), text.place);
    let (address, prefix) = Prefix::parse_with_address(text.value.trim()).map_err(wrong).ok()?;
    Some(Action::Lease(id, address, prefix))
}

/// The plan that takes over, and which of its devices it is.
fn successor(
    r: &Reader<'_>,
    setting: &Setting<'_>,
    device: DeviceId,
    plan_files: &mut Sources,
) -> Option<(Arc<Plan>, DeviceId)> {
    let file = r.needed("file")?;
    let path = setting.name.parent().unwrap_or(Path::new("")).join(&file.value);
    let refuse = |why: String| setting.refuse(Fault::Scenario(why), file.place);
    let shown = path.display();
    let plan = match setting.reach.check(&path) {
        Ok(()) => load_after(&path, setting.reach.clone(), std::mem::take(plan_files)),
        Err(error) => Err(LoadError::Unreadable { path: path.clone(), error }),
    };
    let plan = match plan {
        Ok(Loaded { plan, sources, .. }) => {
            *plan_files = sources;
            plan
        }
        Err(LoadError::Unreadable { error: ReadError::Outside(_), .. }) => {
            refuse(format!(
                "the plan {shown} lies outside of the scenario's folder (--allow-outside allows it)"
            ));
            return None;
        }
        Err(LoadError::Unreadable { error, .. }) => {
            refuse(format!("the plan {shown} cannot be read: {error}"));
            return None;
        }
        Err(LoadError::Problems { problems, .. }) => {
            let first = problems.kept().first().map(|p| p.error.to_string()).unwrap_or_default();
            let count = problems.count();
            refuse(format!(
                "the plan {shown} has {count} errors, first: {first} (`zarnet check {shown}` \
                 shows them)"
            ));
            return None;
        }
    };
    let name = &setting.plan.devices[device.index()].name;
    let found = plan.device(name).or((plan.devices.len() == 1).then_some(DeviceId(0)));
    if found.is_none() {
        refuse(format!("the plan {} has no device `{name}`", path.display()));
    }
    found.map(|id| (Arc::new(plan), id))
}
