//! Random flows and events through a whole prediction and through a reference model of the
//! contract: both put every flow into the same class, for the same reason, and have the same table,
//! at the end and at a moment before. `CASES` and `SEED` as for `reference_model`.

use std::convert::Infallible;
use std::net::{IpAddr, Ipv4Addr};

use proptest::prelude::*;
use zarnet_core::event::{Action, Clearing, Event};
use zarnet_core::net::{Instant, Protocol};
use zarnet_core::plan::{DeviceId, InterfaceId, PoolId, RuleId};
use zarnet_core::predict::{Moment, Options, predict};
use zarnet_core::traffic::{Ending, OneByOne};
use zarnet_core::traffic::{Flow, Item, Party, Repeated, RepeatedFlows};
use zarnet_testkit::edge::cases;
use zarnet_testkit::reference::estate::{Act, Estate, Sent, Who};
use zarnet_testkit::reference::generate::{PEERS, SERVER, behaviours, host, plan_text, rules};
use zarnet_testkit::reference::own::Clearing as Cleared;
use zarnet_testkit::reference::{Behaviour, Rule, S, UPLINK};

/// A flow, after how many seconds it is sent again, and how often in all.
type Again = (Sent, u64, u64);

fn flows() -> impl Strategy<Value = Vec<Again>> {
    let at = |a: Ipv4Addr| Who::At(a.into());
    let inner = proptest::sample::select(vec![host(5), host(6), host(7), SERVER, host(21)]);
    let peers = || proptest::sample::select(PEERS.to_vec());
    let uplink = [
        [192, 0, 2, 1],
        [192, 0, 2, 1],
        [192, 0, 2, 4],
        [192, 0, 2, 8],
        [192, 0, 2, 9],
        [192, 0, 2, 14],
    ];
    let lane = [[203, 0, 113, 1], [203, 0, 113, 1], [203, 0, 113, 6]];
    let ends: Vec<Ipv4Addr> = uplink.iter().chain(&lane).map(|a| Ipv4Addr::from(*a)).collect();
    let ends = || proptest::sample::select(ends.clone());
    let local: Vec<Ipv4Addr> = [
        [10, 0, 0, 5],
        [10, 0, 0, 30],
        [10, 0, 0, 1],
        [10, 0, 0, 255],
        [224, 0, 0, 18],
        [10, 9, 9, 9],
    ]
    .map(Ipv4Addr::from)
    .to_vec();
    let local = || proptest::sample::select(local.clone());
    let somewhere = || prop_oneof![6 => peers(), 3 => ends(), 2 => local()];
    let parties = prop_oneof![
        6 => (inner.prop_map(at), somewhere()),
        4 => (peers().prop_map(at), prop_oneof![6 => ends(), 1 => peers(), 1 => local()]),
        2 => (
            prop_oneof![Just(Who::Device(None)), (0usize..3).prop_map(|i| Who::Device(Some(i)))],
            somewhere(),
        ),
        1 => (ends().prop_map(at), somewhere()),
    ];
    let protocol = prop_oneof![
        4 => Just(Protocol::TCP),
        4 => Just(Protocol::UDP),
        2 => Just(Protocol::ICMP),
        1 => Just(Protocol(47)),
    ];
    let port = || proptest::sample::select(vec![80u16, 700, 3000, 3001, 5000]);
    let times =
        (0u64..80, prop_oneof![2 => Just(0u64), 2 => 1u64..20, 1 => 20u64..120], any::<bool>());
    let ending = prop_oneof![
        3 => Just(None),
        1 => Just(Some(Ending::Close)),
        1 => Just(Some(Ending::Reset)),
        1 => Just(Some(Ending::Silent)),
    ];
    let again = prop_oneof![8 => Just((0u64, 1u64)), 1 => (0u64..12, 2u64..5)];
    let flow =
        (parties, protocol, proptest::option::weighted(0.7, port()), port(), times, ending, again);
    let flow = flow.prop_map(
        |((source, to), protocol, p, q, (start, lasts, far), ending, (every, count))| {
            let sent = Sent {
                start: start * S,
                protocol,
                source,
                source_port: p.filter(|_| protocol.is_multiplexed()),
                destination: to.into(),
                destination_port: protocol.has_ports().then_some(q),
                lasts: lasts * S,
                ending,
                round_trip: if far { 900_000_000 } else { 1_000_000 },
            };
            (sent, every * S, count)
        },
    );
    proptest::collection::vec(flow, 1..18)
}

