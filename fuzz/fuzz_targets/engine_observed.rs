//! Any text as the table of a device, compared with a prediction.
#![no_main]

use std::convert::Infallible;
use std::sync::LazyLock;

use zarnet_analysis::compare::compare;
use zarnet_formats::traffic::Begun;
use zarnet_core::predict::{Options, Prediction, predict};
use zarnet_core::traffic::{Item, OneByOne};
use zarnet_formats::observed::{Form, parse};
use zarnet_fuzz::PLAN;

static PREDICTION: LazyLock<Option<Prediction>> = LazyLock::new(|| {
    let nothing = std::iter::empty::<Result<Item, Infallible>>();
    predict(PLAN.clone(), OneByOne(nothing), Vec::new(), Options::default()).ok()
});

libfuzzer_sys::fuzz_target!(|data: &[u8]| {
    let Ok(text) = std::str::from_utf8(data) else { return };
    if let (Ok(observed), Some(prediction)) =
        (parse(text, Form::default(), &PLAN), PREDICTION.as_ref())
    {
        compare(prediction, &observed, &Begun::default());
    }
});
