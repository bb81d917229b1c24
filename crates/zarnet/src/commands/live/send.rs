//! `zarnet send PLAN URL`: what differs, and with `--yes` the edit, guarded, tested, kept or taken
//! back.

use std::collections::HashSet;
use std::sync::Arc;

use zarnet_analysis::answer::diff_of_texts;
use zarnet_analysis::answer::expect::ExpectAnswer;
use zarnet_analysis::answer::send::SendAnswer;
use zarnet_analysis::drift::drift;
use zarnet_analysis::impact::impact;
use zarnet_core::net::{Endpoint, Protocol};
use zarnet_core::plan::{DeviceId, Plan};
use zarnet_core::predict::{Rehearsal, Tried};
use zarnet_core::traffic::Party;
use zarnet_formats::ietf_nat::{Row, import};
use zarnet_formats::plan::Loaded;
use zarnet_live::client::{Device, Sending, State, send};

use super::{of_client, open};
use crate::args::{Common, Send};
use crate::commands::{only_device, plan};
use crate::exit::{FINE, Failure, NEGATIVE};
use crate::present::live::send::text;
use crate::present::{View, present};

/// What a dynamic row is known by.
type RowKey = (Option<Protocol>, Endpoint, Endpoint);

pub fn run(args: &Send, common: &Common) -> Result<u8, Failure> {
    let loaded = plan(&args.plan, common)?;
    let id = only_device(&loaded.plan, args.device.as_deref())?;
    let name = loaded.plan.devices[id.index()].name.clone();
    let mut device = open(&args.url, &args.access, common.quiet)?;
    let before = if args.yes { device.table().map_err(of_client)? } else { Vec::new() };
    let before: HashSet<RowKey> = before.iter().flat_map(keys).collect();
    let mut tested: Option<(Vec<Tried>, Vec<String>)> = None;
    let mut holds = |now: &Loaded, device: &mut Device| {
        let whole = loaded.plan.with_device(id, &now.plan, DeviceId(0));
        let tried = try_all(&whole, common.seed);
        let own = device.table().unwrap_or_default();
        let against = against(&loaded.plan, &tried, &before, &own);
        let holds = tried.iter().all(|t| t.failed.is_empty()) && against.is_empty();
        tested = Some((tried, against));
        holds
    };
    let mut sending = Sending {
        plan: &loaded.plan,
        device: id,
        write: args.yes,
        wait: args.access.wait,
        holds: &mut holds,
    };
    let sent = send(&mut device, &mut sending).map_err(of_client)?;
    let now = loaded.plan.with_device(id, &sent.before.plan, DeviceId(0));
    let found = impact(&now, &loaded.plan);
    let wanted = import(&sent.wanted.document, &name).map(|i| i.text).unwrap_or_default();
    let differences = drift(&[&wanted, &sent.imported.text]);
    let diff = diff_of_texts(("running", &sent.imported.text), ("planned", &wanted));
    let (tried, against) = match tested {
        Some((tried, against)) => (Some(tried), against),
        None if sent.outcome.state == State::Unchanged => (None, Vec::new()),
        // what is not written yet is tried as it would be
        None => (Some(try_all(&loaded.plan, common.seed)), Vec::new()),
    };
    let expectations = tried.map(|t| ExpectAnswer::new(&loaded.plan, &loaded.sources, &t));
    let outcome = &sent.outcome;
    let answer = SendAnswer {
        state: outcome.state.name(),
        why: &outcome.why,
        device: &name,
        version: outcome.version.as_deref(),
        saved: outcome.saved,
        differences: &differences,
        diff: &diff,
        impact: &found,
        losses: &sent.wanted.losses,
        kept: &sent.imported.left_out,
        expectations: expectations.as_ref(),
        against: &against,
    };
    present(&answer, common, |out, width| {
        text(&answer, View { width, rows: args.rows, verbose: common.verbose }, out)
    })?;
    Ok(match outcome.state {
        State::Unchanged | State::Kept => FINE,
        State::Refused | State::Differs | State::TakenBack | State::Unknown => NEGATIVE,
    })
}

fn try_all(plan: &Plan, seed: u64) -> Vec<Tried> {
    let mut rehearsal = Rehearsal::new(Arc::new(plan.clone()), seed);
    plan.expectations.iter().map(|e| rehearsal.expect(e)).collect()
}

fn keys(row: &Row) -> Vec<RowKey> {
    match row.fixed {
        true => Vec::new(),
        false => row.pairs().into_iter().map(|(i, e)| (row.protocol, i, e)).collect(),
    }
}

/// Rows that traffic has made since, and that are not what an expectation says of their sender.
fn against(plan: &Plan, tried: &[Tried], before: &HashSet<RowKey>, now: &[Row]) -> Vec<String> {
    let mut told = Vec::new();
    for (expectation, tried) in plan.expectations.iter().zip(tried) {
        let Some(becomes) = &expectation.becomes else { continue };
        let source = match expectation.flow.source {
            Party::Address(address) => address,
            Party::Host(host) => plan.hosts[host.index()].address,
            Party::Device(_) | Party::Interface(..) => continue,
        };
        let destination = tried.followed.sent.map(|s| s.1.destination());
        for row in now.iter().filter(|r| !r.fixed) {
            for (protocol, internal, external) in keys(row) {
                let to_other = row
                    .peer_end()
                    .zip(destination)
                    .is_some_and(|(peer, to)| peer.address != to.address);
                let is_of = internal.address == source
                    && protocol.is_none_or(|p| p == expectation.flow.protocol)
                    && !before.contains(&(protocol, internal, external))
                    && !to_other;
                if is_of && !becomes.holds(external) {
                    told.push(format!(
                        "{internal} became {external}, and should have become {}",
                        becomes.text
                    ));
                }
            }
        }
    }
    told
}
