//! What `zarnet define` was asked to change, as edits of the plan.

use zarnet_analysis::AskError;
use zarnet_analysis::define::{PlanEditor, RuleOptions};
use zarnet_core::plan::edit::Edit;

use crate::args::{Rule, What};

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
        What::Copy { rule, name, external, internal, source } => {
            let other = (external.as_deref(), internal.as_deref(), source.as_deref());
            editor.copy_rule(rule, name, other)
        }
        What::Enable { rule } => editor.enable(rule),
        What::Disable { rule } => editor.disable(rule),
        What::Move { rule, before } => editor.move_rule(rule, before),
        What::Remove { rule } => editor.remove(rule),
        What::Addresses { name, elements } => Ok(editor.group(name, elements)),
        What::AddressPool { name, addresses, pick } => {
            editor.address_pool(name, addresses, pick.as_deref())
        }
        What::AnswersFor { address, interface } => {
            editor.answers_for(address, interface.as_deref())
        }
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
