//! The log of a prediction as events with names and times of day.

use std::sync::Arc;

use zarnet_core::device::{EndCause, HostBlock, LogEntry, LogEvent, Quota, Translated};
use zarnet_core::plan::{Dependence, DeviceId, Plan};

use super::{EventKind, LogNames, Name, TranslationEvent};

/// In nanoseconds.
const MILLISECOND: u64 = 1_000_000;

/// Turns entries of a run into events.
#[derive(Debug)]
pub struct OfRun {
    /// When the clock of the run begins: milliseconds since 1970, and nanoseconds behind them.
    origin: (i64, u64),
    /// Whether sessions are logged with their far ends (RFC 6888 §4 REQ-12 advises against it).
    with_peers: bool,
    /// Names of each device, for the plan that they are of.
    plan: Option<Arc<Plan>>,
    devices: Vec<DeviceNames>,
}

/// The names of a device, its rules and pools, by position.
#[derive(Debug)]
struct DeviceNames {
    device: Name,
    rules: Vec<Name>,
    pools: Vec<Name>,
    /// Whether a mapping may be for one far end only.
    is_dependent: bool,
}

impl OfRun {
    /// For a run whose clock begins at `origin`, in nanoseconds since 1970.
    pub fn new(origin: i128, with_peers: bool) -> Self {
        let milliseconds = i64::try_from(origin.div_euclid(MILLISECOND.into())).unwrap_or(i64::MAX);
        let origin = (milliseconds, origin.rem_euclid(MILLISECOND.into()) as u64);
        Self { origin, with_peers, plan: None, devices: Vec::new() }
    }

    /// The time of day of an instant of the run, in milliseconds since 1970.
    fn time(&self, nanoseconds: u64) -> i64 {
        let behind = self.origin.1.saturating_add(nanoseconds) / MILLISECOND;
        self.origin.0.saturating_add(behind as i64)
    }

    /// Learns the names of a plan, unless it is the one known.
    fn learn(&mut self, plan: &Arc<Plan>, names: &mut LogNames) {
        if self.plan.as_ref().is_some_and(|known| Arc::ptr_eq(known, plan)) {
            return;
        }
        self.devices = plan
            .devices
            .iter()
            .map(|device| DeviceNames {
                device: names.obtain(&device.name),
                rules: device.rules.iter().map(|r| names.obtain(&r.name)).collect(),
                pools: device.pools.iter().map(|p| names.obtain(&p.name)).collect(),
                is_dependent: device.behaviour.mapping != Dependence::EndpointIndependent,
            })
            .collect();
        self.plan = Some(plan.clone());
    }

    /// Turns entries of a device, with the plan that they go by, into events.
    pub fn events(
        &mut self,
        plan: &Arc<Plan>,
        device: DeviceId,
        entries: &[LogEntry],
        names: &mut LogNames,
        mut take: impl FnMut(&TranslationEvent, &LogNames),
    ) {
        self.learn(plan, names);
        let known = &self.devices[device.index()];
        for entry in entries {
            take(&self.event(known, entry), names);
        }
    }

    #[inline(always)]
    fn event(&self, known: &DeviceNames, entry: &LogEntry) -> TranslationEvent {
        let kind = kind_of(&entry.event);
        let mut event = TranslationEvent::new(self.time(entry.at.0), kind, known.device);
        event.rule = entry.rule.map(|rule| known.rules[rule.index()]);
        match entry.event {
            LogEvent::Session(translated, cause) => {
                put(&mut event, &translated, cause, true);
                if !self.with_peers && !known.is_dependent {
                    (event.peer, event.peer_port) = (None, None);
                }
            }
            LogEvent::Mapping(translated, cause) => put(&mut event, &translated, cause, true),
            LogEvent::Address(translated, cause) => put(&mut event, &translated, cause, false),
            LogEvent::Block(HostBlock { protocol, host, external, ports }, cause) => {
                event.protocol = Some(protocol);
                (event.internal, event.external) = (Some(host), Some(external));
                (event.external_port, event.last_port) = (Some(ports.0), Some(ports.1));
                event.cause = cause;
            }
            LogEvent::AddressesExhausted(pool) => event.pool = Some(known.pools[pool.index()]),
            LogEvent::PortsExhausted(address, protocol) => {
                (event.external, event.protocol) = (Some(address), Some(protocol));
            }
            LogEvent::QuotaExceeded(Quota::Sessions(most) | Quota::Mappings(most)) => {
                event.limit = Some(most);
            }
            LogEvent::QuotaExceeded(Quota::OfHost(most, host)) => {
                (event.limit, event.internal) = (Some(most), Some(host));
            }
        }
        event
    }
}

fn kind_of(event: &LogEvent) -> EventKind {
    match event {
        LogEvent::Session(_, None) => EventKind::SessionCreated,
        LogEvent::Session(_, Some(_)) => EventKind::SessionEnded,
        LogEvent::Mapping(_, None) => EventKind::MappingCreated,
        LogEvent::Mapping(_, Some(_)) => EventKind::MappingEnded,
        LogEvent::Address(_, None) => EventKind::AddressCreated,
        LogEvent::Address(_, Some(_)) => EventKind::AddressEnded,
        LogEvent::Block(_, None) => EventKind::BlockAllocated,
        LogEvent::Block(_, Some(_)) => EventKind::BlockReleased,
        LogEvent::AddressesExhausted(_) => EventKind::AddressesExhausted,
        LogEvent::PortsExhausted(..) => EventKind::PortsExhausted,
        LogEvent::QuotaExceeded(Quota::Sessions(_)) => EventKind::SessionQuota,
        LogEvent::QuotaExceeded(Quota::Mappings(_)) => EventKind::MappingQuota,
        LogEvent::QuotaExceeded(Quota::OfHost(..)) => EventKind::HostQuota,
    }
}

/// The ends of a translation. A protocol without ports or query ids has none; a query id may be 0.
#[inline]
fn put(
    event: &mut TranslationEvent,
    translated: &Translated,
    cause: Option<EndCause>,
    with_ports: bool,
) {
    let Translated { protocol, internal, external, peer } = *translated;
    let has_ports = with_ports && protocol.is_some_and(|p| p.is_multiplexed());
    event.protocol = protocol;
    (event.internal, event.external) = (Some(internal.address), Some(external.address));
    if has_ports {
        (event.internal_port, event.external_port) = (Some(internal.port), Some(external.port));
    }
    event.peer = peer.map(|p| p.address);
    event.peer_port = peer.map(|p| p.port).filter(|port| *port != 0);
    event.cause = cause;
}
