//! `zarnet drift PLAN URL`: planned, running and saved, side by side.

use zarnet_analysis::answer::drift::DriftAnswer;
use zarnet_analysis::drift::drift;
use zarnet_formats::ietf_nat::export;
use zarnet_live::client::understood;

use super::{of_client, open};
use crate::args::{Common, DriftArgs};
use crate::commands::{only_device, plan};
use crate::exit::{FINE, Failure, NEGATIVE};
use crate::present::live::drift::text;
use crate::present::{exchange, present};

pub fn run(args: &DriftArgs, common: &Common) -> Result<u8, Failure> {
    let loaded = plan(&args.plan, common)?;
    let id = only_device(&loaded.plan, args.device.as_deref())?;
    let name = loaded.plan.devices[id.index()].name.clone();
    let mut device = open(&args.url, &args.access, common.quiet)?;
    let running = device.running().map_err(of_client)?;
    let saved = device.saved().map_err(of_client)?;
    let (unconfirmed_until, _) = device.pending().map_err(of_client)?;
    let wanted = export(&loaded.plan, id, device.form());
    let of = |document: &serde_json::Value| {
        understood(document, &name)
            .map(|(imported, _)| imported)
            .map_err(|e| Failure::wrong("device-not-understood", e.to_string(), None))
    };
    // all three in the notation that the device's own would come to
    let planned = of(&wanted.document)?;
    let running = of(&running.document)?;
    let has_saved = saved.is_some();
    let saved = saved.map(|s| of(&s.document)).transpose()?;
    let texts: Vec<&str> =
        [&planned, &running].into_iter().chain(&saved).map(|i| i.text.as_str()).collect();
    let answer =
        DriftAnswer { device: name, differences: drift(&texts), has_saved, unconfirmed_until };
    exchange::tell_import(&running, common.quiet);
    exchange::tell_losses(&wanted.losses, common.quiet || !common.verbose);
    present(&answer, common, |out, width| text(&answer, args.rows, out, width))?;
    Ok(if answer.differences.is_empty() { FINE } else { NEGATIVE })
}
