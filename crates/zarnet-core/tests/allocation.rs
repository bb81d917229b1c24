//! Which external end a new mapping gets: picks, ports, parity, blocks, limits, fallbacks.

use zarnet_testkit::edge::{Edge, OVERLOAD, pool};

#[test]
fn rfc4787_req2_a_host_keeps_one_address_of_a_pool() {
    let rules = r#"
  [[device.pool]]
  name = "lines"
  addresses = "192.0.2.8-192.0.2.9"
  pick = "in-turn"
  [[device.rule]]
  name = "all"
  type = "overload"
  as = "lines"
"#;
    Edge::bcp(rules).play(
        "udp 10.0.0.5:5000 > 198.51.100.10:53 @0 => 192.0.2.8:5000 > 198.51.100.10:53
         udp 10.0.0.6:5000 > 198.51.100.10:53 @1 => 192.0.2.9:5000 > 198.51.100.10:53
         tcp 10.0.0.5:5001 > 198.51.100.10:80 @2 => 192.0.2.8:5001 > 198.51.100.10:80
         icmp 10.0.0.5:7 > 203.0.113.20 @3       => 192.0.2.8:7 > 203.0.113.20",
    );
    Edge::new(r#"{ pooling = "arbitrary" }"#, "{}", rules).play(
        "udp 10.0.0.5:5000 > 198.51.100.10:53 @0 => 192.0.2.8:5000 > 198.51.100.10:53
         udp 10.0.0.5:5001 > 198.51.100.10:53 @1 => 192.0.2.9:5001 > 198.51.100.10:53",
    );
}

/// `by-source` and paired: a host stays where its source puts it; who finds no room there goes on
/// to the next address, and then stays there. Two addresses with two ports each; 10.0.0.4 and
/// 10.0.0.6 begin at the first of them.
#[test]
fn rfc4787_req2_by_source_hosts_stay_at_home_or_where_they_went() {
    let rules = pool(2, "pick = \"by-source\"").replace("type = \"pool\"", "type = \"overload\"");
    let behaviour =
        r#"{ port-assignment = "sequential", port-classes = ["1-65535 -> 3000-3001"] }"#;
    Edge::new(behaviour, "{}", &rules).play(
        "udp 10.0.0.4:1 > 198.51.100.10:53 @0   => 192.0.2.8:3000 > 198.51.100.10:53
         udp 10.0.0.4:2 > 198.51.100.10:53 @1   => 192.0.2.8:3001 > 198.51.100.10:53
         udp 10.0.0.6:1 > 198.51.100.10:53 @2   => 192.0.2.9:3000 > 198.51.100.10:53
         udp 10.0.0.4:3 > 198.51.100.10:53 @3   => ports-exhausted
         udp 10.0.0.6:2 > 198.51.100.10:53 @4   => 192.0.2.9:3001 > 198.51.100.10:53
         udp 10.0.0.5:1 > 198.51.100.10:53 @5   => ports-exhausted
         udp 10.0.0.6:1 > 198.51.100.10:53 @250 => 192.0.2.9:3000 > 198.51.100.10:53
         udp 10.0.0.6:3 > 198.51.100.10:53 @310 => 192.0.2.9:3001 > 198.51.100.10:53
         udp 10.0.0.4:9 > 198.51.100.10:53 @311 => 192.0.2.8:3000 > 198.51.100.10:53",
    );
    // refused at once: nobody has gone elsewhere before
    Edge::new(behaviour, "{}", &rules).play(
        "udp 10.0.0.4:1 > 198.51.100.10:53 @0   => 192.0.2.8:3000 > 198.51.100.10:53
         udp 10.0.0.6:2 > 198.51.100.10:53 @1   => 192.0.2.8:3001 > 198.51.100.10:53
         udp 10.0.0.4:3 > 198.51.100.10:53 @2   => ports-exhausted
         udp 10.0.0.8:1 > 198.51.100.10:53 @3   => 192.0.2.9:3000 > 198.51.100.10:53
         udp 10.0.0.6:2 > 198.51.100.10:53 @200 => 192.0.2.8:3001 > 198.51.100.10:53
         udp 10.0.0.8:2 > 198.51.100.10:53 @302 => 192.0.2.9:3001 > 198.51.100.10:53
         udp 10.0.0.6:3 > 198.51.100.10:53 @302 => 192.0.2.8:3000 > 198.51.100.10:53",
    );
}

