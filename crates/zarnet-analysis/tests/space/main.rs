//! Sets of packets, exact: against a list of packets, against the device, and for pairs of plans.

mod exchange;
mod plans;
mod prefixes;

use plans::{packets, plans};
use proptest::prelude::*;
use proptest::strategy::ValueTree;
use proptest::test_runner::TestRunner;
use zarnet_analysis::impact::impact;
use zarnet_analysis::space::{Area, Field, Intervals, Meaning, PacketSet, meaning, packet, point};
use zarnet_core::device::{Device, Judged, Outcome};
use zarnet_core::net::{AddressSet, Instant};
use zarnet_core::plan::{InterfaceId, Plan};
use zarnet_testkit::edge::plan;

pub(crate) fn device(plan: &Plan) -> Device {
    Device::new(&plan.devices[0], &std::sync::Arc::new(taken(plan)), 0)
}

/// What no pool hands out, by the plans above: interfaces and next hops.
fn taken(_: &Plan) -> AddressSet {
    ["10.0.0.1", "10.9.0.1", "192.0.2.1", "192.0.2.14", "10.9.0.9"]
        .iter()
        .map(|a| zarnet_core::net::AddressRange::one(a.parse().unwrap()))
        .collect()
}

/// As many as are wanted: `PAIRS=10000` for the whole measurement.
fn pairs() -> usize {
    std::env::var("PAIRS").ok().and_then(|n| n.parse().ok()).unwrap_or(30)
}

#[test]
fn classes_hold_exactly_the_packets_whose_result_differs() {
    let mut runner = TestRunner::deterministic();
    let (mut differing, mut compared) = (0u64, 0u64);
    for _ in 0..pairs() {
        let one = plans().new_tree(&mut runner).unwrap().current();
        // half of the pairs differ in little, as changes do
        let two = if runner.rng().next_u32() & 1 == 0 {
            changed(&one, &mut runner)
        } else {
            plans().new_tree(&mut runner).unwrap().current()
        };
        let build = |text: &str| {
            zarnet_formats::plan::from_text(std::path::Path::new("p.toml"), text.into())
                .map(|l| l.plan)
        };
        let (Ok(old), Ok(new)) = (build(&one), build(&two)) else { continue };
        let found = impact(&old, &new);
        let (before, after) = (device(&old), device(&new));
        for _ in 0..1000 {
            let packet = packets().new_tree(&mut runner).unwrap().current();
            for (i, interface) in old.devices[0].interfaces.iter().enumerate() {
                let id = InterfaceId(i as u16);
                let (was, is) = (meaning(&before, id, packet), meaning(&after, id, packet));
                let holding: Vec<_> = found
                    .classes
                    .iter()
                    .filter(|c| c.from.contains(&interface.name) && c.area.contains(point(packet)))
                    .collect();
                let told = holding.first().map(|c| (c.before.clone(), c.after.clone()));
                let really = (was != is).then_some((was, is));
                let (told, really) = (told.map(without_way), really.map(without_way));
                assert_eq!(told, really, "{packet:?} by {}\n{one}\n----\n{two}", interface.name);
                assert!(holding.len() <= 1, "in two classes: {packet:?}");
                differing += u64::from(really.is_some());
                compared += 1;
            }
        }
        for class in &found.classes {
            assert!(class.area.contains(point(class.witness)), "a witness is one of them");
        }
    }
    println!("{compared} packets compared, {differing} differ");
    assert!(differing * 50 > compared, "they hardly ever differ: {differing} of {compared}");
}

/// A way out that is the same in both is no part of what differs.
pub(crate) fn without_way((mut was, mut is): (Meaning, Meaning)) -> (Meaning, Meaning) {
    if let (
        Meaning::Leaves { egress: a, next_hop: x, .. },
        Meaning::Leaves { egress: b, next_hop: y, .. },
    ) = (&mut was, &mut is)
        && a == b
        && x == y
    {
        (*x, *y) = (None, None);
    }
    (was, is)
}

