//! Any text as the file of a plan: read into a draft, not built.
#![no_main]

libfuzzer_sys::fuzz_target!(|data: &[u8]| {
    if let Ok(text) = std::str::from_utf8(data) {
        zarnet_formats::plan::draft(text);
    }
});
