//! A device and its stand-in in conversation: what is there is read, what is sent takes effect.

mod common;

use std::time::Duration;

use common::{SITE, access, changed, configuration, device, limits, loaded, start};
use zarnet_core::plan::DeviceId;
use zarnet_formats::ietf_nat::{ModuleForm, export};
use zarnet_formats::observed::of_rows;
use zarnet_live::client::{
    Access, ClientError, Credentials, Device, Sending, State, send, understood,
};
use zarnet_live::stand_in::Misbehave;

#[test]
fn what_a_device_can_is_found_out() {
    let ours = start(ModuleForm::WithPolicy, &[], Misbehave::default());
    let abilities = device(&ours).abilities;
    assert!(abilities.policy && abilities.stores && abilities.yang_patch && abilities.confirm);
    assert_eq!(abilities.events.as_deref(), Some("/streams/device-events"));
    let standard = start(ModuleForm::Standard, &[], Misbehave::default());
    let abilities = device(&standard).abilities;
    assert!(!abilities.policy && abilities.stores && !abilities.confirm);
}

#[test]
fn a_device_is_read_as_it_was_planned() {
    for form in [ModuleForm::WithPolicy, ModuleForm::Standard] {
        let stand_in = start(form, &[], Misbehave::default());
        let mut device = device(&stand_in);
        let running = device.running().unwrap();
        let wanted = export(&loaded(SITE).plan, DeviceId(0), form);
        assert_eq!(running.document, wanted.document);
        assert!(running.version.is_some());
        assert_eq!(device.saved().unwrap().unwrap().document, wanted.document);
        let (imported, _) = understood(&running.document, "x").unwrap();
        assert_eq!((imported.device.as_str(), imported.left_out.len()), ("edge", 0));
    }
}

#[test]
fn the_table_is_what_traffic_has_made_by_then() {
    let flows =
        ["10.0.0.20:50000 -> 198.51.100.80:443/tcp", "198.51.100.9:40000 -> 192.0.2.1:24010/tcp"];
    let stand_in = start(ModuleForm::WithPolicy, &flows, Misbehave::default());
    stand_in.step(Duration::from_secs(1));
    let mut device = device(&stand_in);
    let mut rows = Vec::new();
    assert_eq!(device.rows(|r| rows.push(r)).unwrap(), 2);
    let (fixed, dynamic): (Vec<_>, Vec<_>) = rows.iter().partition(|r| r.fixed);
    assert_eq!(fixed[0].told.sessions, Some(1));
    let row = dynamic[0];
    assert_eq!(row.told.rule.as_deref(), Some("desks-out"));
    assert_eq!(row.told.created.as_deref(), Some("2026-08-01T06:00:00Z"));
    assert!(row.lifetime.unwrap() > 100);
    let table = of_rows(&rows, DeviceId(0), "2026-08-01T06:00:01Z".parse().unwrap());
    assert_eq!(table[1].external.to_string(), "192.0.2.1:50000");
    // the number of a row stays as long as the row
    let index = row.index;
    stand_in.step(Duration::from_secs(1));
    let mut again = Vec::new();
    device.rows(|r| again.push(r)).unwrap();
    assert!(again.iter().any(|r| r.index == index && !r.fixed));
    // and when its time is over, it is gone
    stand_in.step(Duration::from_secs(9_000));
    assert_eq!(device.rows(|_| ()).unwrap(), 1);
}

#[test]
fn counters_and_use_are_told_as_rfc_8512_has_them() {
    let flows = ["10.0.0.20:50000 -> 198.51.100.80:443/tcp"];
    let stand_in = start(ModuleForm::WithPolicy, &flows, Misbehave::default());
    stand_in.step(Duration::from_secs(1));
    let statistics = device(&stand_in).statistics().unwrap();
    let (id, own) = &statistics[0];
    assert_eq!(*id, 2);
    assert_eq!(own["mappings-statistics"]["total-port-mappings"], 1);
    assert_eq!(own["pools-stats"]["ports-stats"]["ports-allocated"], 1);
    assert_eq!(own["traffic-statistics"]["dropped-packets"], "0");
}

#[test]
fn sessions_stay_when_the_configuration_changes() {
    let flows = ["10.0.0.20:50000 -> 198.51.100.80:443/tcp"];
    let stand_in = start(ModuleForm::WithPolicy, &flows, Misbehave::default());
    stand_in.step(Duration::from_secs(1));
    let mut device = device(&stand_in);
    let plan = changed("10.0.0.0/27", "10.0.0.0/28");
    let sent = send(&mut device, &mut sending(&plan, true, &mut |_, _| true)).unwrap();
    assert_eq!(sent.outcome.state, State::Kept, "{}", sent.outcome.why);
    let mut rows = Vec::new();
    device.rows(|r| rows.push(r)).unwrap();
    assert!(rows.iter().any(|r| !r.fixed), "the session lives on");
}