/// The same plan with one word changed.
fn changed(text: &str, runner: &mut TestRunner) -> String {
    let swaps = [
        ("10.0.0.5-10.0.0.9", "10.0.0.5-10.0.0.8"),
        ("enabled = true", "enabled = false"),
        ("\"any\"", "\"80/tcp\""),
        ("198.51.100.0/24", "198.51.100.0/25"),
        ("accept", "drop"),
        ("192.0.2.8-192.0.2.10", "192.0.2.8-192.0.2.11"),
        ("8000-8003/tcp", "8000-8002/tcp"),
        ("10.9.0.4:8001", "10.9.0.4:8002"),
        ("uplink:8000/tcp", "uplink:8001/tcp"),
        ("10.0.0.20", "10.0.0.21"),
    ];
    let start = runner.rng().next_u32() as usize;
    let able = (0..swaps.len()).map(|n| swaps[(start + n) % swaps.len()]);
    able.map(|(a, b)| text.replacen(a, b, 1)).find(|t| t != text).unwrap_or_else(|| text.to_owned())
}

#[test]
fn equal_meaning_in_another_form_is_no_change() {
    let base = |rules: &str| {
        format!(
            r#"
[addresses]
kiosks = ["10.0.0.0/25", "10.0.0.128/25"]
[[segment]]
name = "world"
internet = true
[[device]]
name = "edge"
  [[device.interface]]
  name = "floor"
  realm = "internal"
  address = "10.0.0.1/24"
  [[device.interface]]
  name = "uplink"
  realm = "external"
  segment = "world"
  address = "192.0.2.1/28"
  [[device.route]]
  to = "0.0.0.0/0"
  via = "192.0.2.14"
{rules}"#
        )
    };
    let rule = |name: &str, source: &str, service: &str| {
        format!(
            "  [[device.rule]]\n  name = \"{name}\"\n  type = \"overload\"\n  source = {source}\n \
              service = {service}\n  as = \"uplink\"\n"
        )
    };
    let one = base(&rule("all", "\"10.0.0.0/24\"", "\"any\""));
    let named = base(&rule("everybody", "\"kiosks\"", "\"any\""));
    let halves = base(&format!(
        "{}{}",
        rule("b", "\"10.0.0.128-10.0.0.255\"", "\"any\""),
        rule("a", "\"10.0.0.0-10.0.0.127\"", "[\"80/tcp\", \"any\"]")
    ));
    for other in [&named, &halves] {
        assert!(impact(&plan(&one), &plan(other)).is_empty(), "{other}");
    }
    let less = base(&rule("all", "\"10.0.0.0/25\"", "\"any\""));
    let found = impact(&plan(&one), &plan(&less));
    let classes: Vec<_> = found
        .classes
        .iter()
        .map(|c| (c.from.clone(), c.area.of(Field::Source).as_addresses()))
        .collect();
    let upper: AddressSet =
        zarnet_core::net::AddressRange::parse("10.0.0.128/25").unwrap().0.into();
    assert!(
        !classes.is_empty()
            && classes.iter().all(|c| c == &(vec!["floor".to_owned()], upper.clone())),
        "{classes:?}"
    );
}

