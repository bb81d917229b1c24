//! What two plans say otherwise, key by key: what no first packet shows, and what only looks
//! different.

use std::collections::{BTreeMap, HashMap, HashSet};

use foldhash::fast::RandomState;
use zarnet_core::plan::field::{
    DraftAcl, DraftHost, DraftInterface, DraftPool, DraftRule, DraftSegment, WrittenTable,
};
use zarnet_core::plan::{Described, DevicePlan, Draft, DraftDevice, Plan};

/// A key that the plans say otherwise.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ChangedSetting {
    /// The device; `None` for segments and hosts.
    pub device: Option<String>,
    /// What of it, as `rule kiosks-out`; empty for the device itself.
    pub item: String,
    /// The key; empty where the whole item is in one plan only.
    pub key: String,
    /// Its value before; empty where there is none.
    pub before: String,
    /// Its value after; empty where there is none.
    pub after: String,
    /// What the key means.
    pub meaning: &'static str,
}

/// Keys whose effect packets show; of every other key, a change is told as such.
const BY_PACKETS: [(&str, &[&str]); 6] = [
    (
        "rule",
        &[
            "type",
            "enabled",
            "from",
            "into",
            "source",
            "destination",
            "service",
            "direction",
            "internal",
            "external",
            "as",
            "spread",
            "hairpin",
        ],
    ),
    ("interface", &["realm", "address", "ping", "services", "ingress-acl", "egress-acl"]),
    ("pool", &["addresses", "pick", "usable"]),
    ("filter", &["entries"]),
    ("route", &[""]),
    ("policy entry", &[""]),
];

/// What the files of two plans say otherwise: settings that no first packet shows, and keys whose
/// effect packets show, if they have any.
pub(super) fn written(old: &Draft, new: &Draft) -> (Vec<ChangedSetting>, Vec<ChangedSetting>) {
    let mut all = Compared::default();
    all.named("segment", &old.segments, &new.segments);
    all.named("host", &old.hosts, &new.hosts);
    let there: HashMap<&str, &DraftDevice> =
        new.devices.iter().map(|d| (d.name.value.as_str(), d)).collect();
    for before in &old.devices {
        if let Some(after) = there.get(before.name.value.as_str()) {
            all.device = Some(before.name.value.clone());
            all.of_device(before, after);
        }
    }
    all.list.into_iter().partition(|c| !is_by_packets(c))
}

fn is_by_packets(changed: &ChangedSetting) -> bool {
    // entries for answers decide about no first packet
    if [&changed.before, &changed.after].iter().any(|t| t.contains("answers true")) {
        return false;
    }
    let is = |(kind, keys): &(&str, &[&str])| {
        let is_of = changed.item == *kind || changed.item.starts_with(&format!("{kind} "));
        is_of && (keys.contains(&changed.key.as_str()) || changed.key.is_empty())
    };
    BY_PACKETS.iter().any(is)
}

/// Behaviour and timers as they count, presets included.
pub(super) fn behaviour(old: &Plan, new: &Plan) -> Vec<ChangedSetting> {
    let mut list = Vec::new();
    let there = super::by_name(new);
    for before in &old.devices {
        let Some(after) = there.get(before.name.as_str()).map(|i| &new.devices[*i]) else {
            continue;
        };
        if before.behaviour == after.behaviour && before.timers == after.timers {
            continue;
        }
        let all = |d: &DevicePlan| -> Vec<Described> {
            d.behaviour.settings().into_iter().chain(d.timers.settings()).collect()
        };
        let (was, is) = (all(before), all(after));
        let meanings: BTreeMap<&String, &'static str> =
            was.iter().chain(&is).map(|s| (&s.key, s.meaning)).collect();
        let value = |of: &[Described], key: &str| {
            of.iter().find(|s| s.key == *key).map_or(String::new(), |s| s.value.clone())
        };
        for (key, meaning) in meanings {
            let (before_value, after_value) = (value(&was, key), value(&is, key));
            if before_value != after_value {
                list.push(ChangedSetting {
                    device: Some(before.name.clone()),
                    item: String::new(),
                    key: key.clone(),
                    before: before_value,
                    after: after_value,
                    meaning,
                });
            }
        }
    }
    list
}

#[derive(Default)]
struct Compared {
    device: Option<String>,
    list: Vec<ChangedSetting>,
}

/// A table with a name.
trait Named: WrittenTable {
    fn name(&self) -> &str;
}

macro_rules! named {
    ($($draft:ident)*) => {
        $(impl Named for $draft {
            fn name(&self) -> &str {
                &self.name.value
            }
        })*
    };
}

named! { DraftAcl DraftHost DraftInterface DraftPool DraftRule DraftSegment }

impl Compared {
    fn of_device(&mut self, old: &DraftDevice, new: &DraftDevice) {
        self.named("interface", &old.interfaces, &new.interfaces);
        self.named("filter", &old.acls, &new.acls);
        self.named("pool", &old.pools, &new.pools);
        self.named("rule", &old.rules, &new.rules);
        self.unnamed("route", &old.routes, &new.routes);
        self.unnamed("policy entry", &old.policies, &new.policies);
    }

    /// Tables with names: each against the one of its name.
    fn named<T: Named>(&mut self, kind: &str, old: &[T], new: &[T]) {
        let by_name: HashMap<&str, &T, RandomState> = new.iter().map(|n| (n.name(), n)).collect();
        let known: HashSet<&str, RandomState> = old.iter().map(Named::name).collect();
        for was in old {
            let Some(is) = by_name.get(was.name()) else {
                self.whole(&format!("{kind} {}", was.name()), "declared", "");
                continue;
            };
            // most of a plan stays as it is, and need not be put into words
            if was.says_as(is) {
                continue;
            }
            for ((field, before), (_, after)) in was.written().into_iter().zip(is.written()) {
                if before != after && field.key != "note" {
                    self.list.push(ChangedSetting {
                        device: self.device.clone(),
                        item: format!("{kind} {}", was.name()),
                        key: field.key.to_owned(),
                        before,
                        after,
                        meaning: field.meaning,
                    });
                }
            }
        }
        for is in new.iter().filter(|is| !known.contains(is.name())) {
            self.whole(&format!("{kind} {}", is.name()), "", "declared");
        }
    }

    /// Tables without names: those that only one of the plans has.
    fn unnamed<T: WrittenTable>(&mut self, kind: &str, old: &[T], new: &[T]) {
        if old.len() == new.len() && old.iter().zip(new).all(|(was, is)| was.says_as(is)) {
            return;
        }
        let text = |table: &T| {
            let told = table.written().into_iter();
            let told = told.filter(|(f, t)| *t != f.default && f.key != "note");
            told.map(|(f, t)| format!("{} {t}", f.key)).collect::<Vec<_>>().join(", ")
        };
        let (old, new): (Vec<String>, Vec<String>) =
            (old.iter().map(text).collect(), new.iter().map(text).collect());
        let (were, are): (HashSet<&String>, HashSet<&String>) =
            (old.iter().collect(), new.iter().collect());
        old.iter().filter(|t| !are.contains(t)).for_each(|t| self.whole(kind, t, ""));
        new.iter().filter(|t| !were.contains(t)).for_each(|t| self.whole(kind, "", t));
    }

    fn whole(&mut self, item: &str, before: &str, after: &str) {
        self.list.push(ChangedSetting {
            device: self.device.clone(),
            item: item.to_owned(),
            key: String::new(),
            before: before.to_owned(),
            after: after.to_owned(),
            meaning: "",
        });
    }
}
