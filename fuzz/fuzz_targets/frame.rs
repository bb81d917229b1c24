//! Any octets as a frame; the first octet tells the link type.
#![no_main]

const LINKS: [i32; 8] = [1, 101, 0, 12, 113, 276, 228, 108];

libfuzzer_sys::fuzz_target!(|data: &[u8]| {
    if let Some((link, frame)) = data.split_first() {
        zarnet_formats::traffic::single::frame(LINKS[usize::from(link % 8)], frame);
    }
});
