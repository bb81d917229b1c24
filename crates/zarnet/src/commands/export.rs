//! `zarnet export PLAN`: a device in the standard data models.

use zarnet_analysis::answer::exchange::ExportAnswer;
use zarnet_formats::data_model::canonical;
use zarnet_formats::ietf_nat::{ModuleForm, export};

use super::{only_device, plan};
use crate::args::{Common, Export};
use crate::exit::{FINE, Failure, NEGATIVE};
use crate::present::{exchange, present};

pub fn run(args: &Export, common: &Common) -> Result<u8, Failure> {
    let loaded = plan(&args.plan, common)?;
    let device = only_device(&loaded.plan, args.device.as_deref())?;
    let form = if args.with_policy { ModuleForm::WithPolicy } else { ModuleForm::Standard };
    let exported = export(&loaded.plan, device, form);
    let answer = ExportAnswer { exported: &exported };
    present(&answer, common, |out, _| out.write_all(canonical(&exported.document).as_bytes()))?;
    exchange::tell_losses(&exported.losses, common.quiet);
    let changes = exported.losses.iter().any(|l| l.kind.changes_traffic());
    Ok(if changes { NEGATIVE } else { FINE })
}
