//! A translation log as a table at a moment: what was made by then and had not ended.

use std::collections::BTreeMap;

use zarnet_core::limits;
use zarnet_core::net::{Endpoint, Instant, Protocol};
use zarnet_core::plan::{DeviceId, Plan, nearest};

use super::{Form, Observed};
use crate::nat_log::{LogForm, LogFormat, LogNames, Noted, TranslationEvent, read_log};
use crate::traffic::{Fault, Given, Input, TrafficError, read_up_to};

/// The moment that a log is asked about.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct LogMoment {
    /// When the clock of the traffic begins, in milliseconds since 1970.
    pub begins: i64,
    /// The moment on that clock; none for the end of the log.
    pub at: Option<Instant>,
}

/// Whether a file is a translation log rather than a table.
///
/// # Errors
/// It cannot be read.
pub fn is_log(given: &Given) -> Result<bool, Fault> {
    let mut head = vec![0; 4096];
    let got = read_up_to(&mut Input::open(given)?.read()?.reader, &mut head);
    head.truncate(got.map_err(|error| Fault::Unreadable(error.to_string()))?);
    let line = head.split(|octet| *octet == b'\n').next().unwrap_or_default();
    let names: Vec<String> = String::from_utf8_lossy(line)
        .split([',', ';', '\t'])
        .map(|name| name.trim().trim_matches('"').to_ascii_lowercase())
        .collect();
    let has = |wanted: &str| names.iter().any(|name| name == wanted);
    Ok(match LogFormat::of(&head) {
        Ok(LogFormat::Ipfix | LogFormat::Syslog) => true,
        Ok(LogFormat::Csv) => has("event") && has("time") || has("begun"),
        Err(_) => false,
    })
}

/// A mapping of a log: device, protocol, internal end, external end, far end.
type Key = (DeviceId, Option<Protocol>, Endpoint, Endpoint, Option<Endpoint>);

/// Reads a log as the table at a moment.
///
/// # Errors
/// It cannot be read, names a device that the plan does not have, or tells of blocks of ports only,
/// of which no table can be made.
pub fn of_log(
    given: &Given,
    form: Form<'_>,
    moment: LogMoment,
    plan: &Plan,
) -> Result<Vec<Observed>, Vec<TrafficError>> {
    let input = given.name();
    let wrong = |fault| vec![TrafficError { input: input.clone(), line: None, fault }];
    let (mut names, mut noted) = (LogNames::default(), Noted::default());
    let only = form.of.or((plan.devices.len() == 1).then_some(DeviceId(0)));
    let device = only.map(|id| names.obtain(&plan.devices[id.index()].name));
    let log_form = LogForm { columns: None, device };
    let until = moment.at.map_or(i64::MAX, |at| {
        moment.begins.saturating_add(i64::try_from(at.0 / 1_000_000).unwrap_or(i64::MAX))
    });
    // how many sessions, and when the first of them began
    let mut table: BTreeMap<Key, (u32, i64)> = BTreeMap::new();
    let (mut blocks, mut unknown) = (0u64, None::<String>);
    let read = read_log(given, &log_form, &mut names, &mut noted, |event, names| {
        if event.at > until {
            return;
        }
        blocks += u64::from(event.is_block());
        let Some(begins) = event.kind.begins().filter(|_| !event.is_block()) else { return };
        let name = names.get(event.device);
        let Some(id) = plan.device(name) else {
            unknown.get_or_insert_with(|| name.to_owned());
            return;
        };
        let Some(key) = key(&event, id) else { return };
        if begins {
            table.entry(key).or_insert((0, event.at)).0 += 1;
        } else if let Some(known) = table.get_mut(&key) {
            known.0 -= 1;
            if known.0 == 0 {
                table.remove(&key);
            }
        }
    });
    read.map_err(wrong)?;
    if let Some(name) = unknown {
        let devices = plan.devices.iter().map(|d| d.name.as_str());
        let near = nearest(&name, devices);
        return Err(wrong(Fault::UnknownName { name, near }));
    }
    if table.is_empty() && blocks > 0 {
        let what = "a log of mappings or sessions: it tells of blocks of ports only";
        return Err(wrong(Fault::Malformed(what.into())));
    }
    if table.len() > limits::OBSERVED_ROWS {
        let what = format!("it has more than {} rows", limits::OBSERVED_ROWS);
        return Err(wrong(Fault::TooLarge(what)));
    }
    let since = |at: i64| {
        let nanoseconds = u64::try_from(at.saturating_sub(moment.begins)).unwrap_or(0);
        Instant(nanoseconds.saturating_mul(1_000_000))
    };
    let rows = table.into_iter().zip(1..);
    Ok(rows
        .map(|(((device, protocol, internal, external, peer), (_, begun)), line)| Observed {
            device,
            protocol,
            internal,
            external,
            peer,
            created: Some(since(begun)),
            expires: None,
            line,
        })
        .collect())
}

fn key(event: &TranslationEvent, device: DeviceId) -> Option<Key> {
    let end = |address, port: Option<u16>| Endpoint { address, port: port.unwrap_or(0) };
    Some((
        device,
        event.protocol,
        end(event.internal?, event.internal_port),
        end(event.external?, event.external_port),
        event.peer.map(|peer| end(peer, event.peer_port)),
    ))
}