#[test]
fn rfc4787_req3_two_endpoints_never_share_an_external_one() {
    Edge::bcp(OVERLOAD).play(
        "udp 10.0.0.5:5000 > 198.51.100.10:53 @0 => 192.0.2.1:5000 > 198.51.100.10:53
         udp 10.0.0.6:5000 > 198.51.100.10:53 @0 => 192.0.2.1:5001 > 198.51.100.10:53
         udp 10.0.0.7:5001 > 198.51.100.10:53 @0 => 192.0.2.1:5002 > 198.51.100.10:53",
    );
}

#[test]
fn rfc4787_req3a_ports_stay_in_their_class() {
    Edge::bcp(OVERLOAD).play(
        "udp 10.0.0.5:1023 > 198.51.100.10:53 @0  => 192.0.2.1:1023 > 198.51.100.10:53
         udp 10.0.0.6:1023 > 198.51.100.10:53 @0  => 192.0.2.1:1 > 198.51.100.10:53
         udp 10.0.0.5:65535 > 198.51.100.10:53 @0 => 192.0.2.1:65535 > 198.51.100.10:53
         udp 10.0.0.6:65535 > 198.51.100.10:53 @0 => 192.0.2.1:1024 > 198.51.100.10:53
         udp 10.0.0.7:0 > 198.51.100.10:53 @0     => 192.0.2.1:2 > 198.51.100.10:53",
    );
}

#[test]
fn rfc4787_req4_parity_is_kept_where_it_is_asked_for() {
    Edge::new("{ port-parity = true }", "{}", OVERLOAD).play(
        "udp 10.0.0.5:5004 > 198.51.100.10:53 @0 => 192.0.2.1:5004 > 198.51.100.10:53
         udp 10.0.0.6:5004 > 198.51.100.10:53 @0 => 192.0.2.1:5006 > 198.51.100.10:53
         udp 10.0.0.7:5005 > 198.51.100.10:53 @0 => 192.0.2.1:5005 > 198.51.100.10:53",
    );
}

#[test]
fn addresses_are_picked_as_the_pool_says() {
    let hosts = ["10.0.0.7", "10.0.0.6", "10.0.0.5"];
    for (pick, wanted) in [
        ("lowest", [8, 9, 10]),
        ("highest", [10, 9, 8]),
        ("in-turn", [8, 9, 10]),
        ("by-source", [10, 9, 8]),
    ] {
        let mut edge = Edge::bcp(&pool(3, &format!("pick = \"{pick}\"")));
        for (host, last) in hosts.iter().zip(wanted) {
            let out = edge.send(&format!("udp {host}:1 > 198.51.100.10:53 @0"));
            assert_eq!(out, format!("192.0.2.{last}:1 > 198.51.100.10:53"), "{pick}");
        }
        assert_eq!(edge.send("udp 10.0.0.9:1 > 198.51.100.10:53 @0"), "pool-exhausted");
    }
}

/// RFC 6888 REQ-8: a freed port rests before another host gets it; its own host may have it back,
/// and TCP does not wait.
#[test]
fn rfc6888_req8_freed_ports_rest() {
    let behaviour = r#"{ hold-down-timeout = 120, port-classes = ["1-65535 -> 2000-2000"] }"#;
    Edge::new(behaviour, "{}", OVERLOAD).play(
        "udp 10.0.0.5:1 > 198.51.100.10:53 @0     => 192.0.2.1:2000 > 198.51.100.10:53
         udp 10.0.0.6:1 > 198.51.100.10:53 @419   => ports-exhausted
         udp 10.0.0.6:1 > 198.51.100.10:53 @420   => 192.0.2.1:2000 > 198.51.100.10:53
         udp 10.0.0.6:9 > 198.51.100.10:53 @720   => 192.0.2.1:2000 > 198.51.100.10:53
         tcp 10.0.0.5:1 > 198.51.100.10:80 @720   => 192.0.2.1:2000 > 198.51.100.10:80
         tcp 10.0.0.6:1 > 198.51.100.10:80 @960   => 192.0.2.1:2000 > 198.51.100.10:80",
    );
}

