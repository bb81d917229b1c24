//! A dynamic mapping that was there, and has ended by the time that a packet comes for it.

use std::time::Duration;

use super::{Case, set};
use crate::diagnose::Cause;
use zarnet_core::device::{EndCause, EndedMapping};
use zarnet_core::net::{Packet, Protocol};
use zarnet_core::plan::DeviceId;
use zarnet_core::plan::edit::{Edit, Table, Value};

impl Case<'_> {
    /// The packet that got lost is for an external end that a mapping had.
    pub(super) fn mapping_ended(&mut self) {
        let Some(sent) = self.sent() else { return };
        let devices = self.scene.network.devices().iter().enumerate();
        let ended: Vec<(DeviceId, EndedMapping)> = devices
            .filter_map(|(i, device)| {
                let ended = device.ended_at(sent.protocol, sent.destination())?;
                Some((DeviceId(i as u16), *ended))
            })
            .collect();
        for (device, mapping) in ended {
            self.ended(device, mapping, sent);
        }
    }

    fn ended(&mut self, id: DeviceId, mapping: EndedMapping, sent: Packet) {
        let EndedMapping { rule, internal, external, ended, cause } = mapping;
        let event = self.scene.events.iter().rev().find(|(e, _)| e.device == id && e.at == ended);
        let by = match (cause, event) {
            (EndCause::Expired, _) => "by its timer".to_owned(),
            (EndCause::Cleared, Some((_, place))) => format!("when it was cleared ({place})"),
            (EndCause::Restarted, Some((_, place))) => {
                format!("when the device restarted ({place})")
            }
            (EndCause::AddressLost, Some((_, place))) => {
                format!("when the device lost the address ({place})")
            }
            (EndCause::RuleDisabled, Some((_, place))) => {
                format!("when its rule was disabled ({place})")
            }
            (EndCause::Cleared, None) => "when it was cleared".to_owned(),
            (EndCause::Restarted, None) => "when the device restarted".to_owned(),
            (EndCause::AddressLost, None) => "when the device lost the address".to_owned(),
            (EndCause::RuleDisabled, None) => "after its rule was disabled".to_owned(),
        };
        let name = &self.rule(id, rule).name;
        let verdict = format!(
            "{internal} had {external} by rule {name} of {}, and that mapping ended at {ended} {by}",
            self.device(id).name
        );
        let at = self.at_rule(id, rule);
        let timers = self.timers_of(id, internal.port == 0, sent);
        let silence = |timer: Duration| {
            let last = ended.0.saturating_sub(timer.as_nanos() as u64);
            self.followed.at.0.saturating_sub(last)
        };
        let timers: Vec<(String, u64)> = match cause {
            EndCause::Expired => timers.into_iter().map(|(k, t)| (k, silence(t))).collect(),
            EndCause::Cleared
            | EndCause::Restarted
            | EndCause::AddressLost
            | EndCause::RuleDisabled => Vec::new(),
        };
        for (key, silence) in timers {
            // whole minutes, and more than it takes
            let minutes = i64::try_from(silence / 60_000_000_000 + 1).unwrap_or(i64::MAX / 60);
            let title = format!(
                "keep such mappings of {} for {minutes} min (`{key}`), if the inside keeps silent \
                 so long",
                self.device(id).name
            );
            let edit = set(Table::Timers(id), &key, Value::Number(minutes * 60));
            self.suspect(Cause::MappingEnded, at, verdict.clone(), title, vec![edit]);
        }
        let title = "open it from inside again: a new connection gets a new mapping".to_owned();
        self.suspect(Cause::MappingEnded, at, verdict, title, Vec::<Edit>::new());
    }

    /// Timers that may have ended a mapping, by key.
    fn timers_of(&self, id: DeviceId, whole: bool, sent: Packet) -> Vec<(String, Duration)> {
        let timers = &self.device(id).timers;
        let (protocol, port) = (sent.protocol, sent.source().port);
        let mut list = Vec::new();
        if whole {
            list.push(("binding".to_owned(), timers.binding));
        }
        if let Some(timer) = timers.per_port.get(&(protocol, port)) {
            list.push((format!("{port}/{protocol}"), *timer));
        }
        match protocol {
            Protocol::UDP => list.push(("udp-timeout".to_owned(), timers.udp)),
            Protocol::TCP => list.extend([
                ("tcp-idle-timeout".to_owned(), timers.tcp_idle),
                ("tcp-trans-open-timeout".to_owned(), timers.tcp_open),
            ]),
            p if p.has_query_id() => list.push(("icmp-timeout".to_owned(), timers.icmp)),
            _ => list.push(("other-timeout".to_owned(), timers.other)),
        }
        list
    }
}
