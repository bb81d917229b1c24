//! Logs that are cut, changed or made to do harm: they are read to their end, and what was right in
//! them counts.

use proptest::prelude::*;
use zarnet_formats::nat_log::ipfix::{MOST_IN_DATAGRAM, Session};
use zarnet_formats::nat_log::{EventKind, LogNames, Noted};

use super::{ipfix, made, read, syslog};

fn log(names: &mut LogNames) -> Vec<u8> {
    let parts: Vec<_> = (0..300)
        .map(|n| ([n, 0, n, n], EventKind::MappingCreated, [false, false, false, true]))
        .collect();
    let events = made(&parts, names);
    ipfix(&events, names, MOST_IN_DATAGRAM)
}

#[test]
fn a_file_that_is_cut_keeps_the_messages_before() {
    let mut names = LogNames::default();
    let octets = log(&mut names);
    let mut last = 0;
    for length in (16..octets.len()).step_by(97) {
        let (events, noted, _) = read(&octets[..length], &mut names);
        assert!(events.len() >= last, "more octets, fewer events");
        assert!(noted.bad_messages <= 1);
        last = events.len();
    }
}

#[test]
fn messages_behind_rubbish_are_found_again() {
    let mut names = LogNames::default();
    let octets = log(&mut names);
    let first = usize::from(u16::from_be_bytes([octets[2], octets[3]]));
    let second = first + usize::from(u16::from_be_bytes([octets[first + 2], octets[first + 3]]));
    let whole = read(&octets, &mut names).0.len();
    let mut broken = octets.clone();
    broken.splice(first..first, [0xffu8; 333]);
    let (events, noted, _) = read(&broken, &mut names);
    assert_eq!((events.len(), noted.octets_skipped), (whole, 333));
    // the length of a message lies: it is lost, those behind it are not
    broken = octets.clone();
    broken[first + 2..first + 4].copy_from_slice(&[0xff, 0xff]);
    let (events, noted, _) = read(&broken, &mut names);
    let lost = whole - events.len();
    assert!(lost > 0 && noted.lost as usize == lost, "{lost} {noted:?}");
    assert!(second < octets.len());
}

#[test]
fn templates_that_change_count_from_then_on() {
    let (mut names, mut noted, mut session) =
        (LogNames::default(), Noted::default(), Session::new(""));
    let message = |sets: &[&[u8]]| {
        let body = sets.concat();
        let mut message = vec![0, 10, 0, (16 + body.len()) as u8];
        message.extend([0x69, 0x55, 0xb9, 0, 0, 0, 0, 0, 0, 0, 0, 1]);
        message.extend(body);
        message
    };
    // event, internal and external address; then the two addresses the other way round
    let first: &[u8] = &[0, 2, 0, 20, 1, 0, 0, 3, 0, 230, 0, 1, 0, 8, 0, 4, 0, 225, 0, 4];
    let second: &[u8] = &[0, 2, 0, 20, 1, 0, 0, 3, 0, 230, 0, 1, 0, 225, 0, 4, 0, 8, 0, 4];
    let data: &[u8] = &[1, 0, 0, 13, 8, 10, 0, 0, 5, 203, 0, 113, 2];
    let withdrawn: &[u8] = &[0, 2, 0, 8, 1, 0, 0, 0];
    let mut internal = Vec::new();
    for sets in [&[data][..], &[first, data], &[second, data], &[data, withdrawn, data]] {
        session.read(&message(sets), &mut names, &mut noted, |event, _| {
            internal.push(event.internal.unwrap().to_string());
        });
    }
    assert_eq!(internal, ["10.0.0.5", "203.0.113.2", "203.0.113.2"]);
    assert_eq!(noted.sets_without_template, 2, "before it came, and after it was withdrawn");
}

#[test]
fn a_template_of_nothing_or_too_much_is_none() {
    let (mut names, mut noted) = (LogNames::default(), Noted::default());
    let mut session = Session::new("");
    for fields in [&[0, 2, 0, 8, 1, 0, 0xff, 0xff][..], &[0, 2, 0, 12, 1, 0, 0, 1, 0, 8, 0, 0]] {
        let mut message = vec![0, 10, 0, (16 + fields.len() + 8) as u8];
        message.extend([0x69, 0x55, 0xb9, 0, 0, 0, 0, 0, 0, 0, 0, 1]);
        message.extend(fields);
        message.extend([1, 0, 0, 8, 1, 2, 3, 4]);
        session.read(&message, &mut names, &mut noted, |_, _| panic!("there is no event"));
    }
    assert_eq!((noted.bad_sets, noted.sets_without_template), (2, 2));
}

proptest! {
    #[test]
    fn any_octets_are_read_to_their_end(octets in prop::collection::vec(any::<u8>(), 0..600)) {
        let mut session = Session::new("");
        session.read(&octets, &mut LogNames::default(), &mut Noted::default(), |_, _| {});
        let mut message = vec![0, 10, ((octets.len() + 16) >> 8) as u8, (octets.len() + 16) as u8];
        message.extend([0x69, 0x55, 0xb9, 0, 0, 0, 0, 0, 0, 0, 0, 1]);
        message.extend(&octets);
        session.read(&message, &mut LogNames::default(), &mut Noted::default(), |_, _| {});
    }

    #[test]
    fn changed_octets_are_read_to_their_end(changes in prop::collection::vec((any::<u16>(), any::<u8>()), 1..20)) {
        let mut names = LogNames::default();
        let mut octets = log(&mut names);
        for (place, octet) in changes {
            let place = usize::from(place) % octets.len();
            // the first octets tell that it is a log
            if place > 16 {
                octets[place] = octet;
            }
        }
        read(&octets, &mut names);
    }

    #[test]
    fn changed_lines_are_read_to_their_end(changes in prop::collection::vec((any::<u16>(), any::<u8>()), 1..20)) {
        let mut names = LogNames::default();
        let parts = [([1, 0, 3, 4], EventKind::MappingCreated, [false, false, true, true]); 9];
        let events = made(&parts, &mut names);
        let mut octets = syslog(&events, &names);
        for (place, octet) in changes {
            let place = usize::from(place) % octets.len();
            if place > 2 {
                octets[place] = octet;
            }
        }
        read(&octets, &mut names);
    }
}
