//! Traffic through a network: invariants over random plans and random traffic.

mod generate;

use std::collections::HashSet;
use std::convert::Infallible;
use std::net::IpAddr;
use std::sync::Arc;

use generate::{captures, events, flows, plans};
use proptest::prelude::*;
use zarnet_core::Class;
use zarnet_core::event::{Action, Event};
use zarnet_core::net::{Endpoint, Instant, Packet, Protocol};
use zarnet_core::plan::{DeviceId, InterfaceId, Plan, RuleId};
use zarnet_core::predict::{Moment, Options, Prediction, Sources, predict};
use zarnet_core::traffic::{Ending, Flow, Item, OneByOne, Party, Seen};
use zarnet_testkit::edge::{OVERLOAD, plan, plan_text, pool};

const S: u64 = 1_000_000_000;

fn run(
    plan: &Arc<Plan>,
    flows: &[Flow],
    events: Vec<Event>,
    moment: Moment,
    stepwise: bool,
) -> Prediction {
    let items: Vec<Item> = flows.iter().map(|f| Item::Flow(*f)).collect();
    run_items(plan, &items, events, moment, stepwise)
}

fn run_items(
    plan: &Arc<Plan>,
    items: &[Item],
    events: Vec<Event>,
    moment: Moment,
    stepwise: bool,
) -> Prediction {
    run_with(plan, items, events, Options { moment, stepwise, ..Options::default() })
}

/// With a seed of its own, and the senders known.
fn run_with(plan: &Arc<Plan>, items: &[Item], events: Vec<Event>, options: Options) -> Prediction {
    let rules = plan.devices[0].rules.len();
    let known = |e: &Event| match &e.action {
        Action::Disable(r) | Action::Enable(r) => r.index() < rules,
        Action::Clear(c) => c.rule.is_none_or(|r| r.index() < rules),
        _ => true,
    };
    let events = events.into_iter().filter(known).collect();
    let source = |item: &Item| match item {
        Item::Flow(Flow { source: Party::Address(a), .. }) => Some(*a),
        Item::Seen(seen) => Some(seen.packet.source().address),
        _ => None,
    };
    let sources: Sources = items.iter().filter_map(source).collect();
    let items = items.iter().map(|item| Ok::<_, Infallible>(*item));
    let options = Options { seed: 5, sources: Some(sources), ..options };
    predict(plan.clone(), OneByOne(items), events, options).unwrap()
}

/// Whether two predictions come to the same.
fn same(a: &Prediction, b: &Prediction) -> Result<(), TestCaseError> {
    prop_assert_eq!(&a.not_translated, &b.not_translated);
    prop_assert_eq!(a.tally, b.tally);
    prop_assert_eq!(&a.tables[0].mappings, &b.tables[0].mappings);
    prop_assert_eq!(&a.tables[0].sessions, &b.tables[0].sessions);
    prop_assert_eq!(&a.tables[0].totals, &b.tables[0].totals);
    prop_assert_eq!((a.at, a.end), (b.at, b.end));
    Ok(())
}

/// How many of a thousand ordinary flows, and of the packets of as many, are entered at once.
fn taken_at_once(behaviour: &str, rules: &str, stepwise: bool) -> (u64, u64) {
    let plan = plan(&plan_text(behaviour, "{}", rules));
    let (mut flows, mut packets) = (Vec::new(), Vec::new());
    for n in 0..1000u64 {
        let (host, peer) = (
            IpAddr::from([10, 0, 0, 5 + (n % 4) as u8]),
            IpAddr::from([198, 51, 100, (n % 200) as u8]),
        );
        let (start, protocol) =
            (Instant(n * S / 10), [Protocol::TCP, Protocol::UDP][n as usize % 2]);
        let (from, to) = (Endpoint::new(host, 20_000 + n as u16), Endpoint::new(peer, 443));
        flows.push(Item::Flow(Flow {
            start,
            protocol,
            source: Party::Address(host),
            source_port: Some(from.port),
            destination: Party::Address(peer),
            destination_port: Some(to.port),
            lasts: 2 * S,
            ending: (protocol == Protocol::TCP).then_some(Ending::Close),
            round_trip: None,
        }));
        let packet = Packet::first(protocol, from, to);
        let seen = |later, packet| {
            let at = Instant(start.0 + later);
            Item::Seen(Seen { at, device: DeviceId(0), interface: InterfaceId(0), packet })
        };
        packets.extend([seen(0, packet), seen(1_000_000, packet.answer())]);
    }
    let taken = |items: &[Item]| run_items(&plan, items, vec![], Moment::End, stepwise).fast_path;
    (taken(&flows), taken(&packets))
}

