//! Any octets as the table of a device: it is read or refused; what is read can be compared.
#![no_main]

use std::convert::Infallible;
use std::io::Write;
use std::path::Path;
use std::sync::Arc;

use libfuzzer_sys::fuzz_target;
use zarnet_core::compare::{Begun, compare};
use zarnet_core::predict::{Options, predict};
use zarnet_core::traffic::Item;
use zarnet_formats::observed::{ColumnMap, read};
use zarnet_formats::plan::from_text;

const PLAN: &str = include_str!("../../demo/faults/chain-wrong-port.toml");

fuzz_target!(|data: &[u8]| {
    let Ok(loaded) = from_text(Path::new("fuzz.toml"), PLAN.to_owned()) else { return };
    let Ok(mut file) = tempfile::NamedTempFile::new() else { return };
    let Ok(()) = file.write_all(data) else { return };
    let map = ColumnMap::parse("protocol=1,internal=2,external=3").ok();
    let nothing = std::iter::empty::<Result<Item, Infallible>>();
    let Ok(prediction) = predict(Arc::new(loaded.plan.clone()), nothing, Vec::new(), Options::default()) else { return };
    for columns in [None, map.as_ref()] {
        if let Ok(observed) = read(file.path(), columns, Some(zarnet_core::plan::DeviceId(0)), &loaded.plan) {
            compare(&prediction, &observed, &Begun::default());
        }
    }
});
