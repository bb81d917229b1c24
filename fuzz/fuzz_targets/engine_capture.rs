//! Any octets as a capture, played through a small edge.
#![no_main]

libfuzzer_sys::fuzz_target!(|data: &[u8]| {
    if let Some(capture) = zarnet_fuzz::capture_of(data) {
        zarnet_fuzz::play(&capture);
    }
});
