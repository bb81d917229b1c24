//! `zarnet impact PLAN NEW-PLAN`

use std::sync::Arc;

use zarnet_analysis::answer::impact::{Fate, ImpactAnswer, Live};
use zarnet_analysis::impact::impact;
use zarnet_core::device::SessionRow;
use zarnet_core::net::Packet;
use zarnet_core::plan::{DeviceId, InterfaceId, Plan};
use zarnet_core::predict::{Options, predict};
use zarnet_formats::plan::Loaded;

use super::plan;
use super::traffic::{attempts, device, given, moment, open, peak_or, tell_skipped};
use crate::args::{Common, Impact};
use crate::exit::{FINE, Failure, NEGATIVE};
use crate::present::impact::text;
use crate::present::{View, present};

pub fn run(args: &Impact, common: &Common) -> Result<u8, Failure> {
    let (old, new) = (plan(&args.plan, common)?, plan(&args.new_plan, common)?);
    let mut found = impact(&old.plan, &new.plan);
    if let Some(name) = &args.device {
        device(&old.plan, name).or_else(|f| device(&new.plan, name).map_err(|_| f))?;
        found.classes.retain(|c| c.device == *name);
        found.settings.retain(|s| s.0 == *name);
    }
    let live =
        if args.during.is_empty() { None } else { Some(lingering(args, common, &old, &new.plan)?) };
    let answer = ImpactAnswer { found: &found, live: live.as_deref() };
    present(&answer, common, |out, width| {
        text(answer, out, View { width, rows: args.rows, verbose: common.verbose }, true)
    })?;
    Ok(if found.is_empty() { FINE } else { NEGATIVE })
}

/// The sessions that live at the moment of the change, and what the new plan would make of their
/// first packet: a session goes on as it was, however that is.
fn lingering(
    args: &Impact,
    common: &Common,
    old: &Loaded,
    new: &Plan,
) -> Result<Vec<Live>, Failure> {
    let traffic = open(&given(&args.during)?, old, &args.reader, common)?;
    let shared = Arc::new(old.plan.clone());
    let moment = peak_or(moment(&args.at, &traffic)?, &shared, &traffic, common)?;
    let options = Options { moment, seed: common.seed, ..Options::default() };
    let (prediction, skipped) = attempts(&traffic, options, common.quiet, |items, options| {
        predict(shared.clone(), items, traffic.events(), options)
    })?;
    tell_skipped(skipped, common.quiet);
    let network = zarnet_core::network::Network::new(Arc::new(new.clone()), common.seed, None);
    let mut list = Vec::new();
    for table in &prediction.tables {
        let name = &prediction.plan.devices[table.device.index()].name;
        let there = new.device(name);
        for session in &table.sessions {
            let fate = fate(
                &prediction.plan,
                table.device,
                session,
                there.map(|d| &network.devices()[d.index()]),
            );
            if fate != Fate::Same {
                list.push(Live { device: name.clone(), session: *session, fate });
            }
        }
    }
    Ok(list)
}

/// What becomes of a session when another plan takes over.
fn fate(
    old: &Plan,
    id: DeviceId,
    session: &SessionRow,
    device: Option<&zarnet_core::device::Device>,
) -> Fate {
    use zarnet_core::device::Judged;
    let Some(device) = device else { return Fate::Breaks };
    let own = &old.devices[id.index()];
    // an address that the device has no more takes its sessions with it
    let lost = own
        .interfaces
        .iter()
        .flat_map(|i| i.own())
        .filter(|a| device.plan().interfaces.iter().all(|i| i.own().all(|o| o != *a)));
    let ends = [
        session.original.source,
        session.original.destination,
        session.translated.source,
        session.translated.destination,
    ];
    if lost.into_iter().any(|a| ends.iter().any(|e| e.address == a)) {
        return Fate::Breaks;
    }
    let sent =
        Packet::first(session.protocol, session.original.source, session.original.destination);
    let ingress = own
        .interfaces
        .iter()
        .enumerate()
        .find(|(_, i)| i.addresses.iter().any(|a| a.1.contains(sent.source().address)));
    let external = || {
        own.interfaces.iter().enumerate().find(|(_, i)| old.segments[i.segment.index()].internet)
    };
    let Some((_, interface)) = ingress.or_else(external) else { return Fate::Same };
    let Some(position) = device.plan().interfaces.iter().position(|i| i.name == interface.name)
    else {
        return Fate::Breaks;
    };
    match device.judge(InterfaceId(position as u16), sent) {
        Judged::Forwarded(v) => {
            // a chosen address or port may be another by chance: what counts is where it is chosen
            // from
            let kept = v.out.destination() == session.translated.destination
                && (v.out.source() == session.translated.source
                    || device.could_choose(&v, session.translated.source));
            if kept { Fate::Same } else { Fate::Lingers }
        }
        Judged::Dropped(_) | Judged::ToDevice => Fate::Lingers,
    }
}
