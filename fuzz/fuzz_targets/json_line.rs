//! Any octets as a line of a list in JSON Lines.
#![no_main]

libfuzzer_sys::fuzz_target!(|data: &[u8]| {
    let _ = zarnet_formats::traffic::single::json_line(data, &zarnet_fuzz::NAMES);
});
