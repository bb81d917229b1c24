//! New rules, a function a type.

use zarnet_core::plan::edit::{Edit, List, Value};
use zarnet_core::plan::{self, RuleKind};

use super::{Fields, PlanEditor, RuleOptions, fresh_name, one_or_more};
use crate::AskError;

/// Text that may be left out, as a value.
fn text(text: Option<&str>) -> Option<Value> {
    text.map(Value::from)
}

impl PlanEditor<'_> {
    /// A static rule: one internal address, range or prefix is one external one of the same size.
    /// The external end `next` is the lowest that is free.
    ///
    /// # Errors
    /// The external end is not free or of another size, or the name is taken.
    pub fn static_rule(
        self,
        internal: &str,
        external: &str,
        (direction, translate_as): (Option<&str>, Option<&str>),
        options: &RuleOptions,
    ) -> Result<Vec<Edit>, AskError> {
        let external = self.external(external, internal)?;
        if options.service.is_empty() {
            self.check_not_own(&external)?;
        }
        let fields = vec![
            ("internal", Some(internal.into())),
            ("external", Some(external.as_str().into())),
            ("direction", text(direction)),
            ("as", text(translate_as)),
        ];
        self.rule(
            "static",
            &internal.replace(['/', ':'], "-"),
            fields,
            options,
            Some(&external),
            true,
        )
    }

    /// A rule that hands out whole addresses of a pool.
    ///
    /// # Errors
    /// The name of the rule is taken.
    pub fn pool_rule(
        self,
        pool: &str,
        when_exhausted: Option<&str>,
        options: &RuleOptions,
    ) -> Result<Vec<Edit>, AskError> {
        let fields = vec![("as", Some(pool.into())), ("when-exhausted", text(when_exhausted))];
        self.rule("pool", &format!("{pool}-out"), fields, options, None, false)
    }

    /// A rule that shares the addresses of a target by port.
    ///
    /// # Errors
    /// The target is an address that is not free, or the name is taken.
    pub fn overload_rule(
        self,
        target: &str,
        when_exhausted: Option<&str>,
        options: &RuleOptions,
    ) -> Result<Vec<Edit>, AskError> {
        let target = self.external_for(target, "", true)?;
        let fields =
            vec![("as", Some(target.as_str().into())), ("when-exhausted", text(when_exhausted))];
        self.rule("overload", &format!("{target}-out"), fields, options, Some(&target), false)
    }

    /// A rule that leads ports of an external address to servers inside. An external end that
    /// begins with `next:` is the lowest free address.
    ///
    /// # Errors
    /// The external address is not free, or the name is taken.
    pub fn forward_rule(
        self,
        external: &str,
        internal: &[String],
        (spread, translate_as): (Option<&str>, Option<&str>),
        options: &RuleOptions,
    ) -> Result<Vec<Edit>, AskError> {
        let external = match external.split_once(':') {
            Some(("next", rest)) => format!("{}:{rest}", self.external("next", "")?),
            _ => external.to_owned(),
        };
        if options.with_access && !external.contains('/') {
            let help = "write it as END:PORT/PROTOCOL".to_owned();
            let message = "--with-access needs the port and protocol, not the name of a service";
            return Err(AskError::new("options-contradict", message, help));
        }
        self.check_port(&external, options.source.is_empty())?;
        let fields = vec![
            ("external", Some(external.as_str().into())),
            ("internal", one_or_more(internal)),
            ("spread", text(spread)),
            ("as", text(translate_as)),
        ];
        let first = internal.first().map_or("", String::as_str).replace(['/', ':'], "-");
        let address = external.rsplit_once(':').map_or(external.as_str(), |e| e.0).to_owned();
        self.rule("forward", &first, fields, options, Some(&address), true)
    }

    /// A rule that leaves what it matches untranslated.
    ///
    /// # Errors
    /// The name of the rule is taken.
    pub fn exempt_rule(self, options: &RuleOptions) -> Result<Vec<Edit>, AskError> {
        self.rule("exempt", "exempt", Vec::new(), options, None, true)
    }

    /// A rule with its own fields and those of every rule, and with what it needs besides.
    fn rule(
        &self,
        kind: &'static str,
        name: &str,
        own: Vec<(&'static str, Option<Value>)>,
        rule: &RuleOptions,
        external: Option<&str>,
        first: bool,
    ) -> Result<Vec<Edit>, AskError> {
        let taken = |n: &str| self.device.rules.iter().any(|r| r.name == n);
        let name = match &rule.name {
            Some(given) => {
                self.check_name(given)?;
                given.clone()
            }
            None => fresh_name(name, taken),
        };
        let mut fields: Fields = vec![("name", name.as_str().into()), ("type", kind.into())];
        fields.extend(own.into_iter().filter_map(|(key, value)| Some((key, value?))));
        let lists = [
            ("source", &rule.source),
            ("destination", &rule.destination),
            ("service", &rule.service),
            ("from", &rule.from),
            ("into", &rule.into),
            ("hairpin", &rule.hairpin),
        ];
        fields.extend(lists.into_iter().filter_map(|(key, list)| Some((key, one_or_more(list)?))));
        fields.extend(rule.limit.map(|l| ("limit", Value::Number(l.into()))));
        fields.extend(rule.note.as_deref().map(|n| ("note", n.into())));
        fields.extend(rule.disabled.then_some(("enabled", Value::Flag(false))));
        fields.extend(rule.log.as_deref().map(|what| ("log", what.into())));
        let before = self.before(rule.before.as_deref(), first)?;
        let mut edits = vec![Edit::Insert(self.id, List::Rules, before, fields.clone())];
        if rule.with_access {
            edits.extend(self.access(kind, &fields, external)?);
        }
        Ok(edits)
    }

    /// The rule that it is listed before.
    fn before(&self, before: Option<&str>, first: bool) -> Result<Option<usize>, AskError> {
        if let Some(name) = before {
            return self.named(name).map(|r| Some(r.index()));
        }
        let dynamic =
            |r: &plan::Rule| matches!(r.kind, RuleKind::Pool { .. } | RuleKind::Overload { .. });
        Ok(self.device.rules.iter().position(dynamic).filter(|_| first))
    }
}