fn acts() -> impl Strategy<Value = Vec<(u64, Act)>> {
    let some = |weight| proptest::option::weighted(weight, Just(()));
    let clear = (
        some(0.3),
        proptest::option::weighted(0.3, 0usize..5),
        prop::bool::weighted(0.2),
        some(0.2),
    )
        .prop_map(|(by_host, rule, pool, protocol)| {
            let (host, protocol) =
                (by_host.map(|()| host(5).into()), protocol.map(|()| Protocol::UDP));
            Act::Clear(Cleared { host, rule, pool, protocol })
        });
    let act = prop_oneof![
        3 => (0usize..5, any::<bool>()).prop_map(|(n, on)| Act::Enable(n, on)),
        2 => clear,
        1 => Just(Act::Restart),
        1 => Just(Act::Lease(Ipv4Addr::new(192, 0, 2, 2))),
    ];
    let acts = proptest::collection::vec((0u64..100, act), 0..4);
    prop_oneof![2 => Just(Vec::new()), 1 => acts].prop_map(|mut acts| {
        acts.iter_mut().for_each(|a| a.0 *= S);
        acts.sort_by_key(|a| a.0);
        acts
    })
}

/// The engine's flow.
fn flow(sent: &Sent) -> Flow {
    Flow {
        start: Instant(sent.start),
        protocol: sent.protocol,
        source: match sent.source {
            Who::At(address) => Party::Address(address),
            Who::Device(None) => Party::Device(DeviceId(0)),
            Who::Device(Some(i)) => Party::Interface(DeviceId(0), InterfaceId(i as u16)),
        },
        source_port: sent.source_port,
        destination: Party::Address(sent.destination),
        destination_port: sent.destination_port,
        lasts: sent.lasts,
        ending: sent.ending,
        round_trip: Some(sent.round_trip),
    }
}

fn action(act: Act, rules: usize) -> Action {
    let rule = |n: usize| RuleId((n % rules) as u16);
    match act {
        Act::Enable(n, true) => Action::Enable(rule(n)),
        Act::Enable(n, false) => Action::Disable(rule(n)),
        Act::Clear(Cleared { host, rule: n, pool, protocol }) => Action::Clear(Clearing {
            host,
            rule: n.map(rule),
            pool: pool.then_some(PoolId(0)),
            protocol,
        }),
        Act::Restart => Action::Restart,
        Act::Lease(address) => Action::Lease(
            InterfaceId(UPLINK as u16),
            address.into(),
            "192.0.2.0/28".parse().unwrap(),
        ),
    }
}

/// The same event for the model, whose rules are counted the same way.
fn within(act: Act, rules: usize) -> Act {
    match act {
        Act::Enable(n, on) => Act::Enable(n % rules, on),
        Act::Clear(what) => Act::Clear(Cleared { rule: what.rule.map(|n| n % rules), ..what }),
        act => act,
    }
}

/// Every sending of every flow, in the order in which they start.
fn one_by_one(flows: &[Again]) -> Vec<Sent> {
    let again = |(i, (sent, every, count)): (usize, &Again)| {
        let (sent, every) = (*sent, *every);
        (0..*count).map(move |n| {
            (sent.start + n * every, i, Sent { start: sent.start + n * every, ..sent })
        })
    };
    let mut all: Vec<(u64, usize, Sent)> = flows.iter().enumerate().flat_map(again).collect();
    all.sort_by_key(|f| (f.0, f.1));
    all.into_iter().map(|f| f.2).collect()
}

type Case = (Vec<Rule>, Behaviour, Vec<Again>, Vec<(u64, Act)>, Option<u64>);

