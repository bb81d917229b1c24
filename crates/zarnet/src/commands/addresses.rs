//! `zarnet addresses PLAN`: every external address, who uses it, and which are free.

use zarnet_analysis::answer::addresses::AddressAnswer;

use super::plan;
use super::traffic::device;
use crate::args::{Addresses, Common};
use crate::exit::{FINE, Failure};
use crate::present::{addresses, present};

pub fn run(args: &Addresses, common: &Common) -> Result<u8, Failure> {
    let loaded = plan(&args.plan, common)?;
    let plan = &loaded.plan;
    let only = args.device.as_deref().map(|name| device(plan, name)).transpose()?;
    let answer = AddressAnswer::new(plan, only, args.free);
    present(&answer, common, |out, width| {
        addresses::text(&answer, (plan, &args.plan), only, out, width)
    })?;
    Ok(FINE)
}
