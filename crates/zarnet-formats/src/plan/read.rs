//! The keys of a plan file, table by table.

use zarnet_core::plan::{
    BehaviourDraft, Draft, DraftAcl, DraftAclEntry, DraftDevice, DraftExpect, DraftHost,
    DraftInterface, DraftPolicy, DraftPool, DraftRoute, DraftRule, DraftSeenBy, DraftSegment,
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
    draft.segments.extend(root.tables("segment", "a segment").into_iter().filter_map(segment));
    draft.hosts.extend(root.tables("host", "a host").into_iter().filter_map(host));
    draft.devices.extend(root.tables("device", "a device").into_iter().filter_map(device));
    draft.expects.extend(root.tables("expect", "an expectation").into_iter().filter_map(expect));
    for check in root.tables("check", "settings of `check`") {
        draft.allow.extend(check.texts("allow").unwrap_or_default());
        draft.deny.extend(check.texts("deny").unwrap_or_default());
        check.finish();
    }
    let includes = root.texts("include").unwrap_or_default();
    root.finish();
    includes
}

fn segment(r: Reader<'_>) -> Option<DraftSegment> {
    let name = r.needed("name");
    let internet = r.flag("internet", false);
    let checks_source = r.placed_flag("checks-source", false);
    r.prose("note");
    let mut routed = Vec::new();
    for route in r.tables("routed", "a routed prefix") {
        routed.extend(route.needed("to").zip(route.needed("via")));
        route.finish();
    }
    let place = r.place;
    r.finish();
    Some(DraftSegment { place, name: name?, internet, checks_source, routed })
}

fn host(r: Reader<'_>) -> Option<DraftHost> {
    let (name, address) = (r.needed("name"), r.needed("address"));
    let (gateway, listens, segment) = (r.text("gateway"), r.texts("listens"), r.text("segment"));
    r.prose("note");
    let place = r.place;
    r.finish();
    Some(DraftHost { place, name: name?, address: address?, gateway, listens, segment })
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
    let forwarding = r.flag("forwarding", true);
    let timers = if r.is_table("timers") {
        r.settings("timers")
    } else {
        r.text("timers").map(|_| Vec::new())
    };
    let interfaces =
        r.tables("interface", "an interface").into_iter().filter_map(interface).collect();
    let routes = r.tables("route", "a route").into_iter().filter_map(route).collect();
    let acls = r.tables("acl", "a filter").into_iter().filter_map(acl).collect();
    let policies = r.tables("policy", "a policy entry").into_iter().map(policy).collect();
    let pools = r.tables("pool", "a pool").into_iter().filter_map(pool).collect();
    let rules = r.tables("rule", "a rule").into_iter().filter_map(rule).collect();
    let place = r.place;
    r.finish();
    let timers = timers.unwrap_or_default();
    Some(DraftDevice {
        place,
        name: name?,
        behaviour,
        default_policy,
        forwarding,
        timers,
        interfaces,
        routes,
        acls,
        policies,
        pools,
        rules,
    })
}

fn interface(r: Reader<'_>) -> Option<DraftInterface> {
    let name = r.needed("name");
    let address = r.texts("address");
    if address.is_none() {
        r.needed("address");
    }
    let (realm, segment) = (r.text("realm"), r.text("segment"));
    let (lease, ping) = (r.flag("lease", false), r.flag("ping", true));
    let (also, proxy_arp) =
        (r.texts("also").unwrap_or_default(), r.texts("proxy-arp").unwrap_or_default());
    let services = r.texts("services").unwrap_or_default();
    let (ingress_acl, egress_acl) = (r.text("ingress-acl"), r.text("egress-acl"));
    r.prose("note");
    let place = r.place;
    r.finish();
    let address = address.unwrap_or_default();
    Some(DraftInterface {
        place,
        name: name?,
        realm,
        segment,
        address,
        lease,
        also,
        proxy_arp,
        ping,
        services,
        ingress_acl,
        egress_acl,
    })
}

