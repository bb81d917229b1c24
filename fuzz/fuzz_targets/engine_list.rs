//! Any octets as a flow list or scenario, played through a small edge.
#![no_main]

libfuzzer_sys::fuzz_target!(|data: &[u8]| {
    zarnet_fuzz::play(data);
});
