//! What is kept against what would be found, and places against lists.

use std::collections::BTreeMap;

use proptest::prelude::*;

use super::*;
use crate::device::bindings::{Cause, ExternalEnd, NewMapping, Session};
use crate::device::testing::{Bench, OVERLOAD, key, plan};
use crate::net::Protocol;
use crate::plan::RuleId;

proptest! {
    /// Against lists, with ports that several mappings have.
    #[test]
    fn places_are_whose_lists_say(
        steps in proptest::collection::vec((any::<bool>(), 0u32..2, 0u16..3, 0usize..4), 0..120),
    ) {
        let mut places = Places::default();
        let mut model: BTreeMap<(u32, u16), Vec<u32>> = BTreeMap::new();
        for ((give, table, port, n), mapping) in steps.into_iter().zip(0..) {
            let list = model.entry((table, port)).or_default();
            if give {
                prop_assert_eq!(places.give(table, port, mapping), list.is_empty());
                list.push(mapping);
            } else if !list.is_empty() {
                let gone = list.remove(n % list.len());
                prop_assert_eq!(places.take_back(table, port, gone), list.is_empty());
            }
            for ((table, port), list) in &model {
                let others = places.others(*table, *port).iter().copied();
                let all: Vec<u32> =
                    places.first(*table, *port).into_iter().chain(others).collect();
                prop_assert_eq!(&all, list);
            }
        }
    }
}

/// A mapping of a port of its own on the outer interface, with one session.
fn open(bench: &mut Bench<()>, port: u16) -> (u32, u32) {
    let target = bench.compiled.targets.of(OVERLOAD).main.unwrap();
    let (freely, picked, class, block, random) = (false, true, 0, None, None);
    let (kind, address) = (Kind::Endpoint, key("203.0.113.1"));
    let external =
        ExternalEnd { kind, target, address, port, freely, picked, class, block, random };
    let (rule, protocol, peer) = (OVERLOAD, Protocol::UDP, (key("198.51.100.1"), 53));
    let internal = (key("10.0.0.5"), port);
    let new = NewMapping { rule, protocol, internal, peer, external };
    let mapping = bench.engine().open_mapping(0, &new);
    let mut session = Session::new(0, bench.compiled.timing(protocol, 53), mapping, 0);
    (session.remote, session.remote_port) = peer;
    (mapping, bench.engine().open_session(session, None, [Some(RuleId(rule)), None]))
}

/// Asked now and then the table is gone through, asked often it is kept: the answer is the
/// same, whatever opens and closes meanwhile.
#[test]
fn what_is_kept_is_what_would_be_found() {
    let mut bench = Bench::new(plan(), ());
    let mut living: BTreeMap<u16, (u32, u32)> = BTreeMap::new();
    let mut was_kept = [0; 2];
    for round in 0..60u16 {
        for port in (0..400).map(|n| 2000 + (n * 7 + round * 13) % 900) {
            match living.remove(&port) {
                None => drop(living.insert(port, open(&mut bench, port))),
                Some((_, session)) => {
                    bench.engine().close_session(session, 1, Cause::Expired);
                }
            }
        }
        let table = living.values().next().map(|l| bench.bindings.table.mapping(l.0).place());
        for port in (2000..2900).step_by(37) {
            let found: Vec<u32> = bench.bindings.mappings_at(table.unwrap(), port).collect();
            let wanted: Vec<u32> = living.get(&port).map(|l| l.0).into_iter().collect();
            assert_eq!(found, wanted, "port {port} in round {round}");
        }
        was_kept[usize::from(bench.bindings.by_port.kept.get().is_some())] += 1;
    }
    assert!(was_kept.iter().all(|rounds| *rounds > 3), "{was_kept:?}");
}
