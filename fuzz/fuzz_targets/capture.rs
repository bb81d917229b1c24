//! Any octets behind the first four of a capture, played through a small edge.
#![no_main]

use std::io::Write;
use std::path::Path;
use std::sync::{Arc, LazyLock};

use libfuzzer_sys::fuzz_target;
use zarnet_core::plan::{DeviceId, InterfaceId};
use zarnet_core::predict::{Options, predict};
use zarnet_core::traffic::{Batches, Item};
use zarnet_formats::plan::Loaded;
use zarnet_formats::traffic::{Attempt, Given, Items, Reading, Traffic, TrafficError};

static PLAN: LazyLock<Loaded> = LazyLock::new(|| {
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../demo/saltmere/harbour.toml");
    zarnet_formats::plan::load(Path::new(path)).unwrap()
});

/// Read as the program reads it.
struct Filled<'a>(Items<'a>);

impl Batches for Filled<'_> {
    type Error = TrafficError;

    fn fill(&mut self, batch: &mut Vec<Item>, most: usize) -> Option<TrafficError> {
        self.0.fill(batch, most)
    }
}

fuzz_target!(|data: &[u8]| {
    let mut file = tempfile::NamedTempFile::new_in("/dev/shm").unwrap();
    let Some((kind, rest)) = data.split_first() else { return };
    let magics = [0x0a0d_0d0au32, 0xa1b2_c3d4, 0xd4c3_b2a1, 0xa1b2_3c4d];
    file.write_all(&magics[usize::from(kind % 4)].to_be_bytes()).unwrap();
    file.write_all(rest).unwrap();
    let given = [Given::File(file.path().into())];
    for skip_bad in [false, true] {
        let Ok(traffic) = Traffic::open(
            &given,
            &PLAN,
            Reading { seen_at: Some((DeviceId(0), InterfaceId(0))), skip_bad, ..Reading::default() },
        ) else {
            continue;
        };
        traffic.errors();
        let options = Options { sources: Some(traffic.sources()), ..Options::default() };
        for attempt in [Attempt::Streaming, Attempt::Sorted] {
            let items = Filled(traffic.items(attempt));
            let _ = predict(Arc::new(PLAN.plan.clone()), items, traffic.events(), options.clone());
        }
    }
});