/// What comes to the same step by step could be slow unseen: the fast path is really taken.
#[test]
fn ordinary_traffic_takes_the_fast_path() {
    let lines = pool(4, "").replace("type = \"pool\"", "type = \"overload\"");
    let behaviours = [
        "\"bcp\"",
        "{ port-assignment = \"sequential\" }",
        "{ filtering = \"address-dependent\" }",
    ];
    for behaviour in behaviours {
        for rules in [OVERLOAD, &lines] {
            assert_eq!(taken_at_once(behaviour, rules, false), (1000, 2000), "{behaviour}{rules}");
        }
    }
    assert_eq!(taken_at_once("\"bcp\"", OVERLOAD, true), (0, 0), "step by step is step by step");
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(250))]

    /// The short way through the device and the long one, step by step, come to the same table at
    /// any moment.
    #[test]
    fn the_short_way_comes_to_the_same_as_the_long_one(
        text in plans(),
        flows in flows(),
        events in events(),
        at in 0u64..1_500_000,
    ) {
        let plan = plan(&text);
        for moment in [Moment::At(Instant(at * 1_000_000)), Moment::End] {
            let short = run(&plan, &flows, events.clone(), moment, false);
            let long = run(&plan, &flows, events.clone(), moment, true);
            same(&short, &long)?;
        }
    }

    /// The same of packets of a capture, and with flows in between.
    #[test]
    fn packets_come_to_the_same_the_short_way_and_the_long_one(
        text in plans(),
        packets in captures(),
        flows in flows(),
        events in events(),
        at in 0u64..1_500_000,
    ) {
        let plan = plan(&text);
        let mut items = packets;
        items.extend(flows.iter().take(10).map(|f| Item::Flow(*f)));
        items.sort_by_key(Item::at);
        for moment in [Moment::At(Instant(at * 1_000_000)), Moment::End] {
            let short = run_items(&plan, &items, events.clone(), moment, false);
            let long = run_items(&plan, &items, events.clone(), moment, true);
            same(&short, &long)?;
        }
    }

    /// RFC 4787 §4.2.1 REQ-3: no two mappings share an external end; every flow is in one class;
    /// what is counted adds up.
    #[test]
    fn ends_are_unique_and_every_flow_is_accounted_for(
        text in plans(),
        flows in flows(),
        events in events(),
        at in 0u64..1_000_000,
    ) {
        let plan = plan(&text);
        let p = run(&plan, &flows, events, Moment::At(Instant(at * 1_000_000)), false);
        prop_assert_eq!(p.tally.total(), flows.len() as u64);
        let untold = p.not_translated.len() as u64;
        prop_assert_eq!(p.tally.total() - p.tally.translated, untold);
        let table = &p.tables[0];
        let mut ends = HashSet::new();
        for m in table
            .mappings
            .iter()
            .filter(|m| !m.fixed && m.kind == "overload" && m.external.port > 0)
        {
            prop_assert!(ends.insert((m.protocol, m.external)), "{} twice", m.external);
            let whole = table
                .mappings
                .iter()
                .any(|w| !w.fixed && w.kind == "pool" && w.external.address == m.external.address);
            prop_assert!(!whole, "{} is borrowed whole", m.external.address);
        }
        let totals = &table.totals;
        prop_assert!(totals.created >= totals.expired + totals.cleared);
        prop_assert_eq!(totals.refused, totals.refused_by.values().sum::<u64>());
        for (i, r) in totals.rules.iter().enumerate() {
            let why = totals.refused_by.iter().filter(|w| w.0.0 == Some(RuleId(i as u16)));
            prop_assert_eq!(r.refused, why.map(|w| *w.1).sum::<u64>());
            prop_assert_eq!(r.hits, r.active + r.expired + r.cleared);
            prop_assert!(r.peak.count <= r.hits && r.active <= r.peak.count);
        }
        let under: u32 = table.mappings.iter().map(|m| m.sessions).sum();
        let ruled: usize = table.sessions.iter().map(|s| s.rules.iter().flatten().count()).sum();
        prop_assert_eq!(under as usize, ruled);
        for s in &table.sessions {
            prop_assert!(s.created <= s.last_active && s.last_active <= p.at && p.at < s.expires);
        }
    }

    /// A timeline changes nothing else, tells every flow once, in order, and is the same whichever
    /// way the flows go.
    #[test]
    fn a_timeline_tells_every_flow_once(
        text in plans(),
        flows in flows(),
        packets in captures(),
        events in events(),
    ) {
        let plan = plan(&text);
        let mut items: Vec<Item> = flows.iter().map(|f| Item::Flow(*f)).collect();
        items.extend(packets);
        items.sort_by_key(Item::at);
        let told = |stepwise| {
            let options = Options { stepwise, timeline: true, ..Options::default() };
            run_with(&plan, &items, events.clone(), options)
        };
        let (one, other) = (told(false), told(true));
        same(&run_items(&plan, &items, events.clone(), Moment::End, false), &one)?;
        let rows = one.timeline.unwrap();
        prop_assert_eq!(Some(&rows), other.timeline.as_ref());
        prop_assert!(rows.is_sorted_by_key(|r| r.flow.start));
        prop_assert!(rows.iter().all(|r| r.flow.start <= r.until && r.count > 0));
        for (class, number) in [
            (Class::Translated, one.tally.translated),
            (Class::Untranslated, one.tally.untranslated),
            (Class::Refused, one.tally.refused),
            (Class::Undelivered, one.tally.undelivered),
        ] {
            let counted = rows.iter().filter(|r| r.class == class).map(|r| r.count);
            prop_assert_eq!(counted.sum::<u64>(), number, "{:?}", class);
        }
        for not in &one.not_translated {
            let is_of = |r: &&zarnet_core::predict::TimelineRow| {
                (r.reason, r.device, r.rule, r.place)
                    == (Some(not.reason), not.device, not.rule, not.place)
                    && (r.flow.source, r.flow.destination) == (not.flow.source, not.flow.destination)
                    && (r.flow.start..=r.until).contains(&not.flow.start)
            };
            prop_assert!(rows.iter().any(|r| is_of(&r)), "{:?} is not told", not);
        }
    }

    /// No leak: all dynamic state is gone after the longest timer.
    #[test]
    fn nothing_is_left_after_the_longest_timer(
        text in plans(),
        flows in flows(),
        events in events(),
    ) {
        let plan = plan(&text);
        let end = run(&plan, &flows, events.clone(), Moment::End, false).end;
        let later = Instant(end.0 + 8000 * S);
        let p = run(&plan, &flows, events, Moment::At(later), false);
        let table = &p.tables[0];
        prop_assert_eq!((table.mapping_count, table.session_count), (0, 0));
        prop_assert!(table.mappings.iter().all(|m| m.fixed && m.sessions == 0));
        prop_assert!(table.pools.iter().all(|p| p.in_use == 0));
    }
}
