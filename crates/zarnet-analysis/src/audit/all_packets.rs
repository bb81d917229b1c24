//! All first packets of all devices, by whichever interface they come in, gone through side by
//! side.

use super::looked::{Looked, look};
use super::{Finding, exposure, proof};
use crate::senders::senders;
use crate::space::Steps;
use zarnet_core::device::Device;
use zarnet_core::plan::{DeviceId, InterfaceId, Plan};

/// What was found by what comes in by one interface.
struct Way {
    /// `None` if it took more steps than there were.
    looked: Option<(Looked, Vec<Finding>)>,
    /// The steps that it took.
    steps: u64,
}

/// What packets show of every device that `is_asked` of: what lies hidden, and what the outside can
/// reach. Devices that there is too much to go through of are told as such.
pub(super) fn find(
    plan: &Plan,
    devices: &[Device],
    is_asked: &dyn Fn(usize) -> bool,
    findings: &mut Vec<Finding>,
) {
    let asked = || devices.iter().enumerate().filter(|(d, _)| is_asked(*d));
    let ways: Vec<(usize, InterfaceId)> = asked()
        .flat_map(|(d, device)| {
            (0..device.plan().interfaces.len()).map(move |i| (d, InterfaceId(i as u16)))
        })
        .collect();
    let threads = std::thread::available_parallelism().map_or(1, usize::from).min(ways.len());
    let own = |first: usize| ways.iter().copied().skip(first).step_by(threads.max(1));
    let mut done: Vec<_> = std::thread::scope(|scope| {
        let go = |first| move || of_thread(plan, devices, own(first));
        let others: Vec<_> = (1..threads).map(|first| scope.spawn(go(first))).collect();
        let first = go(0)();
        let others = others.into_iter().map(|other| other.join().unwrap_or_default());
        std::iter::once(first).chain(others).map(Vec::into_iter).collect()
    });
    // in the order of the plan, as if they had been gone through one after the other: so the answer
    // does not depend on the number of threads
    let (mut left, mut turn) = (Steps::default().left(), 0);
    for (d, device) in asked() {
        let mut whole: Option<(Option<Looked>, Vec<Finding>)> = Some((None, Vec::new()));
        for _ in &device.plan().interfaces {
            let way = done[turn % threads].next();
            turn += 1;
            let steps = way.as_ref().map_or(u64::MAX, |way| way.steps);
            let looked = way.and_then(|way| way.looked).filter(|_| steps <= left);
            left = left.saturating_sub(steps);
            whole = whole.zip(looked).map(|((known, mut found), (looked, more))| {
                found.extend(more);
                let all = match known {
                    None => looked,
                    Some(mut known) => {
                        known.add(looked);
                        known
                    }
                };
                (Some(all), found)
            });
        }
        match whole {
            None => findings.push(proof::unproved(device.plan())),
            Some((looked, found)) => {
                if let Some(looked) = looked {
                    proof::find(device, DeviceId(d as u16), &looked, findings);
                }
                findings.extend(found);
            }
        }
    }
}

/// What one thread finds, interface by interface; it stops where it has taken more steps than all
/// of them together may.
fn of_thread(
    plan: &Plan,
    devices: &[Device],
    ways: impl Iterator<Item = (usize, InterfaceId)>,
) -> Vec<Way> {
    let mut steps = Steps::default();
    let mut list = Vec::new();
    for (d, ingress) in ways {
        let before = steps.left();
        let looked = of_interface(plan, &devices[d], ingress, &mut steps);
        let is_over = looked.is_none();
        let steps = if is_over { u64::MAX } else { before - steps.left() };
        list.push(Way { looked, steps });
        if is_over {
            break;
        }
    }
    list
}

fn of_interface(
    plan: &Plan,
    device: &Device,
    ingress: InterfaceId,
    steps: &mut Steps,
) -> Option<(Looked, Vec<Finding>)> {
    let own = device.plan();
    let senders = senders(plan, own, ingress);
    let outside = plan.segments[own.interfaces[ingress.index()].segment.index()].internet;
    let number = |judged: &_| if outside { exposure::number(plan, own, judged) } else { 0 };
    let (looked, diagram) = look(device, ingress, &senders, steps, number)?;
    let mut found = Vec::new();
    if outside {
        exposure::find(device, ingress, &diagram, steps, &mut found)?;
    }
    Some((looked, found))
}