fn agree((rules, b, flows, acts, moment): Case) -> Result<(), TestCaseError> {
    let plan = zarnet_testkit::edge::plan(&plan_text(&rules, &b));
    let count = rules.len();
    let sent = one_by_one(&flows);
    let last = sent
        .iter()
        .map(|f| f.start + f.lasts.max(f.round_trip))
        .chain(acts.iter().map(|a| a.0))
        .max();
    let acts: Vec<(u64, Act)> = acts.iter().map(|(at, act)| (*at, within(*act, count))).collect();
    for stepwise in [true, false] {
        let events = acts.iter().map(|(at, act)| Event {
            at: Instant(*at),
            device: DeviceId(0),
            action: action(*act, count),
        });
        let repeated = flows.iter().map(|(f, every, count)| Repeated {
            flow: flow(f),
            every: *every,
            count: *count,
        });
        let items =
            RepeatedFlows::new(repeated.collect()).map(|f| Ok::<Item, Infallible>(Item::Flow(f)));
        let sources =
            flows.iter().filter_map(|f| if let Who::At(a) = f.0.source { Some(a) } else { None });
        let options = Options {
            moment: moment.map_or(Moment::End, |at| Moment::At(Instant(at))),
            sources: Some(sources.collect()),
            stepwise,
            ..Options::default()
        };
        let prediction = predict(plan.clone(), OneByOne(items), events.collect(), options).unwrap();
        // all of the traffic, and what there was at the moment
        let mut ahead = Estate::new(rules.clone(), b.clone(), &sent);
        ahead.play(&sent, &acts, last.unwrap_or(0));
        prop_assert_eq!(prediction.end.0, ahead.end);
        let mut whole = Estate::new(rules.clone(), b.clone(), &sent);
        whole.play(&sent, &acts, ahead.end.max(prediction.at.0));
        if whole.model.is_open {
            return Ok(());
        }
        let told: Vec<_> = prediction
            .not_translated
            .iter()
            .map(|n| {
                (n.flow.start.0, n.reason.name(), n.device.is_some(), n.rule.map(RuleId::index))
            })
            .collect();
        let mut lost = whole.lost.clone();
        lost.sort_by_key(|l| l.0);
        let lost: Vec<_> = lost.into_iter().map(|l| l.1).collect();
        prop_assert_eq!(told, lost, "stepwise {}", stepwise);
        prop_assert_eq!(prediction.tally.translated, whole.translated);
        prop_assert_eq!((prediction.peak_mappings as usize, prediction.peak_at.0), whole.peak);
        let mut then = Estate::new(rules.clone(), b.clone(), &sent);
        then.play(&sent, &acts, prediction.at.0);
        let table = &prediction.tables[0];
        let (got, rows) = (
            zarnet_testkit::reference::rows_of(&table.mappings),
            zarnet_testkit::reference::in_order(then.model.rows(prediction.at.0)),
        );
        prop_assert_eq!(got, rows, "mappings at {}, stepwise {}", prediction.at, stepwise);
        let mut sessions = then.session_rows(prediction.at.0);
        let mut got: Vec<_> = table
            .sessions
            .iter()
            .map(|s| (s.original, s.translated, s.created.0, s.last_active.0, s.expires.0))
            .collect();
        let key = |s: &zarnet_testkit::reference::estate::SessionRow| {
            let ends = [s.0.source, s.0.destination, s.1.source, s.1.destination];
            (ends.map(|e| (e.address, e.port)), s.2, s.4)
        };
        sessions.sort_by_key(key);
        got.sort_by_key(key);
        prop_assert_eq!(got, sessions, "sessions at {}, stepwise {}", prediction.at, stepwise);
        for (i, (rule, counts)) in table.totals.rules.iter().zip(&whole.model.counts).enumerate() {
            let got = (rule.hits, rule.expired, rule.cleared, rule.refused);
            let wanted = (counts.opened, counts.expired, counts.cleared, counts.refused);
            prop_assert_eq!(got, wanted, "rule {}", i);
            prop_assert_eq!(table.active[i], then.model.open(i));
        }
        prop_assert_eq!([table.totals.refused, table.pools[0].refused], whole.model.refused);
    }
    Ok(())
}

#[test]
fn predictions_and_a_plain_reading_of_the_contract_agree() {
    let moment = proptest::option::weighted(0.5, (0u64..150).prop_map(|s| s * S));
    cases(file!(), 2_000, (rules(), behaviours(), flows(), acts(), moment), agree);
}

#[test]
fn a_repeated_flow_is_sent_as_often_as_it_says() {
    let sent = Sent {
        start: 3 * S,
        protocol: Protocol::UDP,
        source: Who::At(IpAddr::V4(host(5))),
        source_port: None,
        destination: PEERS[0].into(),
        destination_port: Some(53),
        lasts: 0,
        ending: None,
        round_trip: 1_000_000,
    };
    let list = vec![
        Repeated { flow: flow(&sent), every: 4 * S, count: 3 },
        Repeated { flow: Flow { protocol: Protocol::TCP, ..flow(&sent) }, every: 0, count: 2 },
        Repeated { flow: flow(&sent), every: 1, count: 0 },
    ];
    let starts: Vec<_> = RepeatedFlows::new(list).map(|f| (f.start.0 / S, f.protocol.0)).collect();
    assert_eq!(starts, [(3, 17), (3, 6), (3, 6), (7, 17), (11, 17)]);
}