fn sending<'a>(
    plan: &'a zarnet_core::plan::Plan,
    write: bool,
    holds: &'a mut dyn FnMut(&zarnet_formats::plan::Loaded, &mut Device) -> bool,
) -> Sending<'a> {
    let wait = Duration::from_secs(5);
    Sending { plan, device: DeviceId(0), write, wait, holds }
}

#[test]
fn nothing_is_written_unless_it_is_wanted() {
    for form in [ModuleForm::WithPolicy, ModuleForm::Standard] {
        let stand_in = start(form, &[], Misbehave::default());
        let mut device = device(&stand_in);
        let before = configuration(&stand_in);
        let same = loaded(SITE).plan;
        let mut fine = |_: &_, _: &mut _| true;
        let sent = send(&mut device, &mut sending(&same, true, &mut fine)).unwrap();
        assert_eq!(sent.outcome.state, State::Unchanged);
        let plan = changed("24010", "24011");
        let sent = send(&mut device, &mut sending(&plan, false, &mut fine)).unwrap();
        assert_eq!(sent.outcome.state, State::Differs);
        assert!(!sent.edits.is_empty());
        assert_eq!(configuration(&stand_in), before);
    }
}

#[test]
fn what_is_sent_is_there_and_is_saved() {
    for form in [ModuleForm::WithPolicy, ModuleForm::Standard] {
        let stand_in = start(form, &[], Misbehave::default());
        let mut device = device(&stand_in);
        let plan = changed("24010", "24011");
        let mut fine = |_: &_, _: &mut _| true;
        let sent = send(&mut device, &mut sending(&plan, true, &mut fine)).unwrap();
        assert_eq!(sent.outcome.state, State::Kept, "{}", sent.outcome.why);
        let (running, saved) = configuration(&stand_in);
        assert_eq!(running, export(&plan, DeviceId(0), form).document);
        assert_eq!(running, saved);
        let again = send(&mut device, &mut sending(&plan, true, &mut fine)).unwrap();
        assert_eq!(again.outcome.state, State::Unchanged);
    }
}

/// Somebody else entered what was planned, or a save failed: it runs, and a restart would lose it.
#[test]
fn what_runs_as_planned_and_is_not_saved_is_saved() {
    let form = ModuleForm::WithPolicy;
    let stand_in = start(form, &[], Misbehave::default());
    let plan = changed("24010", "24011");
    stand_in.configure(DeviceId(0), export(&plan, DeviceId(0), form).document).unwrap();
    let mut device = device(&stand_in);
    let mut fine = |_: &_, _: &mut _| true;
    for (write, is_saved) in [(false, false), (true, true), (false, true)] {
        let sent = send(&mut device, &mut sending(&plan, write, &mut fine)).unwrap();
        assert_eq!((sent.outcome.state, sent.outcome.saved), (State::Unchanged, Some(is_saved)));
        let (running, saved) = configuration(&stand_in);
        assert_eq!(running == saved, is_saved);
    }
}

#[test]
fn what_fails_an_expectation_is_taken_back() {
    for form in [ModuleForm::WithPolicy, ModuleForm::Standard] {
        let stand_in = start(form, &[], Misbehave::default());
        let mut device = device(&stand_in);
        let before = configuration(&stand_in);
        let plan = changed("10.0.0.0/27", "10.0.0.128/27");
        let mut fails = |_: &_, _: &mut _| false;
        let sent = send(&mut device, &mut sending(&plan, true, &mut fails)).unwrap();
        assert_eq!(sent.outcome.state, State::TakenBack, "{}", sent.outcome.why);
        assert_eq!(configuration(&stand_in), before);
    }
}

#[test]
fn two_rules_that_overlap_are_not_sent_to_a_device_without_order() {
    let more = "[[device.rule]]\n  name = \"all-out\"\n  type = \"overload\"\n  as = \"192.0.2.2\"\n\n[[expect]]";
    let plan = changed("[[expect]]", more);
    let standard = start(ModuleForm::Standard, &[], Misbehave::default());
    let before = configuration(&standard);
    let mut fine = |_: &_, _: &mut _| true;
    let sent = send(&mut device(&standard), &mut sending(&plan, true, &mut fine)).unwrap();
    assert_eq!(sent.outcome.state, State::Refused);
    let order = sent.wanted.losses.iter().find(|l| l.kind.name() == "rule-order").unwrap();
    assert_eq!(order.of, ["desks-out", "all-out"]);
    assert_eq!(configuration(&standard), before);
    // one that knows our module keeps the order
    let ours = start(ModuleForm::WithPolicy, &[], Misbehave::default());
    let sent = send(&mut device(&ours), &mut sending(&plan, true, &mut fine)).unwrap();
    assert_eq!(sent.outcome.state, State::Kept, "{}", sent.outcome.why);
}

