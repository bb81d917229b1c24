//! What `zarnet define` was asked to change, as edits of the plan.

use zarnet_analysis::AskError;
use zarnet_analysis::define::{
    InterfaceOptions, KeyOptions, PlanEditor, PolicyOptions, RuleOptions,
};
use zarnet_core::plan::edit::{Edit, Table};

use crate::args::{Keys, NamedSet, Rule, What};

/// The edits that a change comes to.
pub(super) fn edits(editor: PlanEditor<'_>, what: &What) -> Result<Vec<Edit>, AskError> {
    match what {
        What::Static { internal, external, direction, translate_as, rule } => {
            let how = (direction.as_deref(), translate_as.as_deref());
            editor.static_rule(internal, external, how, &options(rule))
        }
        What::Pool { pool, when_exhausted, rule } => {
            editor.pool_rule(pool, when_exhausted.as_deref(), &options(rule))
        }
        What::Overload { target, when_exhausted, rule } => {
            editor.overload_rule(target, when_exhausted.as_deref(), &options(rule))
        }
        What::Forward { external, internal, spread, translate_as, rule } => {
            let how = (spread.as_deref(), translate_as.as_deref());
            editor.forward_rule(external, internal, how, &options(rule))
        }
        What::Exempt { rule } => editor.exempt_rule(&options(rule)),
        What::Change { rule, keys } => editor.change_rule(rule, &key_options(keys)),
        What::Copy { rule, name, keys } => editor.copy_rule(rule, name, &key_options(keys)),
        What::Enable { rule } => editor.enable(rule),
        What::Disable { rule } => editor.disable(rule),
        What::Move { rule, before } => editor.move_rule(rule, before),
        What::Remove { rule } => editor.remove(rule),
        What::Addresses { set } => named_set(editor, Table::Groups, set),
        What::Services { set } => named_set(editor, Table::Services, set),
        What::Policy { from, into, accept, drop, source, destination, before } => {
            editor.policy(&PolicyOptions {
                from: from.clone(),
                into: into.clone(),
                accept: accept.clone(),
                drop: drop.clone(),
                source: source.clone(),
                destination: destination.clone(),
                before: *before,
            })
        }
        What::Interface { name, realm, segment, address, lease, ping, ingress_acl, egress_acl } => {
            editor.interface(
                name,
                &InterfaceOptions {
                    realm: realm.clone(),
                    segment: segment.clone(),
                    address: address.clone(),
                    lease: *lease,
                    ping: *ping,
                    ingress_acl: ingress_acl.clone(),
                    egress_acl: egress_acl.clone(),
                },
            )
        }
        What::Forwarding { state } => Ok(editor.forwarding(state == "on")),
        What::Route { to, via, source, from } => editor.route(to, via, (source, from)),
        What::AddressPool { name, addresses, pick } => {
            editor.address_pool(name, addresses, pick.as_deref())
        }
        What::AnswersFor { address, interface, by } => {
            editor.answers_for(address, interface.as_deref(), by)
        }
    }
}

fn named_set(editor: PlanEditor<'_>, table: Table, set: &NamedSet) -> Result<Vec<Edit>, AskError> {
    editor.named_set(table, &set.name, &set.elements, (&set.add, &set.drop))
}

fn key_options(keys: &Keys) -> KeyOptions {
    let Keys { source, destination, service, from, into, hairpin, internal, unset, .. } =
        keys.clone();
    KeyOptions {
        kind: keys.kind.clone(),
        internal,
        external: keys.external.clone(),
        translate_as: keys.translate_as.clone(),
        when_exhausted: keys.when_exhausted.clone(),
        spread: keys.spread.clone(),
        direction: keys.direction.clone(),
        source,
        destination,
        service,
        from,
        into,
        hairpin,
        limit: keys.limit,
        note: keys.note.clone(),
        log: keys.log.clone(),
        unset,
    }
}

fn options(rule: &Rule) -> RuleOptions {
    let Rule { name, source, destination, service, from, into, hairpin, .. } = rule.clone();
    RuleOptions {
        name,
        source,
        destination,
        service,
        from,
        into,
        hairpin,
        limit: rule.limit,
        note: rule.note.clone(),
        disabled: rule.disabled,
        log: rule.log.clone(),
        before: rule.place.before.clone(),
        with_access: rule.with_access,
    }
}
