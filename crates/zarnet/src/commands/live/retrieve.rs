//! `zarnet retrieve URL --into DIR`: a device as it is, in files.

use std::path::PathBuf;

use serde_json::json;
use zarnet_core::plan::DeviceId;
use zarnet_formats::data_model::canonical;
use zarnet_formats::ietf_nat::Imported;
use zarnet_formats::observed::{of_rows, to_csv};
use zarnet_live::client::understood;

use super::{of_client, open};
use crate::args::{Common, Retrieve};
use crate::exit::{FINE, Failure};
use crate::files::{self, Before, Change};
use crate::present::live::retrieve::{Retrieved, text};
use crate::present::{exchange, present};

pub fn run(args: &Retrieve, common: &Common) -> Result<u8, Failure> {
    let mut device = open(&args.url, &args.access, common.quiet)?;
    let running = device.running().map_err(of_client)?;
    let startup = device.saved().map_err(of_client)?;
    let imported = plan_of(&running.document)?;
    let saved = startup.as_ref().map(|s| plan_of(&s.document)).transpose()?;
    let rows = device.table().map_err(of_client)?;
    let read_at = device.date();
    let statistics = device.statistics().map_err(of_client)?;
    let table = of_rows(&rows, DeviceId(0), read_at);
    let mut csv = Vec::new();
    to_csv(&table, &imported.device, &mut csv)?;
    let counters: Vec<_> = statistics
        .iter()
        .map(|(id, value)| json!({ "instance": id, "statistics": value }))
        .collect();
    let counters = canonical(&json!({ "shape": 1, "instances": counters }));
    std::fs::create_dir_all(&args.into)?;
    let mut contents: Vec<(PathBuf, Vec<u8>)> = vec![
        (args.into.join("edge.toml"), imported.text.clone().into_bytes()),
        (args.into.join("table.csv"), csv),
        (args.into.join("counters.json"), counters.into_bytes()),
        (args.into.join("configuration.json"), canonical(&running.document).into_bytes()),
    ];
    if let Some(saved) = &saved {
        contents.insert(1, (args.into.join("saved.toml"), saved.text.clone().into_bytes()));
    }
    let changes: Vec<Change<'_>> = contents
        .iter()
        .map(|(path, contents)| Change { path, contents, before: Before::Nothing })
        .collect();
    files::write(&changes, args.force)?;
    let same = saved.as_ref().map(|s| s.text == imported.text);
    let answer = Retrieved {
        device: imported.device.clone(),
        files: contents.iter().map(|c| c.0.display().to_string()).collect(),
        version: running.version,
        rows: rows.len() as u64,
        saved_is_running: same,
        left_out: imported.left_out.iter().map(|l| l.path.clone()).collect(),
        assumed: imported.assumed.clone(),
    };
    exchange::tell_import(&imported, common.quiet);
    present(&answer, common, |out, _| text(&answer, &args.url, out))?;
    Ok(FINE)
}

fn plan_of(document: &serde_json::Value) -> Result<Imported, Failure> {
    understood(document, "edge").map(|(imported, _)| imported).map_err(|error| {
        let help = "what it has is not what the modules of the standard allow".to_owned();
        Failure::wrong("device-not-understood", error.to_string(), help)
    })
}
