use std::net::{IpAddr, Ipv4Addr};
use std::time::Duration;

use proptest::prelude::*;

use super::*;

fn range(text: &str) -> Result<AddressRange, NotationError> {
    text.parse()
}

/// One set, written in every way that people write it.
#[test]
fn five_ways_to_write_one_set() {
    let meant = range("10.61.16.0-10.61.19.255").unwrap();
    for text in [
        "10.61.16.0/22",
        "10.61.16.0/255.255.252.0",
        "10.61.16.0/0.0.3.255",
        " 10.61.16.0 - 10.61.19.255 ",
    ] {
        assert_eq!(range(text), Ok(meant), "{text}");
    }
}

#[test]
fn a_mask_that_could_be_both_is_refused_with_both_readings() {
    let ambiguous = |mask: &str, as_mask, as_inverted| {
        Err(NotationError::MaskAmbiguous { mask: mask.into(), as_mask, as_inverted })
    };
    assert_eq!(range("10.0.0.1/0.0.0.0"), ambiguous("0.0.0.0", 0, 32));
    assert_eq!(range("10.0.0.1/255.255.255.255"), ambiguous("255.255.255.255", 32, 0));
    assert_eq!(range("10.0.0.0/255.0.255.0"), Err(NotationError::MaskShape("255.0.255.0".into())));
}

#[test]
fn what_is_not_an_address_says_what_it_is_instead() {
    assert_eq!(
        range("10.0.0.9-10.0.0.1"),
        Err(NotationError::Reversed("10.0.0.9-10.0.0.1".into()))
    );
    assert_eq!(
        range("10.0.0.9-2001:db8::1"),
        Err(NotationError::MixedFamilies("10.0.0.9-2001:db8::1".into()))
    );
    assert_eq!(range("10.0.0.0/33"), Err(NotationError::PrefixLength("33".into(), "IPv4", 32)));
    assert_eq!(
        range("2001:db8::/129"),
        Err(NotationError::PrefixLength("129".into(), "IPv6", 128))
    );
    assert_eq!(range("010.0.0.1"), Err(NotationError::Address("010.0.0.1".into())));
    assert_eq!(range(""), Err(NotationError::Empty));
}

#[test]
fn services_with_ports_protocols_and_neither() {
    let service = |text: &str| text.parse::<Service>();
    assert!(service("443/tcp").unwrap().holds(Protocol::TCP, 443));
    assert!(!service("443/tcp").unwrap().holds(Protocol::UDP, 443));
    assert!(service("16384-16484/udp").unwrap().holds(Protocol::UDP, 16_484));
    assert!(service("icmp").unwrap().holds(Protocol::ICMP, 0));
    assert!(service("any").unwrap().holds(Protocol(47), 0));
    assert!(service("any/47").unwrap().holds(Protocol(47), 0));
    assert_eq!(service("443"), Err(NotationError::ProtocolMissing("443".into())));
    assert_eq!(service("70000/tcp"), Err(NotationError::Port("70000".into())));
    assert_eq!(service("9-1/tcp"), Err(NotationError::Reversed("9-1".into())));
    assert_eq!(service("5/gre"), Err(NotationError::PortsNotPossible("gre".into())));
    assert_eq!(service("tpc"), Err(NotationError::Protocol("tpc".into())));
}

#[test]
fn times_in_seconds_and_in_units() {
    for (text, millis) in
        [("90", 90_000), ("1.5", 1_500), ("2m30s", 150_000), ("1h", 3_600_000), ("250ms", 250)]
    {
        assert_eq!(parse_span(text), Ok(Duration::from_millis(millis)), "{text}");
    }
    for text in ["-1", "2x", "1m30", ".", "99999999999999999999", "s"] {
        assert_eq!(parse_span(text), Err(NotationError::Time(text.into())), "{text}");
    }
    for (millis, text) in [
        (61_500, "61.5s"),
        (0, "0s"),
        (120_000, "2m"),
        (7_850_800, "2h10m50.8s"),
        (3_600_001, "1h0.001s"),
    ] {
        assert_eq!(Instant(millis * 1_000_000).to_string(), text);
        assert_eq!(parse_span(text), Ok(Duration::from_millis(millis)), "{text}");
    }
    assert_eq!(Instant(61_500_000_000).seconds(), 61.5);
}

#[test]
fn flows_with_names_ports_and_both_families() {
    let flow: FlowNotation = "kiosk-3 -> 198.51.100.80:443/tcp".parse().unwrap();
    assert_eq!((flow.source.who.as_str(), flow.source.port), ("kiosk-3", None));
    assert_eq!(
        (flow.destination.who.as_str(), flow.destination.port),
        ("198.51.100.80", Some(443))
    );
    let six = "[2001:db8::1]:5000 -> [2001:db8::2]:53/udp";
    assert_eq!(six.parse::<FlowNotation>().unwrap().to_string(), six);
    let wrong = |text: &str| text.parse::<FlowNotation>().unwrap_err();
    assert!(matches!(wrong("a b/tcp"), NotationError::Arrow(_)));
    assert!(matches!(wrong("a -> b"), NotationError::FlowProtocolMissing(_)));
    assert!(matches!(wrong("a -> b:0/tcp"), NotationError::Port(_)));
    assert!(matches!(wrong("10.0.0.1 -> 2001:db8::1/icmp"), NotationError::MixedFamilies(_)));
    assert!(matches!(wrong("10.0.0.1 -> 10.0.0.2:7/gre"), NotationError::PortsNotPossible(_)));
}

