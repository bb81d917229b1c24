//! Any octets as a line of a flow list, read quickly and carefully.
#![no_main]

libfuzzer_sys::fuzz_target!(|data: &[u8]| {
    let _ = zarnet_formats::traffic::single::csv_line(data, &zarnet_fuzz::NAMES);
});