proptest! {
    #[test]
    fn what_is_judged_is_what_the_device_does(
        text in plans(),
        sent in proptest::collection::vec(packets(), 40),
    ) {
        let Ok(loaded) = zarnet_formats::plan::from_text(std::path::Path::new("p.toml"), text)
        else {
            return Ok(());
        };
        let at_rest = device(&loaded.plan);
        for packet in sent {
            for i in 0..3 {
                let id = InterfaceId(i);
                let done = at_rest.clone().receive(Instant::ZERO, id, packet);
                match (at_rest.judge(id, packet), done) {
                    (Judged::Dropped(a), Outcome::Dropped(b)) => prop_assert_eq!(a, b),
                    (Judged::ToDevice, Outcome::Answered(_) | Outcome::Consumed(..)) => {}
                    (Judged::Forwarded(a), Outcome::Forwarded(b)) => {
                        prop_assert_eq!(a.out, b.packet);
                        prop_assert_eq!(
                            (a.egress, a.next_hop.unwrap_or(b.packet.destination().address)),
                            (b.interface, b.next_hop)
                        );
                    }
                    (a, b) => prop_assert!(false, "{:?} is not {:?}", a, b),
                }
            }
        }
    }

    #[test]
    fn a_rule_that_is_told_to_be_hidden_is_never_applied(
        text in plans(),
        sent in proptest::collection::vec(packets(), 200),
    ) {
        let Ok(loaded) = zarnet_formats::plan::from_text(std::path::Path::new("p.toml"), text)
        else {
            return Ok(());
        };
        let found = zarnet_analysis::audit::audit(&loaded.plan);
        let at_rest = device(&loaded.plan);
        let rules = &loaded.plan.devices[0].rules;
        let told = |name: &str| -> Vec<usize> {
            let of = found.iter().filter(|f| f.name == name).filter_map(|f| f.places.first());
            of.filter_map(|p| rules.iter().position(|r| r.place == *p)).collect()
        };
        let (hidden, idle, double) =
            (told("rule-shadowed"), told("rule-never-matches"), told("rule-redundant"));
        for packet in sent {
            for i in 0..3 {
                let Judged::Forwarded(v) = at_rest.judge(InterfaceId(i), packet) else { continue };
                for rule in v.entry.into_iter().chain(v.source) {
                    prop_assert!(
                        !hidden.contains(&rule.index()) && !idle.contains(&rule.index()),
                        "{:?} {:?}",
                        rule,
                        packet
                    );
                }
                if let Some(rule) = v.source.filter(|r| double.contains(&r.index())) {
                    let matches = at_rest.outbound_matches(InterfaceId(i), v.egress, packet);
                    prop_assert!(
                        matches.len() > 1 && matches[0] == rule,
                        "{:?} has no double for \
                            {:?}",
                        rule,
                        packet
                    );
                }
            }
        }
        for f in found.iter().filter(|f| f.name == "rule-shadowed") {
            // nobody may be there to send one; what is shown is really forwarded
            let is_forwarded = |w| {
                (0..3).any(|i| matches!(at_rest.judge(InterfaceId(i), w), Judged::Forwarded(_)))
            };
            prop_assert!(f.witness.is_none_or(is_forwarded), "{:?}", f.witness);
        }
    }

    #[test]
    fn set_operations_are_what_they_say(
        parts in proptest::collection::vec(
            (0u128..40, 0u128..20, 0u128..40, 0u128..20, 0u128..4),
            4,
        ),
        points in proptest::collection::vec((0u128..64, 0u128..5, 0u128..64), 60),
    ) {
        let area = |(a, n, b, m, p): (u128, u128, u128, u128, u128)| {
            let mut area = Area::all();
            area.0[Field::Destination as usize] =
                Intervals::new(vec![(a, a + n), (a + 30, a + 31)]);
            area.0[Field::Source as usize] = Intervals::new(vec![(b, b + m)]);
            area.0[Field::Protocol as usize] = Intervals::one(p);
            area
        };
        let sets: Vec<PacketSet> = parts.iter().map(|p| PacketSet::of(&area(*p))).collect();
        let (left, right) = (sets[0].union(&sets[1]), sets[2].union(&sets[3]));
        for (to, p, from) in points {
            let at = [to, p, 0, from, 0];
            let holds: Vec<bool> = parts.iter().map(|p| area(*p).contains(at)).collect();
            let (l, r) = (holds[0] || holds[1], holds[2] || holds[3]);
            prop_assert_eq!(left.contains(at), l);
            prop_assert_eq!(left.intersection(&right).contains(at), l && r);
            prop_assert_eq!(left.difference(&right).contains(at), l && !r);
            let areas = left.areas();
            prop_assert_eq!(
                areas.iter().filter(|a| a.contains(at)).count(),
                usize::from(l),
                "areas are disjoint"
            );
        }
        prop_assert!(
            left.difference(&left).is_empty() && left.difference(&left).witness().is_none()
        );
        let rest = left.difference(&right);
        if let Some(witness) = rest.witness() {
            prop_assert!(left.contains(witness) && !right.contains(witness));
        } else {
            prop_assert!(rest.is_empty());
        }
        prop_assert!(
            PacketSet::all()
                .difference(&left)
                .union(&left)
                .difference(&PacketSet::all())
                .is_empty()
        );
    }

    #[test]
    fn a_packet_is_its_point(sent in packets()) {
        prop_assert_eq!(packet(point(sent)), Some(sent));
    }
}
