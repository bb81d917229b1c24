//! Any text as the table of a device, with names of columns and with numbers.
#![no_main]

use std::sync::LazyLock;

use zarnet_formats::observed::{ColumnMap, Form, parse};

static COLUMNS: LazyLock<Option<ColumnMap>> =
    LazyLock::new(|| ColumnMap::parse("protocol=1,internal=2,external=3").ok());

libfuzzer_sys::fuzz_target!(|data: &[u8]| {
    if let Ok(text) = std::str::from_utf8(data) {
        for columns in [None, COLUMNS.as_ref()] {
            let _ = parse(text, Form { columns, of: None }, &zarnet_fuzz::PLAN);
        }
    }
});
