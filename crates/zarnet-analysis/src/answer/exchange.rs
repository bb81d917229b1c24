//! The answers of `export` and `import`: a document or a plan, and what was lost on the way.

use std::io::{self, Write};

use serde::Serialize;
use serde_json::Value;
use zarnet_formats::ietf_nat::{Exported, Imported, Loss};

use super::{Answer, Row, SHAPE};

/// A device as a document of the standard data models.
#[derive(Clone, Copy)]
pub struct ExportAnswer<'a> {
    /// What came of it.
    pub exported: &'a Exported,
}

/// Something that a document does not hold.
#[derive(Debug, Clone, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct LossShape {
    name: &'static str,
    of: Vec<String>,
    what: String,
    changes_traffic: bool,
    message: String,
}

/// What a document does not hold, as JSON has it.
pub fn losses(list: &[Loss]) -> Vec<LossShape> {
    let one = |l: &Loss| LossShape {
        name: l.kind.name(),
        of: l.of.clone(),
        what: l.what.clone(),
        changes_traffic: l.kind.changes_traffic(),
        message: l.to_string(),
    };
    list.iter().map(one).collect()
}

/// The answer as a shape.
#[derive(Serialize)]
pub struct ExportShape<'a> {
    shape: u32,
    document: &'a Value,
    losses: Vec<LossShape>,
}

impl Answer for ExportAnswer<'_> {
    type Shape<'s>
        = ExportShape<'s>
    where
        Self: 's;

    fn shape(&self) -> Self::Shape<'_> {
        let Exported { document, losses: list } = self.exported;
        ExportShape { shape: SHAPE, document, losses: losses(list) }
    }

    fn columns(&self) -> &'static [&'static str] {
        &["name", "of", "what", "changes-traffic", "message"]
    }

    fn rows(&self, out: &mut dyn Write) -> io::Result<()> {
        let mut row = Row::default();
        for l in losses(&self.exported.losses) {
            row.text(l.name);
            row.text(&l.of.join(" "));
            row.text(&l.what);
            row.text(if l.changes_traffic { "true" } else { "false" });
            row.text(&l.message);
            row.write(out)?;
        }
        Ok(())
    }
}

/// A document as a plan.
#[derive(Clone, Copy)]
pub struct ImportAnswer<'a> {
    /// What came of it.
    pub imported: &'a Imported,
}

/// The answer as a shape.
#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct ImportShape<'a> {
    shape: u32,
    device: &'a str,
    plan: &'a str,
    left_out: Vec<Left<'a>>,
    assumed: &'a [String],
}

#[derive(Serialize)]
struct Left<'a> {
    path: &'a str,
    value: &'a str,
}

impl Answer for ImportAnswer<'_> {
    type Shape<'s>
        = ImportShape<'s>
    where
        Self: 's;

    fn shape(&self) -> Self::Shape<'_> {
        let Imported { text, device, left_out, assumed } = self.imported;
        let left = left_out.iter().map(|l| Left { path: &l.path, value: &l.value }).collect();
        ImportShape { shape: SHAPE, device, plan: text, left_out: left, assumed }
    }

    fn columns(&self) -> &'static [&'static str] {
        &["kind", "path", "value"]
    }

    fn rows(&self, out: &mut dyn Write) -> io::Result<()> {
        let mut row = Row::default();
        for l in &self.imported.left_out {
            ["left-out", &l.path, &l.value].into_iter().for_each(|t| row.text(t));
            row.write(out)?;
        }
        for told in &self.imported.assumed {
            ["assumed", "", told].into_iter().for_each(|t| row.text(t));
            row.write(out)?;
        }
        Ok(())
    }
}
