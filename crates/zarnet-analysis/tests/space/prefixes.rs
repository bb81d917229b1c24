//! Plans with a prefix in place of another (RFC 6296): what is asked of a packet after one word of
//! its address was adjusted is told in terms of the packet before.

use proptest::prelude::*;
use zarnet_analysis::impact::impact;
use zarnet_analysis::space::{meaning, point};
use zarnet_core::net::{Endpoint, Packet, Protocol};
use zarnet_core::plan::InterfaceId;
use zarnet_testkit::edge::plan;

use crate::{device, without_way};

/// A static of two prefixes, under a policy that looks at internal addresses and a filter that
/// looks at external ones.
fn text(length: u8, policy: &str, filter: &str) -> String {
    format!(
        r#"
[[segment]]
name = "world"
internet = true
[[device]]
name = "edge"
default-policy = "drop"
  [[device.interface]]
  name = "floor"
  realm = "internal"
  address = "fd00:1:2::1/{length}"
  [[device.interface]]
  name = "uplink"
  realm = "external"
  segment = "world"
  address = "2001:db8:ffff::2/64"
  egress-acl = "out"
  [[device.route]]
  to = "::/0"
  via = "2001:db8:ffff::1"
  [[device.acl]]
  name = "out"
  entries = [{{ drop = "any", source = "{filter}" }}, {{ accept = "any" }}]
  [[device.policy]]
  from = "external"
  into = "internal"
  accept = "any"
  destination = "{policy}"
  [[device.policy]]
  from = "internal"
  into = "external"
  accept = "any"
  [[device.rule]]
  name = "whole"
  type = "static"
  internal = "fd00:1:2::/{length}"
  external = "2001:db8:7::/{length}"
"#
    )
}

/// An address of a prefix: its words are few, full or any.
fn addresses(prefix: u128, length: u8) -> impl Strategy<Value = std::net::IpAddr> {
    let word = prop_oneof![Just(0u16), Just(5), 0u16..16, Just(0xFFFF), any::<u16>()];
    prop::array::uniform5(word).prop_map(move |words| {
        let rest = words.iter().fold(0u128, |n, w| (n << 16) | u128::from(*w));
        std::net::IpAddr::V6((prefix | rest & (u128::MAX >> length)).into())
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]

    #[test]
    fn classes_hold_what_differs_behind_a_prefix(
        length in prop::sample::select(vec![48u8, 56, 64]),
        narrow in prop::sample::select(vec![
            "fd00:1:2:5::/64", "fd00:1:2::/52", "fd00:1:2:0:5::/80", "fd00:1:2::5",
            "fd00:1:2::5-fd00:1:2:9::7",
        ]),
        hidden in prop::sample::select(vec![
            "2001:db8:7:5::/64", "2001:db8:7::/50", "2001:db8:7::5", "2001:db8:7:0:8000::/65",
        ]),
        inside in prop::collection::vec(addresses(0xfd00_0001_0002 << 80, 48), 60),
        outside in prop::collection::vec(addresses(0x2001_0db8_0007 << 80, 48), 60),
    ) {
        let (one, two) = (
            text(length, "fd00:1:2::/48", "2001:db8:8::/64"),
            text(length, narrow, hidden),
        );
        let (old, new) = (plan(&one), plan(&two));
        let found = impact(&old, &new);
        let (before, after) = (device(&old), device(&new));
        let peer = "2001:db8:9::9".parse::<std::net::IpAddr>().unwrap();
        let packet = |from, to| {
            let (from, to) = (Endpoint::new(from, 50_000), Endpoint::new(to, 443));
            Packet::first(Protocol::TCP, from, to)
        };
        let sent = inside.iter().map(|a| (0, packet(*a, peer)));
        for (i, packet) in sent.chain(outside.iter().map(|a| (1, packet(peer, *a)))) {
            let id = InterfaceId(i);
            let name = &old.devices[0].interfaces[id.index()].name;
            let (was, is) = (meaning(&before, id, packet), meaning(&after, id, packet));
            let mut holding = found
                .classes
                .iter()
                .filter(|c| c.from.contains(name) && c.area.contains(point(packet)));
            let told = holding.next().map(|c| without_way((c.before.clone(), c.after.clone())));
            let really = (was != is).then_some(without_way((was, is)));
            prop_assert_eq!(told, really, "{:?} by {}\n{}", packet, name, two);
        }
    }
}
