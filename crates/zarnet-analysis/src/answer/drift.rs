//! The answer of `drift`: a device as planned, as it runs, and as it is saved.

use std::io::{self, Write};

use serde::Serialize;

use super::{Answer, Row, SHAPE};
use crate::drift::Drift;

/// What differs.
pub struct DriftAnswer {
    /// Name of the device.
    pub device: String,
    /// What is not the same: planned, running, and saved where the device keeps that.
    pub differences: Vec<Drift>,
    /// Whether the device tells what it has saved.
    pub has_saved: bool,
    /// When it takes an edit back unless that is confirmed.
    pub unconfirmed_until: Option<String>,
}

/// The answer as a shape.
#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct DriftShape<'a> {
    shape: u32,
    same: bool,
    device: &'a str,
    has_saved: bool,
    unconfirmed_until: Option<&'a str>,
    differences: Vec<DriftEntry<'a>>,
}

/// Something that differs, as JSON has it.
#[derive(Serialize)]
pub struct DriftEntry<'a> {
    item: &'a str,
    planned: Option<&'a str>,
    running: Option<&'a str>,
    saved: Option<&'a str>,
}

/// What differs, as JSON has it.
pub fn entries(differences: &[Drift]) -> Vec<DriftEntry<'_>> {
    differences
        .iter()
        .map(|d| {
            let side = |n: usize| d.values.get(n).and_then(Option::as_deref);
            DriftEntry { item: &d.item, planned: side(0), running: side(1), saved: side(2) }
        })
        .collect()
}

impl Answer for DriftAnswer {
    type Shape<'s> = DriftShape<'s>;

    fn shape(&self) -> DriftShape<'_> {
        DriftShape {
            shape: SHAPE,
            same: self.differences.is_empty(),
            device: &self.device,
            has_saved: self.has_saved,
            unconfirmed_until: self.unconfirmed_until.as_deref(),
            differences: entries(&self.differences),
        }
    }

    fn columns(&self) -> &'static [&'static str] {
        &["item", "planned", "running", "saved"]
    }

    fn rows(&self, out: &mut dyn Write) -> io::Result<()> {
        let mut row = Row::default();
        for d in entries(&self.differences) {
            row.text(d.item);
            [d.planned, d.running, d.saved].iter().for_each(|v| row.text(v.unwrap_or_default()));
            row.write(out)?;
        }
        Ok(())
    }
}
