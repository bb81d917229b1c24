//! Each door on its own: what it enters into the table, what it reports, and that closing gives
//! everything back.

use super::{ANSWERED, Cause, ExternalEnd, Kind, NONE, NewMapping, NewPort, Session, TableEvent};
use crate::device::key::{EndKey, Key};
use crate::device::testing::{Bench, OVERLOAD, POOL, SECOND_POOL, key, plan};
use crate::net::{Instant, Protocol};
use crate::plan::RuleId;

const S: u64 = 1_000_000_000;

/// A device whose events are kept.
fn bench() -> Bench<Vec<(u64, TableEvent)>> {
    Bench::new(plan(), Vec::new())
}

type TestBench = Bench<Vec<(u64, TableEvent)>>;

fn end(kind: Kind, target: u16, address: &str, port: u16) -> ExternalEnd {
    let (freely, picked, class, block, random) = (false, true, 0, None, None);
    ExternalEnd { kind, target, address: key(address), port, freely, picked, class, block, random }
}

/// The mapping of a host's port on the outer interface.
fn endpoint(bench: &TestBench, host: &str, port: u16, external: u16) -> NewMapping {
    let target = bench.compiled.targets.of(OVERLOAD).main.unwrap();
    NewMapping {
        rule: OVERLOAD,
        protocol: Protocol::UDP,
        internal: (key(host), port),
        peer: (key("198.51.100.1"), 53),
        external: end(Kind::Endpoint, target, "203.0.113.1", external),
    }
}

/// The mapping of a whole host on an address of the pool.
fn whole(bench: &TestBench, host: &str, address: &str) -> NewMapping {
    let target = bench.compiled.targets.of(POOL).main.unwrap();
    NewMapping {
        rule: POOL,
        protocol: Protocol::UDP,
        internal: (key(host), 0),
        peer: (key("198.51.100.1"), 53),
        external: end(Kind::Address, target, address, 0),
    }
}

/// The far end of first packets.
const PEER_PORT: u16 = 53;

fn peer() -> EndKey {
    (key("198.51.100.1"), PEER_PORT)
}

/// A session to a peer under a mapping, as its first packet makes it.
fn session(bench: &TestBench, at: u64, owner: u32, peer: u16) -> Session {
    let mut session = Session::new(at, bench.compiled.timing(Protocol::UDP, peer), owner, ANSWERED);
    (session.remote, session.remote_port) = (key("198.51.100.1"), peer);
    session
}

/// What was reported since it was last asked for.
fn reported(bench: &mut TestBench) -> Vec<(u64, TableEvent)> {
    std::mem::take(&mut bench.sink)
}

fn rules(rule: u16) -> [Option<RuleId>; 2] {
    [Some(RuleId(rule)), None]
}

#[test]
fn open_mapping_takes_a_port_and_an_address() {
    let mut bench = bench();
    let new = endpoint(&bench, "10.0.0.5", 4000, 50_000);
    let id = bench.engine().open_mapping(7, &new);
    let m = *bench.bindings.table.mapping(id);
    assert_eq!(
        (m.internal, m.internal_port, m.external_port, m.rule),
        (key("10.0.0.5"), 4000, 50_000, OVERLOAD)
    );
    let target = new.external.target;
    let external = bench.bindings.externals.find(key("203.0.113.1")).unwrap();
    let expected = [
        (7, TableEvent::PortTaken { port_table: m.place(), port: 50_000 }),
        (7, TableEvent::AddressTaken { target, in_use: 1 }),
        (
            7,
            TableEvent::MappingOpened {
                mapping: id,
                rule: OVERLOAD,
                external,
                on_address: 1,
                peer: peer(),
            },
        ),
    ];
    assert_eq!(reported(&mut bench), expected);
    assert!(!bench.bindings.externals.port_table(m.place()).ports.is_free(50_000));
    let found =
        bench.bindings.mappings_of(Protocol::UDP, new.internal, new.peer).collect::<Vec<_>>();
    assert_eq!((found, bench.bindings.live[0].mappings), (vec![id], 1));
}

