//! A small device for the tests of single layers: one inner and one outer interface, a pool of two
//! addresses, and a rule of each kind.

use crate::ids::{InterfaceId, PoolId, SegmentId};
use crate::net::{AddressRange, AddressSet, ServiceSet};
use crate::plan::{
    DevicePlan, Direction, External, Fallback, Interface, InterfaceSet, Parties, Pick, Place, Pool,
    Preset, RealmSet, Rule, RuleKind, Static, Target, Timers, Verdict,
};

use super::bindings::{Bindings, Engine, Sink};
use super::compiled::{ActiveRules, Compiled};
use super::key::Key;

/// Overloads the outer interface's address.
pub(super) const OVERLOAD: u16 = 0;
/// Hands out the pool's addresses whole.
pub(super) const POOL: u16 = 1;
/// The pool again, by a second rule.
pub(super) const SECOND_POOL: u16 = 2;

fn interface(name: &str, address: &str, prefix: &str) -> Interface {
    Interface {
        name: name.to_owned(),
        realm: Some(name.to_owned()),
        segment: SegmentId(0),
        addresses: vec![(address.parse().unwrap(), prefix.parse().unwrap())],
        lease: false,
        also: Vec::new(),
        proxy_arp: AddressSet::default(),
        ping: true,
        services: ServiceSet::default(),
        ingress_acl: None,
        egress_acl: None,
        place: Place::default(),
    }
}

fn realm(interface: u16) -> RealmSet {
    let mut interfaces = InterfaceSet::default();
    interfaces.insert(InterfaceId(interface));
    RealmSet { names: Vec::new(), interfaces }
}

fn rule(name: &str, kind: RuleKind) -> Rule {
    Rule {
        name: name.to_owned(),
        kind,
        enabled: true,
        retired: false,
        note: None,
        log: Default::default(),
        from: realm(0),
        into: realm(1),
        parties: Parties { source: AddressSet::all(), destination: AddressSet::all() },
        service: ServiceSet::any(),
        limit: None,
        hairpin: RealmSet::default(),
        written: Default::default(),
        place: Place::default(),
    }
}

fn range(text: &str) -> AddressRange {
    AddressRange::parse(text).unwrap().0
}

/// The device as planned.
pub(super) fn plan() -> DevicePlan {
    let pool = Pool {
        name: "two".to_owned(),
        parts: vec![(range("203.0.113.10-203.0.113.11"), None)],
        pick: Pick::Lowest,
        usable_all: false,
        retired: false,
        place: Place::default(),
    };
    let whole = || RuleKind::Pool { pool: PoolId(0), fallback: Fallback::Drop };
    let fixed = Static {
        internal: range("10.0.0.9"),
        external: External::Range(range("203.0.113.9")),
        direction: Direction::Both,
        translate_as: None,
    };
    let overload =
        RuleKind::Overload { target: Target::Interface(InterfaceId(1)), fallback: Fallback::Drop };
    DevicePlan {
        name: "edge".to_owned(),
        behaviour: Preset::ALL[0].1.behaviour(),
        timers: Timers::default(),
        forwarding: true,
        default_policy: Verdict::Accept,
        default_policy_place: Place::default(),
        interfaces: vec![
            interface("inner", "10.0.0.1", "10.0.0.0/24"),
            interface("outer", "203.0.113.1", "203.0.113.0/24"),
        ],
        routes: Vec::new(),
        acls: Vec::new(),
        policies: Vec::new(),
        pools: vec![pool],
        rules: vec![
            rule("overload", overload),
            rule("pool", whole()),
            rule("second-pool", whole()),
            rule("static", RuleKind::Static(fixed)),
        ],
        place: Place::default(),
    }
}

/// A device with nothing in its table, and who is told of what happens to that.
pub(super) struct Bench<S> {
    pub compiled: Compiled,
    pub active: ActiveRules,
    pub bindings: Bindings,
    pub sink: S,
}

impl<S: Sink> Bench<S> {
    pub(super) fn new(plan: DevicePlan, sink: S) -> Self {
        let enabled = plan.rules.iter().map(|r| r.enabled).collect();
        let compiled = Compiled::new(
            plan.into(),
            &Default::default(),
            &AddressSet::default(),
            std::iter::empty(),
        );
        let active = ActiveRules::new(&compiled, enabled);
        let bindings = Bindings::new(&compiled, 0);
        Self { compiled, active, bindings, sink }
    }

    pub(super) fn engine(&mut self) -> Engine<'_, S> {
        let Self { compiled, active, bindings, sink } = self;
        Engine { compiled, active, bindings, sink }
    }
}

/// The key of an IPv4 address.
pub(super) fn key(text: &str) -> Key {
    Key::of(text.parse().unwrap()).unwrap()
}
