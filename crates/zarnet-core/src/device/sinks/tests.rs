//! Each sink on its own: events in, counters and series out.

use std::sync::Arc;

use super::counters::{EventCounters, UseCounters};
use super::{History, Supply};
use crate::device::bindings::{Cause, ExternalEnd, Kind, NewMapping, Session, Sink, TableEvent};
use crate::device::testing::{Bench, OVERLOAD, POOL, SECOND_POOL, key, plan};
use crate::net::{Instant, Protocol};
use crate::plan::{PoolId, RuleId};
use crate::reason::Reason;

const RULES: [Option<RuleId>; 2] = [Some(RuleId(OVERLOAD)), None];

/// Opens the mapping of a host on the outer interface, with a session under it.
fn open<S: Sink>(bench: &mut Bench<S>, at: u64, host: &str, port: u16) -> u32 {
    let target = bench.compiled.targets.of(OVERLOAD).main.unwrap();
    let (freely, picked, class, block, random) = (false, true, 0, None, None);
    let (kind, address) = (Kind::Endpoint, key("203.0.113.1"));
    let external =
        ExternalEnd { kind, target, address, port, freely, picked, class, block, random };
    let (internal, peer) = ((key(host), 4000), (key("198.51.100.1"), 53));
    let new = NewMapping { rule: OVERLOAD, protocol: Protocol::UDP, internal, peer, external };
    let mapping = bench.engine().open_mapping(at, &new);
    let mut session = Session::new(at, bench.compiled.timing(Protocol::UDP, 53), mapping, 0);
    (session.remote, session.remote_port) = peer;
    bench.engine().open_session(session, None, RULES)
}

#[test]
fn event_counters_tell_peaks_and_ends() {
    let mut bench = Bench::new(plan(), EventCounters::new(4));
    let first = open(&mut bench, 1, "10.0.0.5", 50_000);
    let second = open(&mut bench, 2, "10.0.0.6", 50_001);
    bench.engine().close_session(first, 3, Cause::Expired);
    bench.engine().close_session(second, 4, Cause::Cleared);
    open(&mut bench, 5, "10.0.0.7", 50_002);
    let counters = bench.sink.with(&bench.bindings);
    let rule = counters.rules[usize::from(OVERLOAD)];
    assert_eq!((rule.hits, rule.active, rule.expired, rule.cleared), (3, 1, 1, 1));
    assert_eq!((rule.created, rule.mappings), (3, 1));
    assert_eq!((rule.peak.count, rule.peak.at), (2, Instant(2)));
    assert_eq!((counters.created, counters.expired, counters.cleared), (3, 1, 1));
    assert_eq!((counters.peak_mappings.count, counters.peak_sessions.at), (2, Instant(2)));
}

#[test]
fn event_counters_tell_refusals_and_who_a_mapping_went_to() {
    let bench = Bench::new(plan(), ());
    let mut counters = EventCounters::new(4);
    let refused = |rule: Option<u16>, reason| TableEvent::Refused {
        rule: rule.map(RuleId),
        reason,
        targets: [None; 2],
        protocol: Protocol::TCP,
        source: "10.0.0.5".parse().unwrap(),
    };
    counters.note(1, refused(Some(POOL), Reason::PoolExhausted), &bench.bindings);
    counters.note(2, refused(Some(POOL), Reason::PoolExhausted), &bench.bindings);
    counters.note(3, refused(None, Reason::NoRoute), &bench.bindings);
    counters.note(
        4,
        TableEvent::MappingHandedOver { mapping: 0, from: POOL, to: SECOND_POOL },
        &bench.bindings,
    );
    let told = counters.with(&bench.bindings);
    assert_eq!((told.refused, told.rules[usize::from(POOL)].refused), (3, 2));
    assert_eq!(told.refused_by[&(Some(RuleId(POOL)), Reason::PoolExhausted)], 2);
    assert_eq!(told.refused_by[&(None, Reason::NoRoute)], 1);
    // made by the one, whoever has it now
    assert_eq!(told.rules[usize::from(POOL)].created, 1);
}

#[test]
fn use_counters_tell_addresses_and_pools() {
    let mut bench = Bench::new(plan(), UseCounters::new(2));
    let first = open(&mut bench, 1, "10.0.0.5", 50_000);
    open(&mut bench, 2, "10.0.0.6", 50_001);
    bench.engine().close_session(first, 3, Cause::Expired);
    let pool = bench.compiled.targets.of(POOL).main.unwrap();
    let (rule, reason, targets) = (Some(RuleId(POOL)), Reason::PoolExhausted, [Some(pool), None]);
    let (protocol, source) = (Protocol::TCP, "10.0.0.7".parse().unwrap());
    let refused = TableEvent::Refused { rule, reason, targets, protocol, source };
    bench.sink.note(4, refused, &bench.bindings);
    bench.sink.note(5, TableEvent::AddressTaken { target: pool, in_use: 2 }, &bench.bindings);
    let addresses = bench.sink.addresses(&bench.bindings);
    let [only] = addresses.as_slice() else { panic!("{addresses:?}") };
    assert_eq!(
        (only.address.to_string().as_str(), only.mappings, only.created),
        ("203.0.113.1", 1, 2)
    );
    assert_eq!((only.peak.count, only.peak.at), (2, Instant(2)));
    let pools = bench.sink.pools(&bench.compiled, &bench.bindings);
    assert_eq!(
        (pools[0].usable, pools[0].refused, pools[0].peak.count, pools[0].peak.at),
        (2, 1, 2, Instant(5))
    );
}

#[test]
fn history_tells_use_over_time() {
    let described = Bench::new(plan(), ()).compiled;
    let mut bench = Bench::new(plan(), History::new(Arc::new(described)));
    let first = open(&mut bench, 1, "10.0.0.5", 50_000);
    open(&mut bench, 2, "10.0.0.6", 50_001);
    bench.engine().close_session(first, 3, Cause::Expired);
    for supply in [Supply::Mappings, Supply::Sessions] {
        let series = bench.sink.of(supply).unwrap();
        assert_eq!((series.value(), series.peak.count, series.begun), (1, 2, 2), "{supply:?}");
    }
    let pool = bench.compiled.targets.of(POOL).main.unwrap();
    bench.sink.note(4, TableEvent::AddressTaken { target: pool, in_use: 2 }, &bench.bindings);
    let pool = bench.sink.of(Supply::Pool(PoolId(0))).unwrap();
    assert_eq!((pool.usable, pool.value(), pool.first_full), (Some(2), 2, Some(Instant(4))));
    let ports: Vec<_> =
        bench.sink.supplies().iter().filter(|s| matches!(s.0, Supply::Ports(..))).collect();
    assert_eq!(ports.len(), 1, "ports of one class on one address");
    assert_eq!((ports[0].1.value(), ports[0].1.begun), (1, 2));
}

/// Nobody who listens costs nothing: there is nothing to be told to.
#[test]
fn nobody_may_listen() {
    let mut bench = Bench::new(plan(), ());
    open(&mut bench, 1, "10.0.0.5", 50_000);
    assert_eq!(bench.bindings.table.mapping_count(), 1);
}