#[test]
fn open_session_lists_a_session_under_its_mapping() {
    let mut bench = bench();
    let new = endpoint(&bench, "10.0.0.5", 4000, 50_000);
    let mapping = bench.engine().open_mapping(0, &new);
    reported(&mut bench);
    let first = session(&bench, 3, mapping, 53);
    let id = bench.engine().open_session(first, None, rules(OVERLOAD));
    assert_eq!(
        reported(&mut bench),
        [(3, TableEvent::SessionOpened { session: id, rules: rules(OVERLOAD) })]
    );
    assert_eq!(bench.bindings.table.sessions_of(mapping).collect::<Vec<_>>(), [id]);
    let (original, translated) = bench.bindings.tuples(id);
    assert_eq!(original.source.to_string(), "10.0.0.5:4000");
    assert_eq!(translated.source.to_string(), "203.0.113.1:50000");
    assert_eq!(
        (original.destination, bench.bindings.live[0].sessions),
        (translated.destination, 1)
    );
}

#[test]
fn close_session_closes_the_mapping_behind_the_last_one() {
    let mut bench = bench();
    let new = endpoint(&bench, "10.0.0.5", 4000, 50_000);
    let mapping = bench.engine().open_mapping(0, &new);
    let sessions = [53, 54].map(|peer| {
        let session = session(&bench, 1, mapping, peer);
        bench.engine().open_session(session, None, rules(OVERLOAD))
    });
    let place = bench.bindings.table.mapping(mapping).place();
    reported(&mut bench);
    bench.engine().close_session(sessions[0], 9, Cause::Cleared);
    let closed = |session| TableEvent::SessionClosed {
        session,
        rules: rules(OVERLOAD),
        cause: Cause::Cleared,
    };
    assert_eq!(reported(&mut bench), [(9, closed(sessions[0]))]);
    bench.engine().close_session(sessions[1], 10, Cause::Cleared);
    let expected = [
        (10, closed(sessions[1])),
        (10, TableEvent::PortFreed { port_table: place, port: 50_000 }),
        (
            10,
            TableEvent::MappingClosed {
                mapping,
                rule: OVERLOAD,
                cause: Cause::Cleared,
                peer: (peer().0, 54),
            },
        ),
        (10, TableEvent::AddressFreed { target: new.external.target, in_use: 0 }),
    ];
    assert_eq!(reported(&mut bench), expected);
    assert!(bench.bindings.externals.port_table(place).ports.is_free(50_000));
    let (table, live) = (&bench.bindings.table, bench.bindings.live[0]);
    assert_eq!(
        (table.mapping_count(), table.session_count(), live.mappings, live.sessions),
        (0, 0, 0, 0)
    );
    assert_eq!(bench.bindings.mappings_of(Protocol::UDP, new.internal, new.peer).count(), 0);
}

#[test]
fn close_mapping_gives_a_whole_address_back() {
    let mut bench = bench();
    let new = whole(&bench, "10.0.0.5", "203.0.113.10");
    let id = bench.engine().open_mapping(0, &new);
    let free =
        |bench: &TestBench| bench.bindings.target(new.external.target).free.as_ref().unwrap().len();
    assert_eq!(free(&bench), 1);
    reported(&mut bench);
    bench.engine().close_mapping(id, 5, Cause::RuleDisabled);
    let expected = [
        (
            5,
            TableEvent::MappingClosed {
                mapping: id,
                rule: POOL,
                cause: Cause::RuleDisabled,
                peer: (Key::NONE, 0),
            },
        ),
        (5, TableEvent::AddressFreed { target: new.external.target, in_use: 0 }),
    ];
    assert_eq!((reported(&mut bench).as_slice(), free(&bench)), (&expected[..], 2));
}

