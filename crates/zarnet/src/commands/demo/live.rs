//! The steps of the walk that need a device: a stand-in that the demo starts and stops itself.

use std::net::SocketAddr;
use std::path::Path;
use std::sync::Arc;

use serde_json::json;
use zarnet_core::plan::DeviceId;
use zarnet_formats::files::Reach;
use zarnet_formats::ietf_nat::ModuleForm;
use zarnet_formats::plan::load;
use zarnet_formats::traffic::{Given, Reading, Traffic};
use zarnet_live::stand_in::{Misbehave, Pace, Playing, Saving, Setup, StandIn};

use super::Step;
use crate::commands::live::stand_in::access;
use crate::exit::Failure;
use crate::files;

/// Where the stand-in is in the arguments of a step.
pub(super) const URL: &str = "https://EDGE";
/// What happens on the device before a step: somebody enters a rule by hand.
pub(super) const BY_HAND: &str = "What is planned, what runs, and what is saved?";

pub(super) const STEPS: [Step; 6] = [
    Step {
        title: "The edge itself, over the network: take it as it is",
        arguments: &["retrieve", URL, "--access", "@/access.toml", "--into", "@/site", "--force"],
        see: "`stand-in` plays the morning and speaks the open standards; its configuration comes \
              as a plan, its table as a table.",
    },
    Step {
        title: "The change for tonight, in the plan that came from the edge",
        arguments: &[
            "define",
            "@/site/edge.toml",
            "forward",
            "uplink:24070/tcp",
            "10.61.8.41:4010",
            "--name",
            "spare-gauge",
            "--source",
            "198.51.100.128/28",
            "--from",
            "yard",
        ],
        see: "The policy lets head office reach the gauge already: the rule alone is new.",
    },
    Step {
        title: "Send it: shown, written as one edit, read back, tested, kept, saved",
        arguments: &["send", "@/site/edge.toml", URL, "--access", "@/access.toml", "--yes"],
        see: "Without `--yes` nothing is written; if an expectation fails, or nobody confirms, the \
              edit is taken back.",
    },
    Step {
        title: BY_HAND,
        arguments: &["drift", "@/site/edge.toml", URL, "--access", "@/access.toml"],
        see: "Somebody has entered a rule by hand meanwhile, and has not saved it: nobody planned \
              it, and a restart would lose it.",
    },
    Step {
        title: "The device's own table against the prediction",
        arguments: &[
            "compare",
            "@/site/edge.toml",
            "@/morning.csv",
            "--at",
            "2h45m",
            "--observed",
            URL,
            "--access",
            "@/access.toml",
        ],
        see: "Read from the device itself: all that traffic made is as predicted, and the rule that \
              nobody planned shows here too.",
    },
    Step {
        title: "The table as it changes, at one look",
        arguments: &[
            "watch",
            "@/site/edge.toml",
            URL,
            "--access",
            "@/access.toml",
            "--once",
            "--rows",
            "8",
        ],
        see: "On a terminal, without `--once`, it is drawn anew as it changes, fullest supplies \
              first.",
    },
];

/// Starts the stand-in for the estate in a folder, at a quarter to nine, and says in a file there
/// how it is reached.
pub(super) fn start(folder: &Path) -> Result<StandIn, Failure> {
    let failed = |what: String| Failure::wrong("demo-stand-in", what, None);
    let path = folder.join("harbour.toml");
    let loaded = load(&path, Reach::below_folder_of(&path))
        .map_err(|e| failed(format!("{}: {e:?}", path.display())))?;
    let given = Given::all(&[folder.join("morning.csv").display().to_string()])
        .map_err(|e| failed(format!("{e:?}")))?;
    let traffic =
        Traffic::open(&given, &loaded, Reading::default()).map_err(|e| failed(format!("{e:?}")))?;
    let at = traffic.time("2h45m").map_err(|e| failed(e.to_string()))?;
    let begins = "2026-08-01T06:00:00Z".parse().map_err(|e| failed(format!("{e}")))?;
    let setup = Setup {
        plan: Arc::new(loaded.plan),
        playing: Some(Playing(traffic)),
        pace: Pace::Steps,
        at,
        begins,
        form: ModuleForm::WithPolicy,
        saving: Saving::Explicit,
        seed: 0,
        log: None,
    };
    // wherever there is room
    let address = SocketAddr::from(([127, 0, 0, 1], 0));
    let stand_in =
        StandIn::start(setup, address, Misbehave::default()).map_err(|e| failed(e.to_string()))?;
    let text = access(&stand_in.devices[..1].iter().collect::<Vec<_>>());
    files::write_secret(&folder.join("access.toml"), text.as_bytes(), true)?;
    Ok(stand_in)
}

/// Somebody stands before the device and enters a rule.
pub(super) fn by_hand(stand_in: &StandIn) {
    let Some((mut running, _)) = stand_in.configuration(DeviceId(0)) else { return };
    let table = "/ietf-nat:nat/instances/instance/1/mapping-table/mapping-entry";
    if let Some(serde_json::Value::Array(entries)) = running.pointer_mut(table) {
        entries.push(json!({
            "index": 99,
            "type": "static",
            "transport-protocol": 6,
            "internal-src-address": "10.61.8.42/32",
            "internal-src-port": { "start-port-number": 4010 },
            "external-src-address": "203.0.113.2/32",
            "external-src-port": { "start-port-number": 24999 },
        }));
        // if it does not take, the step shows less
        let _ = stand_in.configure(DeviceId(0), running);
    }
}
