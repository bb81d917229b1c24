//! Any octets as messages of IPFIX.
#![no_main]

use zarnet_formats::nat_log::ipfix::{Message, Session};
use zarnet_formats::nat_log::{LogNames, Noted};

libfuzzer_sys::fuzz_target!(|data: &[u8]| {
    let (mut session, mut names, mut noted) =
        (Session::new(""), LogNames::default(), Noted::default());
    let mut rest = data;
    while let Some(message) = Message::header(rest).filter(|m| m.length <= rest.len()) {
        let (message, after) = rest.split_at(message.length);
        session.read(message, &mut names, &mut noted, |_, _| {});
        rest = after;
    }
    session.read(rest, &mut names, &mut noted, |_, _| {});
});
