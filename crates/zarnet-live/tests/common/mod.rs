//! A small site, its stand-in, and the way to it.

#![allow(dead_code)]

use std::net::SocketAddr;
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

use zarnet_core::net::Instant;
use zarnet_core::plan::{DeviceId, Plan};
use zarnet_formats::ietf_nat::ModuleForm;
use zarnet_formats::plan::{Loaded, from_text};
use zarnet_formats::traffic::{Given, Reading, Traffic};
use zarnet_live::client::{Access, Credentials, Device, Limits};
use zarnet_live::stand_in::{Listening, Misbehave, Pace, Playing, Saving, Setup, StandIn};

/// An edge with a rule of every kind.
pub const SITE: &str = r#"
[[segment]]
name = "internet"
internet = true

[[host]]
name = "desk-1"
address = "10.0.0.20/24"
gateway = "10.0.0.1"

[[host]]
name = "gauge"
address = "10.0.0.41/24"
gateway = "10.0.0.1"
listens = ["4010/tcp"]

[[device]]
name = "edge"

  [[device.interface]]
  name = "floor"
  realm = "internal"
  address = "10.0.0.1/24"

  [[device.interface]]
  name = "uplink"
  realm = "external"
  segment = "internet"
  address = "192.0.2.1/28"

  [[device.route]]
  to = "0.0.0.0/0"
  via = "192.0.2.14"

  [[device.rule]]
  name = "gauge-in"
  type = "forward"
  external = "uplink:24010/tcp"
  internal = "gauge:4010"

  [[device.rule]]
  name = "desks-out"
  type = "overload"
  source = "10.0.0.0/27"
  as = "uplink"

[[expect]]
flow = "desk-1 -> 198.51.100.80:443/tcp"
becomes = "192.0.2.1"
"#;

pub fn loaded(text: &str) -> Loaded {
    from_text(Path::new("site.toml"), text.into()).unwrap()
}

pub fn plan(text: &str) -> Plan {
    loaded(text).plan
}

/// The site with other rules in place of a text of it.
pub fn changed(from: &str, to: &str) -> Plan {
    assert!(SITE.contains(from));
    plan(&SITE.replace(from, to))
}

pub fn start(form: ModuleForm, traffic: &[&str], misbehave: Misbehave) -> StandIn {
    start_plan(SITE, form, traffic, misbehave)
}

pub fn start_plan(text: &str, form: ModuleForm, traffic: &[&str], misbehave: Misbehave) -> StandIn {
    let loaded = loaded(text);
    let playing = match traffic {
        [] => None,
        flows => {
            let named: Vec<String> = flows.iter().map(|f| (*f).to_owned()).collect();
            let given = Given::all(&named).unwrap();
            Some(Playing(Traffic::open(&given, &loaded, Reading::default()).unwrap()))
        }
    };
    let setup = Setup {
        plan: Arc::new(loaded.plan),
        playing,
        pace: Pace::Steps,
        at: Instant::ZERO,
        begins: "2026-08-01T06:00:00Z".parse().unwrap(),
        form,
        saving: if form == ModuleForm::WithPolicy { Saving::Explicit } else { Saving::WithEdit },
        seed: 0,
        log: None,
    };
    StandIn::start(setup, SocketAddr::from(([127, 0, 0, 1], 0)), misbehave).unwrap()
}

pub fn access(listening: &Listening) -> Access {
    Access {
        url: listening.url(),
        pin: Some(listening.fingerprint),
        authority: None,
        credentials: Credentials::Token(listening.token.clone()),
    }
}

pub fn limits(wait: Duration) -> Limits {
    Limits { wait, ..Limits::default() }
}

pub fn device(stand_in: &StandIn) -> Device {
    let access = access(&stand_in.devices[0]);
    Device::open(&access, limits(Duration::from_secs(10)), false).unwrap()
}

/// The configuration that runs, and the one that is saved, as the stand-in itself knows them.
pub fn configuration(stand_in: &StandIn) -> (serde_json::Value, serde_json::Value) {
    stand_in.configuration(DeviceId(0)).unwrap()
}