fn route(r: Reader<'_>) -> Option<DraftRoute> {
    let (to, via) = (r.needed("to"), r.needed("via"));
    let (source, from) = (r.texts("source"), r.texts("from"));
    r.prose("note");
    let place = r.place;
    r.finish();
    Some(DraftRoute { place, to: to?, via: via?, source, from })
}

fn acl(r: Reader<'_>) -> Option<DraftAcl> {
    let name = r.needed("name");
    r.prose("note");
    let entries = r.tables("entries", "an entry of a filter").into_iter().map(acl_entry).collect();
    let place = r.place;
    r.finish();
    Some(DraftAcl { place, name: name?, entries })
}

fn acl_entry(r: Reader<'_>) -> DraftAclEntry {
    let (accept, drop) = (r.texts("accept"), r.texts("drop"));
    let (source, destination) = (r.texts("source"), r.texts("destination"));
    let source_service = r.texts("source-service");
    let answers = r.flag("answers", false);
    r.prose("note");
    let place = r.place;
    r.finish();
    DraftAclEntry { place, accept, drop, source, destination, source_service, answers }
}

fn policy(r: Reader<'_>) -> DraftPolicy {
    let (from, into) = (r.texts("from"), r.texts("into"));
    let (accept, drop) = (r.texts("accept"), r.texts("drop"));
    let (source, destination) = (r.texts("source"), r.texts("destination"));
    r.prose("note");
    let place = r.place;
    r.finish();
    DraftPolicy { place, from, into, accept, drop, source, destination }
}

fn pool(r: Reader<'_>) -> Option<DraftPool> {
    let name = r.needed("name");
    let addresses = r.texts("addresses");
    if addresses.is_none() {
        r.needed("addresses");
    }
    let (pick, usable) = (r.text("pick"), r.text("usable"));
    r.prose("note");
    let place = r.place;
    r.finish();
    Some(DraftPool { place, name: name?, addresses: addresses?, pick, usable })
}

fn rule(r: Reader<'_>) -> Option<DraftRule> {
    let (name, kind) = (r.needed("name"), r.needed("type"));
    let (enabled, log, note) = (r.flag("enabled", true), r.text_or_flag("log"), r.prose("note"));
    let (from, into) = (r.texts("from"), r.texts("into"));
    let (source, destination, service) =
        (r.texts("source"), r.texts("destination"), r.texts("service"));
    let (direction, limit) = (r.text("direction"), r.integer("limit"));
    let (internal, external) = (r.texts("internal"), r.text("external"));
    let (translate_as, when_exhausted) = (r.text("as"), r.text("when-exhausted"));
    let (spread, hairpin) = (r.text("spread"), r.texts("hairpin"));
    let place = r.place;
    r.finish();
    Some(DraftRule {
        place,
        name: name?,
        kind: kind?,
        enabled,
        note,
        log,
        from,
        into,
        source,
        destination,
        service,
        direction,
        limit,
        internal,
        external,
        translate_as,
        when_exhausted,
        spread,
        hairpin,
    })
}

fn expect(r: Reader<'_>) -> Option<DraftExpect> {
    let (flow, becomes, reaches) = (r.needed("flow"), r.text("becomes"), r.text("reaches"));
    let (reason, note) = (r.text("reason"), r.prose("note"));
    let flag = |key| r.has(key).then(|| r.flag(key, true));
    let (refused, unreachable) = (flag("refused"), flag("unreachable"));
    let seen_by = r.tables("seen-by", "a view").into_iter().filter_map(seen_by).collect();
    let place = r.place;
    r.finish();
    Some(DraftExpect {
        place,
        flow: flow?,
        becomes,
        reaches,
        refused,
        unreachable,
        reason,
        seen_by,
        note,
    })
}

fn seen_by(r: Reader<'_>) -> Option<DraftSeenBy> {
    let (at, source, destination) = (r.needed("at"), r.text("source"), r.text("destination"));
    let place = r.place;
    r.finish();
    Some(DraftSeenBy { place, at: at?, source, destination })
}