/// RFC 4787 §4.3 REQ-5 for what a device keeps beyond sessions: an address mapping lasts for the
/// `binding` timer.
#[test]
fn an_address_mapping_lingers_and_is_used_again() {
    let mut plan = plan();
    plan.timers.binding = std::time::Duration::from_secs(60);
    let mut bench = Bench::new(plan, Vec::new());
    let new = whole(&bench, "10.0.0.5", "203.0.113.10");
    let id = bench.engine().open_mapping(0, &new);
    let first = session(&bench, 0, id, 53);
    let first = bench.engine().open_session(first, None, rules(POOL));
    bench.engine().close_session(first, 2 * S, Cause::Cleared);
    let until = bench.bindings.lingering.until(id).expect("it lingers");
    assert_eq!(until, 62 * S);
    let again = session(&bench, 3 * S, id, 54);
    bench.engine().open_session(again, None, rules(POOL));
    assert_eq!(bench.bindings.lingering.until(id), None, "it is in use again");
    let never = bench.bindings.address_mapping(key("10.0.0.6"), new.external.target);
    assert_eq!(
        (bench.bindings.address_mapping(key("10.0.0.5"), new.external.target), never),
        (Some(id), None)
    );
}

#[test]
fn a_mapping_is_handed_over_to_another_rule() {
    let mut bench = bench();
    let new = whole(&bench, "10.0.0.5", "203.0.113.10");
    let id = bench.engine().open_mapping(0, &new);
    reported(&mut bench);
    bench.engine().hand_over(4, id, SECOND_POOL);
    let event = TableEvent::MappingHandedOver { mapping: id, from: POOL, to: SECOND_POOL };
    assert_eq!(reported(&mut bench), [(4, event)]);
    let live = [POOL, SECOND_POOL].map(|r| bench.bindings.live[usize::from(r)].mappings);
    assert_eq!(live, [0, 1]);
}

/// A session under an address mapping is found by its ends as they are inside, keeps its rule when
/// the mapping becomes another's, and ends as any other.
#[test]
fn sessions_under_an_address_mapping_need_no_tuples() {
    let mut bench = bench();
    let new = whole(&bench, "10.0.0.5", "203.0.113.10");
    let id = bench.engine().open_mapping(0, &new);
    let at = |bench: &TestBench, port: u16| {
        session(bench, S, id, PEER_PORT).with_internal(Protocol::UDP, port)
    };
    let first = at(&bench, 4000);
    let first = bench.engine().open_session(first, None, rules(POOL));
    let second = at(&bench, 4001);
    let second = bench.engine().open_session(second, None, rules(POOL));
    let find = |bench: &TestBench, port, of| {
        let table = &bench.bindings.table;
        table.find_under_address(Protocol::UDP, (key("10.0.0.5"), port), peer(), of)
    };
    assert_eq!(
        [4000, 4001, 4002].map(|p| find(&bench, p, None)),
        [Some(first), Some(second), None]
    );
    assert_eq!(
        (find(&bench, 4000, Some(id)), find(&bench, 4000, Some(id + 9))),
        (Some(first), None)
    );
    let tuples = bench.bindings.tuples(second);
    let sources = [tuples.0.source, tuples.1.source].map(|end| end.to_string());
    assert_eq!(sources, ["10.0.0.5:4001", "203.0.113.10:4001"]);
    let table = &bench.bindings.table;
    assert_eq!((table.session_count_of(id), table.sessions_of(id).count()), (2, 0));
    bench.engine().hand_over(2 * S, id, SECOND_POOL);
    let table = &bench.bindings.table;
    assert_eq!((table.session_count_of(id), table.sessions_of(id).count()), (2, 2), "spelt out");
    assert_eq!(bench.bindings.tuples(second), tuples);
    let made_by = bench.bindings.rules_of(bench.bindings.table.session(second));
    assert_eq!(made_by, (None, Some(RuleId(POOL))));
    bench.engine().expire(Instant(9000 * S));
    let table = &bench.bindings.table;
    assert_eq!((table.mapping_count(), table.session_count()), (0, 0));
    assert!(!table.has_found_by_ends());
}

