//! The tables of a plan file that are not made of their keys alone: the plan itself and devices.

use zarnet_core::plan::field::Keys;
use zarnet_core::plan::{
    BehaviourDraft, Draft, DraftAcl, DraftDevice, DraftExpect, DraftHost, DraftInterface,
    DraftPolicy, DraftPool, DraftRoute, DraftRule, DraftSegment,
};

use crate::toml_reader::{Collected, Reader, Text, parse, place};

/// Reads one file into the draft, and gives the files that it includes.
pub(super) fn file(number: u16, text: &str, draft: &mut Draft, problems: &Collected) -> Vec<Text> {
    let table = parse(number, text, problems);
    let root = Reader::new(number, table.get_ref(), place(number, 0..0), "a plan", problems);
    let title = root.text("plan");
    draft.title = draft.title.take().or(title);
    draft.addresses.extend(root.named("addresses"));
    draft.services.extend(root.named("services"));
    draft.segments.extend(all(&root, "segment", DraftSegment::WHAT, DraftSegment::read));
    draft.hosts.extend(all(&root, "host", DraftHost::WHAT, DraftHost::read));
    draft.devices.extend(all(&root, "device", "a device", device));
    draft.expects.extend(all(&root, "expect", DraftExpect::WHAT, DraftExpect::read));
    for check in root.tables("check", "settings of `check`") {
        draft.allow.extend(check.texts("allow").unwrap_or_default());
        draft.deny.extend(check.texts("deny").unwrap_or_default());
        check.finish();
    }
    let includes = root.texts("include").unwrap_or_default();
    root.finish();
    includes
}

/// The tables behind a key, each read; those that lack what they need are left out.
fn all<'a, T>(
    r: &Reader<'a>,
    key: &'static str,
    what: &'static str,
    read: impl Fn(Reader<'a>) -> Option<T>,
) -> Vec<T> {
    let tables = r.tables(key, what);
    // of very many rules, a list that grows is copied again and again
    let mut all = Vec::with_capacity(tables.len());
    all.extend(tables.into_iter().filter_map(read));
    all
}

fn device(r: Reader<'_>) -> Option<DraftDevice> {
    let name = r.needed("name");
    r.prose("note");
    let behaviour = if r.is_table("behaviour") {
        let mut settings = r.settings("behaviour").unwrap_or_default();
        let preset =
            settings.iter().position(|s| s.key.value == "preset").map(|i| settings.remove(i));
        BehaviourDraft { preset: preset.and_then(|p| p.values.into_iter().next()), settings }
    } else {
        BehaviourDraft { preset: r.text("behaviour"), settings: Vec::new() }
    };
    let default_policy = r.text("default-policy");
    let forwarding = r.flag_or("forwarding", true).value;
    let timers = if r.is_table("timers") {
        r.settings("timers")
    } else {
        r.text("timers").map(|_| Vec::new())
    };
    let interfaces = all(&r, "interface", DraftInterface::WHAT, DraftInterface::read);
    let routes = all(&r, "route", DraftRoute::WHAT, DraftRoute::read);
    let acls = all(&r, "acl", DraftAcl::WHAT, DraftAcl::read);
    let policies = all(&r, "policy", DraftPolicy::WHAT, DraftPolicy::read);
    let pools = all(&r, "pool", DraftPool::WHAT, DraftPool::read);
    let rules = all(&r, "rule", DraftRule::WHAT, DraftRule::read);
    let place = r.place();
    r.finish();
    Some(DraftDevice {
        place,
        name: name?,
        behaviour,
        default_policy,
        forwarding,
        timers: timers.unwrap_or_default(),
        interfaces,
        routes,
        acls,
        policies,
        pools,
        rules,
    })
}
