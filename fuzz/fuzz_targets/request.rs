//! Any octets as a request to a stand-in.
#![no_main]

libfuzzer_sys::fuzz_target!(|data: &[u8]| {
    let _ = zarnet_live::stand_in::answer_octets(data);
});
