//! Any text as a document of the standard data models: checked, made a plan of, exported again.
#![no_main]

libfuzzer_sys::fuzz_target!(|data: &[u8]| {
    if let Ok(text) = std::str::from_utf8(data) {
        zarnet_fuzz::document(text);
    }
});
