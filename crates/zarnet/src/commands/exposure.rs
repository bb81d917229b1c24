//! `zarnet exposure PLAN`: what can be reached from outside, and by what.

use zarnet_analysis::answer::exposure::ExposureAnswer;
use zarnet_analysis::exposure::exposure;

use super::plan;
use super::traffic::device;
use crate::args::{Common, Exposure};
use crate::exit::{FINE, Failure};
use crate::present::{exposure as page, present};

pub fn run(args: &Exposure, common: &Common) -> Result<u8, Failure> {
    let loaded = plan(&args.plan, common)?;
    let only = args.device.as_deref().map(|name| device(&loaded.plan, name)).transpose()?;
    if let Some(name) = &args.from {
        let interfaces = loaded.plan.devices.iter().flat_map(|d| &d.interfaces);
        let names: Vec<&str> = interfaces
            .flat_map(|i| [i.realm.as_deref(), Some(i.name.as_str())])
            .flatten()
            .collect();
        if !names.contains(&name.as_str()) {
            let near = zarnet_core::plan::nearest(name, names.iter().copied());
            let help = near.map(|n| format!("did you mean `{n}`?"));
            let message = format!("no interface has the realm `{name}`");
            return Err(Failure::wrong("unknown-name", message, help));
        }
    }
    let found = exposure(&loaded.plan, args.from.as_deref(), only, common.seed);
    let answer = ExposureAnswer::new(&found, &loaded.plan, &loaded.sources);
    present(&answer, common, |out, width| page::text(&answer, out, width))?;
    Ok(FINE)
}
