//! `zarnet expect PLAN`

use std::sync::Arc;

use zarnet_core::predict::Rehearsal;

use super::plan;
use crate::args::{Common, Expect, Format};
use crate::exit::{FINE, Failure, NEGATIVE};
use crate::files;
use crate::files::{Before, Change};
use crate::render::expect::{self as junit, ExpectShape};
use crate::render::{json, output};

pub fn run(args: &Expect, common: &Common) -> Result<u8, Failure> {
    let loaded = plan(&args.plan, common)?;
    let mut rehearsal = Rehearsal::new(Arc::new(loaded.plan.clone()), common.seed);
    let tried: Vec<_> = loaded.plan.expectations.iter().map(|e| rehearsal.expect(e)).collect();
    let shape = ExpectShape::new(&loaded.plan, &loaded.sources, &tried);
    if let Some(path) = &args.junit {
        // a report of an earlier run is in the way of nobody
        let contents = shape.junit(&args.plan.display().to_string())?;
        let before = Before::Own(junit::is_report);
        files::write(&[Change { path, contents: &contents, before }], args.force)?;
    }
    match common.format {
        Format::Json => output::json(|out| json::write(out, &shape))?,
        Format::Csv => output::csv(|out| shape.csv(out))?,
        Format::Text => output::answer(|out| shape.text(out, common.verbose))?,
    }
    Ok(if shape.failed == 0 { FINE } else { NEGATIVE })
}
