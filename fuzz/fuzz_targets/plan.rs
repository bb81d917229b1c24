//! Any text as a plan: it loads or is refused; what loads can be audited and used.
#![no_main]

use std::path::Path;
use std::sync::Arc;

use libfuzzer_sys::fuzz_target;
use zarnet_core::audit::audit;
use zarnet_core::predict::{Options, predict};
use zarnet_formats::plan::from_text;
use zarnet_formats::traffic::{Attempt, Given, Reading, Traffic};

fuzz_target!(|data: &[u8]| {
    let Ok(text) = std::str::from_utf8(data) else { return };
    let Ok(loaded) = from_text(Path::new("fuzz.toml"), text.to_owned()) else { return };
    audit(&loaded.plan);
    let given = ["10.0.0.5 -> 198.51.100.1:80/tcp", "198.51.100.1:9 -> 192.0.2.1:80/tcp"].map(|f| Given::Flow(f.into()));
    let Ok(traffic) = Traffic::open(&given, &loaded, Reading::default()) else { return };
    let items = traffic.items(Attempt::Streaming);
    let _ = predict(Arc::new(loaded.plan.clone()), items, Vec::new(), Options::default());
});