fn addresses() -> impl Strategy<Value = IpAddr> {
    prop_oneof![
        any::<u32>().prop_map(|a| IpAddr::from(Ipv4Addr::from(a))),
        any::<[u8; 16]>().prop_map(IpAddr::from)
    ]
}

proptest! {
    #[test]
    fn prefixes_and_ranges_print_what_they_parse(
        a in addresses(),
        b in addresses(),
        length in 0u8..=32,
    ) {
        let prefix = Prefix::holding(a, length).unwrap();
        prop_assert_eq!(prefix.to_string().parse(), Ok(prefix));
        prop_assert!(prefix.contains(a));
        if let Ok(range) = AddressRange::new(a.min(b), a.max(b)) {
            prop_assert_eq!(range.to_string().parse(), Ok(range));
        }
    }

    #[test]
    fn services_print_what_they_parse(protocol in any::<u8>(), a in 1u16.., b in 1u16..) {
        let protocol = Protocol(protocol);
        let ports = if protocol.has_ports() {
            PortRange { first: a.min(b), last: a.max(b) }
        } else {
            PortRange::ALL
        };
        let service = Service { protocol: Some(protocol), ports };
        prop_assert_eq!(service.to_string().parse(), Ok(service));
    }

    #[test]
    fn flows_print_what_they_parse(
        a in addresses(),
        b in addresses(),
        p in 1u16..,
        q in proptest::option::of(1u16..),
    ) {
        prop_assume!(a.is_ipv4() == b.is_ipv4());
        let party = |who: IpAddr, port| PartyNotation { who: who.to_string(), port };
        let flow = FlowNotation {
            source: party(a, q),
            destination: party(b, Some(p)),
            protocol: Protocol::UDP,
        };
        prop_assert_eq!(flow.to_string().parse(), Ok(flow));
    }

    /// A set holds exactly what was put in and not taken out again, whatever the order and the
    /// overlaps.
    #[test]
    fn sets_hold_what_was_put_in(
        steps in proptest::collection::vec((any::<bool>(), 0u8..40, 0u8..12), 0..30),
    ) {
        let at = |n: u8| IpAddr::from([255, 255, 255, 215 + n.min(40)]);
        let (mut set, mut model) = (AddressSet::default(), [false; 41]);
        for (put, first, more) in steps {
            let last = (first + more).min(40);
            let range = AddressRange::new(at(first), at(last)).unwrap();
            if put {
                set.insert(range)
            } else {
                set.remove(range)
            }
            model[usize::from(first)..=usize::from(last)].fill(put);
        }
        for n in 0..=40 {
            prop_assert_eq!(set.contains(at(n)), model[usize::from(n)]);
        }
        prop_assert_eq!(set.count(), model.iter().filter(|x| **x).count() as u128);
        let ranges: Vec<_> = set.ranges().collect();
        prop_assert!(ranges.windows(2).all(|w| w[0].last() < w[1].first()));
    }

    /// No text makes a parser panic.
    #[test]
    fn any_text_parses_or_is_refused(text in "\\PC{0,24}") {
        let _ = (
            text.parse::<AddressRange>(),
            text.parse::<Service>(),
            text.parse::<FlowNotation>(),
            parse_span(&text),
        );
    }
}

proptest! {
    /// A map by prefix finds what looking at every prefix finds, the longest first.
    #[test]
    fn prefixes_are_found_by_what_they_hold(
        entries in prop::collection::vec((any::<u32>(), 0u8..=32), 0..20),
        wanted in any::<u32>(),
        near in any::<prop::sample::Index>(),
    ) {
        let prefixes: Vec<Prefix> = entries
            .iter()
            .filter_map(|(a, l)| Prefix::holding(std::net::Ipv4Addr::from(*a).into(), *l))
            .collect();
        let mut map = PrefixMap::default();
        map.extend(prefixes.iter().copied().zip(0usize..));
        // half of the time an address that one of them holds
        let wanted =
            if entries.is_empty() { wanted } else { near.get(&entries).0 ^ (wanted & 0xff) };
        let address = std::net::Ipv4Addr::from(wanted).into();
        let mut by_hand: Vec<usize> =
            (0..prefixes.len()).filter(|i| prefixes[*i].contains(address)).collect();
        by_hand.sort_by_key(|i| std::cmp::Reverse(prefixes[*i].length()));
        let found: Vec<usize> = map.holding(address).flatten().copied().collect();
        prop_assert_eq!(found, by_hand);
    }
}

#[test]
fn a_range_is_the_fewest_prefixes() {
    let texts = |range: &str| -> Vec<String> {
        let (range, _) = AddressRange::parse(range).unwrap();
        range.prefixes().iter().map(ToString::to_string).collect()
    };
    assert_eq!(
        texts("203.0.113.11-203.0.113.14"),
        ["203.0.113.11/32", "203.0.113.12/31", "203.0.113.14/32"]
    );
    assert_eq!(texts("0.0.0.0-255.255.255.255"), ["0.0.0.0/0"]);
    assert_eq!(texts("255.255.255.255"), ["255.255.255.255/32"]);
    assert_eq!(texts("10.0.0.0-10.0.0.255"), ["10.0.0.0/24"]);
    assert_eq!(texts("::-ffff:ffff:ffff:ffff:ffff:ffff:ffff:ffff"), ["::/0"]);
    assert_eq!(texts("2001:db8::1-2001:db8::2"), ["2001:db8::1/128", "2001:db8::2/128"]);
}
