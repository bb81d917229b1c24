//! What the RFCs demand of a device, one test a requirement, named after it; `docs/conformance.md`
//! has them all in a table. A=10.0.0.5, B=10.0.0.6, C=10.0.0.7 inside; S=198.51.100.10,
//! R=203.0.113.20 outside; the device is 192.0.2.1, its pools begin at 192.0.2.8. Requirements that
//! `device.rs` and the sources test are not tested here again.

use std::collections::HashSet;

use zarnet_testkit::edge::{Edge, OVERLOAD, pool};

const HAIRPIN: &str = r#"
  [[device.rule]]
  name = "all"
  type = "overload"
  as = "uplink"
  hairpin = ["internal"]
"#;

/// Requirements that a script of packets and outcomes shows.
macro_rules! shows {
    ($($name:ident: $behaviour:expr, $rules:expr, $script:expr;)*) => {$(
        #[test]
        fn $name() {
            Edge::new($behaviour, "{}", $rules).play($script);
        }
    )*};
}

shows! {
    rfc3022_s3_1_an_address_is_bound_once: "\"bcp\"", &pool(2, ""),
        "udp 10.0.0.5:1 > 198.51.100.10:1 @0 => 192.0.2.8:1 > 198.51.100.10:1
         tcp 10.0.0.5:2 > 203.0.113.20:2 @1  => 192.0.2.8:2 > 203.0.113.20:2
         gre 10.0.0.5 > 203.0.113.20 @2      => 192.0.2.8 > 203.0.113.20";
    rfc4787_req9_hairpin_obeys_the_filter: "{ filtering = \"address-dependent\" }", HAIRPIN,
        "udp 10.0.0.6:6000 > 198.51.100.10:53 @0 => 192.0.2.1:6000 > 198.51.100.10:53
         udp 10.0.0.5:5000 > 192.0.2.1:6000 @1   => filtered
         udp 10.0.0.5:5000 > 198.51.100.10:53 @2 => 192.0.2.1:5000 > 198.51.100.10:53
         udp 10.0.0.6:6000 > 192.0.2.1:5000 @3   => filtered";
    rfc4787_req9a_hairpin_shows_the_external_end: "\"bcp\"", HAIRPIN,
        "udp 10.0.0.6:6000 > 198.51.100.10:53 @0 => 192.0.2.1:6000 > 198.51.100.10:53
         udp 10.0.0.5:5000 > 192.0.2.1:6000 @1   => 192.0.2.1:5000 > 10.0.0.6:6000
         udp 10.0.0.6:6000 > 192.0.2.1:5000 @2   => 192.0.2.1:6000 > 10.0.0.5:5000";
    rfc5382_req1_mapping_is_reused_for_every_peer: "\"bcp\"", OVERLOAD,
        "tcp 10.0.0.5:5000 > 198.51.100.10:80 @0 => 192.0.2.1:5000 > 198.51.100.10:80
         tcp 10.0.0.5:5000 > 203.0.113.20:80 @0  => 192.0.2.1:5000 > 203.0.113.20:80";
    rfc5382_req2_the_other_side_may_begin: "\"bcp\"", OVERLOAD,
        "tcp 10.0.0.5:5000 > 198.51.100.10:80 @0        => 192.0.2.1:5000 > 198.51.100.10:80
         tcp 203.0.113.20:80 > 192.0.2.1:5000 @1        => 203.0.113.20:80 > 10.0.0.5:5000
         tcp.synack 10.0.0.5:5000 > 203.0.113.20:80 @2  => 192.0.2.1:5000 > 203.0.113.20:80
         tcp.data 203.0.113.20:80 > 192.0.2.1:5000 @300 => 203.0.113.20:80 > 10.0.0.5:5000";
    rfc5382_req2a_simultaneous_open: "{ filtering = \"address-and-port-dependent\" }", OVERLOAD,
        "tcp 10.0.0.5:5000 > 198.51.100.10:80 @0         => 192.0.2.1:5000 > 198.51.100.10:80
         tcp 198.51.100.10:80 > 192.0.2.1:5000 @1        => 198.51.100.10:80 > 10.0.0.5:5000
         tcp.synack 10.0.0.5:5000 > 198.51.100.10:80 @2  => 192.0.2.1:5000 > 198.51.100.10:80
         tcp.synack 198.51.100.10:80 > 192.0.2.1:5000 @2 => 198.51.100.10:80 > 10.0.0.5:5000
         tcp.data 198.51.100.10:80 > 192.0.2.1:5000 @900 => 198.51.100.10:80 > 10.0.0.5:5000";
    rfc5382_req3_filtering_holds_for_tcp: "{ filtering = \"address-dependent\" }", OVERLOAD,
        "tcp 10.0.0.5:5000 > 198.51.100.10:80 @0 => 192.0.2.1:5000 > 198.51.100.10:80
         tcp 203.0.113.20:80 > 192.0.2.1:5000 @1 => filtered
         tcp 198.51.100.10:99 > 192.0.2.1:5000 @1 => 198.51.100.10:99 > 10.0.0.5:5000";
    rfc5382_req4_an_unsolicited_syn_makes_nothing: "\"bcp\"", OVERLOAD,
        "tcp 198.51.100.10:80 > 192.0.2.1:1500 @0 => no-listener
         tcp 10.0.0.5:1500 > 198.51.100.10:80 @3  => 192.0.2.1:1500 > 198.51.100.10:80";
    rfc5382_req7_two_endpoints_never_share_an_external_one: "\"bcp\"", OVERLOAD,
        "tcp 10.0.0.5:5000 > 198.51.100.10:80 @0 => 192.0.2.1:5000 > 198.51.100.10:80
         tcp 10.0.0.6:5000 > 198.51.100.10:80 @0 => 192.0.2.1:5001 > 198.51.100.10:80";
    rfc5382_req8_hairpin_shows_the_external_end: "\"bcp\"", HAIRPIN,
        "tcp 10.0.0.6:6000 > 198.51.100.10:80 @0      => 192.0.2.1:6000 > 198.51.100.10:80
         tcp 10.0.0.5:5000 > 192.0.2.1:6000 @1        => 192.0.2.1:5000 > 10.0.0.6:6000
         tcp.synack 10.0.0.6:6000 > 192.0.2.1:5000 @1 => 192.0.2.1:6000 > 10.0.0.5:5000";
    rfc5508_req1a_a_query_id_is_reused_for_every_peer: "\"bcp\"", OVERLOAD,
        "icmp 10.0.0.5:7 > 198.51.100.10 @0 => 192.0.2.1:7 > 198.51.100.10
         icmp 10.0.0.5:7 > 203.0.113.20 @1  => 192.0.2.1:7 > 203.0.113.20";
    rfc5508_req7_bound_addresses_hairpin_queries: "\"bcp\"",
        &pool(2, "").replace("as = \"lines\"", "as = \"lines\"\nhairpin = [\"internal\"]"),
        "icmp 10.0.0.6:1 > 198.51.100.10 @0     => 192.0.2.8:1 > 198.51.100.10
         icmp 10.0.0.5:7 > 192.0.2.8 @1         => 192.0.2.9:7 > 10.0.0.6
         icmp.reply 10.0.0.6 > 192.0.2.9:7 @1   => 192.0.2.8 > 10.0.0.5:7";
    rfc6888_req2_paired_across_protocols: "\"carrier\"",
        &pool(2, "pick = \"in-turn\"")
            .replace("type = \"pool\"", "type = \"overload\"")
            .replace("lines-out", "all"),
        "gre 10.0.0.5 > 198.51.100.10 @0 => 192.0.2.8 > 198.51.100.10
         gre 10.0.0.6 > 198.51.100.10 @0 => 192.0.2.9 > 198.51.100.10
         gre 10.0.0.5 > 203.0.113.20 @0  => 192.0.2.8 > 203.0.113.20";
    rfc6888_req3_scattered_pools: "\"bcp\"", r#"
  [[device.pool]]
  name = "lines"
  addresses = ["192.0.2.8/31", "192.0.2.12"]
  [[device.rule]]
  name = "out"
  type = "pool"
  as = "lines"
"#,
        "udp 10.0.0.5:1 > 198.51.100.10:53 @0 => 192.0.2.8:1 > 198.51.100.10:53
         udp 10.0.0.6:1 > 198.51.100.10:53 @0 => 192.0.2.9:1 > 198.51.100.10:53
         udp 10.0.0.7:1 > 198.51.100.10:53 @0 => 192.0.2.12:1 > 198.51.100.10:53
         udp 10.0.0.8:1 > 198.51.100.10:53 @0 => pool-exhausted";
    rfc6888_req6_translation_off_for_destinations: "\"bcp\"", &format!("{}{OVERLOAD}", r#"
  [[device.rule]]
  name = "as-they-are"
  type = "exempt"
  destination = "198.51.100.10"
"#),
        "udp 10.0.0.5:5000 > 198.51.100.10:53 @0 => 10.0.0.5:5000 > 198.51.100.10:53
         udp 10.0.0.5:5000 > 203.0.113.20:53 @0  => 192.0.2.1:5000 > 203.0.113.20:53";
    rfc6888_req7_strangers_may_enter:
        "{ preset = \"carrier\", port-assignment = \"sequential\" }", OVERLOAD,
        "udp 10.0.0.5:5000 > 198.51.100.10:53 @0  => 192.0.2.1:1024 > 198.51.100.10:53
         udp 203.0.113.20:9 > 192.0.2.1:1024 @1   => 203.0.113.20:9 > 10.0.0.5:5000";
    rfc6888_req11d_nothing_is_deleted_to_make_room: "{ max-mappings = 1 }", OVERLOAD,
        "udp 10.0.0.5:1 > 198.51.100.10:53 @0   => 192.0.2.1:1 > 198.51.100.10:53
         udp 10.0.0.6:1 > 198.51.100.10:53 @1   => device-full
         udp 198.51.100.10:53 > 192.0.2.1:1 @2  => 198.51.100.10:53 > 10.0.0.5:1";
    rfc7857_s2_2_a_reset_passes_and_data_revives: "\"bcp\"", OVERLOAD,
        "tcp 10.0.0.5:5000 > 198.51.100.10:80 @0          => 192.0.2.1:5000 > 198.51.100.10:80
         tcp.synack 198.51.100.10:80 > 192.0.2.1:5000 @0  => 198.51.100.10:80 > 10.0.0.5:5000
         tcp.rst 198.51.100.10:80 > 192.0.2.1:5000 @10    => 198.51.100.10:80 > 10.0.0.5:5000
         tcp.data 198.51.100.10:80 > 192.0.2.1:5000 @110  => 198.51.100.10:80 > 10.0.0.5:5000
         tcp.data 198.51.100.10:80 > 192.0.2.1:5000 @7000 => 198.51.100.10:80 > 10.0.0.5:5000
         tcp.rst 198.51.100.10:80 > 192.0.2.1:5000 @7000  => 198.51.100.10:80 > 10.0.0.5:5000
         tcp.data 198.51.100.10:80 > 192.0.2.1:5000 @7240 => no-listener";
    rfc7857_s4_a_paired_host_gets_no_other_address:
        r#"{ port-classes = ["1-65535 -> 2000-2000"] }"#,
        &pool(2, "").replace("type = \"pool\"", "type = \"overload\""),
        "udp 10.0.0.5:1 > 198.51.100.10:53 @0 => 192.0.2.8:2000 > 198.51.100.10:53
         udp 10.0.0.5:2 > 198.51.100.10:53 @0 => ports-exhausted
         udp 10.0.0.6:1 > 198.51.100.10:53 @0 => 192.0.2.9:2000 > 198.51.100.10:53";
    rfc7857_s5_s6_each_protocol_has_mappings_of_its_own: "\"bcp\"", OVERLOAD,
        "udp 10.0.0.6:5000 > 198.51.100.10:53 @0 => 192.0.2.1:5000 > 198.51.100.10:53
         udp 10.0.0.5:5000 > 198.51.100.10:53 @0 => 192.0.2.1:5001 > 198.51.100.10:53
         tcp 10.0.0.5:5000 > 198.51.100.10:80 @0 => 192.0.2.1:5000 > 198.51.100.10:80
         udp 203.0.113.20:9 > 192.0.2.1:5000 @1  => 203.0.113.20:9 > 10.0.0.6:5000
         tcp 203.0.113.20:9 > 192.0.2.1:5001 @1  => no-listener";
    rfc7857_s7_refused_packets_keep_nothing_alive:
        "{ filtering = \"address-dependent\", refresh = \"both\" }", OVERLOAD,
        "udp 10.0.0.5:5000 > 198.51.100.10:53 @0  => 192.0.2.1:5000 > 198.51.100.10:53
         udp 203.0.113.20:9 > 192.0.2.1:5000 @100 => filtered
         udp 203.0.113.20:9 > 192.0.2.1:5000 @200 => filtered
         udp 198.51.100.10:53 > 192.0.2.1:5000 @300 => no-listener";
    rfc7857_s11_a_query_id_is_free_with_its_last_session: "\"bcp\"", OVERLOAD,
        "icmp 10.0.0.5:7 > 198.51.100.10 @0 => 192.0.2.1:7 > 198.51.100.10
         icmp 10.0.0.6:7 > 198.51.100.10 @59 => 192.0.2.1:8 > 198.51.100.10
         icmp 10.0.0.7:7 > 198.51.100.10 @60 => 192.0.2.1:7 > 198.51.100.10";
    rfc7857_s12_a_bound_address_takes_queries: "\"bcp\"", &pool(1, ""),
        "udp 10.0.0.5:1 > 198.51.100.10:53 @0   => 192.0.2.8:1 > 198.51.100.10:53
         icmp 203.0.113.20:9 > 192.0.2.8 @1     => 203.0.113.20:9 > 10.0.0.5
         icmp.reply 10.0.0.5 > 203.0.113.20:9 @1 => 192.0.2.8 > 203.0.113.20:9";
    rfc5597_req1_to_3_dccp_by_port: "\"bcp\"", OVERLOAD,
        "dccp 10.0.0.5:5000 > 198.51.100.10:80 @0 => 192.0.2.1:5000 > 198.51.100.10:80
         dccp 10.0.0.5:5000 > 203.0.113.20:80 @0  => 192.0.2.1:5000 > 203.0.113.20:80
         dccp 198.51.100.10:9 > 192.0.2.1:5000 @1 => 198.51.100.10:9 > 10.0.0.5:5000
         dccp 10.0.0.6:5000 > 198.51.100.10:80 @1 => 192.0.2.1:5001 > 198.51.100.10:80";
    rfc6056_s3_1_ports_of_forwards_are_never_chosen:
        r#"{ port-classes = ["1-65535 -> 2000-2001"] }"#,
        &format!("{}{OVERLOAD}", r#"
  [[device.rule]]
  name = "door"
  type = "forward"
  external = "uplink:2000/udp"
  internal = "10.0.0.9:53"
"#),
        "udp 10.0.0.5:2000 > 198.51.100.10:53 @0 => 192.0.2.1:2001 > 198.51.100.10:53
         udp 10.0.0.6:2000 > 198.51.100.10:53 @0 => ports-exhausted
         tcp 10.0.0.6:2000 > 198.51.100.10:53 @0 => 192.0.2.1:2000 > 198.51.100.10:53";
    rfc7422_s2_1_the_first_block_begins_behind_the_system_ports:
        "{ preset = \"carrier\", port-assignment = \"sequential\" }", OVERLOAD,
        "udp 10.0.0.5:5000 > 198.51.100.10:53 @0 => 192.0.2.1:1024 > 198.51.100.10:53
         udp 10.0.0.6:5000 > 198.51.100.10:53 @0 => 192.0.2.1:1280 > 198.51.100.10:53
         udp 10.0.0.5:5001 > 198.51.100.10:53 @0 => 192.0.2.1:1025 > 198.51.100.10:53";
}

/// RFC 4787 §8 REQ-7: an inside prefix that holds an external address does not mix them up.
#[test]
fn rfc4787_req7_overlapping_numbers() {
    let rules = pool(1, "").replace("192.0.2.8-192.0.2.8", "10.0.0.200");
    Edge::bcp(&rules).play(
        "udp 10.0.0.5:1 > 198.51.100.10:53 @0   => 10.0.0.200:1 > 198.51.100.10:53
         udp 198.51.100.10:53 > 10.0.0.200:1 @1 => 198.51.100.10:53 > 10.0.0.5:1",
    );
}

/// RFC 4787 §9 REQ-11, RFC 6056 §3.2: the same seed, the same choices; random ones over the whole
/// range.
#[test]
fn rfc4787_req11_and_rfc6056_s3_2_random_but_deterministic() {
    let ports = || {
        let mut edge = Edge::new("{ port-assignment = \"random\" }", "{}", OVERLOAD);
        let out = (1..=2000)
            .map(|p| edge.send(&format!("udp 10.0.0.5:{} > 198.51.100.10:53 @0", 2000 + p)));
        let port = |text: String| {
            text.split([':', ' ']).nth(1).and_then(|p| p.parse::<u16>().ok()).unwrap()
        };
        out.map(port).collect::<Vec<u16>>()
    };
    let (first, second) = (ports(), ports());
    assert_eq!(first, second);
    assert_eq!(first.iter().collect::<HashSet<_>>().len(), 2000, "no port twice");
    assert!(first.iter().all(|p| *p >= 1024));
    // spread: each of eight parts of the range has its share, within five standard deviations
    for part in 0..8u32 {
        let low = 1024 + part * 8064;
        let here =
            first.iter().filter(|p| (low..low + 8064).contains(&u32::from(**p))).count() as f64;
        assert!((here - 250.0).abs() < 75.0, "{here} of 2000 in part {part}");
    }
    // RFC 6056 §4: not one after the other
    assert!(first.windows(2).filter(|w| w[1] == w[0].wrapping_add(1)).count() < 5);
}

/// RFC 7857 §2.1: the timer of opening sessions is one of its own.
#[test]
fn rfc7857_s2_1_opening_has_its_own_timer() {
    let mut edge = Edge::new("\"bcp\"", "{ tcp-trans-open-timeout = 30 }", OVERLOAD);
    edge.send("tcp 10.0.0.5:5000 > 198.51.100.10:80 @0");
    assert_eq!((edge.mappings(29.9).len(), edge.mappings(30.0).len()), (1, 0));
}

/// RFC 5597 §4 REQ-5 asks for 124 minutes; DCCP goes by `other-timeout` here, which has no state to
/// know better.
#[test]
fn rfc5597_req5_deviates_dccp_goes_by_the_timer_of_other_protocols() {
    let mut edge = Edge::bcp(OVERLOAD);
    edge.send("dccp 10.0.0.5:5000 > 198.51.100.10:80 @0");
    assert_eq!((edge.mappings(119.9).len(), edge.mappings(120.0).len()), (1, 0));
}

/// Errors from outside about a packet of A, from whom they may come, and what becomes of them.
#[test]
fn rfc4787_req12_and_rfc5508_req4_errors_from_outside() {
    for behaviour in ["\"bcp\"", "{ filtering = \"address-and-port-dependent\" }"] {
        let mut edge = Edge::new(behaviour, "{}", OVERLOAD);
        edge.send("udp 10.0.0.6:5000 > 203.0.113.20:9 @0");
        edge.send("udp 10.0.0.5:5000 > 198.51.100.10:53 @0");
        let before = edge.mappings(1.0);
        // REQ-4: the embedded headers are restored, and A is told; REQ-12a: whoever it comes from
        for from in ["198.51.100.10", "203.0.113.77"] {
            assert_eq!(
                edge.error(&format!(
                    "{from} > 192.0.2.1 about udp 192.0.2.1:5001 > 198.51.100.10:53 @1"
                )),
                format!("{from} > 10.0.0.5 about 10.0.0.5:5000 > 198.51.100.10:53")
            );
        }
        // REQ-4, second half: nothing is known of it
        assert_eq!(
            edge.error("198.51.100.10 > 192.0.2.1 about udp 192.0.2.1:7777 > 198.51.100.10:53 @1"),
            "no-session"
        );
        // REQ-12: nothing has changed
        assert_eq!(edge.mappings(1.0), before);
    }
}

/// RFC 5508 §4.2 REQ-5, REQ-5c: errors from inside show an external address, whoever inside sends
/// them.
#[test]
fn rfc5508_req5_errors_from_inside() {
    let mut edge = Edge::bcp(OVERLOAD);
    edge.send("udp 10.0.0.5:5000 > 198.51.100.10:53 @0");
    for from in ["10.0.0.5", "10.0.0.250"] {
        assert_eq!(
            edge.error(&format!(
                "{from} > 198.51.100.10 about udp 198.51.100.10:53 > 10.0.0.5:5000 @1"
            )),
            "192.0.2.1 > 198.51.100.10 about 198.51.100.10:53 > 192.0.2.1:5000"
        );
    }
    assert_eq!(
        edge.error("10.0.0.5 > 198.51.100.10 about udp 198.51.100.10:53 > 10.0.0.5:9 @1"),
        "no-session"
    );
    // one with an address of its own outside shows that
    let mut edge = Edge::bcp(&pool(2, ""));
    edge.send("udp 10.0.0.5:5000 > 198.51.100.10:53 @0");
    edge.send("udp 10.0.0.250:1 > 198.51.100.10:53 @0");
    assert_eq!(
        edge.error("10.0.0.250 > 198.51.100.10 about udp 198.51.100.10:53 > 10.0.0.5:5000 @1"),
        "192.0.2.9 > 198.51.100.10 about 198.51.100.10:53 > 192.0.2.8:5000"
    );
}

/// RFC 5508 §4 REQ-6, RFC 5382 §7.3 REQ-10, RFC 7857 §7.1: errors neither refresh nor end what they
/// are about.
#[test]
fn rfc5508_req6_rfc5382_req10_rfc7857_s7_1_errors_are_read_only() {
    let mut edge = Edge::bcp(OVERLOAD);
    edge.send("icmp 10.0.0.5:7 > 198.51.100.10 @0");
    assert_eq!(
        edge.error("203.0.113.77 > 192.0.2.1 about icmp 192.0.2.1:7 > 198.51.100.10 @50"),
        "203.0.113.77 > 10.0.0.5 about 10.0.0.5:7 > 198.51.100.10"
    );
    assert_eq!(edge.send("icmp.reply 198.51.100.10 > 192.0.2.1:7 @70"), "no-listener");
    edge.send("tcp 10.0.0.5:5000 > 198.51.100.10:80 @100");
    edge.error("198.51.100.10 > 192.0.2.1 about tcp 192.0.2.1:5000 > 198.51.100.10:80 @200");
    assert_eq!((edge.mappings(339.9).len(), edge.mappings(340.0).len()), (1, 0));
    edge.send("udp 10.0.0.5:5000 > 198.51.100.10:53 @400");
    edge.error("10.0.0.5 > 198.51.100.10 about udp 198.51.100.10:53 > 10.0.0.5:5000 @600");
    assert_eq!((edge.mappings(699.9).len(), edge.mappings(700.0).len()), (1, 0));
}

/// RFC 5382 §7.3 REQ-9: errors about TCP are translated like any other.
#[test]
fn rfc5382_req9_errors_about_tcp() {
    let mut edge = Edge::bcp(OVERLOAD);
    edge.send("tcp 10.0.0.5:5000 > 198.51.100.10:80 @0");
    assert_eq!(
        edge.error("203.0.113.77 > 192.0.2.1 about tcp 192.0.2.1:5000 > 198.51.100.10:80 @1"),
        "203.0.113.77 > 10.0.0.5 about 10.0.0.5:5000 > 198.51.100.10:80"
    );
}

/// RFC 5508 §4.3 REQ-7a: an error about a hairpinned packet goes back the way it came.
#[test]
fn rfc5508_req7a_errors_are_hairpinned() {
    let mut edge = Edge::bcp(HAIRPIN);
    edge.send("udp 10.0.0.6:6000 > 198.51.100.10:53 @0");
    edge.send("udp 10.0.0.5:5000 > 192.0.2.1:6000 @1");
    assert_eq!(
        edge.error("10.0.0.6 > 192.0.2.1 about udp 192.0.2.1:5000 > 10.0.0.6:6000 @2"),
        "192.0.2.1 > 10.0.0.5 about 10.0.0.5:5000 > 192.0.2.1:6000"
    );
}

/// RFC 6888 §3 REQ-8 asks for the rest also after state was lost. Settled otherwise: a restart
/// forgets it.
#[test]
fn rfc6888_req8_loss_deviates_a_restart_forgets_what_rests() {
    let behaviour = r#"{ hold-down-timeout = 120, port-classes = ["1-65535 -> 2000-2000"] }"#;
    let mut edge = Edge::new(behaviour, "{}", OVERLOAD);
    edge.send("udp 10.0.0.5:1 > 198.51.100.10:53 @0");
    edge.restart(1.0);
    assert_eq!(
        edge.send("udp 10.0.0.6:1 > 198.51.100.10:53 @2"),
        "192.0.2.1:2000 > 198.51.100.10:53"
    );
}

/// RFC 6296 §3: a static rule between IPv6 prefixes, both ways; what is no prefix is not
/// translated.
#[test]
fn rfc6296_s3_prefixes_through_a_device() {
    let rules = r#"
  [[device.rule]]
  name = "prefix"
  type = "static"
  internal = "fd01:203:405::/48"
  external = "2001:db8:1::/48"
  [[device.rule]]
  name = "one"
  type = "static"
  internal = "fd02::1"
  external = "2001:db8:2::1"
"#;
    Edge::bcp(rules).play(
        "tcp [fd01:203:405:1::1234]:50000 > [2001:db8:ffff::80]:443 @0 \
           => [2001:db8:1:d550::1234]:50000 > [2001:db8:ffff::80]:443
         tcp.synack [2001:db8:ffff::80]:443 > [2001:db8:1:d550::1234]:50000 @0 \
           => [2001:db8:ffff::80]:443 > [fd01:203:405:1::1234]:50000
         udp [2001:db8:ffff::53]:53 > [2001:db8:1:d550::1234]:9 @1 \
           => [2001:db8:ffff::53]:53 > [fd01:203:405:1::1234]:9
         tcp [fd01:203:405:ffff::1]:1 > [2001:db8:ffff::80]:443 @1 => unsupported-family
         tcp [fd02::1]:1 > [2001:db8:ffff::80]:443 @1 => unsupported-family
         tcp [fd03::1]:1 > [2001:db8:ffff::80]:443 @1 => [fd03::1]:1 > [2001:db8:ffff::80]:443",
    );
}
