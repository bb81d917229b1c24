//! What the targets share: a small edge, and traffic played through it.

use std::path::Path;
use std::sync::{Arc, LazyLock};

use zarnet_core::plan::{DeviceId, InterfaceId, Plan};
use zarnet_core::predict::{Options, predict};
use zarnet_core::traffic::{Batches, Item};
use zarnet_formats::plan::{Loaded, from_text};
use zarnet_formats::traffic::{Attempt, Given, Items, Names, Reading, Traffic, TrafficError};

const EDGE: &str = include_str!("../seeds/plan/edge.toml");

/// The edge.
pub static LOADED: LazyLock<Loaded> = LazyLock::new(|| {
    from_text(Path::new("edge.toml"), EDGE.to_owned()).expect(
        "the edge is a \
        plan",
    )
});
/// Its plan, shared by all runs.
pub static PLAN: LazyLock<Arc<Plan>> = LazyLock::new(|| Arc::new(LOADED.plan.clone()));
/// Its names.
pub static NAMES: LazyLock<Names> = LazyLock::new(|| Names::new(&LOADED.plan));

/// Items, read as the program reads them.
struct Filled<'a>(Items<'a>);

impl Batches for Filled<'_> {
    type Error = TrafficError;

    fn fill(&mut self, batch: &mut Vec<Item>, most: usize) -> Option<TrafficError> {
        self.0.fill(batch, most)
    }
}

/// Plays octets as traffic, streaming and sorted, with wrong parts and without.
pub fn play(octets: &[u8]) {
    let given = [Given::Octets(octets.into())];
    for skip_bad in [false, true] {
        let seen_at = Some((DeviceId(0), InterfaceId(0)));
        let reading = Reading { seen_at, skip_bad, ..Reading::default() };
        let Ok(traffic) = Traffic::open(&given, &LOADED, reading) else { continue };
        // what a profile may do in an hour is no matter of reading
        if traffic.loads().any(|l| l.rate * l.lasts as f64 / 1e9 > 1e4) {
            continue;
        }
        let options = Options { sources: Some(traffic.sources()), ..Options::default() };
        for attempt in [Attempt::Streaming, Attempt::Sorted] {
            let items = Filled(traffic.items(attempt));
            let _ = predict(PLAN.clone(), items, traffic.events(), options.clone());
        }
    }
}

/// A capture of a kind that the first octet tells: so that a fuzzer need not find the four octets
/// that captures begin with.
pub fn capture_of(data: &[u8]) -> Option<Vec<u8>> {
    let (kind, rest) = data.split_first()?;
    let magics = [0x0a0d_0d0a_u32, 0xa1b2_c3d4, 0xd4c3_b2a1, 0xa1b2_3c4d];
    Some([&magics[usize::from(kind % 4)].to_be_bytes(), rest].concat())
}

/// Holds a text against what documents must keep: whatever it is, it is read or refused, and a plan
/// that is made of it gives the same document each time.
///
/// # Panics
/// It does not.
pub fn document(text: &str) {
    use zarnet_core::plan::DeviceId;
    use zarnet_formats::data_model::{DataPath, canonical, parse};
    use zarnet_formats::ietf_nat::{ModuleForm, export, import, read_rows};

    let _ = DataPath::parse(text);
    let _ = read_rows(text.as_bytes(), &mut |row| drop(row.pairs()));
    let Ok(document) = parse(text) else { return };
    let Ok(imported) = import(&document, "edge") else { return };
    let path = std::path::Path::new("edge.toml");
    let Ok(loaded) = zarnet_formats::plan::from_text(path, imported.text) else { return };
    if loaded.plan.devices.is_empty() {
        return;
    }
    for form in [ModuleForm::Standard, ModuleForm::WithPolicy] {
        let first = canonical(&export(&loaded.plan, DeviceId(0), form).document);
        let again = canonical(&export(&loaded.plan, DeviceId(0), form).document);
        assert_eq!(first, again);
    }
}
