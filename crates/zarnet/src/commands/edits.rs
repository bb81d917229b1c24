//! What `zarnet define` changes, as edits of the plan.

use crate::args::{Place, Rule, What};
use crate::exit::Failure;
use std::net::IpAddr;
use zarnet_core::net::{AddressRange, AddressSet, Prefix};
use zarnet_core::plan::edit::{Edit, List, Table, Value};
use zarnet_core::plan::{
    self, DeviceId, InterfaceId, Plan, RuleId, RuleKind, blocks, free_ranges, uses,
};

/// Keys of a new table, and their values.
type Fields = Vec<(&'static str, Value)>;

/// The plan that is written into.
pub(super) struct PlanEditor<'a> {
    pub(super) plan: &'a Plan,
    pub(super) id: DeviceId,
    pub(super) device: &'a plan::DevicePlan,
}

/// One value, or a list of several.
fn one_or_more(values: &[String]) -> Option<Value> {
    match values {
        [] => None,
        [one] => Some(one.as_str().into()),
        several => Some(Value::List(several.iter().map(|v| v.as_str().into()).collect())),
    }
}

/// A name that nobody has, made from another.
fn fresh_name(name: &str, taken: impl Fn(&str) -> bool) -> String {
    let mut names = std::iter::once(name.to_owned()).chain((2..).map(|n| format!("{name}-{n}")));
    names.find(|n| !taken(n)).unwrap_or_default()
}

