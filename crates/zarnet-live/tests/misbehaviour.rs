//! A device that misbehaves: it ends as it was, as it is wanted, or the answer says that nobody
//! knows, and then nobody does.
//!
//! `RUNS=1000 cargo test --release -p zarnet-live --test misbehaviour -- --nocapture` for the whole
//! measurement.

mod common;

use std::collections::BTreeMap;
use std::time::Duration;

use common::{access, changed, configuration, limits, start};
use serde_json::Value;
use zarnet_core::plan::{DeviceId, Plan};
use zarnet_formats::data_model::difference;
use zarnet_formats::ietf_nat::{ModuleForm, export};
use zarnet_live::client::{ClientError, Device, Sending, Sent, State, send};
use zarnet_live::stand_in::{Fault, Misbehave, StandIn};

const PATIENCE: Duration = Duration::from_millis(700);

fn try_to_send(stand_in: &StandIn, plan: &Plan, holds: bool) -> Result<Sent, ClientError> {
    let access = access(&stand_in.devices[0]);
    let mut device = Device::open(&access, limits(Duration::from_millis(400)), false)?;
    let mut expected = |_: &_, _: &mut _| holds;
    let mut sending =
        Sending { plan, device: DeviceId(0), write: true, wait: PATIENCE, holds: &mut expected };
    send(&mut device, &mut sending)
}

fn same(a: &Value, b: &Value) -> bool {
    difference(a, b).is_empty() && difference(b, a).is_empty()
}

/// What came of it, if that is true of the device.
fn judged(
    outcome: &Result<Sent, ClientError>,
    before: &Value,
    wanted: &Value,
    now: &Value,
) -> Result<&'static str, String> {
    let (is_before, is_wanted) = (same(before, now), same(wanted, now));
    let wrong = |told: &str| Err(format!("{told}: before {is_before}, wanted {is_wanted}"));
    match outcome {
        Err(error) if is_before => Ok(error.name()),
        Err(error) => wrong(error.name()),
        Ok(sent) => match sent.outcome.state {
            State::Kept | State::Unchanged if is_wanted => Ok(sent.outcome.state.name()),
            State::TakenBack | State::Refused | State::Differs if is_before => {
                Ok(sent.outcome.state.name())
            }
            State::Unknown => Ok("unknown"),
            state => wrong(&format!("{} ({})", state.name(), sent.outcome.why)),
        },
    }
}

#[test]
fn a_device_ends_as_before_as_wanted_or_truly_unknown() {
    let runs: u64 = std::env::var("RUNS").ok().and_then(|n| n.parse().ok()).unwrap_or(20);
    let seed: u64 = std::env::var("SEED").ok().and_then(|n| n.parse().ok()).unwrap_or(7);
    let mut tally: BTreeMap<&str, u64> = BTreeMap::new();
    let faults: Vec<Fault> = Fault::ALL.iter().map(|f| f.1).collect();
    for run in 0..runs {
        let form = if run % 2 == 0 { ModuleForm::WithPolicy } else { ModuleForm::Standard };
        let one_in = 2 + run % 5;
        let misbehave = Misbehave::new(faults.clone(), one_in, seed ^ run << 16)
            .late_by(Duration::from_millis(if run % 3 == 0 { 600 } else { 50 }));
        let stand_in = start(form, &[], misbehave);
        let plan = changed("24010", "24011");
        let wanted = export(&plan, DeviceId(0), form).document;
        let before = configuration(&stand_in).0;
        let outcome = try_to_send(&stand_in, &plan, run % 4 != 3);
        let mut now = configuration(&stand_in).0;
        let unconfirmed = stand_in.is_unconfirmed(DeviceId(0));
        // what waits to be confirmed is neither: the device decides by itself
        if unconfirmed {
            stand_in.take_back(DeviceId(0));
            now = configuration(&stand_in).0;
        }
        let told = judged(&outcome, &before, &wanted, &now);
        let told = told.unwrap_or_else(|w| panic!("run {run} of seed {seed}: {w}"));
        *tally.entry(told).or_default() += 1;
    }
    println!("{runs} runs: {tally:?}");
    assert!(tally.len() > 3, "{tally:?}");
}

#[test]
fn each_fault_ends_in_a_clear_answer() {
    let states = |fault: Fault, one_in: u64| {
        let misbehave = Misbehave::new(vec![fault], one_in, 1).late_by(Duration::from_millis(100));
        let stand_in = start(ModuleForm::Standard, &[], misbehave);
        let plan = changed("24010", "24011");
        let before = configuration(&stand_in).0;
        let wanted = export(&plan, DeviceId(0), ModuleForm::Standard).document;
        let outcome = try_to_send(&stand_in, &plan, true);
        let now = configuration(&stand_in).0;
        let told = judged(&outcome, &before, &wanted, &now).unwrap();
        let why = outcome.map(|s| s.outcome.why).unwrap_or_else(|e| e.to_string());
        (told, why)
    };
    assert_eq!(states(Fault::Late, 1).0, "kept");
    assert_eq!(states(Fault::Drop, 1).0, "no-whole-answer");
    assert_eq!(states(Fault::Partial, 1).0, "no-whole-answer");
    assert_eq!(states(Fault::Wrong, 1).0, "answer-not-understood");
    assert_eq!(states(Fault::Silent, 1).0, "no-whole-answer");
    let (told, why) = states(Fault::Conflict, 1);
    assert_eq!(told, "refused");
    assert!(why.contains("meanwhile"), "{why}");
    let (told, why) = states(Fault::Forget, 1);
    assert_eq!(told, "refused");
    assert!(why.contains("as it was before"), "{why}");
    let (told, why) = states(Fault::Refuse, 1);
    assert_eq!(told, "refused");
    assert!(why.contains("on purpose"), "{why}");
    assert_eq!(states(Fault::DropAfter, 1).0, "kept");
    // it is looked at until the time is over: it may be busy with the edit still
    assert_eq!(states(Fault::Afterwards, 1).0, "kept");
    // it restarts with what it has saved: with each edit, what was sent
    assert_eq!(states(Fault::Restart, 1).0, "kept");
}

#[test]
fn an_answer_without_end_is_cut_off() {
    let misbehave = Misbehave::new(vec![Fault::Endless], 1, 1);
    let stand_in = start(ModuleForm::Standard, &[], misbehave);
    let access = access(&stand_in.devices[0]);
    let mut few = limits(Duration::from_secs(10));
    few.answer = 1 << 20;
    let error = Device::open(&access, few, false).err().unwrap();
    assert_eq!(error, ClientError::TooLarge(1 << 20));
}
