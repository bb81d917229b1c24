//! `zarnet expect PLAN`

use std::sync::Arc;

use zarnet_core::predict::Rehearsal;

use super::{files, plan};
use crate::args::{Common, Expect, Format};
use crate::exit::{FINE, Failure, NEGATIVE};
use crate::render::expect::Shape;
use crate::render::{json, output};

pub fn run(args: &Expect, common: &Common) -> Result<u8, Failure> {
    let loaded = plan(&args.plan)?;
    let mut rehearsal = Rehearsal::new(Arc::new(loaded.plan.clone()), common.seed);
    let tried: Vec<_> = loaded.plan.expectations.iter().map(|e| rehearsal.expect(e)).collect();
    let shape = Shape::new(&loaded.plan, &loaded.sources, &tried);
    if let Some(path) = &args.junit {
        // a report of the run before is in the way of nobody
        files::write(path, &shape.junit(&args.plan.display().to_string())?, true)?;
    }
    match common.format {
        Format::Json => output::plain(|out| json::write(out, &shape))?,
        Format::Csv => output::plain(|out| shape.csv(out))?,
        Format::Text => output::answer(|out| shape.text(out, common.verbose))?,
    }
    Ok(if shape.failed == 0 { FINE } else { NEGATIVE })
}
