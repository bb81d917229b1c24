//! Live sessions at the moment when another plan takes over.

use std::sync::Arc;

use zarnet_core::device::{Device, Judged, SessionRow};
use zarnet_core::net::Packet;
use zarnet_core::network::Network;
use zarnet_core::plan::{DeviceId, InterfaceId, Plan};
use zarnet_core::predict::Prediction;

/// What a change of the plan does to a session that lives.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SessionFate {
    /// Nothing: the new plan would make the same of it.
    Same,
    /// It goes on as it was, though the new plan would make something else of it, until it ends or
    /// is cleared.
    Lingers,
    /// The session ends with the change.
    Breaks,
}

impl SessionFate {
    /// The stable name, as JSON and CSV have it.
    pub fn name(self) -> &'static str {
        match self {
            Self::Same => "same",
            Self::Lingers => "lingers",
            Self::Breaks => "breaks",
        }
    }
}

/// A session that lives when the plan changes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LiveSession {
    /// Name of the session's device.
    pub device: String,
    /// The session as it is before the change.
    pub session: SessionRow,
    /// What becomes of it.
    pub fate: SessionFate,
}

/// The sessions of a prediction that a new plan would not make as they are. A session goes on as
/// it was made: what counts is what the new plan would make of its first packet.
pub fn live_sessions(prediction: &Prediction, new: &Plan, seed: u64) -> Vec<LiveSession> {
    let network = Network::new(Arc::new(new.clone()), seed, None);
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
            if fate != SessionFate::Same {
                list.push(LiveSession { device: name.clone(), session: *session, fate });
            }
        }
    }
    list
}

/// What becomes of a session when another plan takes over.
fn fate(old: &Plan, id: DeviceId, session: &SessionRow, device: Option<&Device>) -> SessionFate {
    let Some(device) = device else { return SessionFate::Breaks };
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
        return SessionFate::Breaks;
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
    let Some((_, interface)) = ingress.or_else(external) else { return SessionFate::Same };
    let Some(position) = device.plan().interfaces.iter().position(|i| i.name == interface.name)
    else {
        return SessionFate::Breaks;
    };
    match device.judge(InterfaceId(position as u16), sent) {
        Judged::Forwarded(v) => {
            // a chosen address or port may be another by chance: what counts is where it is chosen
            // from
            let kept = v.out.destination() == session.translated.destination
                && (v.out.source() == session.translated.source
                    || device.could_choose(&v, session.translated.source));
            if kept { SessionFate::Same } else { SessionFate::Lingers }
        }
        Judged::Dropped(_) | Judged::ToDevice => SessionFate::Lingers,
    }
}
