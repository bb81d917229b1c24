//! Any octets as a stream of syslog, in two pieces.
#![no_main]

use zarnet_formats::nat_log::{Frames, LogNames, Noted, parse_line};

libfuzzer_sys::fuzz_target!(|data: &[u8]| {
    let (mut frames, mut names, mut noted) =
        (Frames::default(), LogNames::default(), Noted::default());
    let (first, second) = data.split_at(data.len() / 2);
    for (piece, ended) in [(first, false), (second, true)] {
        frames.push(piece);
        while let Some(line) = frames.next(ended, &mut noted) {
            let line = line.to_vec();
            let _ = parse_line(&line, &mut names, &mut noted);
        }
    }
});
