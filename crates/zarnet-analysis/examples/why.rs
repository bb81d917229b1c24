//! Why a flow does not work: a rule that is disabled, and the repair that was tried.
//!
//! `cargo run -p zarnet-analysis --example why`

use std::error::Error;
use std::path::Path;

use zarnet_analysis::diagnose::FlowQuestion;
use zarnet_analysis::play::{Opening, Silent};
use zarnet_core::net::Instant;
use zarnet_formats::files::Reach;
use zarnet_formats::plan::load;
use zarnet_formats::traffic::Names;

/// Runs the example.
pub fn main() -> Result<(), Box<dyn Error>> {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/faults/rule-disabled.toml");
    let loaded = load(&path, Reach::below_folder_of(&path)).map_err(|e| format!("{e:?}"))?;
    let flow = "till -> 198.51.100.80:443/tcp";
    let flow = Names::new(&loaded.plan).flow(flow, Instant::ZERO).map_err(|e| e.to_string())?;
    let opening = Opening {
        given: Vec::new(),
        seen_at: None,
        skip_bad: false,
        seed: 0,
        allow_outside: false,
        begins: None,
        memory: None,
        threads: 1,
    };
    let question = FlowQuestion { flow, opening, at: "end".to_owned() };
    let (_, diagnosis, _) = question.answer(&loaded, &Silent).map_err(|e| format!("{e:?}"))?;
    for cause in &diagnosis.causes {
        println!("{}: {}", cause.cause, cause.verdict);
    }
    for repair in &diagnosis.repairs {
        println!("repair: {}", repair.title);
    }
    Ok(())
}
