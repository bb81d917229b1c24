//! One device: packets in, outcomes out. A=10.0.0.5, B=10.0.0.6, C=10.0.0.7 inside;
//! S=198.51.100.10, R=203.0.113.20 outside; the device is 192.0.2.1, its pools begin at 192.0.2.8.
//! Requirement ids are those of the RFCs named.

use zarnet_testkit::edge::{Edge, OVERLOAD, pool};

#[test]
fn rfc4787_req1_mapping_is_reused_for_every_peer() {
    let mut edge = Edge::bcp(OVERLOAD);
    edge.play(
        "udp 10.0.0.5:5000 > 198.51.100.10:53 @0 => 192.0.2.1:5000 > 198.51.100.10:53
         udp 10.0.0.5:5000 > 203.0.113.20:99 @0  => 192.0.2.1:5000 > 203.0.113.20:99
         tcp 10.0.0.5:5000 > 198.51.100.10:80 @0 => 192.0.2.1:5000 > 198.51.100.10:80",
    );
    let mappings = edge.mappings(1.0);
    assert_eq!(mappings.iter().map(|m| m.sessions).sum::<u32>(), 3);
    assert_eq!(mappings.len(), 2, "one for UDP, one for TCP (RFC 7857 §5)");
}

#[test]
fn rfc4787_req1_mapping_may_depend_on_the_peer() {
    let mut edge = Edge::new(r#"{ mapping = "address-and-port-dependent" }"#, "{}", OVERLOAD);
    edge.play(
        "udp 10.0.0.5:5000 > 198.51.100.10:53 @0 => 192.0.2.1:5000 > 198.51.100.10:53
         udp 10.0.0.5:5000 > 198.51.100.10:99 @0 => 192.0.2.1:5001 > 198.51.100.10:99
         udp 10.0.0.5:5000 > 198.51.100.10:53 @9 => 192.0.2.1:5000 > 198.51.100.10:53",
    );
}

#[test]
fn rfc4787_req5c_and_req6_idle_udp_goes_at_300_seconds() {
    for (at, outcome) in [("299", "198.51.100.10:53 > 10.0.0.5:5000"), ("300", "no-listener")] {
        let mut edge = Edge::bcp(OVERLOAD);
        edge.send("udp 10.0.0.5:5000 > 198.51.100.10:53 @0");
        assert_eq!(edge.send(&format!("udp 198.51.100.10:53 > 192.0.2.1:5000 @{at}")), outcome);
    }
    // inbound packets keep it alive only where the device is told so
    for (behaviour, outcome) in
        [("\"bcp\"", "no-listener"), ("{ refresh = \"both\" }", "198.51.100.10:53 > 10.0.0.5:5000")]
    {
        let mut edge = Edge::new(behaviour, "{}", OVERLOAD);
        edge.send("udp 10.0.0.5:5000 > 198.51.100.10:53 @0");
        edge.send("udp 198.51.100.10:53 > 192.0.2.1:5000 @250");
        assert_eq!(edge.send("udp 198.51.100.10:53 > 192.0.2.1:5000 @500"), outcome);
    }
}

#[test]
fn rfc4787_req5a_a_port_may_have_its_own_timer() {
    let mut edge = Edge::new("\"bcp\"", r#"{ per-port = { "53/udp" = 10 } }"#, OVERLOAD);
    edge.play(
        "udp 10.0.0.5:5000 > 198.51.100.10:53 @0   => 192.0.2.1:5000 > 198.51.100.10:53
         udp 198.51.100.10:53 > 192.0.2.1:5000 @11 => no-listener",
    );
}

/// Who may enter after A:5000 has sent to S:53: the same peer, another port of it, another address.
#[test]
fn rfc4787_req8_filtering() {
    let cases = [
        ("endpoint-independent", [true, true, true]),
        ("address-dependent", [true, true, false]),
        ("address-and-port-dependent", [true, false, false]),
    ];
    for (filtering, admitted) in cases {
        let mut edge = Edge::new(&format!("{{ filtering = \"{filtering}\" }}"), "{}", OVERLOAD);
        edge.send("udp 10.0.0.5:5000 > 198.51.100.10:53 @0");
        for (peer, admitted) in
            ["198.51.100.10:53", "198.51.100.10:9", "203.0.113.20:9"].iter().zip(admitted)
        {
            let wanted =
                if admitted { format!("{peer} > 10.0.0.5:5000") } else { "filtered".into() };
            assert_eq!(
                edge.send(&format!("udp {peer} > 192.0.2.1:5000 @1")),
                wanted,
                "{filtering} {peer}"
            );
        }
        // RFC 7857 §6: the mapping of one protocol lets in none of another
        assert_eq!(edge.send("tcp 198.51.100.10:53 > 192.0.2.1:5000 @1"), "no-listener");
    }
}

#[test]
fn rfc5382_req5_and_rfc7857_s2_tcp_states() {
    let mut edge = Edge::bcp(OVERLOAD);
    edge.play(
        "tcp 10.0.0.5:5000 > 198.51.100.10:80 @0              => 192.0.2.1:5000 > 198.51.100.10:80
         tcp.synack 198.51.100.10:80 > 192.0.2.1:5000 @1      => 198.51.100.10:80 > 10.0.0.5:5000
         tcp.data 198.51.100.10:80 > 192.0.2.1:5000 @7440     => 198.51.100.10:80 > 10.0.0.5:5000
         tcp.fin 10.0.0.5:5000 > 198.51.100.10:80 @8000       => 192.0.2.1:5000 > 198.51.100.10:80
         tcp.fin 198.51.100.10:80 > 192.0.2.1:5000 @8001      => 198.51.100.10:80 > 10.0.0.5:5000
         tcp.data 198.51.100.10:80 > 192.0.2.1:5000 @8240.9   => 198.51.100.10:80 > 10.0.0.5:5000
         tcp.data 198.51.100.10:80 > 192.0.2.1:5000 @8241     => no-listener",
    );
    // half open: four minutes from the last SYN
    let mut edge = Edge::bcp(OVERLOAD);
    edge.send("tcp 10.0.0.5:5000 > 198.51.100.10:80 @0");
    edge.send("tcp 10.0.0.5:5000 > 198.51.100.10:80 @100");
    assert_eq!(edge.mappings(339.0).len(), 1);
    assert_eq!(edge.mappings(340.0).len(), 0);
}

#[test]
fn rfc5382_s5_nothing_begins_in_the_middle() {
    let mut edge = Edge::bcp(OVERLOAD);
    edge.play("tcp.data 10.0.0.5:5000 > 198.51.100.10:80 @0 => no-session");
    assert_eq!(edge.mappings(0.0).len(), 0);
}

#[test]
fn rfc5508_req1_and_req2_queries_by_their_id() {
    Edge::bcp(OVERLOAD).play(
        "icmp 10.0.0.5:7 > 198.51.100.10 @0               => 192.0.2.1:7 > 198.51.100.10
         icmp 10.0.0.6:7 > 198.51.100.10 @0               => 192.0.2.1:8 > 198.51.100.10
         icmp 10.0.0.5:7 > 203.0.113.20 @0                => 192.0.2.1:7 > 203.0.113.20
         icmp.reply 198.51.100.10 > 192.0.2.1:8 @1        => 198.51.100.10 > 10.0.0.6:7
         icmp.reply 198.51.100.10 > 192.0.2.1:7 @59       => 198.51.100.10 > 10.0.0.5:7
         icmp.reply 203.0.113.20 > 192.0.2.1:7 @61        => filtered",
    );
}

#[test]
fn rfc3022_s2_2_other_protocols_one_host_for_each_peer() {
    Edge::bcp(OVERLOAD).play(
        "gre 10.0.0.5 > 198.51.100.10 @0 => 192.0.2.1 > 198.51.100.10
         gre 10.0.0.6 > 203.0.113.20 @0  => 192.0.2.1 > 203.0.113.20
         gre 10.0.0.6 > 198.51.100.10 @0 => unsupported-protocol
         gre 198.51.100.10 > 192.0.2.1 @1 => 198.51.100.10 > 10.0.0.5",
    );
}

#[test]
fn rfc3022_s3_3_an_address_goes_back_with_the_last_session() {
    let mut edge = Edge::bcp(&pool(1, ""));
    edge.play(
        "udp 10.0.0.5:1 > 198.51.100.10:53 @0     => 192.0.2.8:1 > 198.51.100.10:53
         tcp 10.0.0.5:2 > 203.0.113.20:80 @1      => 192.0.2.8:2 > 203.0.113.20:80
         udp 10.0.0.6:1 > 198.51.100.10:53 @299   => pool-exhausted
         udp 10.0.0.6:1 > 198.51.100.10:53 @299.9 => pool-exhausted
         udp 10.0.0.6:1 > 198.51.100.10:53 @300   => 192.0.2.8:1 > 198.51.100.10:53",
    );
    // or after the binding timer
    let mut edge = Edge::new("\"bcp\"", "{ binding = 60 }", &pool(1, ""));
    edge.play(
        "udp 10.0.0.5:1 > 198.51.100.10:53 @0     => 192.0.2.8:1 > 198.51.100.10:53
         udp 10.0.0.6:1 > 198.51.100.10:53 @359.9 => pool-exhausted
         udp 10.0.0.6:1 > 198.51.100.10:53 @360   => 192.0.2.8:1 > 198.51.100.10:53",
    );
}

#[test]
fn fixed_rules_both_ways_and_what_they_refuse() {
    let rules = r#"
  [[device.rule]]
  name = "mail"
  type = "static"
  internal = "10.0.0.20-10.0.0.21"
  external = "192.0.2.4-192.0.2.5"
  [[device.rule]]
  name = "gauge"
  type = "forward"
  external = "uplink:24000-24001/tcp"
  internal = "10.0.0.41:4010"
  source = "198.51.100.0/24"
"#;
    Edge::bcp(rules).play(
        "tcp 203.0.113.20:9 > 192.0.2.5:25 @0       => 203.0.113.20:9 > 10.0.0.21:25
         tcp.synack 10.0.0.21:25 > 203.0.113.20:9 @0 => 192.0.2.5:25 > 203.0.113.20:9
         udp 10.0.0.20:7 > 198.51.100.10:53 @0       => 192.0.2.4:7 > 198.51.100.10:53
         gre 198.51.100.10 > 192.0.2.4 @0            => 198.51.100.10 > 10.0.0.20
         tcp 198.51.100.10:9 > 192.0.2.1:24001 @0    => 198.51.100.10:9 > 10.0.0.41:4011
         tcp 203.0.113.20:9 > 192.0.2.1:24001 @0     => filtered
         tcp 198.51.100.10:9 > 192.0.2.1:24002 @0    => no-listener
         tcp 10.0.0.41:4010 > 198.51.100.10:9 @0     => 192.0.2.1:24000 > 198.51.100.10:9
         tcp 10.0.0.41:5000 > 198.51.100.10:9 @0     => 10.0.0.41:5000 > 198.51.100.10:9
         icmp 198.51.100.10:1 > 192.0.2.1 @0         => itself",
    );
}

/// A mapping that depends on the peer may still let others in; what they are answered goes back the
/// same way.
#[test]
fn strangers_under_a_peer_dependent_mapping_are_answered_through_it() {
    Edge::new(r#"{ mapping = "address-dependent" }"#, "{}", OVERLOAD).play(
        "udp 10.0.0.5:5000 > 198.51.100.10:53 @0   => 192.0.2.1:5000 > 198.51.100.10:53
         udp 203.0.113.20:9 > 192.0.2.1:5000 @1    => 203.0.113.20:9 > 10.0.0.5:5000
         udp 10.0.0.5:5000 > 203.0.113.20:9 @2     => 192.0.2.1:5000 > 203.0.113.20:9
         udp 10.0.0.5:5000 > 203.0.113.20:10 @3    => 192.0.2.1:5001 > 203.0.113.20:10
         udp 10.0.0.5:5000 > 198.51.100.10:99 @4   => 192.0.2.1:5000 > 198.51.100.10:99",
    );
}

/// With more rules than are looked at one by one, the first that matches still decides: by source,
/// destination, service, realm, and whether it is enabled.
#[test]
fn the_first_of_many_rules_decides() {
    let rule = |n: usize, more: &str| {
        format!(
            "  [[device.rule]]\n  name = \"r{n}\"\n  type = \"overload\"\n  as = \"192.0.2.{}\"\n\
             {more}\n",
            2 + n % 12
        )
    };
    let mut rules: String = (0..300)
        .map(|n| {
            rule(
                n,
                &format!(
                    "  destination = \"198.51.100.{}\"\n  service = \"{}/tcp\"",
                    n % 100,
                    1 + n / 100
                ),
            )
        })
        .collect();
    rules += &rule(300, "  source = \"10.0.0.5\"\n  enabled = false");
    rules += &rule(301, "  from = \"external\"\n  into = \"internal\"");
    rules += &rule(302, "  source = \"10.0.0.5\"");
    rules += &rule(303, "");
    let mut edge = Edge::bcp(&rules);
    for (source, to, rule) in [
        ("10.0.0.5", "198.51.100.7:1", 7),
        ("10.0.0.5", "198.51.100.7:3", 207),
        ("10.0.0.5", "198.51.100.99:2", 199),
        ("10.0.0.5", "198.51.100.7:4", 302),
        ("10.0.0.6", "198.51.100.107:1", 303),
    ] {
        let out = edge.send(&format!("tcp {source}:5000 > {to} @0"));
        assert!(out.starts_with(&format!("192.0.2.{}:", 2 + rule % 12)), "{source} {to}: {out}");
    }
}
