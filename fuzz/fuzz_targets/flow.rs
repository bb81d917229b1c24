//! Any text as a flow in its notation: what is read is written and read back as the same.
#![no_main]

use zarnet_core::net::{FlowNotation, Instant};

libfuzzer_sys::fuzz_target!(|data: &[u8]| {
    if let Ok(text) = std::str::from_utf8(data) {
        let _ = text.parse::<FlowNotation>();
        let _ = zarnet_fuzz::NAMES.flow(text, Instant::ZERO);
    }
});
