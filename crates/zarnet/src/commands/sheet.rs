//! `zarnet sheet PLAN`: the hand-out for the users of forwards.

use zarnet_analysis::answer::sheet::SheetAnswer;

use super::plan;
use super::traffic::device;
use crate::args::{Common, Sheet};
use crate::exit::{FINE, Failure};
use crate::present::{present, sheet};

pub fn run(args: &Sheet, common: &Common) -> Result<u8, Failure> {
    let loaded = plan(&args.plan, common)?;
    let plan = &loaded.plan;
    let only = args.device.as_deref().map(|name| device(plan, name)).transpose()?;
    let answer = SheetAnswer::new(plan, only);
    present(&answer, common, |out, width| sheet::text(&answer, &plan.title, out, width))?;
    Ok(FINE)
}