/// Both doors in one step do what they do one after the other, and report the same, opening and
/// closing.
#[test]
fn both_doors_at_once_are_both_doors() {
    let (mut once, mut twice) = (bench(), bench());
    for bench in [&mut once, &mut twice] {
        // the address and its ports are in use already
        let other = endpoint(bench, "10.0.0.4", 1, 49_999);
        let other = bench.engine().open_mapping(0, &other);
        let kept = session(bench, 0, other, 53);
        bench.engine().open_session(kept, None, rules(OVERLOAD));
        reported(bench);
    }
    let new = endpoint(&twice, "10.0.0.5", 4000, 50_000);
    let mapping = twice.engine().open_mapping(S, &new);
    let first = session(&twice, S, mapping, 53);
    twice.engine().open_session(first, None, rules(OVERLOAD));
    let (internal, target, rule) = (new.internal, new.external.target, OVERLOAD);
    let hash = once.bindings.endpoint_hash(Protocol::UDP, internal, new.peer);
    let port_table =
        once.bindings.externals.find_port_table(key("203.0.113.1"), Protocol::UDP).unwrap();
    let first = session(&once, S, NONE, 53);
    let port = NewPort {
        rule,
        target,
        internal,
        hash,
        port_table,
        class: 0,
        port: 50_000,
        block: None,
        pair: None,
        freely: false,
        random: None,
    };
    once.engine().open_both(first, &port, None);
    assert_eq!(reported(&mut once), reported(&mut twice));
    for bench in [&mut once, &mut twice] {
        bench.engine().expire(Instant(3600 * S));
        assert_eq!(
            (bench.bindings.table.mapping_count(), bench.bindings.table.session_count()),
            (0, 0)
        );
    }
    let closed = reported(&mut once);
    assert_eq!(closed, reported(&mut twice));
    let causes = closed.iter().filter_map(|(_, event)| match event {
        TableEvent::MappingClosed { cause, .. } | TableEvent::SessionClosed { cause, .. } => {
            Some(*cause)
        }
        _ => None,
    });
    assert_eq!(causes.collect::<Vec<_>>(), [Cause::Expired; 4]);
}

/// A plan once compiled is shared by whoever reads it.
#[test]
fn a_compiled_plan_can_be_shared() {
    fn shared<T: Send + Sync>() {}
    shared::<crate::device::compiled::Compiled>();
    shared::<crate::device::Device>();
}

/// A random life of mappings and sessions: whatever is opened and closed, events add up to what is
/// in the table.
mod adds_up {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn events_tell_what_lives(
            steps in proptest::collection::vec((0u8..4, 0u16..6, 0u16..4), 1..120),
        ) {
            let mut bench = bench();
            for (n, (what, host, peer)) in steps.into_iter().enumerate() {
                let now = n as u64 * 20 * S;
                bench.engine().expire(Instant(now));
                let new = endpoint(&bench, &format!("10.0.0.{}", 10 + host), 4000, 50_000 + host);
                let known =
                    bench.bindings.mappings_of(Protocol::UDP, new.internal, new.peer).next();
                if what > 0 {
                    let mapping = known.unwrap_or_else(|| bench.engine().open_mapping(now, &new));
                    if bench.bindings.table.under(mapping, key("198.51.100.1"), peer).is_none() {
                        let session = session(&bench, now, mapping, peer);
                        bench.engine().open_session(session, None, rules(OVERLOAD));
                    }
                } else if let Some(id) =
                    known.and_then(|m| bench.bindings.table.sessions_of(m).next())
                {
                    bench.engine().close_session(id, now, Cause::Cleared);
                }
                let count =
                    |f: fn(&TableEvent) -> i64| bench.sink.iter().map(|(_, e)| f(e)).sum::<i64>();
                let mappings = count(|e| match e {
                    TableEvent::MappingOpened { .. } => 1,
                    TableEvent::MappingClosed { .. } => -1,
                    _ => 0,
                });
                let sessions = count(|e| match e {
                    TableEvent::SessionOpened { .. } => 1,
                    TableEvent::SessionClosed { .. } => -1,
                    _ => 0,
                });
                let ports = count(|e| match e {
                    TableEvent::PortTaken { .. } => 1,
                    TableEvent::PortFreed { .. } => -1,
                    _ => 0,
                });
                let table = &bench.bindings.table;
                prop_assert_eq!(
                    (mappings, sessions),
                    (table.mapping_count() as i64, table.session_count() as i64)
                );
                prop_assert_eq!(ports, mappings);
                prop_assert!(
                    bench.sink.is_sorted_by_key(|e| e.0),
                    "events come in the order of \
                            time"
                );
                let live = bench.bindings.live[0];
                prop_assert_eq!((live.mappings as i64, live.sessions as i64), (mappings, sessions));
            }
        }
    }
}