impl PlanEditor<'_> {
    pub(super) fn edits(&self, what: &What) -> Result<Vec<Edit>, Failure> {
        let text = |o: &Option<String>| o.as_deref().map(Value::from);
        match what {
            What::Static { internal, external, direction, translate_as, rule } => {
                let external = self.external(external, internal)?;
                let fields = vec![
                    ("internal", Some(internal.as_str().into())),
                    ("external", Some(external.as_str().into())),
                    ("direction", text(direction)),
                    ("as", text(translate_as)),
                ];
                let name = rule.name.clone().unwrap_or_else(|| internal.replace(['/', ':'], "-"));
                self.rule("static", &name, fields, rule, Some(&external), true)
            }
            What::Pool { pool, when_exhausted, rule } => {
                let fields = vec![
                    ("as", Some(pool.as_str().into())),
                    ("when-exhausted", text(when_exhausted)),
                ];
                self.rule(
                    "pool",
                    &rule.name.clone().unwrap_or_else(|| format!("{pool}-out")),
                    fields,
                    rule,
                    None,
                    false,
                )
            }
            What::Overload { target, when_exhausted, rule } => {
                let target = self.external(target, "")?;
                let fields = vec![
                    ("as", Some(target.as_str().into())),
                    ("when-exhausted", text(when_exhausted)),
                ];
                self.rule(
                    "overload",
                    &rule.name.clone().unwrap_or_else(|| format!("{target}-out")),
                    fields,
                    rule,
                    Some(&target),
                    false,
                )
            }
            What::Forward { external, internal, spread, translate_as, rule } => {
                let external = match external.split_once(':') {
                    Some(("next", rest)) => format!("{}:{rest}", self.external("next", "")?),
                    _ => external.clone(),
                };
                let fields = vec![
                    ("external", Some(external.as_str().into())),
                    ("internal", one_or_more(internal)),
                    ("spread", text(spread)),
                    ("as", text(translate_as)),
                ];
                let first = internal.first().map_or("", String::as_str);
                let name = rule.name.clone().unwrap_or_else(|| first.replace(['/', ':'], "-"));
                let address =
                    external.rsplit_once(':').map_or(external.as_str(), |e| e.0).to_owned();
                self.rule("forward", &name, fields, rule, Some(&address), true)
            }
            What::Exempt { rule } => self.rule(
                "exempt",
                &rule.name.clone().unwrap_or_else(|| "exempt".to_owned()),
                Vec::new(),
                rule,
                None,
                true,
            ),
            What::Copy { rule, name, external, internal, source } => {
                let from = self.named(rule)?;
                self.check_name(name)?;
                let mut keys: Fields = vec![("name", name.as_str().into())];
                let external = external.as_deref().map(|e| self.external(e, "")).transpose()?;
                keys.extend(external.map(|e| ("external", e.as_str().into())));
                keys.extend(internal.as_deref().map(|i| ("internal", i.into())));
                keys.extend(source.as_deref().map(|s| ("source", s.into())));
                Ok(vec![Edit::CloneRule(self.id, from, keys)])
            }
            What::Enable { rule } => {
                let rule = self.named(rule)?;
                Ok(vec![Edit::Unset(Table::Rule(self.id, rule), "enabled".to_owned())])
            }
            What::Disable { rule } => {
                let rule = self.named(rule)?;
                Ok(vec![Edit::Set(
                    Table::Rule(self.id, rule),
                    "enabled".to_owned(),
                    Value::Flag(false),
                )])
            }
            What::Move { rule, before } => {
                let (rule, before) = (self.named(rule)?, self.named(before)?);
                if rule.index() <= before.index() {
                    let help = "it is before it already; move the other one".to_owned();
                    return Err(Failure::wrong(
                        "already-so",
                        "the rule is not listed behind the other one",
                        help,
                    ));
                }
                Ok(vec![Edit::MoveRule(self.id, rule, before)])
            }
            What::Remove { rule } => Ok(vec![Edit::RemoveRule(self.id, self.named(rule)?)]),
            What::Addresses { name, elements } => {
                let values = Value::List(elements.iter().map(|e| e.as_str().into()).collect());
                Ok(vec![Edit::Group(name.clone(), values)])
            }
            What::AddressPool { name, addresses, pick } => {
                self.address_pool(name, addresses, pick.as_deref())
            }
            What::AnswersFor { address, interface } => {
                self.answers_for(address, interface.as_deref())
            }
        }
    }

    fn named(&self, name: &str) -> Result<RuleId, Failure> {
        let found = self.device.rules.iter().position(|r| r.name == name);
        found.map(|n| RuleId(n as u16)).ok_or_else(|| {
            let names: Vec<&str> = self.device.rules.iter().map(|r| r.name.as_str()).collect();
            let near =
                plan::nearest(name, names.iter().copied()).map(|n| format!("did you mean `{n}`?"));
            let help =
                near.unwrap_or_else(|| format!("`{}` has {}", self.device.name, names.join(", ")));
            Failure::wrong("unknown-name", format!("there is no rule `{name}`"), help)
        })
    }

    fn check_name(&self, name: &str) -> Result<(), Failure> {
        let taken = |n: &str| self.device.rules.iter().any(|r| r.name == n);
        if !taken(name) {
            return Ok(());
        }
        let help = format!("`{}` is free", fresh_name(name, taken));
        Err(Failure::wrong(
            "duplicate-name",
            format!("`{}` has a rule `{name}` already", self.device.name),
            help,
        ))
    }

    /// The free addresses of the device, lowest first.
    fn free(&self) -> AddressSet {
        free_ranges(self.plan, self.id).into_iter().collect()
    }

    /// An external end as it is to be written: `next` becomes the lowest free address, or range of
    /// the size of `internal`.
    fn external(&self, text: &str, internal: &str) -> Result<String, Failure> {
        let count = AddressRange::parse(internal).map_or(1, |r| r.0.count());
        let next = || {
            let free = self.free();
            let room = free.ranges().find(|r| r.count() >= count)?;
            let last = room.nth(count - 1)?;
            AddressRange::new(room.first(), last).ok().map(|r| r.to_string())
        };
        if text == "next" {
            return next().ok_or_else(|| {
                let help = "`zarnet addresses` lists who uses them".to_owned();
                Failure::wrong(
                    "no-free-address",
                    format!("no {count} external addresses in a row are free"),
                    help,
                )
            });
        }
        let Ok((range, _)) = AddressRange::parse(text) else { return Ok(text.to_owned()) };
        // sizes that differ are told with the next that fits
        if !internal.is_empty() && AddressRange::parse(internal).is_ok() && range.count() != count {
            let help = next().map_or("make both ends the same size".to_owned(), |n| {
                format!("the next free one of that size is {n}")
            });
            let message = format!("{internal} has {count} addresses, {text} has {}", range.count());
            return Err(Failure::wrong("sizes-differ", message, help));
        }
        for block in blocks(self.plan) {
            let user = uses(self.plan, &block).into_iter().find(|(part, what)| {
                let own = matches!(what, plan::Use::Interface(d, _) if *d == self.id);
                !own && part.first() <= range.last() && range.first() <= part.last()
            });
            if let Some((part, what)) = user {
                let help = next().map_or("`zarnet addresses` lists what is free".to_owned(), |n| {
                    format!("the next free one is {n}")
                });
                let message = format!("{text} is not free: {part} is {}", self.user(what));
                return Err(Failure::wrong("address-not-free", message, help));
            }
        }
        Ok(text.to_owned())
    }

    fn user(&self, what: plan::Use) -> String {
        let of = |d: DeviceId| &self.plan.devices[d.index()];
        match what {
            plan::Use::Network => "the network address of its link".to_owned(),
            plan::Use::Broadcast => "the broadcast address of its link".to_owned(),
            plan::Use::Interface(d, i) => {
                format!("the interface `{}` of `{}`", of(d).interfaces[i.index()].name, of(d).name)
            }
            plan::Use::NextHop => "somebody's router".to_owned(),
            plan::Use::Host(h) => format!("the host `{}`", self.plan.hosts[h.index()].name),
            plan::Use::Fixed(d, r) | plan::Use::Overload(d, r) => {
                format!("used by rule `{}`", of(d).rules[r.index()].name)
            }
            plan::Use::Pool(d, p) => format!("in pool `{}`", of(d).pools[p.index()].name),
        }
    }

    /// A rule with its own fields and those of every rule, and with what it needs besides.
    fn rule(
        &self,
        kind: &'static str,
        name: &str,
        own: Vec<(&'static str, Option<Value>)>,
        rule: &Rule,
        external: Option<&str>,
        first: bool,
    ) -> Result<Vec<Edit>, Failure> {
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
        let before = self.before(&rule.place, first)?;
        let mut edits = vec![Edit::Insert(self.id, List::Rules, before, fields.clone())];
        if rule.with_access {
            edits.extend(self.access(kind, &fields, external)?);
        }
        Ok(edits)
    }

    /// The rule that it is listed before.
    fn before(&self, place: &Place, first: bool) -> Result<Option<usize>, Failure> {
        if let Some(name) = &place.before {
            return self.named(name).map(|r| Some(r.index()));
        }
        let dynamic =
            |r: &plan::Rule| matches!(r.kind, RuleKind::Pool { .. } | RuleKind::Overload { .. });
        Ok(self.device.rules.iter().position(dynamic).filter(|_| first))
    }

    /// The policy entry that lets a rule's traffic pass, and the address that somebody must answer
    /// for.
    fn access(
        &self,
        kind: &str,
        fields: &Fields,
        external: Option<&str>,
    ) -> Result<Vec<Edit>, Failure> {
        let get = |key: &str| fields.iter().find(|f| f.0 == key).map(|f| f.1.clone());
        let (inside, outside) =
            (get("from").unwrap_or("internal".into()), get("into").unwrap_or("external".into()));
        let mut entry: Fields = Vec::new();
        match kind {
            "static" | "forward" => {
                entry.extend([("from", outside), ("into", inside)]);
                let ends = match get("internal") {
                    Some(Value::List(list)) => list,
                    one => one.into_iter().collect(),
                };
                // of a forward, ports are those behind it, where the policy looks at what is
                // translated
                let port_of = |v: &Value| {
                    if let Value::Text(t) = v {
                        t.rsplit_once(':').map(|p| p.1.to_owned())
                    } else {
                        None
                    }
                };
                let address = |v: &Value| match v {
                    Value::Text(t) => t.rsplit_once(':').map_or(t.clone(), |p| p.0.to_owned()),
                    _ => String::new(),
                };
                let protocol = match get("external") {
                    Some(Value::Text(t)) if kind == "forward" => {
                        t.rsplit_once('/').map(|p| p.1.to_owned())
                    }
                    _ => None,
                };
                let ports: Vec<String> = ends.iter().filter_map(port_of).collect();
                let service = match (protocol, ports.first()) {
                    (Some(protocol), Some(port)) => Value::Text(format!("{port}/{protocol}")),
                    _ => get("service").unwrap_or("any".into()),
                };
                entry.push(("accept", service));
                let hosts: Vec<String> = ends.iter().map(address).collect();
                entry.extend(one_or_more(&hosts).map(|d| ("destination", d)));
                entry.extend(get("source").map(|s| ("source", s)));
            }
            _ => {
                entry.extend([
                    ("from", inside),
                    ("into", outside),
                    ("accept", get("service").unwrap_or("any".into())),
                ]);
                entry.extend(get("source").map(|s| ("source", s)));
                entry.extend(get("destination").map(|d| ("destination", d)));
            }
        }
        let mut edits = vec![Edit::Insert(self.id, List::Policies, None, entry)];
        let range = external.and_then(|e| AddressRange::parse(e).ok()).map(|r| r.0);
        if let Some(range) = range
            && let Some(interface) = self.unheld(range)
        {
            edits.push(Edit::Append(
                Table::Interface(self.id, interface),
                "proxy-arp".to_owned(),
                range.to_string().into(),
            ));
        }
        Ok(edits)
    }

    /// The interface that would have to answer for addresses on its link, where it does not.
    fn unheld(&self, range: AddressRange) -> Option<InterfaceId> {
        if self.device.behaviour.answers_arp_for_translated {
            return None;
        }
        let on_link = |p: &(IpAddr, Prefix)| p.1.contains(range.first());
        let position =
            self.device.interfaces.iter().position(|i| i.addresses.iter().any(on_link))?;
        let interface = &self.device.interfaces[position];
        let held = interface.own().any(|a| range.contains(a))
            || interface.proxy_arp.contains(range.first());
        (!held).then_some(InterfaceId(position as u16))
    }

    fn address_pool(
        &self,
        name: &str,
        addresses: &[String],
        pick: Option<&str>,
    ) -> Result<Vec<Edit>, Failure> {
        let taken = |n: &str| {
            self.device.pools.iter().any(|p| p.name == n)
                || self.device.interfaces.iter().any(|i| i.name == n)
        };
        if taken(name) {
            let help = format!("`{}` is free", fresh_name(name, taken));
            return Err(Failure::wrong(
                "duplicate-name",
                format!("`{}` has a pool or interface `{name}` already", self.device.name),
                help,
            ));
        }
        let mut list = Vec::new();
        for text in addresses {
            match text.parse::<u128>() {
                // a number is so many of what is free
                Ok(mut wanted) => {
                    for range in self.free().ranges() {
                        let part = range.count().min(wanted);
                        if let (true, Some(last)) = (part > 0, range.nth(part.saturating_sub(1))) {
                            list.extend(
                                AddressRange::new(range.first(), last).map(|r| r.to_string()),
                            );
                            wanted -= part;
                        }
                    }
                    if wanted > 0 {
                        let help = "`zarnet addresses` lists who uses them".to_owned();
                        return Err(Failure::wrong(
                            "no-free-address",
                            format!("{wanted} of {text} addresses are not free"),
                            help,
                        ));
                    }
                }
                Err(_) => list.push(self.external(text, "")?),
            }
        }
        let mut fields: Fields = vec![("name", name.into())];
        fields.extend(one_or_more(&list).map(|a| ("addresses", a)));
        fields.extend(pick.map(|p| ("pick", p.into())));
        Ok(vec![Edit::Insert(self.id, List::Pools, None, fields)])
    }

    fn answers_for(&self, address: &str, interface: Option<&str>) -> Result<Vec<Edit>, Failure> {
        let parsed = AddressRange::parse(address)
            .map_err(|e| Failure::wrong("notation", e.to_string(), None))?;
        let position = match interface {
            Some(name) => self.device.interfaces.iter().position(|i| i.name == name),
            None => self
                .device
                .interfaces
                .iter()
                .position(|i| i.addresses.iter().any(|p| p.1.contains(parsed.0.first()))),
        };
        let Some(position) = position else {
            let names: Vec<&str> = self.device.interfaces.iter().map(|i| i.name.as_str()).collect();
            let help = format!("--interface NAME; `{}` has {}", self.device.name, names.join(", "));
            return Err(Failure::wrong(
                "unknown-name",
                format!("no interface is meant for {address}"),
                help,
            ));
        };
        let table = Table::Interface(self.id, InterfaceId(position as u16));
        Ok(vec![Edit::Append(table, "proxy-arp".to_owned(), address.into())])
    }
}