/// RFC 6888 REQ-4, REQ-11: limits refuse what is new and delete nothing.
#[test]
fn rfc6888_req4_limits() {
    let mut edge = Edge::new("{ ports-per-host = 2 }", "{}", OVERLOAD);
    edge.play(
        "udp 10.0.0.5:1 > 198.51.100.10:53 @0 => 192.0.2.1:1 > 198.51.100.10:53
         udp 10.0.0.5:2 > 198.51.100.10:53 @0 => 192.0.2.1:2 > 198.51.100.10:53
         udp 10.0.0.5:2 > 203.0.113.20:53 @0  => 192.0.2.1:2 > 203.0.113.20:53
         udp 10.0.0.5:3 > 198.51.100.10:53 @0 => host-limit
         udp 10.0.0.6:3 > 198.51.100.10:53 @0 => 192.0.2.1:3 > 198.51.100.10:53",
    );
    let mut edge = Edge::new("{ max-sessions = 1 }", "{}", OVERLOAD);
    edge.play(
        "udp 10.0.0.5:1 > 198.51.100.10:53 @0 => 192.0.2.1:1 > 198.51.100.10:53
         udp 10.0.0.6:1 > 198.51.100.10:53 @0 => device-full
         udp 10.0.0.5:1 > 198.51.100.10:53 @1 => 192.0.2.1:1 > 198.51.100.10:53",
    );
    assert_eq!(edge.mappings(1.0).len(), 1);
}

/// RFC 7422: ports in blocks, the lowest free one for each host.
#[test]
fn rfc7422_s2_blocks() {
    let behaviour = r#"{ block-size = 2, port-classes = ["1-65535 -> 2000-2004"] }"#;
    Edge::new(behaviour, "{}", OVERLOAD).play(
        "udp 10.0.0.5:1 > 198.51.100.10:53 @0 => 192.0.2.1:2000 > 198.51.100.10:53
         udp 10.0.0.6:1 > 198.51.100.10:53 @0 => 192.0.2.1:2002 > 198.51.100.10:53
         udp 10.0.0.5:2 > 198.51.100.10:53 @0 => 192.0.2.1:2001 > 198.51.100.10:53
         udp 10.0.0.5:3 > 198.51.100.10:53 @0 => ports-exhausted
         udp 10.0.0.6:2 > 198.51.100.10:53 @0 => 192.0.2.1:2003 > 198.51.100.10:53",
    );
}

#[test]
fn rfc7857_s3_one_port_may_serve_several_peers() {
    let behaviour = r#"{ mapping = "address-dependent", port-overloading = true }"#;
    Edge::new(behaviour, "{}", OVERLOAD).play(
        "udp 10.0.0.5:5000 > 198.51.100.10:53 @0 => 192.0.2.1:5000 > 198.51.100.10:53
         udp 10.0.0.6:5000 > 203.0.113.20:53 @0  => 192.0.2.1:5000 > 203.0.113.20:53
         udp 10.0.0.7:5000 > 203.0.113.20:99 @0  => 192.0.2.1:5001 > 203.0.113.20:99
         udp 203.0.113.20:53 > 192.0.2.1:5000 @1 => 203.0.113.20:53 > 10.0.0.6:5000
         udp 198.51.100.10:9 > 192.0.2.1:5000 @1 => 198.51.100.10:9 > 10.0.0.5:5000
         udp 198.51.100.99:9 > 192.0.2.1:5000 @1 => filtered",
    );
}

#[test]
fn used_up_leads_to_the_fallback_or_passes() {
    let with = |fallback: &str| {
        pool(1, "")
            .replace("as = \"lines\"", &format!("as = \"lines\"\nwhen-exhausted = \"{fallback}\""))
    };
    Edge::bcp(&with("uplink")).play(
        "udp 10.0.0.5:1 > 198.51.100.10:53 @0 => 192.0.2.8:1 > 198.51.100.10:53
         udp 10.0.0.6:1 > 198.51.100.10:53 @0 => 192.0.2.1:1 > 198.51.100.10:53
         udp 10.0.0.6:2 > 198.51.100.10:53 @301 => 192.0.2.8:2 > 198.51.100.10:53",
    );
    Edge::bcp(&with("pass")).play(
        "udp 10.0.0.5:1 > 198.51.100.10:53 @0 => 192.0.2.8:1 > 198.51.100.10:53
         udp 10.0.0.6:1 > 198.51.100.10:53 @0 => 10.0.0.6:1 > 198.51.100.10:53",
    );
}
