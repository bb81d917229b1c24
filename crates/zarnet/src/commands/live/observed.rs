//! The table of a device that is asked itself, where a saved one would do.

use zarnet_core::plan::Plan;
use zarnet_formats::observed::{Observed, of_rows};

use super::{of_client, open};
use crate::args::TableFile;
use crate::commands::only_device;
use crate::exit::Failure;

/// Whether a table is named by the address of its device.
pub fn is_address(text: &str) -> bool {
    text.starts_with("https://")
}

/// The table of a device as it is now.
pub fn table(url: &str, options: &TableFile, plan: &Plan) -> Result<Vec<Observed>, Failure> {
    let id = only_device(plan, options.device.as_deref())?;
    let mut device = open(url, &options.access, false)?;
    let rows = device.table().map_err(of_client)?;
    Ok(of_rows(&rows, id, device.date()))
}
