//! Any octets as the blocks of a capture, and the frames in them.
#![no_main]

libfuzzer_sys::fuzz_target!(|data: &[u8]| {
    if let Some(capture) = zarnet_fuzz::capture_of(data) {
        let _ = zarnet_formats::traffic::single::capture(&capture.into());
    }
});
