//! Keys of a rule that is there: changed in place, or in a copy.

use zarnet_core::plan::edit::{Edit, Table, Value};
use zarnet_core::plan::field::RULE;
use zarnet_core::plan::nearest;

use super::{Fields, PlanEditor, one_or_more};
use crate::AskError;

/// Keys of a rule with new values. Empty means that the key stays as it is.
#[derive(Debug, Clone, Default)]
pub struct KeyOptions {
    /// What the rule does.
    pub kind: Option<String>,
    /// Internal end or ends.
    pub internal: Vec<String>,
    /// External end of a fixed rule.
    pub external: Option<String>,
    /// What senders are translated to.
    pub translate_as: Option<String>,
    /// What happens when that is used up.
    pub when_exhausted: Option<String>,
    /// How sessions are spread over several servers.
    pub spread: Option<String>,
    /// In which directions a static translates.
    pub direction: Option<String>,
    /// Senders that it is for.
    pub source: Vec<String>,
    /// Receivers that it is for.
    pub destination: Vec<String>,
    /// Services that it is for.
    pub service: Vec<String>,
    /// Realms or interfaces of its internal side.
    pub from: Vec<String>,
    /// Realms or interfaces of its external side.
    pub into: Vec<String>,
    /// Realms whose hosts may use its external end.
    pub hairpin: Vec<String>,
    /// Most mappings, or sessions of a fixed rule.
    pub limit: Option<u32>,
    /// What it is for.
    pub note: Option<String>,
    /// What of its translations is logged.
    pub log: Option<String>,
    /// Keys that are taken out, so that their defaults count.
    pub unset: Vec<String>,
}

impl PlanEditor<'_> {
    /// Changes keys of a rule in place.
    ///
    /// # Errors
    /// The device has no such rule, nothing is changed, a key to take out is unknown, or the
    /// external end is not free.
    pub fn change_rule(self, rule: &str, keys: &KeyOptions) -> Result<Vec<Edit>, AskError> {
        let table = Table::Rule(self.id, self.named(rule)?);
        let set = self.keys(keys)?.into_iter();
        let mut edits: Vec<Edit> =
            set.map(|(key, value)| Edit::Set(table, key.to_owned(), value)).collect();
        for key in &keys.unset {
            edits.push(Edit::Unset(table, known(key)?.to_owned()));
        }
        if edits.is_empty() {
            let help = "`zarnet define change --help` lists the keys".to_owned();
            return Err(AskError::new("nothing-to-do", "no key is given", help));
        }
        Ok(edits)
    }

    /// A copy of a rule under a new name, with other values of some keys. Its note stays with the
    /// rule that it was written for.
    ///
    /// # Errors
    /// The device has no such rule, the name is taken, or the external end is not free.
    pub fn copy_rule(
        self,
        rule: &str,
        name: &str,
        keys: &KeyOptions,
    ) -> Result<Vec<Edit>, AskError> {
        let from = self.named(rule)?;
        self.check_name(name)?;
        let mut fields: Fields = vec![("name", name.into())];
        fields.extend(self.keys(keys)?);
        let mut unset: Vec<&'static str> = Vec::new();
        for key in &keys.unset {
            unset.push(known(key)?);
        }
        if keys.note.is_none() {
            unset.push("note");
        }
        fields.retain(|f| !unset.contains(&f.0));
        Ok(vec![Edit::CloneRule(self.id, from, fields, unset)])
    }

    fn keys(&self, keys: &KeyOptions) -> Result<Fields, AskError> {
        let external = keys.external.as_deref().map(|e| self.external(e, "")).transpose()?;
        let texts = [
            ("type", keys.kind.as_ref()),
            ("external", external.as_ref()),
            ("as", keys.translate_as.as_ref()),
            ("when-exhausted", keys.when_exhausted.as_ref()),
            ("spread", keys.spread.as_ref()),
            ("direction", keys.direction.as_ref()),
            ("note", keys.note.as_ref()),
            ("log", keys.log.as_ref()),
        ];
        let lists = [
            ("internal", &keys.internal),
            ("source", &keys.source),
            ("destination", &keys.destination),
            ("service", &keys.service),
            ("from", &keys.from),
            ("into", &keys.into),
            ("hairpin", &keys.hairpin),
        ];
        let texts = texts.into_iter().filter_map(|(k, t)| Some((k, Value::from(t?.as_str()))));
        let lists = lists.into_iter().filter_map(|(k, l)| Some((k, one_or_more(l)?)));
        let limit = keys.limit.map(|l| ("limit", Value::Number(l.into())));
        Ok(texts.chain(lists).chain(limit).collect())
    }
}

/// A key of a rule, by its name.
fn known(key: &str) -> Result<&'static str, AskError> {
    let names = RULE.iter().map(|f| f.key);
    let found = names.clone().find(|k| *k == key && *k != "name" && *k != "type");
    found.ok_or_else(|| {
        let near = nearest(key, names).map(|n| format!("did you mean `{n}`?"));
        AskError::new("unknown-name", format!("a rule has no key `{key}` to take out"), near)
    })
}
