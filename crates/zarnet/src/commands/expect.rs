//! `zarnet expect PLAN`

use std::sync::Arc;

use zarnet_analysis::answer::expect::ExpectAnswer;
use zarnet_core::predict::Rehearsal;

use super::plan;
use crate::args::{Common, Expect};
use crate::exit::{FINE, Failure, NEGATIVE};
use crate::files;
use crate::files::{Before, Change};
use crate::present::expect::text;
use crate::present::junit::{is_report, junit};
use crate::present::present;

pub fn run(args: &Expect, common: &Common) -> Result<u8, Failure> {
    let loaded = plan(&args.plan, common)?;
    let mut rehearsal = Rehearsal::new(Arc::new(loaded.plan.clone()), common.seed);
    let tried: Vec<_> = loaded.plan.expectations.iter().map(|e| rehearsal.expect(e)).collect();
    let answer = ExpectAnswer::new(&loaded.plan, &loaded.sources, &tried);
    if let Some(path) = &args.junit {
        // a report of an earlier run is in the way of nobody
        let contents = junit(&answer, &args.plan.display().to_string())?;
        let before = Before::Own(is_report);
        files::write(&[Change { path, contents: &contents, before }], args.force)?;
    }
    present(&answer, common, |out, _| text(&answer, out, common.verbose))?;
    Ok(if answer.failed == 0 { FINE } else { NEGATIVE })
}
