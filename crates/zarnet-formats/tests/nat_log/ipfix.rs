//! What RFC 7011 and RFC 8158 ask for, octet by octet.

use zarnet_formats::nat_log::ipfix::{MOST_IN_DATAGRAM, MOST_IN_FILE, Session, Writer};
use zarnet_formats::nat_log::{EventKind, LogNames, Noted, TranslationEvent};

use super::{BEGINS, event, ipfix, made};

/// The checked example of the digest: a template and one event 8.
const EXAMPLE: &str = "000a004e6955b9000000000000000001\
    000200240100000701430008\
    00e60001000800040 0e10004000400010007000200e30002\
    0100001a0000019b76daa80008 0a000007c000020111138804 07";

fn octets(hex: &str) -> Vec<u8> {
    let digits: String = hex.chars().filter(char::is_ascii_hexdigit).collect();
    (0..digits.len())
        .step_by(2)
        .map(|i| u8::from_str_radix(&digits[i..i + 2], 16).unwrap())
        .collect()
}

/// Mappings that are made one after the other.
fn mappings(count: u16, names: &mut LogNames) -> Vec<TranslationEvent> {
    let parts: Vec<_> = (0..count)
        .map(|n| ([n, 0, n, n], EventKind::MappingCreated, [false, false, false, true]))
        .collect();
    made(&parts, names)
}

fn messages(octets: &[u8]) -> Vec<&[u8]> {
    let (mut all, mut rest) = (Vec::new(), octets);
    while !rest.is_empty() {
        let length = usize::from(u16::from_be_bytes([rest[2], rest[3]]));
        let (message, after) = rest.split_at(length);
        all.push(message);
        rest = after;
    }
    all
}

#[test]
fn rfc8158_s4_6_3_a_bib_create_event_is_read() {
    let (mut names, mut noted, mut events) = (LogNames::default(), Noted::default(), Vec::new());
    let octets = octets(EXAMPLE);
    assert_eq!(octets.len(), 78);
    Session::new("").read(&octets, &mut names, &mut noted, |event, _| events.push(event));
    let [event] = events[..] else { panic!("{events:?}") };
    assert_eq!((event.kind, event.at), (EventKind::MappingCreated, 1_767_225_600_000));
    assert_eq!(event.internal.unwrap().to_string(), "10.0.0.7");
    assert_eq!(event.external.unwrap().to_string(), "192.0.2.1");
    assert_eq!((event.internal_port, event.external_port), (Some(5000), Some(1031)));
    assert_eq!(event.protocol.map(|p| p.0), Some(17));
    assert_eq!(names.get(event.device), "domain-1");
}

#[test]
fn rfc7011_s3_1_sequence_numbers_count_data_records_before_a_message() {
    let mut names = LogNames::default();
    let events = mappings(400, &mut names);
    let octets = ipfix(&events, &names, MOST_IN_DATAGRAM);
    let messages = messages(&octets);
    assert!(messages.len() > 5);
    let (mut session, mut before) = (Session::new(""), 0);
    for message in messages {
        let sequence = u32::from_be_bytes([message[8], message[9], message[10], message[11]]);
        assert_eq!(sequence, before);
        let (mut noted, mut events) = (Noted::default(), 0);
        session.read(message, &mut names, &mut noted, |_, _| events += 1);
        // the name of the device and what our own two elements are come with the first one
        before += events + if before == 0 { 3 } else { 0 };
        assert_eq!(noted.lost, 0);
    }
    assert_eq!(before, 403);
}

#[test]
fn rfc7011_s8_1_messages_that_are_missing_are_counted_and_late_ones_too() {
    let mut names = LogNames::default();
    let events = mappings(400, &mut names);
    let octets = ipfix(&events, &names, MOST_IN_DATAGRAM);
    let mut messages = messages(&octets);
    let lost = messages.remove(3);
    let late = messages.remove(4);
    messages.insert(6, late);
    let (mut session, mut noted, mut got) = (Session::new(""), Noted::default(), 0);
    for message in messages {
        session.read(message, &mut names, &mut noted, |_, _| got += 1);
    }
    // the late one was missing when the one after it came, and is no longer
    assert_eq!((noted.late_messages, noted.missing.len()), (1, 1));
    let mut of_lost = 0;
    session.read(lost, &mut names, &mut Noted::default(), |_, _| of_lost += 1);
    assert_eq!((got + of_lost, noted.lost, noted.missing[0].records), (400, of_lost, of_lost));
}

#[test]
fn rfc7011_s8_4_templates_are_sent_again_for_who_missed_them() {
    let mut names = LogNames::default();
    let events = mappings(20, &mut names);
    let (mut writer, mut out) = (Writer::new(MOST_IN_DATAGRAM), Vec::new());
    let mut put = |message: &[u8]| {
        out.push(message.to_vec());
        Ok::<(), std::convert::Infallible>(())
    };
    for (n, event) in events.iter().enumerate() {
        if n == 10 {
            writer.flush(&mut put).unwrap();
            writer.introduce_again();
        }
        writer.write(event, &names, &mut put).unwrap();
    }
    writer.flush(&mut put).unwrap();
    // who heard nothing before understands the second half, name of the device and all
    let (mut session, mut noted, mut got) = (Session::new(""), Noted::default(), Vec::new());
    let mut fresh = LogNames::default();
    session.read(&out[1], &mut fresh, &mut noted, |event, names| {
        got.push((event.external_port, names.get(event.device).to_owned()));
    });
    assert_eq!(got.len(), 10);
    assert!(got.iter().all(|(_, device)| device == "edge"));
    assert_eq!(noted.sets_without_template, 0);
}

#[test]
fn rfc8158_s4_1_destinations_are_left_out_unless_they_are_asked_for() {
    let mut names = LogNames::default();
    let one: TranslationEvent =
        event(&mut names, [1, 0, 3, 4], EventKind::SessionCreated, [false, false, false, true]);
    let octets = ipfix(&[one], &names, MOST_IN_FILE);
    // destinationIPv4Address is element 12, of four octets
    assert!(!octets.windows(4).any(|w| w == [0, 12, 0, 4]));
    assert_eq!(one.at, BEGINS + 37);
}

#[test]
fn rfc7011_s6_2_numbers_may_be_shorter_than_their_type() {
    // ports of one octet, and an octet of padding
    let message = octets(
        "000a0048 6955b900 00000000 00000001 \
         00020020 01000006 01430008 00e60001 00080004 00e10004 00070001 00e30001 \
         01000018 0000019b76daa800 08 0a000007 c0000201 11 07 00",
    );
    let (mut noted, mut ports) = (Noted::default(), Vec::new());
    Session::new("").read(&message, &mut LogNames::default(), &mut noted, |event, _| {
        ports.push((event.internal_port, event.external_port));
    });
    assert_eq!((ports, noted.bad_sets), (vec![(Some(0x11), Some(7))], 0));
}