#[test]
fn what_no_plan_holds_stays_on_the_device() {
    let stand_in = start(ModuleForm::WithPolicy, &[], Misbehave::default());
    let mut device = device(&stand_in);
    let mut document = configuration(&stand_in).0;
    document["ietf-nat:nat"]["instances"]["instance"][0]["policy"][0]["all-algs-enable"] =
        serde_json::json!(false);
    document["ietf-interfaces:interfaces"]["interface"][0]["link-up-down-trap-enable"] =
        serde_json::json!("enabled");
    stand_in.configure(DeviceId(0), document).unwrap();
    let plan = changed("24010", "24011");
    let mut fine = |_: &_, _: &mut _| true;
    let sent = send(&mut device, &mut sending(&plan, true, &mut fine)).unwrap();
    assert_eq!(sent.outcome.state, State::Kept, "{}", sent.outcome.why);
    let left: Vec<&str> = sent.imported.left_out.iter().map(|l| l.path.as_str()).collect();
    assert_eq!(
        left,
        [
            "/ietf-interfaces:interfaces/interface=floor/link-up-down-trap-enable",
            "/ietf-nat:nat/instances/instance=2/policy=1/all-algs-enable"
        ]
    );
    let (running, _) = configuration(&stand_in);
    assert_eq!(
        running["ietf-nat:nat"]["instances"]["instance"][0]["policy"][0]["all-algs-enable"],
        false
    );
}

#[test]
fn of_two_who_send_at_once_one_is_told_that_the_other_was_first() {
    let stand_in = start(ModuleForm::Standard, &[], Misbehave::default());
    let mut one = device(&stand_in);
    let mut other = device(&stand_in);
    let (first, second) = (changed("24010", "24011"), changed("24010", "24012"));
    // the second reads before the first writes, and writes after: its holds runs in between
    let mut fine = |_: &_, _: &mut _| true;
    let read = other.running().unwrap();
    let sent = send(&mut one, &mut sending(&first, true, &mut fine)).unwrap();
    assert_eq!(sent.outcome.state, State::Kept);
    assert_ne!(read.version, sent.outcome.version);
    let sent = send(&mut other, &mut sending(&second, true, &mut fine)).unwrap();
    assert_eq!(sent.outcome.state, State::Kept);
    let (running, _) = configuration(&stand_in);
    assert_eq!(running, export(&second, DeviceId(0), ModuleForm::Standard).document);
}

#[test]
fn an_edit_that_nobody_confirms_is_taken_back_by_the_device() {
    let stand_in = start(ModuleForm::WithPolicy, &[], Misbehave::default());
    let before = configuration(&stand_in);
    stand_in
        .edit_unconfirmed(DeviceId(0), &changed("24010", "24011"), Duration::from_secs(1))
        .unwrap();
    assert_ne!(configuration(&stand_in), before);
    assert!(device(&stand_in).pending().unwrap().0.is_some());
    // another send waits, and does not write meanwhile
    let plan = changed("24010", "24012");
    let mut fine = |_: &_, _: &mut _| true;
    let mut short = sending(&plan, true, &mut fine);
    short.wait = Duration::from_millis(100);
    let sent = send(&mut device(&stand_in), &mut short).unwrap();
    assert_eq!(sent.outcome.state, State::Unknown);
    std::thread::sleep(Duration::from_millis(1_500));
    assert_eq!(configuration(&stand_in), before);
}

#[test]
fn events_are_told_as_they_happen() {
    let stand_in = start(ModuleForm::WithPolicy, &[], Misbehave::default());
    let mut listener = device(&stand_in);
    let mut events = listener.events().unwrap().unwrap();
    assert_eq!(events.next(Duration::from_millis(300)).unwrap(), None);
    let plan = changed("24010", "24011");
    let mut fine = |_: &_, _: &mut _| true;
    send(&mut device(&stand_in), &mut sending(&plan, true, &mut fine)).unwrap();
    let event = events.next(Duration::from_secs(5)).unwrap().unwrap();
    assert!(event["zarnet-policy:configuration-changed"]["version"].is_string(), "{event}");
    assert!(event["eventTime"].is_string());
}

#[test]
fn a_device_is_believed_by_its_fingerprint_alone() {
    let stand_in = start(ModuleForm::WithPolicy, &[], Misbehave::default());
    let right = access(&stand_in.devices[0]);
    let open = |access: &Access| Device::open(access, limits(Duration::from_secs(5)), false).err();
    assert_eq!(open(&right), None);
    let unpinned = Access { pin: None, ..right.clone() };
    let Some(ClientError::Untrusted { fingerprint, .. }) = open(&unpinned) else { panic!() };
    assert_eq!(fingerprint, right.pin);
    let other = "sha256:".to_owned() + &"00".repeat(32);
    let wrong = Access { pin: Some(other.parse().unwrap()), ..right.clone() };
    assert!(matches!(open(&wrong), Some(ClientError::Untrusted { .. })));
    let stranger = Access { credentials: Credentials::Token("guess".into()), ..right };
    assert_eq!(open(&stranger), Some(ClientError::NotAllowed(401)));
}
